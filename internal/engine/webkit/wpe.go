package webkit

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"

	"parallelpane/internal/engine"
)

// WPE opens the WebKit for devices without a window system, through WPEWebDriver. It
// needs no display. There is no BiDi.
type WPE struct{}

// Name is the browser's name.
func (WPE) Name() string { return "wpe" }

// embedded is what sessions may ask of WPE's MiniBrowser.
var embedded = engine.Vendor{
	Key:    "wpe:browserOptions",
	Fields: []string{"args"},
	Why: map[string]string{
		"binary":         "the agent chooses the browser by browserName and browserVersion",
		"certificates":   "it reads a path; use acceptInsecureCerts",
		"cookies-file":   "it writes to a path",
		"content-filter": "it reads a path",
		"proxy":          "name a proxy by the capability proxy",
		"ignore-host":    "every session has one way out",
	},
	Switches: engine.Names{"automation", "headless", "private", "bg-color", "cookies-policy", "enable-itp", "ignore-tls-errors", "time-zone"},
}

// Launch starts a driver for one session; its browser draws into memory.
func (WPE) Launch(ctx context.Context, o engine.Options) (*engine.Instance, error) {
	inst := engine.NewInstance(&o)
	options, err := embedded.Of(o.Asked, o.Allow)
	if err != nil {
		return nil, err
	}
	asked, left, err := embedded.Arguments(options, true, o.Allow)
	if err != nil {
		return nil, err
	}
	inst.Left = left
	args := slices.Concat([]string{"--automation", "--headless"}, asked)
	if z := o.Device.TimeZone; z != "" {
		args = append(args, "--time-zone="+z)
		inst.Outcome.Apply("time zone "+z, nil)
	}
	if l := o.Device.Locale; l != "" {
		inst.Outcome.Apply("locale "+l, engine.ErrNoCommand)
	}
	if o.Device.Density != 1 {
		inst.Outcome.Apply(fmt.Sprintf("density %g", o.Device.Density), engine.ErrNoCommand)
	}
	if o.Device.UserAgent("webkit", "16") != "" {
		inst.Outcome.Apply("user agent", engine.ErrNoCommand)
	}
	for _, w := range o.Device.Wishes() {
		inst.Outcome.Apply(w.String(), engine.ErrNoCommand)
	}
	if o.Headed {
		inst.Outcome.Apply("a window", engine.ErrNoCommand)
	}
	env := []string{"NO_AT_BRIDGE=1"}
	for name, dir := range map[string]string{"XDG_CONFIG_HOME": "config", "XDG_DATA_HOME": "data", "XDG_CACHE_HOME": "cache"} {
		env = append(env, name+"="+o.Box.Inside(filepath.Join(o.Dir, dir)))
	}
	port, p, err := engine.StartOnPort(ctx, inst, o, env, onPort)
	if err != nil {
		inst.Close()
		return nil, err
	}
	inst.Own(p)
	inst.URL = "http://127.0.0.1:" + strconv.Itoa(port)
	options["binary"], options["args"] = o.Browser.Path, args
	inst.Caps = embedded.Asking(o, options, false)
	if o.Door != "" {
		inst.Caps["proxy"] = through(o.Door)
	}
	return inst, nil
}
