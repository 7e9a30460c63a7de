package lab

import (
	"context"
	"errors"
	"slices"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// A run of sessions grows while it goes on: each session names a test, and finds its
// cell or makes room for a new one. When its last session has ended it has, too; the
// next session of its name has it go on.

// maxRunCells bounds how far a run of sessions can grow.
const maxRunCells = 20_000

// growKey is the key of a run in Service.growing.
func growKey(r *liveRun) string { return r.view.Project + "\n" + r.view.Suite }

// rememberGrown is for how long a run of sessions is remembered after its end,
// for the next session of its name.
const rememberGrown = time.Minute

// runOfSessions finds the newest run of sessions with a name, whether it goes on
// or has ended; nil when there is none. Service.growMu is held: nothing but
// results of its own sessions changes the run meanwhile.
func (lab *Lab) runOfSessions(ctx context.Context, project, name string) (*liveRun, error) {
	lab.mu.Lock()
	r := lab.growing[project+"\n"+name]
	lab.mu.Unlock()
	if r != nil {
		return r, nil
	}
	if err := lab.store.Sync(); err != nil { // its end may still be queued
		return nil, err
	}
	row, err := lab.store.RunByName(ctx, project, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if r, err = lab.loadGrowing(ctx, row); err != nil {
		return nil, err
	}
	lab.mu.Lock()
	lab.growing[growKey(r)] = r
	lab.mu.Unlock()
	return r, nil
}

// forgetEnded drops runs of sessions that ended a while ago from memory.
func (lab *Lab) forgetEnded() {
	if !lab.growMu.TryLock() {
		return
	}
	defer lab.growMu.Unlock()
	lab.mu.Lock()
	defer lab.mu.Unlock()
	for key, r := range lab.growing {
		if r.view.EndedAt != nil && lab.now().Sub(*r.view.EndedAt) > rememberGrown {
			delete(lab.growing, key)
		}
	}
}

// loadGrowing takes a run of sessions up again. Its attempts come along.
func (lab *Lab) loadGrowing(ctx context.Context, row store.Run) (*liveRun, error) {
	w, err := lab.store.WholeRun(ctx, row.Number)
	if err != nil {
		return nil, err
	}
	view, err := walls.RunOf(row, w)
	if err != nil {
		return nil, err
	}
	r := &liveRun{view: view, revised: row.Revised}
	for _, a := range w.Attempts {
		r.try(a.Pane, a.Test, a.Number, verdict.Verdict(a.Verdict))
	}
	return r, nil
}

// newGrowingLocked makes an empty run.
func (lab *Lab) newGrowingLocked(project, name, by string) (*liveRun, []store.Stmt, error) {
	row := store.Run{ID: store.NewID(), Number: lab.number + 1, Project: project, Suite: name, Kind: api.RemoteKind, Vars: "{}", Request: "{}",
		Plan: "{}", By: by, CreatedAt: store.Millis(lab.now()), Counts: "{}"}
	view, err := walls.RunOf(row, store.Whole{})
	if err != nil {
		return nil, nil, err
	}
	lab.number++
	return &liveRun{view: view}, store.AddRun(row, nil, nil), nil
}

// goOn has a run that has ended go on.
func (r *liveRun) goOn() []store.Stmt {
	if r.view.EndedAt == nil {
		return nil
	}
	r.view.EndedAt, r.view.Verdict, r.view.Why, r.view.State = nil, verdict.Pending, "", api.Running
	r.revised++
	return store.ReopenRun(r.view.Number)
}

// place finds the pane and the test of a session, which may be the next new ones;
// false when the wall is full. It changes nothing but the session.
func (r *liveRun) place(x *remoteSession, test string) bool {
	if x.pane = slices.IndexFunc(r.view.Panes, func(p api.Pane) bool { return p.Key == combo.Key(x.values) }); x.pane < 0 {
		x.pane = len(r.view.Panes)
	}
	if x.test = slices.IndexFunc(r.view.Tests, func(t api.Test) bool { return t.Name == test }); x.test < 0 {
		x.test = len(r.view.Tests)
	}
	return max(x.pane+1, len(r.view.Panes))*max(x.test+1, len(r.view.Tests)) <= maxRunCells
}

// grow makes room for a session's cell.
func (r *liveRun) grow(x *remoteSession, test string, tags []string) []store.Stmt {
	v := &r.view
	var newPane *store.Pane
	var newTest *store.Test
	if x.pane == len(v.Panes) {
		v.Panes = append(v.Panes, api.Pane{Index: x.pane, Key: combo.Key(x.values), Label: x.order.Label, Values: x.values,
			Needs: x.needs, State: api.Queued,
			Counts: verdict.Counts{}, Agents: []string{}})
		v.RunSummary.Panes = append(v.RunSummary.Panes, api.PaneGlance{Label: x.order.Label, State: api.Queued})
		v.Cells = append(v.Cells, slices.Repeat([]api.Cell{{State: api.Undealt}}, len(v.Tests)))
		newPane = &store.Pane{Index: x.pane, Key: combo.Key(x.values), Label: x.order.Label, Values: store.JSON(x.values),
			Needs: store.JSON(x.needs), Dealt: "[]"}
	}
	if x.test == len(v.Tests) {
		row := r.admit(suite.Case{Name: test, Tags: tags})
		newTest = &row
	}
	return store.AddCell(r.row(), newPane, newTest, x.pane, x.test)
}

// admit adds a test to a run. No pane has it yet.
func (r *liveRun) admit(c suite.Case) store.Test {
	v := &r.view
	index := len(v.Tests)
	v.Tests = append(v.Tests, api.Test{Index: index, Name: c.Name, File: c.File, Tags: append([]string{}, c.Tags...),
		Locks: append([]string{}, c.Locks...)})
	for i := range v.Cells {
		v.Cells[i] = append(v.Cells[i], api.Cell{State: api.Undealt})
	}
	return walls.TestOf(index, c)
}

// Extend adds cases to a pane of a run that goes on, whatever its kind; those that
// the pane has already change nothing. An error says why it cannot be.
func (lab *Lab) Extend(id string, pane int, cases []suite.Case) error {
	lab.mu.Lock()
	e, err := lab.extendLocked(id, pane, cases)
	lab.mu.Unlock()
	if err != nil {
		return err
	}
	return lab.carryOut(e)
}

func (lab *Lab) extendLocked(id string, pane int, cases []suite.Case) (*effects, error) {
	r := lab.live[id]
	if r == nil || r.view.Kind == api.RemoteKind {
		return nil, api.Errorf(api.Conflict, "the run takes no more tests: it has ended, or is one of sessions")
	}
	if pane < 0 || pane >= len(r.view.Panes) {
		return nil, api.Errorf(api.Invalid, "run %d has no pane %d", r.view.Number, pane)
	}
	if n := (len(r.view.Tests) + len(cases)) * len(r.view.Panes); n > api.MaxCells {
		return nil, api.Errorf(api.Invalid, "run %d would have %d cells; a run holds at most %d", r.view.Number, n, api.MaxCells)
	}
	var rows []store.Test
	more := map[int]dispatch.Test{}
	for _, c := range cases {
		at := slices.IndexFunc(r.view.Tests, func(t api.Test) bool { return t.Name == c.Name })
		if at < 0 {
			at = len(r.view.Tests)
			rows = append(rows, r.admit(c))
			for i := range r.terms.Seconds {
				r.terms.Seconds[i] = append(r.terms.Seconds[i], 0)
			}
		}
		if r.view.Cells[pane][at].State == api.Undealt {
			r.deal(pane, at)
			more[at] = testOf(r.view.Project, r.view.Tests[at], 0)
		}
	}
	batch := append(store.AddTests(r.row(), rows), r.dealings()...)
	_, ds := lab.machine.Extend(lab.now(), id, pane, more)
	e := lab.applyLocked(ds, append(batch, store.Recount(r.view.Number, store.JSON(copyCounts(r.view.Counts))))...)
	e.walls = append(e.walls, api.Event{Type: "wall", Run: r.head(), Whole: true})
	return e, nil
}

// deal gives a pane a test of the run.
func (r *liveRun) deal(pane, test int) {
	p := &r.view.Panes[pane]
	r.view.Cells[pane][test].State = api.Queued
	p.Counts[verdict.Pending]++
	r.view.Counts[verdict.Pending]++
	if p.State == api.Ended || p.State == api.Undealt {
		p.State, p.Verdict = api.Running, verdict.Pending
	}
}

// dealings are the records of which tests each pane has.
func (r *liveRun) dealings() (batch []store.Stmt) {
	for i, cells := range r.view.Cells {
		mine := []int{}
		for j, c := range cells {
			if c.State != api.Undealt {
				mine = append(mine, j)
			}
		}
		batch = append(batch, store.DealPane(r.view.Number, i, store.JSON(mine)))
	}
	return batch
}

// row says of a run what its parts are known by.
func (r *liveRun) row() store.Run {
	return store.Run{Number: r.view.Number, Kind: r.view.Kind, Project: r.view.Project, Suite: r.view.Suite}
}

// await seats a session in its cell, where it waits as the cell's next attempt.
func (r *liveRun) await(x *remoteSession, now int64) []store.Stmt {
	x.run = r
	r.sessions++
	x.row.Run, x.row.Pane, x.row.Test, x.row.Number, x.row.QueuedAt = r.view.Number, x.pane, x.test, r.next(x.pane, x.test), now
	x.order.Run, x.order.Attempt = r.view.Number, x.row.Number
	r.regard(x.pane, x.test, api.Queued, verdict.Pending, "")
	r.view.Cells[x.pane][x.test].Session = x.row.ID
	return append([]store.Stmt{store.AddSession(x.row)}, store.Regard(r.record(x.pane, x.test))...)
}

// try books an attempt of a cell of a run that grows.
func (r *liveRun) try(pane, test, number int, v verdict.Verdict) {
	if r.tried == nil {
		r.tried = map[[2]int][]verdict.Verdict{}
	}
	at := [2]int{pane, test}
	for len(r.tried[at]) < number {
		r.tried[at] = append(r.tried[at], verdict.Pending)
	}
	r.tried[at][number-1] = v
}

// next is the number of a cell's next attempt.
func (r *liveRun) next(pane, test int) int {
	n := len(r.tried[[2]int{pane, test}]) + 1
	r.try(pane, test, n, verdict.Pending)
	return n
}

// regard puts a cell of a run that grows into a state, and mends the counts.
func (r *liveRun) regard(pane, test int, state api.State, v verdict.Verdict, why string) {
	c, p := &r.view.Cells[pane][test], &r.view.Panes[pane]
	for _, counts := range []verdict.Counts{p.Counts, r.view.Counts} {
		if c.State != api.Undealt {
			if counts[c.Verdict]--; counts[c.Verdict] == 0 {
				delete(counts, c.Verdict)
			}
		}
		counts[v]++
	}
	if c.State == api.Running {
		p.Running--
	}
	if state == api.Running {
		p.Running++
	}
	c.State, c.Verdict, c.Why = state, v, why
	switch {
	case p.Counts[verdict.Pending] == 0:
		p.State, p.Verdict = api.Ended, p.Counts.Over()
	case p.Running > 0 || p.Counts.Total() > p.Counts[verdict.Pending]:
		p.State, p.Verdict = api.Running, verdict.Pending
	default:
		p.State, p.Verdict = api.Queued, verdict.Pending
	}
}

// cell gives a cell what its attempts come to: pending while one is not over.
func (r *liveRun) cell(pane, test int, state api.State, why string) verdict.Verdict {
	tried := r.tried[[2]int{pane, test}]
	if slices.Contains(tried, verdict.Pending) {
		r.regard(pane, test, state, verdict.Pending, "")
		return verdict.Pending
	}
	v := verdict.OfAttempts(tried)
	r.regard(pane, test, api.Ended, v, why)
	return v
}
