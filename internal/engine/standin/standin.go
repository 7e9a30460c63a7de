// Package standin is a small simulated browser, for agents and systems that do
// not exist. It speaks W3C WebDriver, loads pages over HTTP, parses and lays
// them out plainly, follows links, fills and sends forms and keeps cookies. It
// runs no scripts and says so. Everything it shows is labelled a stand-in.
package standin

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/webdriver"
)

// Faults are what goes wrong by chance.
type Faults struct {
	Start float64 // probability that a browser will not start
	Crash float64 // probability that it ends in a command
}

// Family offers invented browsers.
type Family struct {
	Browsers []fleet.Browser // Engine and Driver are filled in
	Platform string          // invented operating system
	Pause    time.Duration   // before each command
	Faults   Faults
	Seed     uint64 // of the faults

	mu  sync.Mutex
	rng *rand.Rand
}

// Name is the engine's name.
func (*Family) Name() string { return "standin" }

// Find lists the invented browsers.
func (f *Family) Find(context.Context) []fleet.Browser {
	out := slices.Clone(f.Browsers)
	for i := range out {
		out[i].Engine, out[i].Path, out[i].Driver, out[i].DriverVersion, out[i].Fits = "standin", "simulated", "built in", out[i].Version, true
	}
	return out
}

// chance draws from the family's faults.
func (f *Family) chance(probability float64) bool {
	if probability <= 0 {
		return false
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.rng == nil {
		f.rng = rand.New(rand.NewPCG(f.Seed, 0x70616e65))
	}
	return f.rng.Float64() < probability
}

// Launch starts a browser that listens on loopback.
func (f *Family) Launch(_ context.Context, o engine.Options) (*engine.Instance, error) {
	if f.chance(f.Faults.Start) {
		return nil, errors.New("the stand-in was told to fail here: it would not start")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("launch stand-in: %w", err)
	}
	d := o.Device
	agent := fmt.Sprintf("Mozilla/5.0 (%s; stand-in) ParallelPane/1 %s/%s", f.Platform, o.Browser.Name, o.Browser.Version)
	if d.Handheld {
		agent += " Mobile"
	}
	language := "en"
	if d.Locale != "" {
		language = d.Locale
	}
	r := &remote{o: settings{name: o.Browser.Name, version: o.Browser.Version, platform: f.Platform, agent: agent, language: language,
		width: float64(d.Size.Width), height: float64(d.Size.Height), ratio: d.Density, pause: f.Pause,
		through: http.ProxyFromEnvironment}}
	if o.Door != "" {
		r.o.through = http.ProxyURL(&url.URL{Scheme: "http", Host: o.Door})
	}
	srv := &http.Server{Handler: r, ReadHeaderTimeout: 10 * time.Second}
	var mu sync.Mutex
	var gone error
	end := func(why string) {
		mu.Lock()
		defer mu.Unlock()
		if gone == nil {
			gone = errors.New(why)
		}
	}
	if f.Faults.Crash > 0 {
		r.o.crash = func() bool { return f.chance(f.Faults.Crash) }
		r.o.dead = func() {
			end("the stand-in was told to fail here: the browser crashed")
			go srv.Close() // not from within a request it would wait for
		}
	}
	go func() { _ = srv.Serve(l) }() // it ends with Close
	inst := &engine.Instance{URL: "http://" + l.Addr().String(), Caps: asking(o), Outcome: outcome(d), Emulated: true}
	inst.Watch(func() error {
		mu.Lock()
		defer mu.Unlock()
		return gone
	})
	inst.Cleanup(func() {
		end("the stand-in was closed")
		_ = srv.Close()
	})
	return inst, nil
}

// asking is what the New Session command asks for.
func asking(o engine.Options) webdriver.Capabilities {
	caps := webdriver.Capabilities{"browserName": o.Browser.Name}
	maps.Copy(caps, o.Asked)
	return caps
}

// outcome says what of a device the simulation obeys.
func outcome(d device.Profile) (o device.Outcome) {
	o.Apply(fmt.Sprintf("viewport %d×%d", d.Size.Width, d.Size.Height), nil)
	o.Apply(fmt.Sprintf("density %g", d.Density), nil)
	without := errors.New("a stand-in has no scripts that could notice")
	if d.Handheld {
		o.Apply("user agent", nil)
		o.Apply("orientation "+d.Orientation(), nil)
	}
	if d.Touch {
		o.Apply("touch", without)
	}
	if d.Locale != "" {
		o.Apply("locale "+d.Locale, nil)
	}
	for _, w := range d.Wishes() {
		o.Apply(w.String(), without)
	}
	if d.TimeZone != "" {
		o.Apply("time zone "+d.TimeZone, without)
	}
	return o
}
