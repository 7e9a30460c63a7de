// Package safari opens Safari through safaridriver, which comes with it. One session at
// a time is open on a machine: a second one waits. There is no BiDi and no headless mode.
package safari

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"parallelpane/internal/engine"
	"parallelpane/internal/webdriver"
)

// Family is Safari, and its preview.
type Family struct{}

// Name is the browser's name.
func (Family) Name() string { return "safari" }

// turn is taken by the session that is open: the driver refuses another, whichever
// program of the machine's it belongs to.
var turn = make(chan struct{}, 1)

// refused are the capabilities that sessions may not ask for, with the reason.
var refused = map[string]string{
	"safari:diagnose":            "it writes to a path; the driver's log is recorded",
	"safari:automaticInspection": "it opens windows of the browser's developer",
	"safari:automaticProfiling":  "it opens windows of the browser's developer",
}

// Launch waits for Safari's turn and starts a driver.
func (Family) Launch(ctx context.Context, o engine.Options) (*engine.Instance, error) {
	for name := range o.Asked {
		if why, no := refused[name]; no && !o.Allow.Hold(name) {
			return nil, &engine.Refused{Why: fmt.Sprintf("%s cannot be had here: %s. Leave it out, or have the agent started with --allow %s",
				name, why, name)}
		}
	}
	select {
	case turn <- struct{}{}:
	case <-ctx.Done():
		return nil, fmt.Errorf("another session has Safari, which opens one at a time: %w", ctx.Err())
	}
	inst := engine.NewInstance(&o)
	inst.Cleanup(sync.OnceFunc(func() { <-turn }))
	port, p, err := engine.StartOnPort(ctx, inst, o, nil, func(port int) []string { return []string{"-p", strconv.Itoa(port)} })
	if err != nil {
		inst.Close()
		return nil, err
	}
	inst.Own(p)
	inst.URL = "http://127.0.0.1:" + strconv.Itoa(port)
	caps := webdriver.Capabilities{}
	for name, v := range o.Asked {
		caps[name] = v
	}
	caps["browserName"] = "Safari"
	if strings.Contains(o.Browser.Path, "Technology Preview") {
		caps["browserName"] = "Safari Technology Preview"
	}
	inst.Caps = caps
	if l := o.Device.Locale; l != "" {
		inst.Outcome.Apply("locale "+l, engine.ErrNoCommand)
	}
	if z := o.Device.TimeZone; z != "" {
		inst.Outcome.Apply("time zone "+z, engine.ErrNoCommand)
	}
	for _, w := range o.Device.Wishes() {
		inst.Outcome.Apply(w.String(), engine.ErrNoCommand)
	}
	if o.Device.UserAgent("webkit", "26") != "" {
		inst.Outcome.Apply("user agent", engine.ErrNoCommand)
	}
	return inst, nil
}
