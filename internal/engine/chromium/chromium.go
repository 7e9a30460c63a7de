// Package chromium opens Chromium through its driver, chromedriver.
package chromium

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"time"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/webdriver"
)

// Family is the Chromium family.
type Family struct{}

// Name is the engine's name.
func (Family) Name() string { return "chromium" }

var portLine = regexp.MustCompile(`started successfully on port (\d+)`)

// Launch starts a driver for one session; the driver starts the browser when
// the session is asked for.
func (Family) Launch(ctx context.Context, o engine.Options) (*engine.Instance, error) {
	inst := engine.NewInstance(&o)
	inst.BiDi = true
	options, asked, err := settle(o, inst)
	if err != nil {
		return nil, err
	}
	// Of a switch that is given twice the last counts: a size may be asked for, the
	// profile's place may not.
	args := slices.Concat([]string{fmt.Sprintf("--window-size=%d,%d", o.Device.Size.Width, o.Device.Size.Height)}, asked, []string{
		"--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
		"--disable-component-update", "--disable-sync",
		"--user-data-dir=" + o.Box.Inside(filepath.Join(o.Dir, "profile")),
	})
	if o.Door != "" { // for the machine's loopback as well
		args = append(args, "--proxy-server=http://"+o.Door, "--proxy-bypass-list=<-loopback>")
	}
	var env []string
	if o.Headed {
		if runtime.GOOS == "linux" {
			if err := inst.NeedDisplay(ctx, &o, max(1920, o.Device.Size.Width), max(1200, o.Device.Size.Height+200)); err != nil {
				return nil, err
			}
			env = append(env, "DISPLAY="+o.Display)
		}
	} else {
		args = append(args, "--headless=new")
	}
	if os.Geteuid() == 0 && !o.Box.Isolated() { // the browser's own sandbox refuses to run as root
		args = append(args, "--no-sandbox")
	}
	port, p, err := StartDriver(ctx, o, env)
	if err != nil {
		inst.Close()
		return nil, err
	}
	inst.Own(p)
	inst.URL = "http://127.0.0.1:" + port
	options["binary"], options["args"] = o.Browser.Path, args
	prefs, _ := options["prefs"].(map[string]any)
	options["prefs"] = saving(prefs, o.Box.Inside(filepath.Join(o.Dir, engine.Downloads)))
	inst.Caps, inst.Prefer, inst.Slow = Asking(o, options), Prefer(o.Browser.Name), Slow(o.Browser.Name)
	return inst, nil
}

// Prefer has the pages of a session's window told what its device's owner prefers, by a
// command of the driver's own. Windows that pages open are not told.
func Prefer(browser string) func(context.Context, *webdriver.Session, []device.Wish) device.Outcome {
	return func(ctx context.Context, s *webdriver.Session, wishes []device.Wish) (o device.Outcome) {
		features := []map[string]string{}
		for _, w := range wishes {
			features = append(features, map[string]string{"name": w.Feature, "value": w.Query})
		}
		err := ofItsOwn(ctx, s, browser, "Emulation.setEmulatedMedia", map[string]any{"features": features})
		for _, w := range wishes {
			o.Apply(w.String(), err)
		}
		return o
	}
}

// Slow has the pages of a session's window run slower, by a command of the driver's own.
// Windows that pages open are as fast as ever.
func Slow(browser string) func(context.Context, *webdriver.Session, float64) error {
	return func(ctx context.Context, s *webdriver.Session, times float64) error {
		return ofItsOwn(ctx, s, browser, "Emulation.setCPUThrottlingRate", map[string]any{"rate": times})
	}
}

// ofItsOwn sends a command that is the driver's own.
func ofItsOwn(ctx context.Context, s *webdriver.Session, browser, command string, params map[string]any) error {
	path := "/goog/cdp/execute"
	if browser == "edge" {
		path = "/ms/cdp/execute"
	}
	return s.Do(ctx, http.MethodPost, path, map[string]any{"cmd": command, "params": params}, nil)
}

// saving adds to preferences where downloads go.
func saving(prefs map[string]any, dir string) map[string]any {
	out := map[string]any{}
	maps.Copy(out, prefs)
	out["download.default_directory"], out["download.prompt_for_download"] = dir, false
	return out
}

// StartDriver starts the driver on a port of its own choice, which it answers. It picks
// one that is free for IPv6 and gives up when IPv4 has it in use, so it is asked again.
func StartDriver(ctx context.Context, o engine.Options, env []string, more ...string) (string, *process.Process, error) {
	var last error
	for range 3 {
		p, err := o.Box.Start(process.Command{Log: o.Log, Env: env, Path: o.Browser.Driver, Args: append([]string{"--port=0"}, more...)})
		if err != nil {
			return "", nil, err
		}
		ready, cancel := context.WithTimeout(ctx, 20*time.Second)
		line, err := p.WaitLine(ready, portLine.MatchString)
		cancel()
		if err == nil {
			return portLine.FindStringSubmatch(line)[1], p, nil
		}
		last = err
		p.Stop(0)
	}
	return "", nil, last
}
