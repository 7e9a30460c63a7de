package lab

import (
	"errors"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

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
func (lab *Lab) applyLocked(ds []dispatch.Decision, extra ...store.Stmt) *effects {
	b := &booking{lab: lab, effects: &effects{}, batch: extra, now: store.Millis(lab.now()), touched: map[*liveRun]bool{},
		ended: map[int64]grant{}, opened: map[string]bool{}}
	for _, d := range ds {
		if x := lab.remotes[lab.runOfDecision(d)]; x != nil {
			b.batch = append(b.batch, lab.applyRemoteLocked(x, d, b.effects)...)
			continue
		}
		switch d := d.(type) {
		case dispatch.Lease:
			b.leased(d)
		case dispatch.End:
			b.revoked(d)
		case dispatch.Closed:
			b.closed(d.Fence)
		case dispatch.Lost:
			b.lost(d)
		case dispatch.Settled:
			b.settle(d)
		case dispatch.Over:
			b.over(d)
		case dispatch.Rests:
			lab.log.Warn("agent rests", "agent", d.Agent, "until", d.Until, "why", d.Why)
			b.effects.events = append(b.effects.events, api.Event{Type: "agents"})
		}
	}
	return b.enqueue()
}

// booking is what decisions on runs come to while they are applied; Lab.mu is held.
type booking struct {
	lab     *Lab
	effects *effects
	batch   []store.Stmt
	now     int64             // in milliseconds
	touched map[*liveRun]bool // whose counts have changed
	ended   map[int64]grant   // by fence
	opened  map[string]bool   // sessions of theirs, by id
	settled settling
}

// leased hands tests of a pane to an agent.
func (b *booking) leased(d dispatch.Lease) {
	r, g := b.lab.live[d.Run], grantOf(d)
	b.lab.leases[d.Fence] = g
	b.batch = append(b.batch, store.AddLease(store.Lease{Fence: d.Fence, Run: r.view.Number, Pane: d.Pane, Agent: d.Agent,
		Tests: store.JSON(g.tests()), GrantedAt: b.now}))
	if r.view.StartedAt == nil {
		r.view.StartedAt = api.At(b.now)
		r.view.State = api.Running
		b.batch = append(b.batch, store.StartRun(r.view.Number, b.now))
	}
	r.joined(d.Pane, d.Agent)
	b.effects.grants = append(b.effects.grants, d)
	b.touched[r] = true
}

// revoked takes a lease back from its agent before all of it was done.
func (b *booking) revoked(d dispatch.End) {
	g := b.lab.leases[d.Fence]
	for _, t := range g.Tests {
		if r := b.lab.live[d.Run]; r != nil && r.stopped(g.Pane, t) {
			b.effects.cell(r, g.Pane, t)
		}
	}
	b.ended[d.Fence] = g
	for _, id := range g.ids {
		session := attempt.Session(id, 1)
		_, b.opened[session] = b.lab.scripts[session]
	}
	b.lab.dropScriptsLocked(d.Fence, func(int) bool { return true })
	b.closed(d.Fence)
	b.effects.ends = append(b.effects.ends, d)
}

// closed forgets a lease.
func (b *booking) closed(fence int64) {
	delete(b.lab.leases, fence)
	b.batch = append(b.batch, store.EndLease(fence))
}

// lost books an attempt that nobody will report.
func (b *booking) lost(d dispatch.Lost) {
	r := b.lab.live[d.Run]
	lost := link.Result{ID: b.ended[d.Fence].id(d.Test), Fence: d.Fence, Test: d.Test, Attempt: d.Attempt, Agent: d.Agent,
		Verdict: verdict.LabFault, Message: d.Why, StartedAt: b.now, Detail: attempt.Detail{Steps: []attempt.Step{}, Record: r.terms.Record}}
	session := attempt.Session(lost.ID, 1)
	if b.opened[session] {
		lost.Sessions = 1
	}
	b.batch = append(b.batch, b.lab.bookLocked(r, d.Pane, lost, walls.Pack(lost.Detail))...)
	b.effects.lost = append(b.effects.lost, lostSession{session, lost.Detail})
	b.effects.cell(r, d.Pane, d.Test)
}

// settle gives a cell its verdict.
func (b *booking) settle(d dispatch.Settled) {
	r := b.lab.live[d.Run]
	if d.Verdict == verdict.Failed {
		if a, ok := b.lab.asideLocked(r.view.Project, r.view.Suite, r.view.Tests[d.Test].Name); ok {
			d.Verdict, d.Why = verdict.Aside, asideWhy(a)
		}
	}
	r.settled(d)
	b.settled.add(r, d)
	b.effects.cell(r, d.Pane, d.Test)
	b.touched[r] = true
}

// over ends a run; that of a session was ended with its last session.
func (b *booking) over(d dispatch.Over) {
	if r := b.lab.live[d.Run]; r != nil {
		b.batch = append(b.batch, b.lab.endRunLocked(r, b.effects))
		delete(b.touched, r)
	}
}

// enqueue puts the records in line for the writer.
func (b *booking) enqueue() *effects {
	batch := append(b.batch, b.settled.records()...)
	for r := range b.touched {
		batch = append(batch, store.Recount(r.view.Number, store.JSON(r.view.Counts)))
		b.effects.events = append(b.effects.events, api.Event{Type: "run", Run: r.head()})
	}
	b.effects.pending = b.lab.store.Enqueue(batch...)
	return b.effects
}

// endRunLocked books the end of a run.
func (lab *Lab) endRunLocked(r *liveRun, e *effects) store.Stmt {
	r.over(lab.now())
	lab.stats.runs.WithLabelValues(string(r.view.Verdict)).Inc()
	delete(lab.live, r.view.ID)
	lab.masks.ended(r.view.ID, lab.now())
	e.ended = append(e.ended, r)
	e.events = append(e.events, api.Event{Type: "run", Run: r.head()})
	return r.end(store.Millis(lab.now()))
}

// bookLocked books an attempt, whoever reports it: the agent that made it, the end
// of a session, or the scheduler that lost it.
func (lab *Lab) bookLocked(r *liveRun, pane int, res link.Result, packed store.Detail) []store.Stmt {
	row := lab.attemptOf(r, pane, res, packed)
	r.attempted(row)
	r.stumble(res.Test, res.Detail.Steps)
	lab.stats.attempts.WithLabelValues(row.Verdict).Inc()
	batch := store.AddAttempt(row, filesOf(res))
	batch = append(batch, remembered(row, r.view.Panes[pane].Values["device"], res)...)
	if p := &r.view.Panes[pane]; p.Info.Browser == "" && res.Detail.Browser != "" {
		p.Info = api.PaneInfo{Browser: res.Detail.Browser, Version: res.Detail.Version, Emulated: res.Detail.Emulated}
		batch = append(batch, store.InformPane(r.view.Number, pane, store.JSON(p.Info)))
	}
	return batch
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
func (lab *Lab) runOfDecision(d dispatch.Decision) string {
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
		return lab.leases[d.Fence].Run
	}
	return ""
}

// carryOut waits for the records and then tells agents and watchers.
func (lab *Lab) carryOut(e *effects) error {
	err := e.pending.Wait()
	for _, answer := range e.answers {
		answer()
	}
	if errors.Is(err, store.ErrGuard) {
		return lab.quarantine(e, err)
	}
	if err != nil {
		return err
	}
	for _, ev := range append(e.walls, e.events...) {
		lab.hub.publish(ev)
	}
	for _, l := range e.lost {
		lab.tasks.Go(func() { lab.adopt(l) })
	}
	for _, r := range e.ended {
		lab.orders.Ended(r.view.Project, r.view.Suite)
		lab.tasks.Go(func() { lab.keepWall(r) })
	}
	for _, l := range e.grants {
		lab.deliver(l)
	}
	for _, end := range e.ends {
		lab.revoke(end)
	}
	return nil
}
