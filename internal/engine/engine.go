// Package engine finds the browsers of a machine and opens them for WebDriver.
// Each family of browsers has a folder; this package holds what they share: the
// interface, the emulation of devices, and nothing that knows a family.
package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"parallelpane/internal/bidi"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine/box"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/webdriver"
)

// Family is one family of browsers.
type Family interface {
	// Name is the engine's name in fleet.Browser: chromium, gecko, webkit; or the
	// browser's, of one that is opened in another way than others of its engine.
	Name() string
	// Launch starts what a session on a browser needs and returns when a New
	// session command can be sent.
	Launch(ctx context.Context, o Options) (*Instance, error)
}

// Preparer is a family that starts faster once it has been prepared. Prepare
// returns at once when there is nothing to do.
type Preparer interface {
	Prepare(ctx context.Context, o Options) error
}

// Downloads is where, below Options.Dir, browsers save what pages have them save.
const Downloads = "Downloads"

// Options say how to launch.
type Options struct {
	Browser fleet.Browser
	Headed  bool
	Device  device.Profile
	Dir     string    // an empty directory for this session alone; the caller removes it
	Display string    // value for DISPLAY when windows are wanted; "" asks for a virtual display
	Log     io.Writer // output of driver and browser; may be nil
	// Box is where the programs run; nil is beside the agent's own.
	Box box.Box
	// Door is the proxy, as the box sees it, through which the browser reaches every
	// site; "" leaves that to the browser.
	Door string
	// Asked is what somebody else's session asks of the driver; nil for one of the
	// lab's own. Launch returns a *Refused when it cannot be had.
	Asked webdriver.Capabilities
	// Allow is what the agent's owner lets sessions ask for besides what an engine's
	// lists allow: switches with their dashes, preferences, names of capabilities.
	Allow Names
}

// Instance is a launched browser or driver, ready for a session.
type Instance struct {
	URL      string                 // base address of the W3C remote end
	Caps     webdriver.Capabilities // to be asked for with alwaysMatch
	Outcome  device.Outcome         // what launching already emulated
	Emulated bool                   // launching emulated all that can be
	// Prefer has an open session prefer what its device does; nil when launching did what
	// can be done.
	Prefer func(ctx context.Context, s *webdriver.Session, wishes []device.Wish) device.Outcome
	// Slow has the pages of an open session's window run so many times slower; nil where an
	// engine cannot.
	Slow func(ctx context.Context, s *webdriver.Session, times float64) error
	// Give makes a file known to a browser that does not see those of this machine, and
	// says where it finds it; nil when it sees them.
	Give     func(ctx context.Context, name string, content io.Reader) (string, error)
	BiDi     bool             // a session can have a webSocketUrl
	Display  *process.Display // the virtual one it was started on, if it needed one
	Scale    int              // of the display: its pixels to one of a window's units; 0 means 1
	Box      box.Box          // where its programs run
	Left     []string         // switches that were asked for and that the agent decides instead
	procs    []*process.Process
	cleanups []func()
	watch    func() error
	failed   atomic.Pointer[error]
}

// NewInstance begins an instance in the options' box, which it sets if there is
// none.
func NewInstance(o *Options) *Instance {
	if o.Box == nil {
		o.Box = box.Open{Dir: o.Dir}
	}
	return &Instance{Box: o.Box}
}

// Dial connects to an address on the loopback of the instance's box, such as that
// of URL or of a BiDi connection.
func (i *Instance) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil || i.Box == nil {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	return i.Box.Dial(ctx, n)
}

// Watch has Gone ask for something that is no process.
func (i *Instance) Watch(gone func() error) { i.watch = gone }

// Own hands a process to the instance, which stops it on Close.
func (i *Instance) Own(p *process.Process) { i.procs = append(i.procs, p) }

// Cleanup adds something to do on Close, once, after the processes are gone.
func (i *Instance) Cleanup(f func()) { i.cleanups = append(i.cleanups, sync.OnceFunc(f)) }

// Gone says which of the instance's programs has ended; nil while all run.
func (i *Instance) Gone() error {
	if why := i.failed.Load(); why != nil {
		return *why
	}
	for _, p := range i.procs {
		if err := p.Gone(); err != nil {
			return err
		}
	}
	if i.watch != nil {
		return i.watch()
	}
	return nil
}

// Fail ends the programs of the instance for a reason that Gone then gives.
func (i *Instance) Fail(why error) {
	if i.failed.CompareAndSwap(nil, &why) {
		for _, p := range i.procs {
			p.Stop(0)
		}
	}
}

// GoneWithin is Gone, given a moment: a program that was killed answers no more
// a little before it is known to have ended.
func (i *Instance) GoneWithin(limit time.Duration) error {
	for end := time.Now().Add(limit); ; time.Sleep(5 * time.Millisecond) {
		if err := i.Gone(); err != nil || time.Now().After(end) {
			return err
		}
	}
}

// Wait waits until the programs of the instance have ended by themselves.
func (i *Instance) Wait(ctx context.Context, limit time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for _, p := range i.procs {
		select {
		case <-p.Done():
		case <-ctx.Done():
			return fmt.Errorf("%s did not end: %w", p.Name, ctx.Err())
		}
	}
	return nil
}

// Close ends every program of the instance.
func (i *Instance) Close() {
	if i.Box != nil && i.Box.Isolated() {
		i.Box.Close() // and with it all of them
	}
	for k := len(i.procs) - 1; k >= 0; k-- {
		i.procs[k].Stop(300 * time.Millisecond)
	}
	for _, f := range i.cleanups {
		f()
	}
}

// NeedDisplay gives a headed or display-bound launch its display, starting a
// virtual one of the given size in pixels when the options name none.
func (i *Instance) NeedDisplay(ctx context.Context, o *Options, width, height int) error {
	if o.Display != "" {
		return nil
	}
	d, err := process.StartDisplay(ctx, o.Box.Start, width, height)
	if err != nil {
		return err
	}
	i.Own(d.Process)
	o.Display, i.Display = d.Name, d
	return nil
}

// Major is the part of a version before the first dot.
func Major(version string) string {
	m, _, _ := strings.Cut(version, ".")
	return m
}

// ErrNoCommand is the reason given for what an engine offers no way to emulate.
var ErrNoCommand = errors.New("the engine has no command for it")

// Emulate makes a session look like a device and reports what it could not do.
// conn is nil for an engine without BiDi; its window is then resized.
func Emulate(ctx context.Context, s *webdriver.Session, conn *bidi.Conn, b fleet.Browser, p device.Profile) (device.Outcome, error) {
	if conn == nil {
		return emulateByWindow(ctx, s, p)
	}
	var o device.Outcome
	contexts, err := conn.TopContexts(ctx)
	if err != nil {
		return o, err
	}
	on := func(params map[string]any) map[string]any {
		params["contexts"] = contexts
		return params
	}
	for _, c := range contexts {
		err := conn.Send(ctx, "browsingContext.setViewport", map[string]any{
			"context":          c,
			"viewport":         map[string]any{"width": p.Size.Width, "height": p.Size.Height},
			"devicePixelRatio": p.Density,
		}, nil)
		if ctx.Err() != nil {
			return o, err
		}
		o.Apply(fmt.Sprintf("viewport %d×%d", p.Size.Width, p.Size.Height), err)
		o.Apply(fmt.Sprintf("density %g", p.Density), err)
	}
	if ua := p.UserAgent(b.Engine, b.Version); ua != "" {
		o.Apply("user agent", reason(conn.Send(ctx, "emulation.setUserAgentOverride", on(map[string]any{"userAgent": ua}), nil)))
	}
	if p.Touch {
		o.Apply("touch", reason(conn.Send(ctx, "emulation.setTouchOverride", on(map[string]any{"maxTouchPoints": 5}), nil)))
	}
	if p.Locale != "" {
		o.Apply("locale "+p.Locale, reason(conn.Send(ctx, "emulation.setLocaleOverride", on(map[string]any{"locale": p.Locale}), nil)))
	}
	if p.TimeZone != "" {
		o.Apply("time zone "+p.TimeZone, reason(conn.Send(ctx, "emulation.setTimezoneOverride", on(map[string]any{"timezone": p.TimeZone}), nil)))
	}
	if p.Handheld {
		natural := "portrait"
		kind := natural + "-primary"
		if p.Orientation() == "landscape" {
			kind = "landscape-primary"
		}
		o.Apply("orientation "+p.Orientation(), reason(conn.Send(ctx, "emulation.setScreenOrientationOverride",
			on(map[string]any{"screenOrientation": map[string]any{"natural": natural, "type": kind}}), nil)))
	}
	return o, ctx.Err()
}

// reason shortens the error of a command the engine does not have.
func reason(err error) error {
	if bidi.Unsupported(err) {
		return ErrNoCommand
	}
	return err
}

// emulateByWindow sizes the window until its viewport is the profile's. Locale
// and time zone belong to the launch of an engine without BiDi.
func emulateByWindow(ctx context.Context, s *webdriver.Session, p device.Profile) (device.Outcome, error) {
	var o device.Outcome
	var got [2]float64
	var outer webdriver.Rect
	want := webdriver.Rect{Width: float64(p.Size.Width), Height: float64(p.Size.Height)}
	for range 3 {
		var err error
		if outer, err = s.SetWindowRect(ctx, want); err != nil {
			return o, err
		}
		if got, err = settledViewport(ctx, s); err != nil {
			return o, err
		}
		if got[0] == float64(p.Size.Width) && got[1] == float64(p.Size.Height) {
			break
		}
		want.Width = float64(p.Size.Width) + max(0, outer.Width-got[0])
		want.Height = float64(p.Size.Height) + max(0, outer.Height-got[1])
	}
	size := fmt.Sprintf("viewport %d×%d", p.Size.Width, p.Size.Height)
	if got[0] != float64(p.Size.Width) || got[1] != float64(p.Size.Height) {
		o.Apply(size, fmt.Errorf("the window stays at %g×%g", got[0], got[1]))
	} else {
		o.Apply(size, nil)
	}
	if p.Touch {
		o.Apply("touch", ErrNoCommand)
	}
	if p.Handheld {
		o.Apply("orientation "+p.Orientation(), ErrNoCommand)
	}
	return o, nil
}

// settledViewport waits until two readings a frame apart agree.
func settledViewport(ctx context.Context, s *webdriver.Session) (size [2]float64, err error) {
	const read = `const done = arguments[arguments.length - 1]; let last = "";
		const look = (n) => { const now = innerWidth + "x" + innerHeight;
			if (now === last || n === 0) done([innerWidth, innerHeight]); else { last = now; setTimeout(look, 50, n - 1); } };
		look(20);`
	err = s.ExecuteAsync(ctx, read, &size)
	return size, err
}
