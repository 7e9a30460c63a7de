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
	port, p, err := startDriver(ctx, o, env)
	if err != nil {
		inst.Close()
		return nil, err
	}
	inst.Own(p)
	inst.URL = "http://127.0.0.1:" + port
	options["binary"], options["args"] = o.Browser.Path, args
	prefs, _ := options["prefs"].(map[string]any)
	options["prefs"] = saving(prefs, o.Box.Inside(filepath.Join(o.Dir, engine.Downloads)))
	inst.Caps, inst.Prefer = vendorOf(o.Browser.Name).Asking(o, options, true), prefer(o.Browser.Name)
	return inst, nil
}

// prefer has the pages of a session's window told what its device's owner prefers, by a
// command of the driver's own. Windows that pages open are not told.
func prefer(browser string) func(context.Context, *webdriver.Session, []device.Wish) device.Outcome {
	path := "/goog/cdp/execute"
	if browser == "edge" {
		path = "/ms/cdp/execute"
	}
	return func(ctx context.Context, s *webdriver.Session, wishes []device.Wish) (o device.Outcome) {
		features := []map[string]string{}
		for _, w := range wishes {
			features = append(features, map[string]string{"name": w.Feature, "value": w.Query})
		}
		err := s.Do(ctx, http.MethodPost, path, map[string]any{"cmd": "Emulation.setEmulatedMedia", "params": map[string]any{
			"features": features}}, nil)
		for _, w := range wishes {
			o.Apply(w.String(), err)
		}
		return o
	}
}

// saving adds to preferences where downloads go.
func saving(prefs map[string]any, dir string) map[string]any {
	out := map[string]any{}
	maps.Copy(out, prefs)
	out["download.default_directory"], out["download.prompt_for_download"] = dir, false
	return out
}

// startDriver starts the driver on a port of its own choice. It picks one that
// is free for IPv6 and gives up when IPv4 has it in use, so it is asked again.
func startDriver(ctx context.Context, o engine.Options, env []string) (string, *process.Process, error) {
	var last error
	for range 3 {
		p, err := o.Box.Start(process.Command{Log: o.Log, Env: env, Path: o.Browser.Driver, Args: []string{"--port=0"}})
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
