package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/project"
)

// served is a service started for a measurement.
type served struct {
	dir, base, token, agent string
	cmd                     *exec.Cmd
	handers                 sync.Map // tokens of agents that are played, by name
}

func serve(ctx context.Context, pane string) (*served, func(), error) {
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		return nil, nil, err
	}
	s, stop, err := serveIn(ctx, pane, dir)
	if err != nil {
		return nil, nil, errors.Join(err, os.RemoveAll(dir))
	}
	return s, func() { stop(); _ = os.RemoveAll(dir) }, nil
}

// serveIn starts a service on the data of a directory.
func serveIn(ctx context.Context, pane, dir string) (*served, func(), error) {
	address, err := freeAddress()
	if err != nil {
		return nil, nil, err
	}
	s := &served{dir: dir, base: "http://" + address}
	s.cmd = exec.CommandContext(ctx, pane, "serve", "--data", filepath.Join(dir, "data"), "--listen", address)
	s.cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+dir)
	stop := func() {
		_ = s.cmd.Process.Signal(os.Interrupt)
		_ = s.cmd.Wait()
	}
	if err := s.cmd.Start(); err != nil {
		return nil, nil, err
	}
	if err := until(ctx, s.base+"/readyz", "", always); err != nil {
		stop()
		return nil, nil, err
	}
	for name, into := range map[string]*string{"admin.token": &s.token, "agent.token": &s.agent} {
		raw, err := os.ReadFile(filepath.Join(dir, "data", name))
		if err != nil {
			stop()
			return nil, nil, err
		}
		*into = strings.TrimSpace(string(raw))
	}
	return s, stop, nil
}

// of is the token of the agent that a result is of.
func (s *served) of(r link.Result) string {
	own, _ := s.handers.Load(r.Agent)
	token, _ := own.(string)
	return token
}

// call calls the API with one of the tokens.
func (s *served) call(ctx context.Context, method, path, token string, body any, out any) error {
	c := &client.Client{Base: s.base, Token: token}
	if raw, ok := body.([]byte); ok {
		return c.Send(ctx, method, path, bytes.NewReader(raw), out)
	}
	return c.Call(ctx, method, path, body, out)
}

// processorSeconds is the time a process has used so far.
func processorSeconds(pid int) float64 {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	_, rest, _ := strings.Cut(string(raw), ") ")
	f := strings.Fields(rest)
	if len(f) < 13 {
		return 0
	}
	var user, system float64
	fmt.Sscan(f[11], &user)
	fmt.Sscan(f[12], &system)
	return (user + system) / 100 // ticks of 10 ms
}

// crowd joins a thousand stand-in agents and looks at the service while they
// are idle.
func crowd(ctx context.Context, pane string) ([]row, error) {
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	file := filepath.Join(s.dir, "fleet.yaml")
	if err := os.WriteFile(file, []byte("agents:\n  - {name: gull, count: 1000, os: saltos, slots: 4, browsers: {kestrel: '12.1'}}\n"),
		0o600); err != nil {
		return nil, err
	}
	agents := exec.CommandContext(ctx, pane, "standin", "fleet", file, "--service", s.base, "--state", filepath.Join(s.dir, "standins"))
	agents.Env = append(os.Environ(), "PANE_TOKEN="+s.token)
	if err := agents.Start(); err != nil {
		return nil, err
	}
	defer func() {
		_ = agents.Process.Signal(os.Interrupt)
		_ = agents.Wait()
	}()
	joined := func() (n int, err error) {
		var all []struct{ Online bool }
		err = s.call(ctx, "GET", "/agents", s.token, nil, &all)
		for _, a := range all {
			if a.Online {
				n++
			}
		}
		return n, err
	}
	for range 600 {
		n, err := joined()
		if err != nil {
			return nil, err
		}
		if n == 1000 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	time.Sleep(10 * time.Second) // what joining cost is over
	from, began := processorSeconds(s.cmd.Process.Pid), time.Now()
	time.Sleep(30 * time.Second)
	share := (processorSeconds(s.cmd.Process.Pid) - from) / time.Since(began).Seconds()
	n, err := joined()
	if err != nil || n != 1000 {
		return nil, fmt.Errorf("%d of 1000 stand-ins are online: %w", n, err)
	}
	return []row{
		{"service with 1,000 stand-in agents connected and idle: of one core", fmt.Sprintf("%.0f %%", 100*share), "25 %"},
		{"the same: resident", fmt.Sprintf("%.0f MB", float64(residentKB(s.cmd.Process.Pid))/1000), "400 MB"},
	}, nil
}

// handsMade counts the calls of hands.
var handsMade int

// hands joins twenty agents that are played: whatever they are given comes out of
// a channel as the result it is said to have.
func (s *served) hands(ctx context.Context, outcome func(link.Slice, link.SliceTest) link.Result) (<-chan link.Result, func(), error) {
	ctx, cancel := context.WithCancel(ctx)
	work := make(chan link.Result, 100_000)
	handsMade++ // an agent's name belongs to the token that it first came with
	for i := range 20 {
		name := fmt.Sprintf("hand-%d-%d", handsMade, i)
		hello := link.Hello{Name: name, Instance: "1", Machine: fleet.Machine{OS: "saltos", Slots: 50, StandIn: true,
			Browsers: []fleet.Browser{{Name: "kestrel", Version: "12.1", Fits: true}}}}
		var made struct{ Secret string }
		if err := s.call(ctx, "POST", "/tokens", s.token, api.TokenRequest{Name: name, Role: api.AgentRole}, &made); err != nil {
			cancel()
			return nil, nil, err
		}
		own := made.Secret
		s.handers.Store(name, own)
		var welcome link.Welcome
		if err := s.call(ctx, "POST", link.HelloPath, own, hello, &welcome); err != nil {
			cancel()
			return nil, nil, err
		}
		header := http.Header{"Authorization": {"Bearer " + own}, link.TicketHeader: {welcome.Ticket}}
		l, err := link.Dial(ctx, "ws"+strings.TrimPrefix(s.base, "http")+link.Path, header, nil)
		if err != nil {
			cancel()
			return nil, nil, err
		}
		context.AfterFunc(ctx, func() { _ = l.Close() })
		var mu sync.Mutex
		held := []int64{} // every lease so far; those that have ended are no harm
		mux := http.NewServeMux()
		mux.HandleFunc("POST /slices", func(w http.ResponseWriter, r *http.Request) {
			var slice link.Slice
			if json.NewDecoder(r.Body).Decode(&slice) == nil {
				mu.Lock()
				held = append(held, slice.Fence)
				mu.Unlock()
				for _, t := range slice.Tests {
					x := outcome(slice, t)
					x.ID, x.Fence, x.Test, x.Attempt, x.Agent = t.ID, slice.Fence, t.Index, t.Attempt, name
					work <- x
				}
			}
			w.WriteHeader(http.StatusAccepted)
		})
		mux.HandleFunc("DELETE /slices/{fence}", func(http.ResponseWriter, *http.Request) {})
		go func() { _ = http.Serve(l, mux) }()
		go func() {
			for ctx.Err() == nil {
				time.Sleep(4 * time.Second)
				mu.Lock()
				recent := slices.Clone(held[max(0, len(held)-500):])
				mu.Unlock()
				_ = s.call(ctx, "POST", "/agent/beat", own, link.Beat{Name: name, Instance: "1", Held: recent}, nil)
			}
		}()
	}
	return work, cancel, nil
}

// wideRun packs a project of tests on so many combinations.
func wideRun(tests, wide int) ([]byte, string, error) {
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		return nil, "", err
	}
	defer os.RemoveAll(dir)
	berths := make([]string, wide)
	for i := range berths {
		berths[i] = fmt.Sprint(i)
	}
	files := map[string]string{"pane.yaml": fmt.Sprintf("project: bench\nsuites: {s%d: {scripts: '*.pane.yaml'}}\nmatrices: {m: {axes: "+
		"{browser: [kestrel], berth: [%s]}}}\n", wide, strings.Join(berths, ", "))}
	for i := range tests {
		files[fmt.Sprintf("t%d.pane.yaml", i)] = fmt.Sprintf("name: Test %d\nsteps:\n  - visit: /\n", i)
	}
	for name, body := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(body), 0o600); err != nil {
			return nil, "", err
		}
	}
	tree := project.Dir(dir)
	p, err := project.Load(tree)
	if err != nil {
		return nil, "", err
	}
	scripts, err := p.Scripts(tree, p.Suites[0])
	if err != nil {
		return nil, "", err
	}
	return p.Pack(tree, p.Suites[0], scripts)
}

const (
	rate    = 500 // results a second
	minutes = 1
)

// results hands in results at a fixed rate for a minute while others read.
func results(ctx context.Context, pane string) ([]row, error) {
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	work, leave, err := s.hands(ctx, func(_ link.Slice, t link.SliceTest) link.Result {
		return link.Result{Verdict: verdict.Passed, Sessions: 1, TookMS: 900, StartedAt: time.Now().UnixMilli(),
			Detail: attempt.Detail{Browser: "kestrel"}}
	})
	if err != nil {
		return nil, err
	}
	defer leave()
	raw, hash, err := wideRun(rate*60*minutes/100, 100)
	if err != nil {
		return nil, err
	}
	if err := s.call(ctx, "PUT", "/bundles/"+hash, s.token, raw, nil); err != nil {
		return nil, err
	}
	if err := s.call(ctx, "POST", "/runs", s.token, map[string]any{"bundle": hash}, nil); err != nil {
		return nil, err
	}
	return s.feed(ctx, work)
}

// feed sends results at the rate and times reads meanwhile.
func (s *served) feed(ctx context.Context, work <-chan link.Result) ([]row, error) {
	var sent, taken atomic.Int64
	var tasks sync.WaitGroup
	ctx, cancel := context.WithTimeout(ctx, 3*time.Minute)
	defer cancel()
	limit := make(chan link.Result, 64)
	for range 32 {
		tasks.Go(func() {
			for r := range limit {
				var a link.ResultAnswer
				if s.call(ctx, "POST", "/agent/results", s.of(r), r, &a) == nil && a.Accepted {
					taken.Add(1)
				}
			}
		})
	}
	reads, done := []time.Duration{}, make(chan struct{})
	go func() {
		defer close(done)
		paths := []string{"/runs?limit=20", "/agents", "/runs/1/tests/7", "/quotas", "/why?needs=browser%3Dkestrel"}
		for i := 0; sent.Load() < rate*60*minutes && ctx.Err() == nil; i++ {
			began := time.Now()
			if s.call(ctx, "GET", paths[i%len(paths)], s.token, nil, nil) == nil {
				reads = append(reads, time.Since(began))
			}
			time.Sleep(50 * time.Millisecond)
		}
	}()
	began := time.Now()
	for sent.Load() < rate*60*minutes && ctx.Err() == nil {
		select {
		case r := <-work:
			if wait := time.Duration(sent.Load())*time.Second/rate - time.Since(began); wait > 0 {
				time.Sleep(wait)
			}
			limit <- r
			sent.Add(1)
		case <-time.After(20 * time.Second):
			return nil, fmt.Errorf("no slice came after %d results", sent.Load())
		case <-ctx.Done():
		}
	}
	took := time.Since(began)
	close(limit)
	tasks.Wait()
	<-done
	var run struct {
		Counts map[string]int `json:"counts"`
		State  string         `json:"state"`
	}
	if err := s.call(ctx, "GET", "/runs/1", s.token, nil, &run); err != nil {
		return nil, err
	}
	slices.Sort(reads)
	return []row{
		{fmt.Sprintf("results taken in a second, over %.0f s", took.Seconds()), fmt.Sprintf("%.0f", float64(taken.Load())/took.Seconds()),
			fmt.Sprint(rate)},
		{"of those, lost: sent without a verdict in the records", fmt.Sprint(int(sent.Load()) - run.Counts["passed"]), "0"},
		{fmt.Sprintf("reads meanwhile, 99th percentile of %d", len(reads)), fmt.Sprintf("%.0f ms",
			float64(reads[len(reads)*99/100].Microseconds())/1000), "100 ms"},
	}, nil
}
