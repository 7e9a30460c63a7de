// Package agent is the daemon on a lab machine. It keeps one link to the
// service, takes slices under leases, runs them on this machine's browsers and
// hands the results in, keeping each on disk until the service has it.
//
// Every goroutine belongs to Run, which waits for all of them.
package agent

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
	"github.com/valyala/fasthttp"
	"github.com/valyala/fasthttp/fasthttpadaptor"

	"parallelpane/internal/agent/shelf"
	"parallelpane/internal/agent/spool"
	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/agent/work"
	"parallelpane/internal/agent/work/commands"
	"parallelpane/internal/agent/work/remote"
	"parallelpane/internal/agent/work/scripts"
	"parallelpane/internal/client"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/find"
	"parallelpane/internal/link"
	"parallelpane/internal/place"
	"parallelpane/internal/sessions"
	"parallelpane/internal/sessions/door"
)

// Config is what an agent is started with.
type Config struct {
	Service  string // address of the service, http or https
	Token    string
	TLS      *tls.Config // how the service is known; nil means by the machine's certificate authorities
	Name     string
	Phone    string            // what the agent of a phone is called after that of its machine; "" of any other
	Slots    int               // 0 means Advice
	Labels   map[string]string // of one's own, for matching
	Pool     string            // shared, or the project that owns the agent; "" means shared
	Machine  *fleet.Machine    // stated instead of found, for a simulated agent
	Dir      string            // state: sessions, bundles, results not yet handed in
	Version  string
	Log      *slog.Logger
	Families []engine.Family
	Beat     time.Duration // 0 means 4 s
	Backoff  time.Duration // longest pause between attempts to connect; 0 means 15 s
	ReachFor time.Duration // for which somebody who has reached into a session may do nothing; 0 means 5 min
	Trickle  time.Duration // between pieces of a recording that grows; 0 means 2 s

	Isolation Isolation
	Commands  bool          // carry out command suites where there is no sandbox, too
	Only      []place.Place // that browsers may reach; none means every one
	Look      find.Machine  // where browsers are looked for; the zero value looks in the usual places
	Allow     engine.Names  // that sessions may ask of the engines, besides what their lists allow
}

// Agent is a running agent.
type Agent struct {
	Config
	up       *upstream.Service
	host     *sessions.Host
	machine  atomic.Pointer[fleet.Machine]
	shelf    *shelf.Shelf // nil of a stand-in
	instance string
	spool    *spool.Spool
	floor    *work.Floor
	scripts  work.Worker
	commands commands.Worker
	remote   *remote.Worker
	places   chan struct{} // has an element for each slot in use

	mu     sync.Mutex
	leases map[int64]*lease // by fence, until their results are handed in
	tasks  sync.WaitGroup
}

// lease is what is being worked on.
type lease struct {
	run     int
	cancel  context.CancelFunc
	running bool // still executes; false while only its results wait
}

// lockWait is how long an agent waits for the state directory of another that ends.
const lockWait = 3 * time.Second

// New prepares an agent: it takes its state directory, removes what an earlier
// agent left behind and looks at the machine.
func New(ctx context.Context, c Config) (*Agent, func(), error) {
	if c.Beat == 0 {
		c.Beat = 4 * time.Second
	}
	if c.Backoff == 0 {
		c.Backoff = 15 * time.Second
	}
	if c.ReachFor == 0 {
		c.ReachFor = 5 * time.Minute
	}
	if c.Trickle == 0 {
		c.Trickle = 2 * time.Second
	}
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, nil, fmt.Errorf("state directory: %w", err)
	}
	lock := flock.New(filepath.Join(c.Dir, "lock"))
	// Of an agent that was killed a program that it was just starting may hold the lock a little longer.
	waiting, enough := context.WithTimeout(ctx, lockWait)
	defer enough()
	if ok, err := lock.TryLockContext(waiting, 50*time.Millisecond); !ok {
		if errors.Is(err, context.DeadlineExceeded) {
			err = nil
		}
		return nil, nil, errors.Join(fmt.Errorf(
			"another agent uses the state directory %s: stop it, or give this one another --name or --state", c.Dir), err)
	}
	release := func() { _ = lock.Unlock() }
	host, err := sessions.NewHost(filepath.Join(c.Dir, "sessions"), c.Log, c.Families...)
	if err != nil {
		release()
		return nil, nil, err
	}
	host.Bare, host.Allow = c.Isolation == Exposed, c.Allow
	if c.Look.OS != "" {
		host.Machine = c.Look
	}
	host.Rules = door.Rules{Closed: labs(ctx, c.Service), Only: c.Only}
	if err := host.Isolated(); err != nil && c.Isolation == Enclosed {
		release()
		return nil, nil, fmt.Errorf("there is no sandbox: %w", err)
	}
	if err := os.RemoveAll(filepath.Join(c.Dir, "recordings")); err != nil {
		release()
		return nil, nil, fmt.Errorf("state directory: %w", err)
	}
	sp, err := spool.Open(filepath.Join(c.Dir, "spool"))
	if err != nil {
		release()
		return nil, nil, err
	}
	a := &Agent{Config: c, host: host, instance: rand.Text(), spool: sp, up: upstream.New(c.Service, c.Token, c.TLS, c.Phone),
		leases: map[int64]*lease{}}
	bundles := work.NewBundles(filepath.Join(c.Dir, "bundles"), a.up)
	if err := bundles.Sweep(time.Now()); err != nil {
		c.Log.Warn("unused bundles stay on disk", "error", err)
	}
	a.floor = &work.Floor{Name: c.Name, Dir: c.Dir, Host: host, Machine: &a.machine, Up: a.up, Spool: sp,
		Bundles: bundles, Meter: work.NewMeter(c.Dir),
		Open: work.NewOpen(c.ReachFor), Leases: a, Log: c.Log, Every: c.Trickle}
	a.scripts, a.remote = scripts.Worker{Floor: a.floor}, remote.New(a.floor, a.begin)
	a.commands = commands.Worker{Floor: a.floor, Outputs: commands.NewOutputs()}
	var m fleet.Machine
	if c.Machine != nil {
		m = *c.Machine
		if c.Phone != "" {
			m.Version, m.StartedAt = c.Version, time.Now().UTC().Format(time.RFC3339)
			if m.Isolation, m.Exposed = isolation(host); m.StandIn {
				m.Isolation, m.Exposed = fleet.None, "the browser of a phone that stands in runs beside it"
			}
		}
	} else {
		if len(host.Machine.Own) == 0 {
			host.Machine.Own = []string{filepath.Join(c.Dir, "browsers")}
		}
		stocking := host.Machine.Settings.Stock
		a.shelf = shelf.New(shelf.Config{Host: host, Up: a.up, Dir: filepath.Join(c.Dir, "stock"), Every: a.Beat,
			Willing: stocking == nil || *stocking, Log: c.Log, Changed: a.restock,
			Idle: func() bool { return len(a.held()) == 0 }, Rest: restBeforeTrials, Slot: a.slot})
		m = Inventory(ctx, host, c.Version, filepath.Join(c.Dir, "tools.json"))
		m.Browsers = a.shelf.Known(find.Found{Browsers: m.Browsers}).Browsers
		m.Stocking = a.shelf.Willing
	}
	m.Commands = host.Isolated() == nil || c.Commands
	if !m.Commands {
		m.Tools = nil
	}
	m.Labels, m.Pool = c.Labels, cmp.Or(c.Pool, fleet.Shared)
	if m.Slots = c.Slots; c.Slots == 0 {
		m.Slots = Advice(m)
	}
	a.machine.Store(&m)
	a.places = make(chan struct{}, m.Slots)
	return a, release, nil
}

// Found is what the agent found on its machine.
func (a *Agent) Found() fleet.Machine { return *a.machine.Load() }

// restBeforeTrials is for how long an agent must have had no work until it tries browsers
// that the system's packages have brought.
const restBeforeTrials = time.Minute

// slot takes one of the agent's places for something of its own.
func (a *Agent) slot(ctx context.Context, wait bool) (back func(), ok bool) {
	back = func() { <-a.places }
	select {
	case a.places <- struct{}{}:
		return back, true
	default:
	}
	if !wait {
		return nil, false
	}
	select {
	case a.places <- struct{}{}:
		return back, true
	case <-ctx.Done():
		return nil, false
	}
}

// restock tells the service what the machine has now. What it misses it hears of when
// the agent joins again.
func (a *Agent) restock(ctx context.Context, f find.Found) {
	was := a.machine.Load()
	if slices.Equal(was.Browsers, f.Browsers) {
		return
	}
	m := *was
	m.Browsers, m.Drivers = f.Browsers, f.Drivers
	a.machine.Store(&m)
	if err := a.up.Post(ctx, "/agent/machine", link.Machine{Instance: a.instance, Machine: m}, nil); err != nil && ctx.Err() == nil {
		a.Log.Warn("the service does not know of the machine's browsers yet", "error", err)
	}
}

// Run works until the context ends or the service refuses the agent for good.
func (a *Agent) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer a.up.HTTP.CloseIdleConnections() // a service that stops need not wait for them
	defer func() {
		if err := a.floor.Meter.Save(); err != nil {
			a.Log.Warn("what was measured of the load is lost", "error", err)
		}
	}()
	defer a.floor.Open.Wait()
	defer a.tasks.Wait()
	defer cancel()
	a.tasks.Go(func() { a.beat(ctx) })
	a.tasks.Go(func() { a.handIn(ctx) })
	a.tasks.Go(func() {
		if err := a.host.Prepare(ctx, a.machine.Load().Browsers); err != nil && ctx.Err() == nil {
			a.Log.Warn("browsers will start more slowly than they could", "error", err)
		}
	})
	if a.shelf != nil {
		a.tasks.Go(func() { a.shelf.Run(ctx) })
	}
	pause := 100 * time.Millisecond
	for {
		began := time.Now()
		err := a.connect(ctx)
		if ctx.Err() != nil {
			return nil
		}
		if refused, ok := errors.AsType[*link.Refused](err); ok && refused.Status < 500 && refused.Status != http.StatusTooManyRequests {
			return fmt.Errorf("the service refused this agent: %w", refused)
		}
		if time.Since(began) > 10*time.Second {
			pause = 100 * time.Millisecond
		}
		a.Log.Warn("no link to the service; trying again", "service", a.Service, "in", pause, "error", err)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
		pause = min(pause*2, a.Backoff)
	}
}

// connect opens the link and serves it until it is gone.
func (a *Agent) connect(ctx context.Context) error {
	var welcome link.Welcome
	err := a.up.Post(ctx, link.HelloPath, link.Hello{Name: a.Name, Instance: a.instance, Machine: *a.machine.Load(), Held: a.held()}, &welcome)
	if said, ok := errors.AsType[*client.Error](err); ok {
		return &link.Refused{Status: said.Status, Reason: said.Detail}
	}
	if err != nil {
		return err
	}
	header := http.Header{}
	header.Set("Authorization", "Bearer "+a.Token)
	header.Set(link.TicketHeader, welcome.Ticket)
	if a.Phone != "" {
		header.Set(link.PhoneHeader, a.Phone)
	}
	l, err := link.Dial(ctx, a.up.WebSocket()+link.Path, header, a.TLS)
	// of a refusal as well: what the agent said of itself has just been accepted, perhaps by a service that was then started again
	if err != nil {
		return fmt.Errorf("open the link: %v", err)
	}
	a.Log.Info("linked to the service", "service", a.Service, "name", a.Name, "slots", cap(a.places))
	a.spool.Kick()
	srv := &fasthttp.Server{Handler: a.handler(ctx), MaxRequestBodySize: remote.MaxCommand, NoDefaultServerHeader: true,
		NoDefaultContentType: true, NoDefaultDate: true,
		Logger: quiet{}, CloseOnShutdown: true}
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	return errors.Join(srv.Serve(l), l.Close())
}

// quiet drops what the server says of connections that broke off: the link says
// it better.
type quiet struct{}

func (quiet) Printf(string, ...any) {}

// handler answers the service.
func (a *Agent) handler(ctx context.Context) fasthttp.RequestHandler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /slices", func(w http.ResponseWriter, r *http.Request) {
		var s link.Slice
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 16<<20)).Decode(&s); err != nil {
			http.Error(w, "slice: "+err.Error(), http.StatusBadRequest)
			return
		}
		if err := a.take(ctx, s); err != nil {
			http.Error(w, err.Error(), http.StatusConflict)
			return
		}
		w.WriteHeader(http.StatusAccepted)
	})
	mux.HandleFunc("DELETE /slices/{fence}", func(w http.ResponseWriter, r *http.Request) {
		fence, err := strconv.ParseInt(r.PathValue("fence"), 10, 64)
		if err != nil {
			http.Error(w, "fence: "+err.Error(), http.StatusBadRequest)
			return
		}
		a.Drop(fence)
		w.WriteHeader(http.StatusNoContent)
	})
	mux.HandleFunc("POST "+link.PrintPath, func(w http.ResponseWriter, r *http.Request) { a.print(ctx, w, r) })
	a.floor.Open.Routes(ctx, mux)
	a.remote.Routes(ctx, mux)
	a.commands.Routes(mux)
	rest := fasthttpadaptor.NewFastHTTPHandler(mux)
	return func(c *fasthttp.RequestCtx) {
		if !a.remote.Direct(ctx, c) {
			rest(c)
		}
	}
}

// take starts work on a slice as soon as a slot is free. The service knows of
// an ended lease before the browser of it is closed, so a slice may come a
// little early; more than that many in excess are refused.
func (a *Agent) take(ctx context.Context, s link.Slice) error {
	known, err := a.begin(ctx, s.Fence, s.Run, func(ctx context.Context) { a.work(ctx, s) })
	if err == nil && !known {
		a.Log.Info("slice taken", "run", s.Run, "pane", s.Label, "tests", len(s.Tests), "fence", s.Fence)
	}
	return err
}

// begin starts work on a lease once a slot is free, unless it has begun.
func (a *Agent) begin(ctx context.Context, fence int64, run int, do func(context.Context)) (known bool, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if _, have := a.leases[fence]; have {
		return true, nil
	}
	busy := 0
	for _, w := range a.leases {
		if w.running {
			busy++
		}
	}
	if busy >= 2*cap(a.places) {
		return false, fmt.Errorf("all %d slots are taken, and as many slices wait", cap(a.places))
	}
	ctx, cancel := context.WithCancel(ctx)
	a.leases[fence] = &lease{run: run, cancel: cancel, running: true}
	a.tasks.Go(func() {
		select {
		case a.places <- struct{}{}:
			do(ctx)
			<-a.places
		case <-ctx.Done():
		}
		cancel()
		a.Vacate(fence)
		a.handedIn(fence)
	})
	return false, nil
}

// Vacate marks the slot of a slice as free.
func (a *Agent) Vacate(fence int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if w := a.leases[fence]; w != nil {
		w.running = false
	}
}

// Drop ends work on a lease that has ended; its results no longer count.
func (a *Agent) Drop(fence int64) {
	a.spool.Discard(fence)
	a.mu.Lock()
	defer a.mu.Unlock()
	if w := a.leases[fence]; w != nil {
		a.Log.Info("lease ended by the service", "fence", fence, "run", w.run)
		w.cancel()
		if !w.running {
			delete(a.leases, fence)
		}
	}
}

// held lists the leases whose results the service does not have yet.
func (a *Agent) held() []int64 {
	a.mu.Lock()
	defer a.mu.Unlock()
	fences := []int64{}
	for f := range a.leases {
		fences = append(fences, f)
	}
	for _, f := range a.spool.Fences() {
		if a.leases[f] == nil { // of an earlier agent of this directory
			fences = append(fences, f)
		}
	}
	return fences
}

// beat renews the leases.
func (a *Agent) beat(ctx context.Context) {
	t := time.NewTicker(a.Beat)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		var answer link.BeatAnswer
		err := a.up.Post(ctx, "/agent/beat", link.Beat{Name: a.Name, Instance: a.instance, Held: a.held(),
			Advice: a.floor.Meter.Advice(cap(a.places)), Stock: a.stocked()}, &answer)
		if err != nil {
			if ctx.Err() == nil {
				a.Log.Debug("no beat", "error", err)
			}
			continue
		}
		for _, f := range answer.Ended {
			a.Drop(f)
		}
		if a.shelf != nil {
			a.shelf.Wanted(answer.Stock)
		}
	}
}

// stocked says what became of what the service stocks.
func (a *Agent) stocked() []link.StockState {
	if a.shelf == nil {
		return nil
	}
	return a.shelf.States()
}

// handIn sends results from disk as they come, and again after a failure.
func (a *Agent) handIn(ctx context.Context) {
	pause := 200 * time.Millisecond
	for {
		err := a.spool.Send(ctx, a.up, a.Log, a.handedIn)
		wait := time.Hour
		if err != nil && ctx.Err() == nil {
			a.Log.Warn("results wait on disk", "error", err, "again_in", pause)
			wait, pause = pause, min(pause*2, 5*time.Second)
		} else {
			pause = 200 * time.Millisecond
		}
		select {
		case <-ctx.Done():
			return
		case <-a.spool.More():
		case <-time.After(wait):
		}
	}
}

// handedIn forgets a slice that is done and whose results the service has.
func (a *Agent) handedIn(fence int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if w := a.leases[fence]; w != nil && !w.running && !a.spool.Holds(fence) {
		delete(a.leases, fence)
	}
}
