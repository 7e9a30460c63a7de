// Package webkit opens WebKitGTK's MiniBrowser through WebKitWebDriver, under a
// virtual display. There is no BiDi.
package webkit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"parallelpane/internal/engine"
)

// Family is the WebKit family.
type Family struct{}

// Name is the engine's name.
func (Family) Name() string { return "webkit" }

// plain takes the space away that MiniBrowser's tool bar would claim: with it
// no window is narrower than 447 pixels, which no phone's viewport fits.
const plain = "* { min-width: 0; min-height: 0; padding: 0; margin: 0; border: 0; font-size: 1px; }\n"

// vendor is what sessions may ask of MiniBrowser. The switches of the toolkit below
// it are not: they load programs and look at other displays.
var vendor = engine.Vendor{
	Key:    "webkitgtk:browserOptions",
	Fields: []string{"args"},
	Why: map[string]string{
		"binary":       "the agent chooses the browser by browserName and browserVersion",
		"targetAddr":   "it would be somebody else's browser",
		"certificates": "it reads a path; use acceptInsecureCerts",
		"gtk-module":   "it loads a program",
		"display":      "every session has a display of its own",
		"proxy":        "name a proxy by the capability proxy",
	},
	Switches: engine.Names{"automation", "private", "full-screen", "dark-mode", "geometry", "user-agent", "autoplay-policy", "zoom",
		"ignore-tls-errors", "enable-itp", "features", "background-color", "font-size", "enable-*", "disable-*"},
}

// Launch starts a display and a driver for one session.
func (Family) Launch(ctx context.Context, o engine.Options) (*engine.Instance, error) {
	inst := engine.NewInstance(&o)
	options, err := vendor.Of(o.Asked, o.Allow)
	if err != nil {
		return nil, err
	}
	asked, left, err := vendor.Arguments(options, true, o.Allow)
	if err != nil {
		return nil, err
	}
	inst.Left = left
	scale := int(o.Device.Density)
	config := filepath.Join(o.Dir, "config")
	if err := os.MkdirAll(filepath.Join(config, "gtk-3.0"), 0o700); err != nil {
		return nil, fmt.Errorf("launch webkit: %w", err)
	}
	if err := os.WriteFile(filepath.Join(config, "gtk-3.0", "gtk.css"), []byte(plain), 0o600); err != nil {
		return nil, fmt.Errorf("launch webkit: %w", err)
	}
	if err := inst.NeedDisplay(ctx, &o, max(1024, o.Device.Size.Width*scale), max(768, (o.Device.Size.Height+60)*scale)); err != nil {
		return nil, err
	}
	inst.Scale = scale
	env := []string{
		"DISPLAY=" + o.Display, "GDK_BACKEND=x11", "GDK_SCALE=" + strconv.Itoa(scale), "NO_AT_BRIDGE=1",
		"XDG_CONFIG_HOME=" + o.Box.Inside(config), "XDG_DATA_HOME=" + o.Box.Inside(filepath.Join(o.Dir, "data")),
		"XDG_CACHE_HOME=" + o.Box.Inside(filepath.Join(o.Dir, "cache")),
	}
	if l := o.Device.Locale; l != "" {
		inst.Outcome.Apply("locale "+l, engine.ErrNoCommand)
	}
	if z := o.Device.TimeZone; z != "" {
		env = append(env, "TZ="+z)
		inst.Outcome.Apply("time zone "+z, nil)
	}
	inst.Outcome.Apply(fmt.Sprintf("density %g", o.Device.Density), ratioError(o.Device.Density))
	args := slices.Concat([]string{"--automation"}, asked)
	for _, w := range o.Device.Wishes() {
		var err error
		switch w.String() {
		case "scheme light", "motion full", "contrast usual", "colours own": // as it is
		case "scheme dark":
			args = append(args, "--dark-mode")
		default:
			err = engine.ErrNoCommand
		}
		inst.Outcome.Apply(w.String(), err)
	}
	if ua := o.Device.UserAgent("webkit", "26"); ua != "" {
		args = append(args, "--user-agent="+ua)
		inst.Outcome.Apply("user agent", nil)
	}
	port, p, err := engine.StartOnPort(ctx, inst, o, env, onPort)
	if err != nil {
		inst.Close()
		return nil, err
	}
	inst.Own(p)
	inst.URL = "http://127.0.0.1:" + strconv.Itoa(port)
	options["binary"], options["args"] = o.Browser.Path, args
	inst.Caps = vendor.Asking(o, options, false)
	if o.Door != "" {
		inst.Caps["proxy"] = through(o.Door)
	}
	return inst, nil
}

// through is the capability that leads a browser through the session's door.
func through(door string) map[string]any {
	return map[string]any{"proxyType": "manual", "httpProxy": door, "sslProxy": door}
}

func ratioError(ratio float64) error {
	if ratio != float64(int(ratio)) {
		return fmt.Errorf("the engine scales by whole numbers only: %d instead", int(ratio))
	}
	return nil
}

func onPort(port int) []string { return []string{"--host=127.0.0.1", "-p", strconv.Itoa(port)} }
