// Package service holds the use cases: whatever the API, the console or an
// agent asks for is done here. It is the only package that joins the core, the
// records, the files and the links to agents.
//
// The scheduler is a state machine in package dispatch. Service feeds it events
// under one lock, puts the decisions' records in line for the writer under the
// same lock, and carries them out once they are on disk; so that what an agent
// or a watcher has seen is never forgotten by a crash.
package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"parallelpane/internal/access"
	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/keep"
	"parallelpane/internal/link"
	"parallelpane/internal/results"
	"parallelpane/internal/secrets"
	"parallelpane/internal/store"
)

// Config is what a service is opened with.
type Config struct {
	Dir      string // data directory, made if need be
	Log      *slog.Logger
	Clock    func() time.Time // nil means time.Now
	Dispatch dispatch.Config
	Tick     time.Duration // how often the scheduler looks at the clock; 0 means 1 s
	// SessionLife is the longest that a session of somebody else's runner may be
	// open; 0 means 2 h.
	SessionLife time.Duration
	KeepTotal   int64  // bytes that all recordings may have together; 0 means no bound
	MinFree     uint64 // bytes that must be free on the disk for recordings to be taken; 0 means 500 MB
}

// Service is an open service.
type Service struct {
	*access.Access
	*keep.Keeper
	*results.Results

	store *store.Store
	blobs *blobs.Dir
	grown *blobs.Growing
	log   *slog.Logger
	now   func() time.Time
	hub   *hub
	seal  secrets.Seal
	stats *stats

	sessionLife time.Duration
	routes      sync.Map   // of open sessions: id to *route
	lookers     sync.Map   // of open sessions that are watched: id to *looker
	links       sync.Map   // of agents: name to *link.Agent
	growMu      sync.Mutex // held while a session finds its run; taken before mu
	spreading   sync.Mutex // held while a run that spreads its tests finds its turn and is submitted

	mu      sync.Mutex // guards what follows; named Locked functions need it held
	machine *dispatch.Machine
	live    map[string]*liveRun       // by id
	growing map[string]*liveRun       // runs of sessions that are live or were a moment ago, by project and name
	remotes map[string]*remoteSession // by id
	scripts map[string]scriptSession  // sessions of scripts that are open, by id
	leases  map[int64]grant
	agents  map[string]*agentConn
	tickets map[string]ticket // of agents that have introduced themselves
	number  int

	expectation expectation
	typical     typical
	pasts       pasts
	plans       schedules
	fatal       chan error
	stop        chan struct{}
	stopOnce    sync.Once
	tasks       sync.WaitGroup
}

// Open opens the data directory and takes up the runs that had not ended.
func Open(ctx context.Context, c Config) (*Service, error) {
	if c.Clock == nil {
		c.Clock = time.Now
	}
	if c.Tick == 0 {
		c.Tick = time.Second
	}
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("data directory: %w", err)
	}
	st, err := store.Open(c.Dir)
	if err != nil {
		return nil, err
	}
	bl, err := blobs.Open(filepath.Join(c.Dir, "blobs"))
	if err != nil {
		return nil, errors.Join(err, st.Close())
	}
	grown, err := blobs.OpenGrowing(bl)
	if err != nil {
		return nil, errors.Join(err, st.Close())
	}
	s := &Service{
		store: st, blobs: bl, grown: grown, log: c.Log, now: c.Clock, hub: newHub(), Access: access.New(st, c.Clock),
		Keeper:      keep.New(keep.Config{Store: st, Blobs: bl, Log: c.Log, Now: c.Clock, Dir: c.Dir, Total: c.KeepTotal, MinFree: cmp.Or(c.MinFree, 500<<20)}),
		sessionLife: cmp.Or(c.SessionLife, 2*time.Hour), growing: map[string]*liveRun{}, remotes: map[string]*remoteSession{}, scripts: map[string]scriptSession{},
		live: map[string]*liveRun{}, leases: map[int64]grant{}, agents: map[string]*agentConn{}, tickets: map[string]ticket{},
		fatal: make(chan error, 1), stop: make(chan struct{}),
	}
	s.Results = results.New(st, bl, s, s.source)
	if s.seal, err = secrets.Open(c.Dir); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	s.plans.opened = s.now()
	s.stats = newStats(s)
	if err := s.takeUp(ctx, c); err != nil {
		return nil, errors.Join(err, st.Close())
	}
	s.tasks.Go(func() { s.clock(c.Tick) })
	s.tasks.Go(func() { s.Sweeper(s.stop) })
	s.tasks.Go(func() { s.WatchDisk(s.stop, func() { s.hub.publish(api.Event{Type: "agents"}) }) })
	return s, nil
}

// takeUp rebuilds the scheduler from the records.
func (s *Service) takeUp(ctx context.Context, c Config) error {
	if err := s.FirstTokens(ctx, c.Dir); err != nil {
		return err
	}
	number, fence, err := s.store.LastNumbers(ctx)
	if err != nil {
		return err
	}
	s.number = number
	s.machine = dispatch.New(c.Dispatch, fence)
	if err := s.knowAgents(ctx); err != nil {
		return err
	}
	if err := s.takeUpQuotas(ctx); err != nil {
		return err
	}
	runs, err := s.store.OpenRuns(ctx)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if err := s.takeUpRun(ctx, r); err != nil {
			if err := s.setAside(ctx, r, err); err != nil {
				return fmt.Errorf("set run %d aside: %w", r.Number, err)
			}
			continue
		}
		s.log.Info("run taken up", "run", r.Number)
	}
	if err := s.takeUpRemotes(ctx); err != nil {
		return err
	}
	if err := s.store.Sync(); err != nil {
		return err
	}
	return s.forgetGrown()
}

// takeUpRun goes on with one run of the records.
func (s *Service) takeUpRun(ctx context.Context, row store.Run) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if row.Kind == api.RemoteKind {
		g, err := s.loadGrowing(ctx, row)
		if err != nil {
			return err
		}
		s.live[row.ID], s.growing[growKey(g)] = g, g
		return nil
	}
	ds, err := s.restoreLocked(ctx, row)
	if err != nil {
		return err
	}
	s.applyLocked(ds)
	return nil
}

// setAside ends a run that cannot be taken up, so that everything else can: what
// has no verdict yet is the lab's fault, with the reason.
func (s *Service) setAside(ctx context.Context, row store.Run, cause error) error {
	why := fmt.Sprintf("set aside when the service was started again: %v", cause)
	s.log.Error("run set aside", "run", row.Number, "error", cause)
	w, err := s.store.WholeRun(ctx, row.Number)
	if err != nil {
		return err
	}
	view, err := results.RunOf(row, w)
	if err != nil {
		return err
	}
	view.Why = why
	r := &liveRun{view: view, revised: row.Revised}
	batch := []store.Stmt{store.ExplainRun(row.Number, why)}
	for i := range view.Panes {
		var untried []int
		for j, c := range view.Cells[i] {
			if c.State != api.Queued {
				continue
			}
			r.settled(dispatch.Settled{Pane: i, Test: j, Verdict: verdict.LabFault, Why: why})
			switch {
			case view.Kind == api.RemoteKind:
				batch = append(batch, store.Regard(r.record(i, j))...)
			case c.Attempts > 0:
				batch = append(batch, store.Settle(r.record(i, j))...)
			default:
				untried = append(untried, j)
			}
		}
		batch = append(batch, store.SettleUntried(row.Number, i, untried, string(verdict.LabFault), why)...)
	}
	for _, l := range w.Leases {
		batch = append(batch, store.EndLease(l.Fence))
	}
	r.over(s.now())
	return s.store.Write(append(batch, r.end(store.Millis(s.now())))...)
}

// clock lets the scheduler see time pass.
func (s *Service) clock(every time.Duration) {
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			s.mu.Lock()
			e := s.applyLocked(s.machine.Tick(s.now()))
			s.mu.Unlock()
			_ = s.carryOut(e)
			s.expect()
			s.runSchedules()
			s.forgetEnded()
		case <-s.stop:
			return
		}
	}
}

// Fatal receives the error that makes going on senseless: records that cannot
// be written. The program should stop; a new start goes on from the records.
func (s *Service) Fatal() <-chan error { return s.fatal }

// Ready reports whether the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// Watch streams events of one run, or with "" of all runs and the fleet.
func (s *Service) Watch(runID string) *Watch { return s.hub.watch(runID) }

// WatchAll streams events of all runs and the fleet, and of some runs, by number,
// what happens on their walls.
func (s *Service) WatchAll(walls []int) *Watch { return s.hub.watch("", walls...) }

// Close ends watches and links and closes the records. Runs that have not ended
// go on at the next start.
func (s *Service) Close() error {
	s.stopOnce.Do(func() { close(s.stop) })
	s.hub.close()
	s.mu.Lock()
	for _, a := range s.agents {
		if a.link != nil {
			a.link.Close()
		}
	}
	s.mu.Unlock()
	s.tasks.Wait()
	return errors.Join(s.store.Close(), s.grown.Close())
}

// effects are what is to be done once the records of some decisions are
// written.
type effects struct {
	pending *store.Pending
	walls   []api.Event // of runs whose cells changed, one for each
	events  []api.Event // anything else
	grants  []dispatch.Lease
	ends    []dispatch.End
	lost    []lostSession
	ended   []*liveRun // whose walls are to be stored
	answers []func()   // to clients that wait
}

// applyLocked books decisions in memory and puts their records, after those in
// extra, in line for the writer.
func (s *Service) applyLocked(ds []dispatch.Decision, extra ...store.Stmt) *effects {
	e := &effects{}
	batch := extra
	now := store.Millis(s.now())
	touched := map[*liveRun]bool{}
	ended := map[int64]grant{}
	settled := &settling{}
	for _, d := range ds {
		if x := s.remotes[s.runOfDecision(d)]; x != nil {
			batch = append(batch, s.applyRemoteLocked(x, d, e)...)
			continue
		}
		switch d := d.(type) {
		case dispatch.Lease:
			r := s.live[d.Run]
			g := grantOf(d)
			s.leases[d.Fence] = g
			batch = append(batch, store.AddLease(store.Lease{Fence: d.Fence, Run: r.view.Number, Pane: d.Pane, Agent: d.Agent,
				Tests: store.JSON(g.tests()), GrantedAt: now}))
			if r.view.StartedAt == nil {
				r.view.StartedAt = api.At(now)
				r.view.State = api.Running
				batch = append(batch, store.StartRun(r.view.Number, now))
			}
			r.joined(d.Pane, d.Agent)
			e.grants = append(e.grants, d)
			touched[r] = true
		case dispatch.End:
			g := s.leases[d.Fence]
			for _, t := range g.Tests {
				if r := s.live[d.Run]; r != nil && r.stopped(g.Pane, t) {
					e.cell(r, g.Pane, t)
				}
			}
			ended[d.Fence] = g
			s.dropScriptsLocked(d.Fence, func(int) bool { return true })
			delete(s.leases, d.Fence)
			batch = append(batch, store.EndLease(d.Fence))
			e.ends = append(e.ends, d)
		case dispatch.Closed:
			delete(s.leases, d.Fence)
			batch = append(batch, store.EndLease(d.Fence))
		case dispatch.Lost:
			r := s.live[d.Run]
			lost := link.Result{ID: ended[d.Fence].id(d.Test), Fence: d.Fence, Test: d.Test, Attempt: d.Attempt, Agent: d.Agent,
				Verdict: verdict.LabFault, Message: d.Why, StartedAt: now, Detail: attempt.Detail{Steps: []attempt.Step{}, Record: r.policy}}
			a := s.attemptOf(r, d.Pane, lost, results.Pack(lost.Detail))
			batch = append(batch, store.AddAttempt(a, nil)...)
			e.lost = append(e.lost, lostSession{a.ID, lost.Detail})
			r.attempted(a)
			s.stats.attempts.WithLabelValues(a.Verdict).Inc()
			e.cell(r, d.Pane, d.Test)
		case dispatch.Settled:
			r := s.live[d.Run]
			r.settled(d)
			settled.add(r, d)
			e.cell(r, d.Pane, d.Test)
			touched[r] = true
		case dispatch.Rests:
			s.log.Warn("agent rests", "agent", d.Agent, "until", d.Until, "why", d.Why)
			e.events = append(e.events, api.Event{Type: "agents"})
		case dispatch.Over:
			r := s.live[d.Run]
			if r == nil {
				continue // a session, whose end was booked before
			}
			r.over(s.now())
			s.stats.runs.WithLabelValues(string(r.view.Verdict)).Inc()
			batch = append(batch, r.end(now))
			e.ended = append(e.ended, r)
			e.events = append(e.events, api.Event{Type: "run", Run: r.head()})
			delete(s.live, d.Run)
			delete(touched, r)
		}
	}
	batch = append(batch, settled.records()...)
	for r := range touched {
		batch = append(batch, store.Recount(r.view.Number, store.JSON(r.view.Counts)))
		e.events = append(e.events, api.Event{Type: "run", Run: r.head()})
	}
	e.pending = s.store.Enqueue(batch...)
	return e
}

// settling gathers what is settled at once: of a cancelled run what nobody tried is
// a statement for each pane, not one for each cell.
type settling struct {
	tried []store.Stmt
	tests map[dispatch.Settled][]int // never tried, by everything else
	order []dispatch.Settled
	runs  map[string]int // numbers by id
}

func (x *settling) add(r *liveRun, d dispatch.Settled) {
	if c := r.record(d.Pane, d.Test); c.Attempts > 0 {
		x.tried = append(x.tried, store.Settle(c)...)
		return
	}
	if x.runs == nil {
		x.runs = map[string]int{}
	}
	x.runs[d.Run] = r.view.Number
	test := d.Test
	d.Test = 0
	if x.tests == nil {
		x.tests = map[dispatch.Settled][]int{}
	}
	if _, known := x.tests[d]; !known {
		x.order = append(x.order, d)
	}
	x.tests[d] = append(x.tests[d], test)
}

func (x *settling) records() (batch []store.Stmt) {
	batch = x.tried
	for _, d := range x.order {
		batch = append(batch, store.SettleUntried(x.runs[d.Run], d.Pane, x.tests[d], string(d.Verdict), d.Why)...)
	}
	return batch
}

// runOfDecision is the scheduler's run that a decision is about; "" for one
// about none.
func (s *Service) runOfDecision(d dispatch.Decision) string {
	switch d := d.(type) {
	case dispatch.Lease:
		return d.Run
	case dispatch.End:
		return d.Run
	case dispatch.Lost:
		return d.Run
	case dispatch.Settled:
		return d.Run
	case dispatch.Closed:
		return s.leases[d.Fence].Run
	}
	return ""
}

// carryOut waits for the records and then tells agents and watchers.
func (s *Service) carryOut(e *effects) error {
	err := e.pending.Wait()
	for _, answer := range e.answers {
		answer()
	}
	if err != nil {
		if !errors.Is(err, store.ErrClosed) {
			s.log.Error("records cannot be written; stopping", "error", err)
			select {
			case s.fatal <- err:
			default:
			}
		}
		return err
	}
	for _, ev := range append(e.walls, e.events...) {
		s.hub.publish(ev)
	}
	for _, l := range e.lost {
		s.tasks.Go(func() { s.adopt(l) })
	}
	for _, r := range e.ended {
		s.pasts.forget(r.view.Project, r.view.Suite)
		s.tasks.Go(func() { s.keepWall(r) })
	}
	for _, l := range e.grants {
		s.deliver(l)
	}
	for _, end := range e.ends {
		s.revoke(end)
	}
	return nil
}

// grant is a lease with the ids of its attempts. The service makes them, so that
// no agent can name an attempt that there is already.
type grant struct {
	dispatch.Lease
	ids []string // by place in Tests
}

func grantOf(l dispatch.Lease) grant {
	g := grant{Lease: l, ids: make([]string, len(l.Tests))}
	for i := range g.ids {
		g.ids[i] = store.NewID()
	}
	return g
}

// id is the id of the attempt of a test; a new one for a test that the lease does
// not have.
func (g grant) id(test int) string {
	if i := slices.Index(g.Tests, test); i >= 0 {
		return g.ids[i]
	}
	return store.NewID()
}

// leaseTest is one test of a lease as it is on record.
type leaseTest struct {
	Test    int    `json:"test"`
	Attempt int    `json:"attempt"`
	ID      string `json:"id"`
}

func (g grant) tests() []leaseTest {
	out := make([]leaseTest, len(g.Tests))
	for i, t := range g.Tests {
		out[i] = leaseTest{t, g.Attempt[i], g.ids[i]}
	}
	return out
}

// grantFrom is the inverse of tests.
func grantFrom(l dispatch.Lease, recorded string) (grant, error) {
	g := grant{Lease: l}
	var tests []leaseTest
	if err := json.Unmarshal([]byte(recorded), &tests); err != nil {
		return g, fmt.Errorf("records of lease %d: %w", l.Fence, err)
	}
	for _, t := range tests {
		g.Tests, g.Attempt, g.ids = append(g.Tests, t.Test), append(g.Attempt, t.Attempt), append(g.ids, t.ID)
	}
	return g, nil
}
