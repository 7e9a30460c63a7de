package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

// maxMissing bounds what a run's plan keeps.
const maxMissing = 200

// maxEventCells bounds the cells of one event.
const maxEventCells = 300

// liveRun is a run that has not ended, as watchers see it. Service.mu guards it.
type liveRun struct {
	view  api.Run
	vars  map[string]string
	files string // bundle

	secrets map[string]string
	policy  record.Policy

	seconds  [][]float64 // estimates by pane and test
	expected time.Time   // end; zero when it cannot be said
	profiles []device.Profile
	marker   string // attribute that marks elements for tests

	revised  int                          // how often it was changed after its end
	sessions int                          // of a run of sessions: how many have not ended
	tried    map[[2]int][]verdict.Verdict // of a run of sessions: attempts by pane and test
}

// summary copies what lists show.
func (r *liveRun) summary() *api.RunSummary {
	s := *r.head()
	s.Panes = glances(&r.view)
	return &s
}

// glances are the panes as a list of runs shows them.
func glances(v *api.Run) []api.PaneGlance {
	out := make([]api.PaneGlance, len(v.Panes))
	for i, p := range v.Panes {
		out[i] = api.PaneGlance{Label: p.Label, State: p.State, Verdict: p.Verdict}
	}
	return out
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
	note(&r.view.Panes[a.Pane], &r.view.Cells[a.Pane][a.Test], a)
}

// maxCellMessage bounds what a wall says of a cell, in bytes; its attempts say the
// rest.
const maxCellMessage = 400

// record is the row of a cell.
func (r *liveRun) record(pane, test int) store.Cell {
	c := r.view.Cells[pane][test]
	return store.Cell{Run: r.view.Number, Pane: pane, Test: test, Verdict: string(c.Verdict), Attempts: c.Attempts, TookMS: c.TookMS, Agent: c.Agent,
		Why: c.Why, Message: c.Message}
}

// note books an attempt in its pane and cell.
func note(p *api.Pane, c *api.Cell, a store.Attempt) {
	p.TookMS += a.TookMS
	if !slices.Contains(p.Agents, a.Agent) {
		p.Agents = append(p.Agents, a.Agent)
	}
	c.Attempts, c.Agent, c.TookMS, c.Session = a.Number, a.Agent, a.TookMS, a.ID
	if a.Verdict != string(verdict.Passed) {
		c.Message = attempt.Clip(a.Message, maxCellMessage)
	}
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

func summaryOf(row store.Run) api.RunSummary {
	s := api.RunSummary{
		Number: row.Number, ID: row.ID, Project: row.Project, Suite: row.Suite, Matrix: row.Matrix, Environment: row.Environment,
		By: row.By, Kind: row.Kind, AgainOf: row.AgainOf, State: api.Queued, Verdict: verdict.Verdict(row.Verdict), Why: row.Why, Counts: verdict.Counts{},
		CreatedAt: api.At(row.CreatedAt), StartedAt: api.At(row.StartedAt), EndedAt: api.At(row.EndedAt), Panes: []api.PaneGlance{},
	}
	_ = json.Unmarshal([]byte(row.Counts), &s.Counts) // written by the service itself, as the next is
	_ = json.Unmarshal([]byte(row.Glances), &s.Panes)
	switch {
	case row.EndedAt > 0:
		s.State = api.Ended
	case row.StartedAt > 0:
		s.State = api.Running
	}
	return s
}

// runOf builds a run from its records.
func runOf(row store.Run, w store.Whole) (api.Run, error) {
	v := api.Run{RunSummary: summaryOf(row), Base: row.Base, Panes: []api.Pane{}, Tests: []api.Test{}}
	if err := json.Unmarshal([]byte(row.Request), &v.Request); err != nil {
		return v, fmt.Errorf("records of run %d: %w", row.Number, err)
	}
	if err := json.Unmarshal([]byte(row.Plan), &v.Plan); err != nil {
		return v, fmt.Errorf("records of run %d: %w", row.Number, err)
	}
	for _, t := range w.Tests {
		test := api.Test{Index: t.Index, Name: t.Name, File: t.File}
		for into, src := range map[any]string{&test.Tags: t.Tags, &test.Locks: t.Locks} {
			if err := json.Unmarshal([]byte(src), into); err != nil {
				return v, fmt.Errorf("records of run %d: %w", row.Number, err)
			}
		}
		v.Tests = append(v.Tests, test)
	}
	for _, p := range w.Panes {
		pane := api.Pane{Index: p.Index, Key: p.Key, Label: p.Label, State: api.Queued, Counts: verdict.Counts{}, Agents: []string{}}
		for into, src := range map[any]string{&pane.Values: p.Values, &pane.Needs: p.Needs, &pane.Info: cmp.Or(p.Info, "{}")} {
			if err := json.Unmarshal([]byte(src), into); err != nil {
				return v, fmt.Errorf("records of run %d: %w", row.Number, err)
			}
		}
		v.Panes = append(v.Panes, pane)
		cells, err := dealtCells(p.Dealt, len(w.Tests))
		if err != nil {
			return v, fmt.Errorf("records of run %d: %w", row.Number, err)
		}
		v.Cells = append(v.Cells, cells)
	}
	for _, r := range w.Cells {
		c := &v.Cells[r.Pane][r.Test]
		c.State, c.Verdict, c.Why = api.Queued, verdict.Verdict(r.Verdict), r.Why
		if c.Verdict != verdict.Pending {
			c.State = api.Ended
		}
	}
	v.Counts = verdict.Counts{}
	for i := range v.Cells {
		for _, c := range v.Cells[i] {
			if c.State != api.Undealt {
				v.Panes[i].Counts[c.Verdict]++
				v.Counts[c.Verdict]++
			}
		}
	}
	for _, a := range w.Attempts {
		note(&v.Panes[a.Pane], &v.Cells[a.Pane][a.Test], a)
	}
	for i := range v.Panes {
		p := &v.Panes[i]
		switch {
		case len(p.Counts) == 0:
			p.State = api.Undealt
		case p.Counts[verdict.Pending] == 0:
			p.State, p.Verdict = api.Ended, p.Counts.Over()
		case len(p.Counts) > 1:
			p.State = api.Running
		}
	}
	v.RunSummary.Panes = glances(&v)
	return v, nil
}

// dealtCells are the cells of a pane before anything has come of them.
func dealtCells(dealt string, tests int) ([]api.Cell, error) {
	if dealt == "" {
		return slices.Repeat([]api.Cell{{State: api.Queued}}, tests), nil
	}
	out := slices.Repeat([]api.Cell{{State: api.Undealt}}, tests)
	var mine []int
	if err := json.Unmarshal([]byte(dealt), &mine); err != nil {
		return nil, err
	}
	for _, t := range mine {
		out[t].State = api.Queued
	}
	return out, nil
}

// restoreLocked hands a run of the records to the scheduler.
func (s *Service) restoreLocked(ctx context.Context, row store.Run) ([]dispatch.Decision, error) {
	w, err := s.store.WholeRun(ctx, row.Number)
	if err != nil {
		return nil, err
	}
	view, err := runOf(row, w)
	if err != nil {
		return nil, err
	}
	r := &liveRun{view: view, revised: row.Revised, files: row.Bundle}
	if err := json.Unmarshal([]byte(row.Vars), &r.vars); err != nil {
		return nil, err
	}
	settled, err := s.ProjectSettings(ctx, row.Project)
	if err != nil {
		return nil, err
	}
	r.policy = record.Over(view.Request.Record, settled.Record, record.Default(false))
	if r.secrets, err = s.seal.Open(row.Secrets); err != nil {
		return nil, err
	}
	if err := s.estimate(ctx, r); err != nil {
		return nil, err
	}
	if r.profiles, r.marker, err = s.profilesOf(view); err != nil {
		return nil, err
	}
	work := workOf(r)
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
		s.leases[g.Fence] = g
	}
	s.live[row.ID] = r
	return s.machine.Restore(s.now(), work, leases), nil
}

// workOf is a run as the scheduler sees it.
func workOf(r *liveRun) dispatch.Run {
	v, q := r.view, r.view.Request
	work := dispatch.Run{ID: v.ID, Project: v.Project, Owner: v.By, Priority: q.Priority, Retries: q.Retries, Limit: q.Limit, Lanes: q.Lanes,
		StopAfter: q.StopAfter, QueueLimit: time.Duration(q.QueueLimitS) * time.Second, TimeLimit: time.Duration(q.RunLimitS) * time.Second}
	if v.StartedAt != nil {
		work.StartedAt = *v.StartedAt
	}
	for i, p := range v.Panes {
		pane := dispatch.Pane{Needs: p.Needs, Values: p.Values, Tests: make([]dispatch.Test, len(v.Tests))}
		for j, t := range v.Tests {
			pane.Tests[j] = dispatch.Test{Seconds: r.seconds[i][j], Settled: v.Cells[i][j].State != api.Queued}
			for _, lock := range t.Locks {
				pane.Tests[j].Locks = append(pane.Tests[j].Locks, v.Project+"/"+lock)
			}
		}
		work.Panes = append(work.Panes, pane)
	}
	return work
}
