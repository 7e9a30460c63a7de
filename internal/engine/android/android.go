package android

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"path"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/adb"
	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
)

// Family opens the browsers of one phone, one session at a time: who uses the family
// sees to that.
type Family struct{ Phone *Phone }

// Name is the engine's name.
func (Family) Name() string { return "chromium" }

// Launch wakes the phone, makes this machine reachable from it and starts a driver for
// one session; the driver starts the browser when the session is asked for.
func (f Family) Launch(ctx context.Context, o engine.Options) (_ *engine.Instance, err error) {
	inst := engine.NewInstance(&o)
	inst.BiDi, inst.Emulated = true, true
	options, args, err := chromium.SettleOnPhone(o, inst)
	if err != nil {
		return nil, err
	}
	for _, a := range args {
		if strings.ContainsAny(a, "\"'\\$`\n") {
			return nil,
				&engine.Refused{Why: fmt.Sprintf("goog:chromeOptions: args: %q cannot be passed to a phone: leave quotes, $, \\ and ` out", a)}
		}
	}
	inst.Outcome = kept(o.Device)
	defer func() {
		if err != nil {
			inst.Close()
			if gone := f.Phone.Gone(); gone != nil {
				err = gone
			}
		}
	}()
	if err := f.Phone.Gone(); err != nil {
		return nil, err
	}
	if err := f.Phone.wake(ctx); err != nil {
		return nil, err
	}
	args = append(args, "--disable-quic", "--no-first-run", "--disable-component-update", "--disable-sync")
	if o.Door != "" {
		port, err := f.open(ctx, inst, o.Door)
		if err != nil {
			return nil, err
		}
		args = append(args, "--proxy-server=http://127.0.0.1:"+strconv.Itoa(port), "--proxy-bypass-list=<-loopback>")
	}
	g, port, err := newGate(f.Phone, o.Box, o.Browser.Path)
	if err != nil {
		return nil, err
	}
	inst.Cleanup(func() {
		g.close()
		f.stop(o.Browser.Path)
	})
	driver, p, err := chromium.StartDriver(ctx, o, nil, "--adb-port="+strconv.Itoa(port))
	if err != nil {
		return nil, err
	}
	inst.Own(p)
	inst.Watch(f.Phone.Gone)
	over := make(chan struct{})
	inst.Cleanup(func() { close(over) })
	go func() { // ends with the phone or with the instance
		select {
		case <-f.Phone.Left():
			inst.Fail(f.Phone.Gone())
		case <-over:
		}
	}()
	inst.Give = func(ctx context.Context, name string, content io.Reader) (string, error) {
		return f.give(ctx, inst, name, content)
	}
	inst.URL = "http://127.0.0.1:" + driver
	options["args"], options["androidPackage"], options["androidDeviceSerial"] = args, o.Browser.Path, f.Phone.Serial
	inst.Caps, inst.Prefer, inst.Slow = chromium.Asking(o, options), chromium.Prefer(o.Browser.Name), chromium.Slow(o.Browser.Name)
	return inst, nil
}

// stopping bounds what is done on a phone at the end of a session.
const stopping = 5 * time.Second

// stop ends the browser, which a driver that was killed leaves open.
func (f Family) stop(app string) {
	ctx, cancel := context.WithTimeout(context.Background(), stopping)
	defer cancel()
	if f.Phone.Gone() == nil {
		_, _ = f.Phone.Server.Shell(ctx, f.Phone.Serial, "am", "force-stop", app) // the next session clears it in any case
	}
}

// give writes a file into a new directory of the phone, which is taken away with the
// session.
func (f Family) give(ctx context.Context, inst *engine.Instance, name string, content io.Reader) (string, error) {
	if name = path.Base(name); name == "." || name == "/" {
		return "", errors.New("give a file to the phone: it has no name")
	}
	dir, err := f.Phone.Server.Shell(ctx, f.Phone.Serial, "mktemp", "-d", "/data/local/tmp/pane-XXXXXXXXXX")
	if err != nil {
		return "", fmt.Errorf("give %s to the phone: %w", name, err)
	}
	if dir = strings.TrimSpace(dir); !path.IsAbs(dir) || !strings.Contains(path.Base(dir), "pane-") {
		return "", fmt.Errorf("give %s to the phone: it made no directory but said %.80q", name, dir)
	}
	inst.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), stopping)
		defer cancel()
		if f.Phone.Gone() == nil {
			_, _ = f.Phone.Server.Shell(ctx, f.Phone.Serial, "rm", "-rf", dir) // what stays there is below a name that nobody knows
		}
	})
	if _, err := f.Phone.Server.Shell(ctx, f.Phone.Serial, "chmod", "755", dir); err != nil { // the browser is another user
		return "", fmt.Errorf("give %s to the phone: %w", name, err)
	}
	file := dir + "/" + name
	return file, f.Phone.Server.Push(ctx, f.Phone.Serial, file, content)
}

// open makes the session's door reachable from the phone, at a port of its loopback.
func (f Family) open(ctx context.Context, inst *engine.Instance, door string) (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	ctx, end := context.WithCancel(context.WithoutCancel(ctx))
	way := &gate{phone: f.Phone, ctx: ctx, end: end}
	inst.Cleanup(way.close)
	way.listen(l, func(c net.Conn) {
		to, err := inst.Dial(ctx, "tcp", door)
		if err != nil {
			return
		}
		defer context.AfterFunc(ctx, func() { _ = to.Close() })()
		adb.Join(c, to)
	})
	port, err := f.Phone.Server.Reverse(ctx, f.Phone.Serial, portOf(l))
	if err != nil {
		return 0, fmt.Errorf("make the lab reachable from the phone: %w", err)
	}
	inst.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), stopping)
		defer cancel()
		if f.Phone.Gone() == nil {
			_ = f.Phone.Server.Unreverse(ctx, f.Phone.Serial, port) // it leads to a port that nobody answers at any more
		}
	})
	return port, nil
}

var errItself = errors.New("a real phone stays what it is")

// kept says what of a device the phone keeps its own.
func kept(p device.Profile) (o device.Outcome) {
	_, _, resized := strings.Cut(p.Name, " ")
	if resized || !p.Real && p.Name != device.Default {
		o.Apply(fmt.Sprintf("viewport %d×%d", p.Size.Width, p.Size.Height), errItself)
	}
	if !p.Real && p.Name != device.Default {
		o.Apply(fmt.Sprintf("density %g", p.Density), errItself)
		if p.Handheld {
			o.Apply("orientation "+p.Orientation(), errItself)
		}
	}
	if p.Locale != "" {
		o.Apply("locale "+p.Locale, errItself)
	}
	if p.TimeZone != "" {
		o.Apply("time zone "+p.TimeZone, errItself)
	}
	return o
}
