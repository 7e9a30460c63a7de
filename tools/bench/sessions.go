package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"parallelpane/internal/core/device"
	"parallelpane/internal/demo/desk"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/sessions"
	"parallelpane/internal/webdriver"
)

// bearer sends a token along.
type bearer struct {
	token string
	next  http.RoundTripper
}

func (b bearer) RoundTrip(req *http.Request) (*http.Response, error) {
	req.Header.Set("Authorization", "Bearer "+b.token)
	return b.next.RoundTrip(req)
}

// endpoint is a client of a service's session endpoint.
func (s *served) endpoint() *webdriver.Client {
	return webdriver.NewClient(s.base+"/webdriver", &http.Client{Transport: bearer{s.token, &http.Transport{MaxIdleConnsPerHost: 512}}})
}

// join starts the program as a part of the lab that joins the service.
func (s *served) join(ctx context.Context, pane string, args ...string) (stop func(), err error) {
	cmd := exec.CommandContext(ctx, pane, args...)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+s.dir, "PANE_TOKEN="+s.agent, "PANE_SERVICE="+s.base)
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	return func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}, nil
}

func (s *served) agents(ctx context.Context, n int) error {
	for end := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		var all []struct{ Online bool }
		if err := s.call(ctx, "GET", "/agents", s.token, nil, &all); err != nil {
			return err
		}
		if len(all) >= n {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("%d of %d agents joined", len(all), n)
		}
	}
}

// smallLab is a service with one agent, which has one slot.
func smallLab(ctx context.Context, pane string) (*served, func(), error) {
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, nil, err
	}
	leave, err := s.join(ctx, pane, "agent", "--name", "bench", "--state", filepath.Join(s.dir, "agent"), "--slots", "1")
	if err != nil {
		stop()
		return nil, nil, err
	}
	end := func() {
		leave()
		stop()
	}
	if err := s.agents(ctx, 1); err != nil {
		end()
		return nil, nil, err
	}
	return s, end, nil
}

// commands compares sessions through service and agent with sessions on the
// driver itself, taking turns, on Chromium.
func commands(ctx context.Context, pane string) ([]row, error) {
	site := httptest.NewServer(desk.New(0))
	defer site.Close()
	s, stop, err := smallLab(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	host, err := sessions.NewHost(filepath.Join(s.dir, "direct"), slog.New(slog.DiscardHandler), chromium.Family{})
	if err != nil {
		return nil, err
	}
	browser := host.Found(ctx).Browsers[0]
	profile, err := device.Find("")
	if err != nil {
		return nil, err
	}
	remote := s.endpoint()
	open := func(through bool, options map[string]any) (*webdriver.Session, func(), time.Duration, error) {
		began := time.Now()
		if through {
			caps := webdriver.Capabilities{"browserName": "chromium"}
			if options != nil {
				caps["pane:options"] = options
			}
			x, err := remote.New(ctx, caps)
			if err != nil {
				return nil, nil, 0, err
			}
			return x, func() { _ = x.Close(ctx) }, time.Since(began), nil
		}
		dir, err := os.MkdirTemp(s.dir, "direct-")
		if err != nil {
			return nil, nil, 0, err
		}
		inst, err := chromium.Family{}.Launch(ctx, engine.Options{Browser: browser, Device: profile, Dir: dir, Asked: webdriver.Capabilities{}})
		if err != nil {
			return nil, nil, 0, err
		}
		x, err := webdriver.NewClient(inst.URL, nil).New(ctx, inst.Caps)
		if err != nil {
			inst.Close()
			return nil, nil, 0, err
		}
		return x, func() { _ = x.Close(ctx); inst.Close() }, time.Since(began), nil
	}
	work := func(x *webdriver.Session, note func(time.Duration)) error {
		timed := func(f func() error) error {
			began := time.Now()
			err := f()
			note(time.Since(began))
			return err
		}
		e, err := x.Find(ctx, "css selector", "h1")
		if err != nil {
			return err
		}
		for _, f := range []func() error{
			func() error { _, err := x.Title(ctx); return err },
			func() error { _, err := x.Find(ctx, "css selector", "main a"); return err },
			func() error { _, err := x.Text(ctx, e); return err },
			func() error { _, err := x.Attribute(ctx, e, "class"); return err },
			func() error { return x.Execute(ctx, "return document.links.length", nil) },
		} {
			if err := timed(f); err != nil {
				return err
			}
		}
		return nil
	}
	var starts, times [2][]time.Duration
	for i := range 20 {
		for side := range 2 {
			k := (i + side) % 2
			_, end, took, err := open(k == 1, nil)
			if err != nil {
				return nil, err
			}
			end()
			starts[k] = append(starts[k], took)
			time.Sleep(500 * time.Millisecond) // the browser before is really gone
		}
	}
	var both [2]*webdriver.Session
	for k := range 2 {
		x, end, _, err := open(k == 1, nil)
		if err != nil {
			return nil, err
		}
		defer end()
		if err := x.Navigate(ctx, site.URL); err != nil {
			return nil, err
		}
		both[k] = x
	}
	for i := range 1020 {
		for side := range 2 {
			k := (i + side) % 2
			if err := work(both[k], func(d time.Duration) {
				if i >= 20 {
					times[k] = append(times[k], d)
				}
			}); err != nil {
				return nil, err
			}
		}
	}
	for k := range 2 {
		slices.Sort(times[k])
		slices.Sort(starts[k])
	}
	at := func(k int, q float64) time.Duration { return times[k][int(q*float64(len(times[k])-1))] }
	ms := func(d time.Duration) string { return fmt.Sprintf("%.2f ms", float64(d.Microseconds())/1000) }
	return []row{
		{fmt.Sprintf("command on the driver itself, median of %d (Chromium)", len(times[0])), ms(at(0, .5)), "–"},
		{"the same through service and agent, recorded, turn about", fmt.Sprintf("%s (%.2f ×, + %s)", ms(at(1, .5)),
			float64(at(1, .5))/float64(at(0, .5)), ms(at(1, .5)-at(0, .5))), "1.05 ×, or + 0.5 ms"},
		{"the same, 99th percentile, more than the driver's", ms(at(1, .99) - at(0, .99)), "+ 3 ms"},
		{"session start through service and agent, more than the driver's (median of 20)", ms(starts[1][10] - starts[0][10]), "+ 50 ms"},
	}, nil
}

// recordingCost runs the same test with nothing, everything but video, and
// everything recorded, turn about.
func recordingCost(ctx context.Context, pane string) ([]row, error) {
	site := httptest.NewServer(desk.New(0))
	defer site.Close()
	s, stop, err := smallLab(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	remote := s.endpoint()
	kinds := []map[string]any{
		{"commands": "never", "screenshots": "never", "video": "never", "network": "never", "console": "never", "logs": "never"},
		{"commands": "always", "screenshots": "always", "video": "never", "network": "always", "console": "always", "logs": "always"},
		{"commands": "always", "screenshots": "always", "video": "always", "network": "always", "console": "always", "logs": "always"},
	}
	took := make([][]time.Duration, len(kinds))
	for range 7 {
		for k, record := range kinds {
			x, err := remote.New(ctx, webdriver.Capabilities{"browserName": "chromium", "pane:options": map[string]any{"record": record}})
			if err != nil {
				return nil, err
			}
			began := time.Now()
			err = shift(ctx, x, site.URL)
			took[k] = append(took[k], time.Since(began))
			_ = x.Close(ctx)
			if err != nil {
				return nil, err
			}
			time.Sleep(time.Second) // what was recorded is being put away
		}
	}
	base := median(took[0])
	cost := func(k int) string { return fmt.Sprintf("%+.0f %%", 100*(float64(median(took[k]))/float64(base)-1)) }
	return []row{
		{"a test of pages, forms and looks, nothing recorded (median of 7, Chromium)", fmt.Sprintf("%.2f s", base.Seconds()), "–"},
		{"the same, everything but video recorded", cost(1), "+ 10 %"},
		{"the same, everything recorded", cost(2), "+ 25 %"},
	}, nil
}

// shift is what a test does: it goes through the desk's pages as a person in a
// hurry would, with a look at each.
func shift(ctx context.Context, x *webdriver.Session, base string) error {
	for range 3 {
		for _, page := range []string{"/", "/tides", "/berths/A1", "/fees", "/insurance", "/sign-in"} {
			if err := x.Navigate(ctx, base+page); err != nil {
				return err
			}
			for range 4 {
				e, err := x.Find(ctx, "css selector", "h1")
				if err != nil {
					return err
				}
				if _, err := x.Text(ctx, e); err != nil {
					return err
				}
			}
			boxes, err := x.FindAll(ctx, "css selector", "main input[type=text], main input:not([type])")
			if err != nil {
				return err
			}
			for _, b := range boxes {
				if err := x.SendKeys(ctx, b, "Osprey"); err != nil && webdriver.CodeOf(err) != webdriver.NotInteractable {
					return err
				}
			}
			time.Sleep(100 * time.Millisecond) // as waits do
		}
	}
	return nil
}

const swarmFleet = `agents:
  - name: swarm
    count: 4
    os: saltos
    os_version: "4"
    arch: amd64
    cores: 8
    memory_mb: 16384
    slots: 50
    browsers: {kestrel: "12.1"}
    command_ms: 1
`

// swarm keeps 200 sessions busy on stand-in agents, each at 20 commands a
// second.
func swarm(ctx context.Context, pane string) ([]row, error) {
	site := httptest.NewServer(desk.New(0))
	defer site.Close()
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	file := filepath.Join(s.dir, "fleet.yaml")
	if err := os.WriteFile(file, []byte(swarmFleet), 0o600); err != nil {
		return nil, err
	}
	leave, err := s.join(ctx, pane, "standin", "fleet", file, "--state", filepath.Join(s.dir, "swarm"))
	if err != nil {
		return nil, err
	}
	defer leave()
	if err := s.agents(ctx, 4); err != nil {
		return nil, err
	}
	remote := s.endpoint()
	before := residentKB(s.cmd.Process.Pid)
	const n, rate, length = 200, 20, 20 * time.Second
	open := make([]*webdriver.Session, n)
	var starting sync.WaitGroup
	var failed atomic.Int64
	gate := make(chan struct{}, 20)
	for i := range n {
		starting.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			x, err := remote.New(ctx, webdriver.Capabilities{"browserName": "kestrel", "pane:options": map[string]any{"run": "swarm",
				"test": fmt.Sprintf("bird %d", i)}})
			if err == nil {
				err = x.Navigate(ctx, site.URL)
			}
			if err != nil {
				failed.Add(1)
				return
			}
			open[i] = x
		})
	}
	starting.Wait()
	if failed.Load() > 0 {
		return nil, fmt.Errorf("%d sessions did not open", failed.Load())
	}
	var sent, errs atomic.Int64
	var most atomic.Int64
	began, used := time.Now(), processorSeconds(s.cmd.Process.Pid)
	var busy sync.WaitGroup
	for _, x := range open {
		busy.Go(func() {
			t := time.NewTicker(time.Second / rate)
			defer t.Stop()
			for range rate * int(length.Seconds()) {
				<-t.C
				if _, err := x.Title(ctx); err != nil {
					errs.Add(1)
				}
				sent.Add(1)
			}
		})
	}
	busy.Wait()
	took := time.Since(began)
	most.Store(residentKB(s.cmd.Process.Pid))
	cpu := processorSeconds(s.cmd.Process.Pid) - used
	var ending sync.WaitGroup
	for _, x := range open {
		ending.Go(func() { _ = x.Close(ctx) })
	}
	ending.Wait()
	return []row{
		{fmt.Sprintf("%d sessions at once on stand-in agents: commands a second, with errors", n), fmt.Sprintf("%.0f, %d errors",
			float64(sent.Load())/took.Seconds(), errs.Load()), "4000, none"},
		{"the same, service's memory a session", fmt.Sprintf("%.2f MB", float64(most.Load()-before)/1000/n), "1 MB"},
		{"the same, service's share of one core", fmt.Sprintf("%.0f %%", 100*cpu/took.Seconds()), "–"},
	}, nil
}
