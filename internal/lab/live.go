package lab

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/plan"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// maxEventCells bounds the cells of one event.
const maxEventCells = 300

// liveRun is a run that has not ended, as watchers see it. Service.mu guards it.
type liveRun struct {
	view  api.Run
	terms Terms // of a run of scripts

	stumbled map[int][]string // titles of steps at which tests have failed in this run

	expected time.Time                    // end; zero when it cannot be said
	revised  int                          // how often it was changed after its end
	sessions int                          // of a run of sessions: how many have not ended
	tried    map[[2]int][]verdict.Verdict // of a run of sessions: attempts by pane and test
}

// summary copies what lists show.
func (r *liveRun) summary() *api.RunSummary {
	s := *r.head()
	s.Panes = walls.Glances(&r.view)
	return &s
}

// copy is the whole run, safe to hand out.
func (r *liveRun) copy() api.Run {
	v := r.view
	v.RunSummary = *r.summary()
	v.Panes = make([]api.Pane, len(r.view.Panes))
	v.Cells = make([][]api.Cell, len(r.view.Cells))
	for i := range r.view.Panes {
		v.Panes[i] = r.pane(i)
		v.Cells[i] = slices.Clone(r.view.Cells[i])
	}
	return v
}

func (r *liveRun) pane(i int) api.Pane {
	p := r.view.Panes[i]
	p.Counts = copyCounts(p.Counts)
	p.Agents = slices.Clone(p.Agents)
	return p
}

func copyCounts(c verdict.Counts) verdict.Counts {
	out := verdict.Counts{}
	for v, n := range c {
		if n > 0 {
			out[v] = n
		}
	}
	return out
}

// head is the run without its panes, for events.
func (r *liveRun) head() *api.RunSummary {
	s := r.view.RunSummary
	if s.State != api.Ended {
		s.ExpectedAt = api.At(store.Millis(r.expected))
	}
	s.Counts, s.Panes = copyCounts(s.Counts), []api.PaneGlance{}
	return &s
}

// cell notes that a cell has changed. However many change together, a run's
// watchers are told once.
func (e *effects) cell(r *liveRun, pane, test int) {
	i := slices.IndexFunc(e.walls, func(w api.Event) bool { return w.Run.ID == r.view.ID })
	if i < 0 {
		i = len(e.walls)
		e.walls = append(e.walls, api.Event{Type: "wall"})
	}
	w := &e.walls[i]
	w.Run = r.head()
	if w.Whole = w.Whole || len(w.Cells) == maxEventCells; w.Whole {
		w.Panes, w.Cells = nil, nil
		return
	}
	at := api.CellAt{Pane: pane, Test: test, Cell: r.view.Cells[pane][test]}
	if k := slices.IndexFunc(w.Cells, func(c api.CellAt) bool { return c.Pane == pane && c.Test == test }); k >= 0 {
		w.Cells[k] = at
	} else {
		w.Cells = append(w.Cells, at)
	}
	if k := slices.IndexFunc(w.Panes, func(p api.Pane) bool { return p.Index == pane }); k >= 0 {
		w.Panes[k] = r.pane(pane)
	} else {
		w.Panes = append(w.Panes, r.pane(pane))
	}
}

func (r *liveRun) joined(pane int, agent string) {
	p := &r.view.Panes[pane]
	if p.State == api.Queued {
		p.State = api.Running
	}
	if !slices.Contains(p.Agents, agent) {
		p.Agents = append(p.Agents, agent)
	}
}

// started and stopped report whether they changed anything.
func (r *liveRun) started(pane, test int, agent string) bool {
	c := &r.view.Cells[pane][test]
	if c.State != api.Queued {
		return false
	}
	c.State, c.Agent = api.Running, agent
	r.view.Panes[pane].Running++
	return true
}

func (r *liveRun) stopped(pane, test int) bool {
	c := &r.view.Cells[pane][test]
	if c.State != api.Running {
		return false
	}
	c.State = api.Queued
	r.view.Panes[pane].Running--
	return true
}

func (r *liveRun) attempted(a store.Attempt) {
	r.stopped(a.Pane, a.Test)
	walls.Note(&r.view.Panes[a.Pane], &r.view.Cells[a.Pane][a.Test], a)
}

// record is the row of a cell.
func (r *liveRun) record(pane, test int) store.Cell {
	c := r.view.Cells[pane][test]
	return store.Cell{Run: r.view.Number, Pane: pane, Test: test, Verdict: string(c.Verdict), Attempts: c.Attempts,
		TookMS: c.TookMS, Agent: c.Agent,
		Why: c.Why, Message: c.Message}
}

func (r *liveRun) settled(d dispatch.Settled) {
	r.stopped(d.Pane, d.Test)
	c := &r.view.Cells[d.Pane][d.Test]
	p := &r.view.Panes[d.Pane]
	c.State, c.Verdict, c.Why = api.Ended, d.Verdict, d.Why
	for _, counts := range []verdict.Counts{p.Counts, r.view.Counts} {
		counts[verdict.Pending]--
		counts[d.Verdict]++
	}
	if p.Counts[verdict.Pending] == 0 {
		p.State, p.Verdict = api.Ended, p.Counts.Over()
	}
}

func (r *liveRun) over(now time.Time) {
	r.view.State, r.view.Verdict, r.view.EndedAt = api.Ended, r.view.Counts.Over(), api.At(store.Millis(now))
	r.view.Counts = copyCounts(r.view.Counts)
}

// restoreLocked hands a run of the records to the scheduler.
func (lab *Lab) restoreLocked(ctx context.Context, row store.Run) ([]dispatch.Decision, error) {
	w, err := lab.store.WholeRun(ctx, row.Number)
	if err != nil {
		return nil, err
	}
	view, err := walls.RunOf(row, w)
	if err != nil {
		return nil, err
	}
	r := &liveRun{view: view, revised: row.Revised}
	if r.terms, err = lab.orders.Recall(ctx, row, view); err != nil {
		return nil, err
	}
	lab.masks.keep(row.ID, slices.Collect(maps.Values(r.terms.Secrets)))
	work := Work(r.view, r.terms.Seconds, lab.asideOf(r.view))
	for _, a := range w.Attempts {
		t := &work.Panes[a.Pane].Tests[a.Test]
		t.Past = append(t.Past, verdict.Verdict(a.Verdict))
	}
	var leases []dispatch.Lease
	var grants []grant
	for _, l := range w.Leases {
		g, err := grantFrom(dispatch.Lease{Fence: l.Fence, Agent: l.Agent, Run: row.ID, Pane: l.Pane}, l.Tests)
		if err != nil {
			return nil, err
		}
		leases, grants = append(leases, g.Lease), append(grants, g)
	}
	for _, g := range grants {
		lab.leases[g.Fence] = g
	}
	lab.live[row.ID] = r
	return lab.machine.Restore(lab.now(), work, leases), nil
}

// Work is a run as the scheduler sees it; seconds are the estimates of its tests by
// pane, aside says which of its tests are set aside, nil: none.
func Work(v api.Run, seconds [][]float64, aside func(test string) bool) dispatch.Run {
	q := v.Request
	work := dispatch.Run{ID: v.ID, Project: v.Project, Owner: v.By, Priority: q.Priority, Retries: q.Retries, Limit: q.Limit, Lanes: q.Lanes,
		StopAfter: q.StopAfter, QueueLimit: time.Duration(q.QueueLimitS) * time.Second, TimeLimit: time.Duration(q.RunLimitS) * time.Second}
	if v.StartedAt != nil {
		work.StartedAt = *v.StartedAt
	}
	for i, p := range v.Panes {
		pane := dispatch.Pane{Needs: p.Needs, Values: p.Values, Tests: make([]dispatch.Test, len(v.Tests))}
		for j, t := range v.Tests {
			pane.Tests[j] = testOf(v.Project, t, seconds[i][j])
			pane.Tests[j].Aside = aside != nil && aside(t.Name)
			pane.Tests[j].Settled = v.Cells[i][j].State != api.Queued
		}
		work.Panes = append(work.Panes, pane)
	}
	return work
}

// testOf is a test as the scheduler sees it. Its locks are the project's.
func testOf(project string, t api.Test, seconds float64) dispatch.Test {
	out := dispatch.Test{Seconds: seconds}
	for _, lock := range t.Locks {
		out.Locks = append(out.Locks, project+"/"+lock)
	}
	return out
}

// end is the record of a run's end.
func (r *liveRun) end(now int64) store.Stmt {
	return store.EndRun(r.view.Number, string(r.view.Verdict), store.JSON(r.view.Counts), store.JSON(walls.Glances(&r.view)), now)
}

// keepWall stores the wall of a run that has just ended.
func (lab *Lab) keepWall(r *liveRun) {
	lab.mu.Lock()
	if r.view.EndedAt == nil { // it goes on
		lab.mu.Unlock()
		return
	}
	v, revised := r.copy(), r.revised
	lab.mu.Unlock()
	kept, err := walls.Kept(v, revised)
	if err == nil {
		err = lab.store.Write(kept...)
	}
	if err != nil && !errors.Is(err, store.ErrClosed) {
		lab.log.Error("a wall could not be stored: it will be drawn from the records", "run", v.Number, "error", err)
	}
}

// Live is a run that goes on, as it stands.
func (lab *Lab) Live(id string) (api.Run, bool) {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	r := lab.live[id]
	if r == nil {
		return api.Run{}, false
	}
	return r.copy(), true
}

// Glance is what a list shows of a run that goes on.
func (lab *Lab) Glance(id string) (api.RunSummary, bool) {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	r := lab.live[id]
	if r == nil {
		return api.RunSummary{}, false
	}
	return *r.summary(), true
}

// Members are the agents of the fleet.
func (lab *Lab) Members() []fleet.Member {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	return lab.machine.Members()
}

// Fleet is the fleet as a project's plans see it, without the agents of projects that
// somebody may not look at.
func (lab *Lab) Fleet(who api.Who, project string) fleet.Lab {
	return fleet.Lab{Project: project, Members: slices.DeleteFunc(lab.Members(), func(m fleet.Member) bool {
		return slices.ContainsFunc(m.Facts["pool"], func(pool string) bool { return pool != fleet.Shared && !who.May(api.Viewer, pool) })
	})}
}

// Order is a run to be started: its rows without number and time.
type Order struct {
	Row     store.Run
	Panes   []store.Pane
	Cases   []suite.Case
	Renamed []suite.Rename // tests of the suite that are called otherwise from this run on
	Terms   Terms
	Mark    func(run int) store.Stmt // written with the run; may be nil
}

// Start makes a run of an order.
func (lab *Lab) Start(o Order) (api.Run, error) {
	lab.mu.Lock()
	row := o.Row
	row.Number, row.CreatedAt = lab.number+1, store.Millis(lab.now())
	tests := walls.Tests(o.Cases)
	view, err := walls.RunOf(row, store.Whole{Panes: o.Panes, Tests: tests})
	if err != nil {
		lab.mu.Unlock()
		return api.Run{}, err
	}
	lab.number++
	r := &liveRun{view: view, terms: o.Terms}
	lab.live[row.ID] = r
	lab.masks.keep(row.ID, slices.Collect(maps.Values(o.Terms.Secrets)))
	batch := append(store.Rename(row.Project, row.Suite, o.Renamed, row.Number), store.AddRun(row, o.Panes, tests)...)
	lab.renameAsideLocked(row.Project, row.Suite, o.Renamed)
	if o.Mark != nil {
		batch = append(batch, o.Mark(row.Number))
	}
	e := lab.applyLocked(lab.machine.Submit(lab.now(), Work(r.view, r.terms.Seconds, lab.asideOf(r.view))), batch...)
	e.events = append([]api.Event{{Type: "run", Run: r.head()}}, e.events...)
	lab.mu.Unlock()
	if err := lab.carryOut(e); err != nil {
		return api.Run{}, err
	}
	lab.expect()
	lab.log.Info("run submitted", "run", row.Number, "suite", row.Suite, "matrix", row.Matrix, "panes", len(o.Panes),
		"tests", len(tests), "by", row.By)
	lab.mu.Lock()
	defer lab.mu.Unlock()
	return r.copy(), nil
}

// Expect says in how many seconds a run would end that is submitted now; false when
// that cannot be said.
func (lab *Lab) Expect(ctx context.Context, work dispatch.Run) (seconds float64, ok bool) {
	lab.mu.Lock()
	outline := lab.machine.Outline(lab.now())
	lab.mu.Unlock()
	outline.Runs = append(outline.Runs, work)
	seconds, ok = plan.Expect(outline, lab.guess(ctx))[work.ID]
	return seconds, ok
}

// Hosts are the agents that take work now, with the slots that they lend.
func (lab *Lab) Hosts() (out []plan.Host) {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	for _, m := range lab.machine.Members() {
		if m.Away == "" {
			out = append(out, plan.Host{Name: m.Name, Slots: lab.machine.Load(m.Name).Slots, Facts: m.Facts})
		}
	}
	return out
}

// Cancel ends a run before its time.
func (lab *Lab) Cancel(ctx context.Context, who api.Who, number int) (api.Run, error) {
	row, err := lab.store.RunByNumber(ctx, number)
	if err != nil {
		return api.Run{}, walls.NotFound(err, "there is no run %d", number)
	}
	lab.mu.Lock()
	r := lab.live[row.ID]
	if r == nil {
		lab.mu.Unlock()
		return api.Run{}, api.Errorf(api.Conflict, "run %d has ended already: nothing to cancel", number)
	}
	why := "cancelled by " + who.Person()
	r.view.Why = why
	if r.view.Kind == api.RemoteKind {
		return lab.cancelSessions(r, why)
	}
	e := lab.applyLocked(lab.machine.Cancel(lab.now(), row.ID, why), store.ExplainRun(row.Number, why))
	out := r.copy()
	lab.mu.Unlock()
	lab.log.Info("run cancelled", "run", number, "by", who.Name)
	return out, lab.carryOut(e)
}
