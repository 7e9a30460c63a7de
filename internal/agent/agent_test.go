package agent_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofrs/flock"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/agent"
	"parallelpane/internal/api"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/httpapi"
	"parallelpane/internal/service"
)

// pretend is an engine without a browser: a remote end whose pages all have one
// title, and which waits in a navigation while the test holds it.
type pretend struct {
	mu       sync.Mutex
	fail     error
	hold     chan struct{} // nil lets navigations pass
	launched int
	open     int
	most     int
}

func (*pretend) Name() string { return "chromium" }
func (*pretend) Find(context.Context) []fleet.Browser {
	return []fleet.Browser{{Name: "chromium", Engine: "chromium", Version: "9.1", Fits: true}, {Name: "old", Engine: "chromium",
		Problem: "driver 8 does not fit"}}
}

func (p *pretend) Launch(context.Context, engine.Options) (*engine.Instance, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.fail != nil {
		return nil, p.fail
	}
	p.launched++
	p.open++
	p.most = max(p.most, p.open)
	say := func(value string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintf(w, `{"value":%s}`, value) }
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /session", say(`{"sessionId":"s","capabilities":{}}`))
	mux.HandleFunc("POST /session/s/url", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // only then does the server notice that the client went away
		p.mu.Lock()
		hold := p.hold
		p.mu.Unlock()
		if hold != nil {
			select {
			case <-hold:
			case <-r.Context().Done():
				return
			}
		}
		fmt.Fprint(w, `{"value":null}`)
	})
	mux.HandleFunc("GET /session/s/title", say(`"Harbour"`))
	mux.HandleFunc("GET /session/s/screenshot", say(`"aGk="`))
	mux.HandleFunc("GET /session/s/window/handles", say(`["w"]`))
	mux.HandleFunc("POST /session/s/window/rect", say(`{"width":1280,"height":800}`))
	mux.HandleFunc("POST /session/s/execute/async", say(`[1280,800]`))
	mux.HandleFunc("POST /session/s/execute/sync", say(`"http://desk.example/"`))
	mux.HandleFunc("DELETE /session/s", say("null"))
	srv := httptest.NewServer(mux)
	inst := &engine.Instance{URL: srv.URL}
	inst.Cleanup(func() {
		srv.CloseClientConnections()
		srv.Close()
		p.mu.Lock()
		p.open--
		p.mu.Unlock()
	})
	return inst, nil
}

func (p *pretend) set(f func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	f()
}

// office is a real service on loopback.
type office struct {
	axes, env string // of runs of commands, if not the usual ones
	t         *testing.T
	dir       string
	address   string
	svc       *service.Service
	stop      func()
	bare      bool              // agents that start have no sandboxes
	tokens    map[string]string // of agents, by name
	taken     time.Duration     // of agents that start: see agent.Config
}

func opened(t *testing.T, dir, address string) *office {
	t.Helper()
	return openedWith(t, service.Config{Dir: dir, Log: slog.New(slog.DiscardHandler), Tick: 50 * time.Millisecond,
		Dispatch: dispatch.Config{LeaseTTL: 3 * time.Second}}, address)
}

func openedWith(t *testing.T, c service.Config, address string) *office {
	t.Helper()
	dir, log := c.Dir, c.Log
	c.Dispatch.Mark = func() uint32 { return 0 } // so that tests know the fences
	svc, err := service.Open(t.Context(), c)
	require.NoError(t, err)
	var l net.Listener
	require.Eventually(t, func() bool { l, err = net.Listen("tcp", address); return err == nil }, 5*time.Second, 10*time.Millisecond)
	app := httpapi.New(httpapi.Config{Service: svc, Log: log})
	served := make(chan error, 1)
	go func() { served <- app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true}) }()
	o := &office{t: t, dir: dir, address: l.Addr().String(), svc: svc}
	o.stop = sync.OnceFunc(func() {
		assert.NoError(t, svc.Close())
		http.DefaultClient.CloseIdleConnections() // connections that never carried a request do not count as idle there
		assert.NoError(t, app.ShutdownWithTimeout(15*time.Second))
		<-served
	})
	t.Cleanup(o.stop)
	return o
}

// fence is that of the lease which is granted as the n-th.
func fence(n int64) int64 { return n << 32 }

// agentToken makes a token for an agent.
func (o *office) agentToken(name string) string {
	_, secret, err := o.svc.AddToken(context.Background(), api.TokenRequest{Name: name, Role: api.AgentRole, Agent: name})
	require.NoError(o.t, err)
	if o.tokens == nil {
		o.tokens = map[string]string{}
	}
	o.tokens[name] = secret
	return secret
}

// work starts an agent; the function returned stops it and waits.
func (o *office) work(p engine.Family, name string, slots int) (stop func() error) {
	o.t.Helper()
	var isolation agent.Isolation
	if o.bare {
		isolation = agent.Exposed
	}
	a, release, err := agent.New(o.t.Context(), agent.Config{Isolation: isolation,
		Service: "http://" + o.address, Token: o.agentToken(name), Name: name,
		Slots: slots,
		Dir:   filepath.Join(o.dir, "agents", name), Log: slog.New(slog.DiscardHandler), Families: []engine.Family{p}, Commands: true,
		Beat: 100 * time.Millisecond, Trickle: 20 * time.Millisecond, ReachFor: o.taken, Backoff: 200 * time.Millisecond})
	require.NoError(o.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	stop = sync.OnceValue(func() error {
		cancel()
		err := <-done
		release()
		return err
	})
	o.t.Cleanup(func() { _ = stop() })
	return stop
}

func (o *office) run(tests int, step string) int {
	o.t.Helper()
	return o.runOn("browser: [chromium]", "http://desk.example", tests, step)
}

// runOn is run on the axes of a matrix and against a site.
func (o *office) runOn(axes, base string, tests int, step string) int {
	o.t.Helper()
	var buf bytes.Buffer
	zw := gzip.NewWriter(&buf)
	tw := tar.NewWriter(zw)
	put := func(name, body string) {
		_ = tw.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Size: int64(len(body)), Mode: 0o644})
		_, _ = tw.Write([]byte(body))
	}
	put("pane.yaml", "project: saltmarsh\nsuites: {s: {scripts: '*.pane.yaml'}}\nmatrices: {m: {axes: {"+axes+
		"}}}\nenvironments: {e: {base: '"+base+"'}}\n")
	for i := range tests {
		put(fmt.Sprintf("t%d.pane.yaml", i), fmt.Sprintf("name: T%d\nwait: 50ms\nsteps:\n  - visit: /\n  - capture: seen\n%s", i, step))
	}
	tw.Close()
	zw.Close()
	sum := sha256.Sum256(buf.Bytes())
	hash := hex.EncodeToString(sum[:])
	require.NoError(o.t, o.svc.PutBundle(hash, &buf))
	run, err := o.svc.Submit(o.t.Context(), api.Who{Name: "kestrel", Rights: api.InLab(api.Runner)}, api.RunRequest{Bundle: hash})
	require.NoError(o.t, err)
	return run.Number
}

func (o *office) ended(number int) (run api.Run) {
	o.t.Helper()
	o.until(func() bool {
		var err error
		run, err = o.svc.Run(o.t.Context(), number)
		return err == nil && run.State == api.Ended
	})
	return run
}

func (o *office) until(ok func() bool) {
	o.t.Helper()
	require.Eventually(o.t, ok, 20*time.Second, 10*time.Millisecond)
}

func TestWorkIsDoneInItsSlots(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 2)
	run := o.ended(o.run(9, "  - expect: {title: Harbour}\n"))
	assert.Equal(t, verdict.Counts{verdict.Passed: 9}, run.Counts)
	assert.Equal(t, 9, p.launched, "each test has a browser of its own")
	assert.LessOrEqual(t, p.most, 2)
	assert.Equal(t, "9.1", run.Panes[0].Info.Version)
	files, err := o.svc.FilesOfRun(t.Context(), run.Number, "screenshots")
	require.NoError(t, err)
	assert.Len(t, files, 9)
	assert.Equal(t, "seen.png", files[0].Name)
	assert.Len(t, o.svc.Agents()[0].Machine.Browsers, 2, "the one that does not fit is told as well")
}

func TestAFailureIsToldStepByStep(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 1)
	number := o.run(1, "  - expect: {title: Lagoon}\n  - visit: /never\n")
	assert.Equal(t, verdict.Failed, o.ended(number).Verdict)
	res, err := o.svc.TestOfRun(t.Context(), number, 0)
	require.NoError(t, err)
	a := res.Results[0].Attempts[0]
	assert.Contains(t, a.Message, `title is not "Lagoon"; it is "Harbour"`)
	require.Len(t, a.Detail.Steps, 4)
	assert.Equal(t, "failed", string(a.Detail.Steps[2].State))
	assert.Equal(t, "unrun", string(a.Detail.Steps[3].State))
	var names []string
	for _, f := range a.Files {
		names = append(names, f.Name)
	}
	assert.Equal(t, []string{"agent.log", "commands.jsonl", "failure.png", "network.har", "seen.png"}, names)
	_, log, err := o.svc.OpenFile(t.Context(), a.ID, "agent.log")
	require.NoError(t, err)
	defer log.Close()
	text := make([]byte, 4096)
	n, _ := log.Read(text)
	assert.Contains(t, string(text[:n]), "failed  expect the title to be just")
}

func TestABrowserThatWillNotStartIsALabFault(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{fail: errors.New("no driver")}
	o.work(p, "quay", 1)
	run := o.ended(o.run(1, ""))
	assert.Equal(t, verdict.LabFault, run.Verdict)
	assert.Equal(t, "chromium 9.1 would not start: no driver", run.Cells[0][0].Message)
	assert.Equal(t, 3, run.Cells[0][0].Attempts, "it was tried twice more")
}

func TestCancellingFreesTheSlotAtOnce(t *testing.T) {
	hold := make(chan struct{})
	defer close(hold)
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{hold: hold}
	o.work(p, "quay", 1)
	number := o.run(3, "")
	o.until(func() bool { p.mu.Lock(); defer p.mu.Unlock(); return p.open == 1 })
	_, err := o.svc.Cancel(t.Context(), api.Who{Name: "kestrel"}, number)
	require.NoError(t, err)
	o.until(func() bool { p.mu.Lock(); defer p.mu.Unlock(); return p.open == 0 })
	p.set(func() { p.hold = nil })
	assert.Equal(t, verdict.Passed, o.ended(o.run(1, "")).Verdict)
}

func TestResultsOutliveTheService(t *testing.T) {
	hold := make(chan struct{})
	dir := t.TempDir()
	o, p := opened(t, dir, "127.0.0.1:0"), &pretend{hold: hold}
	o.work(p, "quay", 1)
	number := o.run(1, "")
	o.until(func() bool { p.mu.Lock(); defer p.mu.Unlock(); return p.open == 1 })
	o.stop()
	close(hold) // the test ends while there is no service
	o.until(func() bool {
		kept, _ := filepath.Glob(filepath.Join(dir, "agents", "quay", "spool", "*.json"))
		return len(kept) == 1
	})
	again := opened(t, dir, o.address)
	run := again.ended(number)
	assert.Equal(t, verdict.Passed, run.Verdict)
	assert.Equal(t, 1, run.Cells[0][0].Attempts)
	assert.Equal(t, 1, p.launched, "nothing was run twice")
}

// An agent that takes the place of one which was killed waits until that has let go.
func TestAnAgentWaitsForTheOneBefore(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "quay")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	before := flock.New(filepath.Join(dir, "lock"))
	held, err := before.TryLock()
	require.NoError(t, err)
	require.True(t, held)
	started := make(chan error)
	go func() {
		_, release, err := agent.New(t.Context(), agent.Config{Name: "quay", Dir: dir, Log: slog.New(slog.DiscardHandler),
			Machine: &fleet.Machine{OS: "saltos"}})
		if err == nil {
			release()
		}
		started <- err
	}()
	select {
	case err := <-started:
		t.Fatalf("it did not wait: %v", err)
	case <-time.After(200 * time.Millisecond):
	}
	require.NoError(t, before.Unlock())
	require.NoError(t, <-started)
}

func TestTwoAgents(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	stop := o.work(p, "quay", 1)
	o.until(func() bool { return len(o.svc.Agents()) == 1 && o.svc.Agents()[0].Online })
	_, _, err := agent.New(t.Context(), agent.Config{Name: "quay", Dir: filepath.Join(o.dir, "agents", "quay"),
		Log: slog.New(slog.DiscardHandler)})
	assert.ErrorContains(t, err, "another agent uses the state directory")
	other, release, err := agent.New(t.Context(), agent.Config{Service: "http://" + o.address, Token: o.agentToken("quay"), Name: "quay",
		Slots: 1,
		Dir:   filepath.Join(o.dir, "elsewhere"), Log: slog.New(slog.DiscardHandler), Families: []engine.Family{p}})
	require.NoError(t, err)
	defer release()
	assert.ErrorContains(t, other.Run(t.Context()), "another agent named quay is online")
	require.NoError(t, stop())
	o.until(func() bool { return !o.svc.Agents()[0].Online })
	require.NoError(t, o.svc.ForgetAgent("quay"))
	assert.Empty(t, o.svc.Agents())
}

func TestAdvice(t *testing.T) {
	for _, tc := range []struct{ cores, memory, want int }{{2, 24_000, 2}, {8, 3_100, 2}, {1, 500, 1}, {4, 0, 4}} {
		assert.Equal(t, tc.want, agent.Advice(fleet.Machine{Cores: tc.cores, MemoryMB: tc.memory}))
	}
}

// What was kept of work that is cancelled goes with it.
func TestCancelledWorkLeavesNothingOnDisk(t *testing.T) {
	hold := make(chan struct{})
	defer close(hold)
	dir := t.TempDir()
	o, p := opened(t, dir, "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 1)
	number := o.run(1, "  - capture: quayside\n  - visit: /never\n")
	state := filepath.Join(dir, "agents", "quay")
	kept := func() (names []string) {
		for _, part := range []string{"spool", "recordings"} {
			_ = filepath.WalkDir(filepath.Join(state, part), func(path string, e os.DirEntry, err error) error {
				if err == nil && !e.IsDir() {
					names = append(names, path)
				}
				return nil
			})
		}
		return names
	}
	p.set(func() { p.hold = hold }) // the second visit waits
	o.until(func() bool { return len(kept()) > 0 })
	_, err := o.svc.Cancel(t.Context(), api.Who{Name: "kestrel"}, number)
	require.NoError(t, err)
	o.until(func() bool { p.mu.Lock(); defer p.mu.Unlock(); return p.open == 0 })
	o.until(func() bool { return len(kept()) == 0 })
}
