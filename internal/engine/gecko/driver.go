package gecko

import (
	"context"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
)

// byDriver says whether a browser is opened through a driver, which its agent's settings
// name: its own remote port is closed.
func byDriver(b fleet.Browser) bool { return b.Driver != "" && b.Driver != fleet.BuiltIn }

// launchByDriver starts a driver, which starts the browser when the session is asked for.
func launchByDriver(ctx context.Context, inst *engine.Instance, o engine.Options) error {
	asked, err := askedOf(o.Asked, o.Allow)
	if err != nil {
		return err
	}
	inst.Left = asked.left
	settled, err := settledPrefs(preferring(o.Device, asked.prefs, inst), o.Box.Inside(filepath.Join(o.Dir, engine.Downloads)), o.Door)
	if err != nil {
		return err
	}
	args := slices.Concat([]string{"--width", strconv.Itoa(o.Device.Size.Width), "--height", strconv.Itoa(o.Device.Size.Height + 85)},
		asked.args)
	var env []string
	if !o.Headed {
		args = append(args, "--headless")
	} else if runtime.GOOS == "linux" {
		if err := inst.NeedDisplay(ctx, &o, max(1920, o.Device.Size.Width), max(1200, o.Device.Size.Height+200)); err != nil {
			return err
		}
		env = append(env, "DISPLAY="+o.Display)
	}
	port, p, err := engine.StartOnPort(ctx, inst, o, env, func(port int) []string {
		return []string{"--host", "127.0.0.1", "--port", strconv.Itoa(port), "--websocket-port", "0"}
	})
	if err != nil {
		return err
	}
	inst.Own(p)
	inst.URL, inst.BiDi = "http://127.0.0.1:"+strconv.Itoa(port), true
	options := map[string]any{"binary": o.Browser.Path, "args": args, "prefs": settled}
	if theirs, ok := o.Asked[vendor.Key].(map[string]any); ok && theirs["profile"] != nil {
		options["profile"] = theirs["profile"]
	}
	inst.Caps = vendor.Asking(o, options, true)
	return nil
}

// settledPrefs are the preferences of a session, the last of one name counting: the lab's
// own, those asked for, where downloads go, and the way out. The driver chooses the port.
func settledPrefs(asked map[string]any, saved, door string) (map[string]any, error) {
	leads, err := through(door)
	if err != nil {
		return nil, err
	}
	out := maps.Clone(prefs)
	maps.Copy(out, asked)
	maps.Copy(out, saving(saved))
	maps.Copy(out, leads)
	delete(out, "marionette.port")
	return out, nil
}
