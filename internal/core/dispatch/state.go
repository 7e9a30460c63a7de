package dispatch

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
)

type agentState struct {
	Agent
	online  bool
	leases  map[int64]*leaseState
	classes []*class
	open    int // slots that count as free in the totals
	counted int // slots that count in the totals

	faults    int // of the lab, in a row
	lastFault string
	rest      time.Duration // length of the last rest
	restUntil time.Time
	rarity    float64 // see Machine.rate
	kind      *kind   // nil while it takes no work
}

// takes says whether the agent may be given leases.
func (a *agentState) takes() bool { return a.online && !a.Draining && a.restUntil.IsZero() }

// away says why it may not.
func (a *agentState) away() string {
	switch {
	case !a.online:
		return "offline"
	case a.Draining:
		return "draining"
	case !a.restUntil.IsZero():
		return "resting: " + a.lastFault
	}
	return ""
}

// class is the work that has the same needs, and the agents that match them.
type class struct {
	key       string
	needs     fleet.Needs
	agents    []*agentState
	panes     int
	free      int       // slots of its agents that are free
	slots     int       // slots of its agents that take work
	queued    int       // tests
	work      float64   // seconds of the queued tests
	load      float64   // seconds until its work is done at its fair part of the slots
	lackSince time.Time // since when no agent of it takes work; zero while one does
}

type projectState struct {
	name   string
	weight float64
	active int
	used   float64 // slot seconds since it last had nothing to do, and what it started with then
	since  time.Time
	runs   []*runState // highest priority first, then in order of submission
}

type quotaState struct {
	Quota
	active int
}

func (q *quotaState) full() bool { return q.Slots > 0 && q.active >= q.Slots }

// covers says whether a quota counts a pane of a run.
func (q *quotaState) covers(r *runState, p *paneState) bool {
	switch q.Kind {
	case OfProject:
		return r.Project == q.Name
	case OfOwner:
		return r.Owner == q.Name
	}
	for axis, value := range q.Values {
		if p.values[axis] != value {
			return false
		}
	}
	return true
}

type leaseState struct {
	Lease
	left      []int // tests without a result
	started   int   // test that runs now, -1 when none does
	startedAt time.Time
}

type testState struct {
	seconds  float64
	locks    []string
	past     []verdict.Verdict
	aside    bool
	retries  int
	labTries int
	avoid    map[string]bool // agents on which the lab failed it
	begun    bool            // it has started once
	astray   int             // orders of it that never reached their agent
	queued   bool
	settled  bool
}

type paneState struct {
	run    *runState
	index  int
	class  *class
	values map[string]string
	quotas []*quotaState
	tests  []*testState
	queue  []int  // by rank, highest first
	active int    // leases
	pin    string // agent that a pane of one lane keeps to
	since  time.Time
}

type runState struct {
	Run
	serial  int
	project *projectState
	panes   []*paneState
	open    int // tests not settled
	queued  int
	active  int // leases
	failed  int
	reached bool            // an attempt has come to something, so the site is there
	away    map[string]bool // agents from which the site was not reached
	tried   int             // attempts in which it was not
}

// unreached are the attempts in which a site must not have been reached before a run gives
// up.
const unreached = 3

// notReached is how a run begins to say that it gave up for that.
const notReached = "stopped, for no agent reaches the site"

// NotReached reports whether a run gave up because no agent reached its site, by what it
// says of why, and names the last agent that tried.
func NotReached(why string) (agent string, gaveUp bool) {
	rest, gaveUp := strings.CutPrefix(why, notReached+": agent ")
	agent, _, _ = strings.Cut(rest, ": ")
	return agent, gaveUp
}

// lost notes whether an attempt reached the site, and says whether the run may give up:
// nothing has ever reached it, from any agent that could take the run's work.
func (r *runState) lost(agent string, o Outcome) bool {
	if o.Lacks {
		return false // which says nothing of the site
	}
	if o.Verdict != verdict.LabFault || !o.Site {
		r.reached = r.reached || o.Verdict != verdict.LabFault
		return false
	}
	if r.away == nil {
		r.away = map[string]bool{}
	}
	r.away[agent] = true
	r.tried++
	if r.reached || r.tried < unreached {
		return false
	}
	for _, p := range r.panes {
		for _, a := range p.class.agents {
			if a.online && !r.away[a.Name] {
				return false
			}
		}
	}
	return true
}

func (m *Machine) project(name string) *projectState {
	p := m.projects[name]
	if p == nil {
		p = &projectState{name: name, weight: 1}
		m.projects[name] = p
		m.weigh(p)
	}
	return p
}

func (m *Machine) weigh(p *projectState) {
	p.weight = 1
	for _, q := range m.quotas {
		if q.Kind == OfProject && q.Name == p.name && q.Weight > 0 {
			p.weight = q.Weight
		}
	}
}

// classOf finds or makes the class of some needs.
func (m *Machine) classOf(now time.Time, needs fleet.Needs) *class {
	key := needs.String()
	c := m.classes[key]
	if c != nil {
		return c
	}
	c = &class{key: key, needs: needs}
	m.classes[key] = c
	for _, a := range m.agents {
		if fleet.Match(needs, a.Facts) == nil {
			c.enrol(a)
		}
	}
	slices.SortFunc(c.agents, byName)
	if c.slots == 0 {
		c.lackSince = now
	}
	m.pressure.stale = true
	return c
}

func byName(a, b *agentState) int { return cmp.Compare(a.Name, b.Name) }

func (c *class) enrol(a *agentState) {
	c.agents = append(c.agents, a)
	a.classes = append(a.classes, c)
	c.free += a.open
	c.slots += a.counted
}

// refit matches an agent against every class anew.
func (m *Machine) refit(now time.Time, a *agentState) {
	for _, c := range a.classes {
		c.agents = slices.DeleteFunc(c.agents, func(o *agentState) bool { return o == a })
		c.free -= a.open
		c.slots -= a.counted
		c.noteLack(now)
	}
	a.classes = nil
	for _, c := range m.classes {
		if m.agents[a.Name] == a && fleet.Match(c.needs, a.Facts) == nil {
			c.enrol(a)
			slices.SortFunc(c.agents, byName)
			c.noteLack(now)
		}
	}
	m.pressure.stale = true
}

// count brings the totals in line with what an agent has to give.
func (m *Machine) count(now time.Time, a *agentState) {
	open, counted := 0, 0
	if a.takes() && m.agents[a.Name] == a {
		open, counted = max(0, a.Slots-len(a.leases)), a.Slots
	}
	dOpen, dCounted := open-a.open, counted-a.counted
	a.open, a.counted = open, counted
	m.free += dOpen
	m.slots += dCounted
	for _, c := range a.classes {
		c.free += dOpen
		c.slots += dCounted
		if dCounted != 0 {
			c.noteLack(now)
		}
	}
	if dCounted != 0 {
		m.pressure.stale = true
	}
}

func (c *class) noteLack(now time.Time) {
	switch {
	case c.slots > 0:
		c.lackSince = time.Time{}
	case c.lackSince.IsZero():
		c.lackSince = now
	}
}

func (m *Machine) add(now time.Time, r Run) *runState {
	m.serial++
	st := &runState{Run: r, serial: m.serial, project: m.project(r.Project)}
	m.byID[r.ID] = st
	for i, p := range r.Panes {
		ps := &paneState{run: st, index: i, class: m.classOf(now, p.Needs), values: p.Values, since: now}
		ps.class.panes++
		for j, t := range p.Tests {
			ts := newTest(t)
			ps.tests = append(ps.tests, ts)
			switch {
			case !t.Settled:
				st.open++
				ps.queue = append(ps.queue, j)
				m.tally(ps, ts, true)
			case verdict.OfAttempts(ts.past) == verdict.Failed && !ts.aside:
				st.failed++
			}
		}
		if n := len(ps.queue); n > 0 { // panes begin with different tests, so that unknown durations are soon learnt
			k := i * n / len(r.Panes)
			ps.queue = slices.Concat(ps.queue[k:], ps.queue[:k])
		}
		slices.SortStableFunc(ps.queue, ps.longerFirst)
		m.subject(ps)
		st.panes = append(st.panes, ps)
	}
	if len(st.project.runs) == 0 {
		m.admit(now, st.project)
	}
	st.project.runs = append(st.project.runs, st)
	slices.SortFunc(st.project.runs, func(a, b *runState) int {
		return cmp.Or(cmp.Compare(b.Priority, a.Priority), cmp.Compare(a.serial, b.serial))
	})
	return st
}

// newTest is a test with the attempts that it has had.
func newTest(t Test) *testState {
	ts := &testState{seconds: t.Seconds, locks: t.Locks, past: slices.Clone(t.Past), settled: t.Settled, aside: t.Aside}
	for _, v := range t.Past {
		switch v {
		case verdict.Failed:
			ts.retries++
		case verdict.LabFault:
			ts.labTries++
		}
	}
	return ts
}

// admit has a project that had nothing to do start level with the one that has
// had least: what it did not use meanwhile is gone.
func (m *Machine) admit(now time.Time, p *projectState) {
	p.spend(now)
	least, any := 0.0, false
	for _, o := range m.projects {
		if len(o.runs) == 0 {
			continue
		}
		o.spend(now)
		if level := o.used / o.weight; !any || level < least {
			least, any = level, true
		}
	}
	p.used = least * p.weight
}

// subject finds the quotas that count a pane.
func (m *Machine) subject(p *paneState) {
	p.quotas = nil
	for _, q := range m.quotas {
		if q.covers(p.run, p) {
			p.quotas = append(p.quotas, q)
		}
	}
}

func (p *paneState) longerFirst(a, b int) int {
	return cmp.Compare(p.tests[b].rank(), p.tests[a].rank())
}

// unknown ranks a test of unknown length before all others, since it may be
// long.
const unknown = 1e9

func (t *testState) rank() float64 {
	if t.seconds > 0 {
		return t.seconds
	}
	return unknown
}

// learn takes how long a test took in one pane as the estimate for the panes
// that know none.
func (m *Machine) learn(r *runState, test int, seconds float64) {
	for _, p := range r.panes {
		if test >= len(p.tests) || p.tests[test].seconds > 0 {
			continue
		}
		t := p.tests[test]
		if !t.queued {
			t.seconds = seconds
			continue
		}
		m.tally(p, t, false)
		i := slices.Index(p.queue, test)
		p.queue = slices.Delete(p.queue, i, i+1)
		t.seconds = seconds
		m.enqueue(p, test)
	}
}

// weight is what a test counts for where work is measured. Tests of unknown
// length count alike.
func (t *testState) weight() float64 {
	if t.seconds > 0 {
		return t.seconds
	}
	return 1
}

// tally books a test in or out of the queues' totals.
func (m *Machine) tally(p *paneState, t *testState, in bool) {
	n, w := 1, t.weight()
	if !in {
		n, w = -1, -w
	}
	t.queued = in
	p.run.queued += n
	p.class.queued += n
	p.class.work += w
	m.queued += n
	m.work += w
	if p.class.queued == 0 {
		p.class.work = 0 // no rounding error is left behind
	}
	if m.queued == 0 {
		m.work = 0
	}
}

func (m *Machine) enqueue(p *paneState, test int) {
	at, _ := slices.BinarySearchFunc(p.queue, test, func(o, t int) int {
		return cmp.Or(p.longerFirst(o, t), -1) // after those of the same length
	})
	p.queue = slices.Insert(p.queue, at, test)
	m.tally(p, p.tests[test], true)
}

func (m *Machine) hold(now time.Time, r *runState, p *paneState, ls *leaseState) {
	m.leases[ls.Fence] = ls
	a := m.agents[ls.Agent]
	a.leases[ls.Fence] = ls
	p.active++
	r.active++
	r.project.spend(now)
	r.project.active++
	for _, q := range p.quotas {
		q.active++
	}
	for _, t := range ls.left {
		for _, lock := range p.tests[t].locks {
			m.locks[lock] = ls.Fence
		}
	}
	if r.Lanes == 1 {
		p.pin = a.Name
	}
	if r.StartedAt.IsZero() {
		r.StartedAt = now
	}
	m.count(now, a)
}

func (m *Machine) release(now time.Time, ls *leaseState) {
	delete(m.leases, ls.Fence)
	r := m.byID[ls.Run]
	p := r.panes[ls.Pane]
	p.active--
	r.active--
	r.project.spend(now)
	r.project.active--
	for _, q := range p.quotas {
		q.active--
	}
	for _, t := range ls.Tests {
		for _, lock := range p.tests[t].locks {
			if m.locks[lock] == ls.Fence {
				delete(m.locks, lock)
			}
		}
	}
	if a := m.agents[ls.Agent]; a != nil {
		delete(a.leases, ls.Fence)
		m.count(now, a)
	}
}

// spend books the slot seconds since the last change.
func (p *projectState) spend(now time.Time) {
	if d := now.Sub(p.since); d > 0 && !p.since.IsZero() {
		p.used += d.Seconds() * float64(p.active)
	}
	p.since = now
}

// attempt books the verdict of an attempt and either settles the test or queues
// it again.
func (m *Machine) attempt(r *runState, p *paneState, test int, v verdict.Verdict, agent string) {
	t := p.tests[test]
	t.past = append(t.past, v)
	switch {
	case v == verdict.Failed && t.retries < r.Retries:
		t.retries++
		m.enqueue(p, test)
	case v == verdict.LabFault && t.labTries < m.cfg.LabTries && !(r.Once && t.begun):
		t.labTries++
		if t.avoid == nil {
			t.avoid = map[string]bool{}
		}
		t.avoid[agent] = true
		m.enqueue(p, test)
	default:
		m.settle(r, p, test, verdict.OfAttempts(t.past), "")
	}
}

func (m *Machine) settle(r *runState, p *paneState, test int, v verdict.Verdict, why string) {
	p.tests[test].settled = true
	r.open--
	if v == verdict.Failed && !p.tests[test].aside {
		r.failed++
	}
	m.out = append(m.out, Settled{Run: r.ID, Pane: p.index, Test: test, Verdict: v, Why: why})
}

// settleQueue settles every queued test of a pane. A test that has attempts
// already keeps what they say, unless they say only that the lab was at fault.
func (m *Machine) settleQueue(r *runState, p *paneState, v verdict.Verdict, why string) {
	queue := p.queue
	p.queue = nil
	slices.Sort(queue)
	for _, test := range queue {
		t := p.tests[test]
		m.tally(p, t, false)
		if known := verdict.OfAttempts(t.past); known != verdict.Pending && known != verdict.LabFault {
			m.settle(r, p, test, known, why)
		} else {
			m.settle(r, p, test, v, why)
		}
	}
}

// loseAll ends several leases of one agent for one fault.
func (m *Machine) loseAll(now time.Time, agent, why string, which func(*leaseState) bool) {
	lost := m.leasesOf(func(ls *leaseState) bool { return ls.Agent == agent && which(ls) })
	if len(lost) > 0 {
		m.fault(now, agent, why)
	}
	for _, ls := range lost {
		m.lose(now, ls, why)
	}
}

// lose ends a lease whose agent will report no more. The test that was running
// (or, when none was, the first of the slice, so that a slice that can never
// start does not go round for ever) is booked as a lab fault. The run may be over
// afterwards.
func (m *Machine) lose(now time.Time, ls *leaseState, why string) {
	r := m.byID[ls.Run]
	p := r.panes[ls.Pane]
	m.release(now, ls)
	m.out = append(m.out, End{Fence: ls.Fence, Agent: ls.Agent, Run: ls.Run, Why: why})
	tried := ls.started
	if tried < 0 && len(ls.left) > 0 {
		tried = ls.left[0]
	}
	for _, t := range ls.left {
		if t != tried {
			m.enqueue(p, t)
			continue
		}
		m.out = append(m.out, Lost{Fence: ls.Fence, Agent: ls.Agent, Run: ls.Run, Pane: ls.Pane, Test: t,
			Attempt: len(p.tests[t].past) + 1, Why: why})
		m.attempt(r, p, t, verdict.LabFault, ls.Agent)
	}
	m.finish(r)
}

// takeBack ends a lease whose order got lost before its agent began, unless that
// has happened too often to its first test.
func (m *Machine) takeBack(now time.Time, ls *leaseState, why string) {
	p := m.byID[ls.Run].panes[ls.Pane]
	first := p.tests[ls.left[0]]
	if ls.started >= 0 || len(ls.left) < len(ls.Tests) || first.astray >= m.cfg.LabTries {
		return
	}
	first.astray++
	m.release(now, ls)
	m.out = append(m.out, End{Fence: ls.Fence, Agent: ls.Agent, Run: ls.Run, Why: why})
	for _, t := range ls.left {
		m.enqueue(p, t)
	}
}

// fault books a fault of the lab on an agent, which rests after several in a
// row. After its rest one more sends it to a longer one.
func (m *Machine) fault(now time.Time, agent, why string) {
	a := m.agents[agent]
	if a == nil || !a.restUntil.IsZero() {
		return
	}
	if a.faults++; a.faults < m.cfg.RestAfter {
		return
	}
	a.rest = min(max(2*a.rest, m.cfg.Rest), m.cfg.MaxRest)
	a.restUntil = now.Add(a.rest)
	a.lastFault = fmt.Sprintf("%d lab faults in a row, the last: %s", a.faults, why)
	m.count(now, a)
	m.out = append(m.out, Rests{Agent: agent, Until: a.restUntil, Why: a.lastFault})
}

// stop ends what is left of a run.
func (m *Machine) stop(now time.Time, r *runState, v verdict.Verdict, why string) {
	for _, ls := range m.leasesOf(func(ls *leaseState) bool { return ls.Run == r.ID }) {
		m.out = append(m.out, End{Fence: ls.Fence, Agent: ls.Agent, Run: r.ID, Why: why})
		for _, t := range ls.left {
			m.enqueue(r.panes[ls.Pane], t)
		}
		m.release(now, ls)
	}
	for _, p := range r.panes {
		m.settleQueue(r, p, v, why)
	}
	m.finish(r)
}

// leasesOf lists the live leases that which chooses, in order of their fences.
func (m *Machine) leasesOf(which func(*leaseState) bool) (out []*leaseState) {
	for _, ls := range m.leases {
		if which(ls) {
			out = append(out, ls)
		}
	}
	slices.SortFunc(out, func(a, b *leaseState) int { return cmp.Compare(a.Fence, b.Fence) })
	return out
}

// finish closes a run whose tests are all settled.
func (m *Machine) finish(r *runState) {
	if r.open > 0 || r.active > 0 || m.byID[r.ID] == nil {
		return
	}
	delete(m.byID, r.ID)
	r.project.runs = slices.DeleteFunc(r.project.runs, func(o *runState) bool { return o == r })
	for _, p := range r.panes {
		if p.class.panes--; p.class.panes == 0 {
			for _, a := range p.class.agents {
				a.classes = slices.DeleteFunc(a.classes, func(c *class) bool { return c == p.class })
			}
			delete(m.classes, p.class.key)
			m.pressure.stale = true
		}
	}
	m.out = append(m.out, Over{Run: r.ID})
}
