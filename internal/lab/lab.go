// Package lab holds what goes on: the scheduler, runs and sessions that have not
// ended, agents and their links, quotas. All of it is guarded by one lock.
//
// The scheduler is a state machine in package dispatch. Lab feeds it events under
// the lock, puts the decisions' records in line for the writer under the same lock,
// and carries them out once they are on disk; so that what an agent or a watcher has
// seen is never forgotten by a crash.
//
// What a run is made of, lab is told by whoever submits it. It reads no suite and no
// matrix, and knows nothing of those who ask for what was.
package lab

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"log/slog"
	"sync"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/mending"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// Config is what a lab is made with.
type Config struct {
	Store    *store.Store
	Blobs    *blobs.Dir
	Keeper   Keeper
	Log      *slog.Logger
	Clock    func() time.Time
	Dispatch dispatch.Config
	// SessionLife is the longest that a session of somebody else's runner may be
	// open.
	SessionLife time.Duration
	// Exposed lets runners' sessions on agents without a sandbox, too.
	Exposed bool
	Relays  Relays
}

// Relays are the ways in that are open.
type Relays interface {
	// Places are where one leads to. The error says that it is not open.
	Places(project, name string) ([]string, error)
}

// Keeper minds the disk, and what is settled for projects.
type Keeper interface {
	// Take stores contents that have come, if there is room.
	Take(hash string, limit int64, r io.Reader) error
	// Naming is called before contents are named in the records, and done when they
	// are: none of them is swept away meanwhile.
	Naming() (done func())
	// Storage says how much room there is.
	Storage() api.Storage
	// Recorded is a policy as it can be had with the room that there is.
	Recorded(p record.Policy) record.Policy
	// ProjectSettings returns what is settled for a project.
	ProjectSettings(ctx context.Context, name string) (api.ProjectSettings, error)
}

// Orders knows what the runs are made of that it has submitted.
type Orders interface {
	// Recall finds the terms of a run that is taken up from the records.
	Recall(ctx context.Context, row store.Run, view api.Run) (Terms, error)
	// Ended is told that a run of a suite has ended.
	Ended(project, suite string)
}

// Terms are what a run needs on its way beside what its wall shows.
type Terms struct {
	Vars     map[string]string
	Secrets  map[string]string
	Record   record.Policy
	Seconds  [][]float64         // estimates by pane and test; 0 where nothing is known
	Profiles []device.Profile    // by pane
	Command  *suite.Command      // how tests are carried out; nil of scripts
	Several  bool                // the suite is made of others, each with its own way
	Marker   string              // attribute that marks elements for tests
	Watched  map[string][]string // by test, titles of steps at which it failed before
	Mending  mending.Policy      // what the project does about locators that find nothing any more
}

// Lab is what goes on.
type Lab struct {
	store  *store.Store
	blobs  *blobs.Dir
	grown  *blobs.Growing
	aside  map[asideKey]store.Aside // tests that are set aside, those whose time is over too
	keeper Keeper
	orders Orders
	log    *slog.Logger
	now    func() time.Time
	hub    *hub
	stats  *stats

	config      dispatch.Config
	sessionLife time.Duration
	exposed     bool // runners may use agents without a sandbox
	relays      Relays
	routes      sync.Map   // of open sessions: id to *route
	lookers     sync.Map   // of open sessions that are watched: id to *looker
	links       sync.Map   // of agents: name to *link.Agent
	growMu      sync.Mutex // held while a session finds its run; taken before mu

	mu      sync.Mutex // guards what follows; named Locked functions need it held
	machine *dispatch.Machine
	live    map[string]*liveRun       // by id
	growing map[string]*liveRun       // runs of sessions that are live or were a moment ago, by project and name
	remotes map[string]*remoteSession // by id
	scripts map[string]scriptSession  // sessions of scripts that are open, by id
	leases  map[int64]grant
	agents  map[string]*agentConn
	tickets map[string]ticket // of agents that have introduced themselves
	noted   time.Time         // when it was put on record what agents offer
	number  int
	shelf   shelf

	masks       masks
	expectation expectation
	typical     typical
	stop        chan struct{}
	stopOnce    sync.Once
	tasks       sync.WaitGroup
}

// New makes a lab in which nothing goes on yet.
func New(c Config) (*Lab, error) {
	grown, err := blobs.OpenGrowing(c.Blobs)
	if err != nil {
		return nil, err
	}
	lab := &Lab{
		store: c.Store, blobs: c.Blobs, grown: grown, keeper: c.Keeper, log: c.Log, now: c.Clock, hub: newHub(),
		sessionLife: c.SessionLife, exposed: c.Exposed, relays: c.Relays,
		config: c.Dispatch, live: map[string]*liveRun{}, growing: map[string]*liveRun{}, remotes: map[string]*remoteSession{},
		scripts: map[string]scriptSession{},
		leases:  map[int64]grant{}, agents: map[string]*agentConn{}, tickets: map[string]ticket{},
		stop: make(chan struct{}),
	}
	lab.stats = newStats(lab)
	return lab, nil
}

// TakeUp goes on with the runs that had not ended, and lets time pass: the scheduler
// looks at the clock at every tick.
func (lab *Lab) TakeUp(ctx context.Context, orders Orders, tick time.Duration) error {
	lab.orders = orders
	number, fence, err := lab.store.LastNumbers(ctx)
	if err != nil {
		return err
	}
	lab.number = number
	if lab.config.Mark == nil {
		lab.config.Mark = func() uint32 {
			var b [4]byte
			_, _ = rand.Read(b[:])
			return binary.BigEndian.Uint32(b[:])
		}
	}
	lab.machine = dispatch.New(lab.config, fence)
	if err := lab.knowStock(ctx); err != nil {
		return err
	}
	if err := lab.knowAgents(ctx); err != nil {
		return err
	}
	if err := lab.takeUpAside(ctx); err != nil {
		return err
	}
	if err := lab.takeUpQuotas(ctx); err != nil {
		return err
	}
	if err := lab.takeUpRuns(ctx); err != nil {
		return err
	}
	if err := lab.takeUpRemotes(ctx); err != nil {
		return err
	}
	if err := lab.store.Sync(); err != nil {
		return err
	}
	if err := lab.forgetGrown(); err != nil {
		return err
	}
	lab.tasks.Go(func() { lab.clock(tick) })
	return nil
}

// takeUpRuns goes on with the runs of the records, each by itself.
func (lab *Lab) takeUpRuns(ctx context.Context) error {
	runs, err := lab.store.OpenRuns(ctx)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if err := lab.takeUpRun(ctx, r); err != nil {
			if err := lab.setAside(ctx, r, " when the service was started again", err); err != nil {
				return fmt.Errorf("set run %d aside: %w", r.Number, err)
			}
			continue
		}
		lab.log.Info("run taken up", "run", r.Number)
	}
	return nil
}

// takeUpRun goes on with one run of the records.
func (lab *Lab) takeUpRun(ctx context.Context, row store.Run) error {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	if row.Kind == api.RemoteKind {
		g, err := lab.loadGrowing(ctx, row)
		if err != nil {
			return err
		}
		lab.live[row.ID], lab.growing[growKey(g)] = g, g
		return nil
	}
	ds, err := lab.restoreLocked(ctx, row)
	if err != nil {
		return err
	}
	lab.applyLocked(ds)
	return nil
}

// maxWhy bounds the reason for which a run is set aside, in bytes.
const maxWhy = 400

// setAside ends a run that cannot be taken up, so that everything else can: what
// has no verdict yet is the lab's fault, with the reason.
func (lab *Lab) setAside(ctx context.Context, row store.Run, when string, cause error) error {
	why := "set aside" + when + ": " + attempt.Clip(cause.Error(), maxWhy)
	lab.log.Error("run set aside", "run", row.Number, "error", cause)
	var view api.Run
	w, err := lab.store.WholeRun(ctx, row.Number)
	if err == nil {
		view, err = walls.RunOf(row, w)
	}
	if err != nil { // there is no wall to be drawn of it
		lab.log.Error("the wall of a run that is set aside cannot be read", "run", row.Number, "error", err)
		now := store.Millis(lab.now())
		return lab.store.Write(store.ExplainRun(row.Number, why), store.EndLeases(row.Number), store.AbandonSessions(row.Number, why, now),
			store.EndRun(row.Number, string(verdict.LabFault), row.Counts, "[]", now))
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
	batch = append(batch, store.AbandonSessions(row.Number, why, store.Millis(lab.now())))
	r.over(lab.now())
	return lab.store.Write(append(batch, r.end(store.Millis(lab.now())))...)
}

// clock lets the scheduler see time pass.
func (lab *Lab) clock(every time.Duration) {
	t := time.NewTicker(every)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			lab.mu.Lock()
			e := lab.applyLocked(lab.machine.Tick(lab.now()))
			lab.mu.Unlock()
			_ = lab.carryOut(e)
			lab.expect()
			lab.forgetEnded()
			lab.offered()
		case <-lab.stop:
			return
		}
	}
}

// Watch streams events of one run, or with "" of all runs and the fleet.
func (lab *Lab) Watch(runID string) *Watch { return lab.hub.watch(runID, nil) }

// WatchAll streams events of the fleet and of all runs of some projects, nil for every
// one, and of some runs, by number, what happens on their walls.
func (lab *Lab) WatchAll(among []string, walls []int) *Watch {
	return lab.hub.watch("", among, walls...)
}

// Tell passes an event on to whoever watches.
func (lab *Lab) Tell(e api.Event) { lab.hub.publish(e) }

// Close ends watches and links. Runs that have not ended go on at the next start.
func (lab *Lab) Close() error {
	lab.stopOnce.Do(func() { close(lab.stop) })
	lab.hub.close()
	lab.mu.Lock()
	for _, a := range lab.agents {
		if a.link != nil {
			a.link.Close()
		}
	}
	lab.mu.Unlock()
	lab.tasks.Wait()
	return lab.grown.Close()
}
