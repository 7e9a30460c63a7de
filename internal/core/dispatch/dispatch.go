// Package dispatch decides which agent runs what, and when. It is a state
// machine without I/O: the caller feeds it what happened (a run submitted, an
// agent joined, a result) together with the time it happened, and carries out
// the decisions it returns. The same code serves a real fleet, a simulation and
// a test with virtual time.
//
// A Machine is not safe for concurrent use; its owner holds one lock around it.
package dispatch

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
)

// Config holds the machine's limits. The zero value of a field means its
// default.
type Config struct {
	LeaseTTL   time.Duration // how long a lease lives without being renewed; 15 s
	QueueLimit time.Duration // how long work waits while no agent that could do it is online; 5 min
	LabTries   int           // how often a test is tried again after the lab's fault; 2
	MaxSlice   int           // most tests in one lease; 12
}

func (c Config) withDefaults() Config {
	if c.LeaseTTL == 0 {
		c.LeaseTTL = 15 * time.Second
	}
	if c.QueueLimit == 0 {
		c.QueueLimit = 5 * time.Minute
	}
	if c.LabTries == 0 {
		c.LabTries = 2
	}
	if c.MaxSlice == 0 {
		c.MaxSlice = 12
	}
	return c
}

// Agent is a machine that can hold leases.
type Agent struct {
	Name  string
	Facts fleet.Facts
	Slots int
}

// Run is work to be dealt out. Tests of a pane are named by their index.
type Run struct {
	ID         string
	Panes      []Pane
	Retries    int           // attempts after a failure
	Limit      int           // most leases at once; 0 means no limit
	QueueLimit time.Duration // overrides Config.QueueLimit when positive
}

// Pane is one combination's part of a run.
type Pane struct {
	Needs fleet.Needs
	Tests []Test
}

// Test is one test of a pane. Past carries the verdicts of attempts made before
// the machine knew of the run, so that a run can be taken up from records.
type Test struct {
	Past    []verdict.Verdict
	Settled bool
}

// Decision is something the caller must carry out: a Lease, End, Closed, Lost,
// Settled or Over.
type Decision interface{ decision() }

// Lease gives an agent a slice. Fence grows with every lease ever granted; a
// result that carries the fence of an ended lease does not count.
type Lease struct {
	Fence   int64
	Agent   string
	Run     string
	Pane    int
	Tests   []int
	Attempt []int // number of the attempt, from 1, for each of Tests
	Expires time.Time
}

// End tells an agent to drop a lease at once.
type End struct {
	Fence int64
	Agent string
	Run   string
	Why   string
}

// Closed says that a lease has a result for each of its tests.
type Closed struct{ Fence int64 }

// Lost records a broken attempt that its agent will never report.
type Lost struct {
	Fence   int64
	Agent   string
	Run     string
	Pane    int
	Test    int
	Attempt int
	Why     string
}

// Settled gives a test its verdict.
type Settled struct {
	Run     string
	Pane    int
	Test    int
	Verdict verdict.Verdict
	Why     string // set when no attempt explains the verdict
}

// Over says that every test of a run is settled.
type Over struct{ Run string }

func (Lease) decision()   {}
func (End) decision()     {}
func (Closed) decision()  {}
func (Lost) decision()    {}
func (Settled) decision() {}
func (Over) decision()    {}

type agentState struct {
	Agent
	online bool
	leases map[int64]*leaseState
}

func (a *agentState) free() int { return a.Slots - len(a.leases) }

type leaseState struct {
	Lease
	left    []int // tests without a result
	started int   // test that runs now, -1 when none does
}

type testState struct {
	past     []verdict.Verdict
	retries  int
	labTries int
	avoid    map[string]bool // agents on which the lab failed it
	queued   bool
	settled  bool
}

type paneState struct {
	index     int
	needs     fleet.Needs
	tests     []*testState
	queue     []int
	active    int       // leases
	lackSince time.Time // since when no agent that matches is online; zero while one is
}

type runState struct {
	Run
	panes  []*paneState
	open   int // tests not settled
	active int // leases
}

// Machine is the scheduler's state.
//
// Invariants: a test is either queued once, in exactly one live lease, or
// settled; an agent never has more leases than slots; a run has at most Limit
// leases.
type Machine struct {
	cfg    Config
	agents map[string]*agentState
	runs   []*runState // in order of submission
	byID   map[string]*runState
	leases map[int64]*leaseState
	fence  int64
	out    []Decision
}

// New returns a machine whose first lease has the fence after lastFence.
func New(cfg Config, lastFence int64) *Machine {
	return &Machine{
		cfg: cfg.withDefaults(), fence: lastFence,
		agents: map[string]*agentState{}, byID: map[string]*runState{}, leases: map[int64]*leaseState{},
	}
}

// take returns the decisions gathered since the last call.
func (m *Machine) take() []Decision {
	out := m.out
	m.out = nil
	return out
}

// Know adds an agent that is not online, so that work only it could do waits
// for it instead of ending as unsupported.
func (m *Machine) Know(a Agent) {
	if _, ok := m.agents[a.Name]; !ok {
		m.agents[a.Name] = &agentState{Agent: a, leases: map[int64]*leaseState{}}
	}
}

// Join brings an agent online. held are the fences of leases it still works on;
// any other lease of that name is lost, since the program that held it is gone.
func (m *Machine) Join(now time.Time, a Agent, held []int64) []Decision {
	m.Know(a)
	st := m.agents[a.Name]
	st.Agent, st.online = a, true
	for _, fence := range slices.Sorted(maps.Keys(st.leases)) {
		if slices.Contains(held, fence) {
			st.leases[fence].Expires = now.Add(m.cfg.LeaseTTL)
		} else {
			m.lose(now, st.leases[fence], fmt.Sprintf("agent %s was started again while it held the test", a.Name))
		}
	}
	m.deal(now)
	return m.take()
}

// Leave marks an agent offline. Its leases live on until they expire, for the
// agent may only have lost its connection.
func (m *Machine) Leave(now time.Time, name string) []Decision {
	if st := m.agents[name]; st != nil {
		st.online = false
	}
	m.deal(now)
	return m.take()
}

// Forget removes an agent for good; its leases are lost.
func (m *Machine) Forget(now time.Time, name string) []Decision {
	if st := m.agents[name]; st != nil {
		st.online = false
		for _, fence := range slices.Sorted(maps.Keys(st.leases)) {
			m.lose(now, st.leases[fence], "agent "+name+" was removed")
		}
		delete(m.agents, name)
	}
	m.deal(now)
	return m.take()
}

// Submit adds a run. Panes that no known agent could ever serve end at once as
// unsupported; while no agent is known at all, they wait.
func (m *Machine) Submit(now time.Time, r Run) []Decision {
	m.add(r)
	st := m.byID[r.ID]
	if len(m.agents) > 0 {
		for _, p := range st.panes {
			if answer := fleet.Ask(p.needs, m.members()); !answer.Possible() {
				m.settleQueue(st, p, verdict.Unsupported, answer.Explain(p.needs))
			}
		}
	}
	m.deal(now)
	m.finish(st)
	return m.take()
}

// Restore adds a run taken up from records, with the leases that were live.
// They get a full TTL, in which their agents can come back.
func (m *Machine) Restore(now time.Time, r Run, leases []Lease) []Decision {
	m.add(r)
	st := m.byID[r.ID]
	for _, l := range leases {
		p := st.panes[l.Pane]
		ls := &leaseState{Lease: l, started: -1}
		ls.Expires = now.Add(m.cfg.LeaseTTL)
		for _, t := range l.Tests {
			if i := slices.Index(p.queue, t); i >= 0 {
				p.queue = slices.Delete(p.queue, i, i+1)
				p.tests[t].queued = false
				ls.left = append(ls.left, t)
			}
		}
		if len(ls.left) == 0 {
			continue
		}
		m.Know(Agent{Name: l.Agent})
		m.hold(st, p, ls)
		m.fence = max(m.fence, l.Fence)
	}
	m.finish(st)
	return m.take()
}

// Started notes which test of a lease runs now, so that only this one counts as
// tried when the agent is lost. It reports whether the lease is live.
func (m *Machine) Started(fence int64, test int) bool {
	ls := m.leases[fence]
	if ls == nil || !slices.Contains(ls.left, test) {
		return false
	}
	ls.started = test
	return true
}

// Renew prolongs the leases an agent works on and returns those that have ended
// and must be dropped.
func (m *Machine) Renew(now time.Time, agent string, fences []int64) (ended []int64) {
	for _, fence := range fences {
		if ls := m.leases[fence]; ls != nil && ls.Agent == agent {
			ls.Expires = now.Add(m.cfg.LeaseTTL)
		} else {
			ended = append(ended, fence)
		}
	}
	return ended
}

// Result takes the verdict of one attempt. It is accepted only while its lease
// lives and the test has no result in it yet.
func (m *Machine) Result(now time.Time, fence int64, test int, v verdict.Verdict) (accepted bool, _ []Decision) {
	ls := m.leases[fence]
	if ls == nil {
		return false, nil
	}
	i := slices.Index(ls.left, test)
	if i < 0 {
		return false, nil
	}
	ls.left = slices.Delete(ls.left, i, i+1)
	if ls.started == test {
		ls.started = -1
	}
	r := m.byID[ls.Run]
	m.attempt(r, r.panes[ls.Pane], test, v, ls.Agent)
	if len(ls.left) == 0 {
		m.release(ls)
		m.out = append(m.out, Closed{Fence: fence})
	}
	m.deal(now)
	m.finish(r)
	return true, m.take()
}

// Done gives a lease back. Tests without a result are queued again; the one
// that had started counts as broken.
func (m *Machine) Done(now time.Time, fence int64, why string) []Decision {
	if ls := m.leases[fence]; ls != nil {
		m.lose(now, ls, why)
		m.deal(now)
	}
	return m.take()
}

// Cancel ends a run: its leases end and every test without a verdict is
// skipped.
func (m *Machine) Cancel(now time.Time, id, why string) []Decision {
	r := m.byID[id]
	if r == nil {
		return nil
	}
	for _, fence := range slices.Sorted(maps.Keys(m.leases)) {
		ls := m.leases[fence]
		if ls.Run != id {
			continue
		}
		m.out = append(m.out, End{Fence: fence, Agent: ls.Agent, Run: id, Why: why})
		for _, t := range ls.left {
			m.enqueue(r.panes[ls.Pane], t)
		}
		m.release(ls)
	}
	for _, p := range r.panes {
		m.settleQueue(r, p, verdict.Skipped, why)
	}
	m.finish(r)
	m.deal(now)
	return m.take()
}

// Tick lets time pass: leases that were not renewed end, and work that waited
// too long for an agent is broken. Call it about once a second.
func (m *Machine) Tick(now time.Time) []Decision {
	for _, fence := range slices.Sorted(maps.Keys(m.leases)) {
		if ls := m.leases[fence]; now.After(ls.Expires) {
			m.lose(now, ls, fmt.Sprintf("agent %s stopped answering", ls.Agent))
		}
	}
	m.deal(now)
	for _, r := range slices.Clone(m.runs) {
		limit := m.cfg.QueueLimit
		if r.QueueLimit > 0 {
			limit = r.QueueLimit
		}
		for _, p := range r.panes {
			if len(p.queue) > 0 && !p.lackSince.IsZero() && now.Sub(p.lackSince) > limit {
				m.settleQueue(r, p, verdict.Broken, fmt.Sprintf("no agent with %s was online for %s", p.needs, limit))
			}
		}
		m.finish(r)
	}
	return m.take()
}

// Live reports whether the machine still has work for a run.
func (m *Machine) Live(run string) bool { return m.byID[run] != nil }

// Load is how many slots an agent uses and has.
func (m *Machine) Load(agent string) (used, slots int, online bool) {
	st := m.agents[agent]
	if st == nil {
		return 0, 0, false
	}
	return len(st.leases), st.Slots, st.online
}

// Depth is how many tests are queued and how many leases are live.
func (m *Machine) Depth() (queued, leased int) {
	for _, r := range m.runs {
		for _, p := range r.panes {
			queued += len(p.queue)
		}
	}
	return queued, len(m.leases)
}

// Ask says which agents match the needs now.
func (m *Machine) Ask(needs fleet.Needs) fleet.Answer { return fleet.Ask(needs, m.members()) }

func (m *Machine) members() []fleet.Member {
	names := slices.Sorted(maps.Keys(m.agents))
	out := make([]fleet.Member, len(names))
	for i, name := range names {
		a := m.agents[name]
		out[i] = fleet.Member{Name: name, Facts: a.Facts, Online: a.online, Busy: a.free() <= 0}
	}
	return out
}

func (m *Machine) add(r Run) {
	st := &runState{Run: r}
	for i, p := range r.Panes {
		ps := &paneState{index: i, needs: p.Needs}
		for j, t := range p.Tests {
			ts := &testState{past: slices.Clone(t.Past), settled: t.Settled, avoid: map[string]bool{}}
			for _, v := range t.Past {
				switch v {
				case verdict.Failed:
					ts.retries++
				case verdict.Broken:
					ts.labTries++
				}
			}
			ps.tests = append(ps.tests, ts)
			if !t.Settled {
				st.open++
				m.enqueue(ps, j)
			}
		}
		st.panes = append(st.panes, ps)
	}
	m.runs = append(m.runs, st)
	m.byID[r.ID] = st
}

func (m *Machine) enqueue(p *paneState, test int) {
	p.queue = append(p.queue, test)
	p.tests[test].queued = true
}

func (m *Machine) hold(r *runState, p *paneState, ls *leaseState) {
	m.leases[ls.Fence] = ls
	m.agents[ls.Agent].leases[ls.Fence] = ls
	p.active++
	r.active++
}

func (m *Machine) release(ls *leaseState) {
	delete(m.leases, ls.Fence)
	if a := m.agents[ls.Agent]; a != nil {
		delete(a.leases, ls.Fence)
	}
	r := m.byID[ls.Run]
	r.panes[ls.Pane].active--
	r.active--
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
	case v == verdict.Broken && t.labTries < m.cfg.LabTries:
		t.labTries++
		t.avoid[agent] = true
		m.enqueue(p, test)
	default:
		m.settle(r, p, test, verdict.OfAttempts(t.past), "")
	}
}

func (m *Machine) settle(r *runState, p *paneState, test int, v verdict.Verdict, why string) {
	p.tests[test].settled = true
	r.open--
	m.out = append(m.out, Settled{Run: r.ID, Pane: p.index, Test: test, Verdict: v, Why: why})
}

// settleQueue settles every queued test of a pane. A test that has attempts
// already keeps what they say, unless they say only that the lab was at fault.
func (m *Machine) settleQueue(r *runState, p *paneState, v verdict.Verdict, why string) {
	queue := p.queue
	p.queue = nil
	for _, test := range queue {
		t := p.tests[test]
		t.queued = false
		if known := verdict.OfAttempts(t.past); known != verdict.Pending && known != verdict.Broken {
			m.settle(r, p, test, known, why)
		} else {
			m.settle(r, p, test, v, why)
		}
	}
}

// lose ends a lease whose agent will report no more. The test that was running
// (or, when none was, the first of the slice, so that a slice that can never
// start does not go round for ever) is booked as broken. The run may be over
// afterwards.
func (m *Machine) lose(now time.Time, ls *leaseState, why string) {
	r := m.byID[ls.Run]
	p := r.panes[ls.Pane]
	m.release(ls)
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
		m.attempt(r, p, t, verdict.Broken, ls.Agent)
	}
	m.finish(r)
}

// finish closes a run whose tests are all settled.
func (m *Machine) finish(r *runState) {
	if r.open > 0 || m.byID[r.ID] == nil {
		return
	}
	for _, ls := range m.leases {
		if ls.Run == r.ID {
			return
		}
	}
	delete(m.byID, r.ID)
	m.runs = slices.DeleteFunc(m.runs, func(o *runState) bool { return o == r })
	m.out = append(m.out, Over{Run: r.ID})
}

// deal hands out queued tests while slots are free: runs in order of
// submission, within a run the pane with the fewest leases first.
func (m *Machine) deal(now time.Time) {
	names := slices.Sorted(maps.Keys(m.agents))
	for _, r := range m.runs {
		for _, p := range r.panes {
			m.noteLack(now, p)
		}
		for m.dealOne(now, r, names) {
		}
	}
}

// noteLack keeps lackSince true to its meaning.
func (m *Machine) noteLack(now time.Time, p *paneState) {
	for _, a := range m.agents {
		if a.online && fleet.Match(p.needs, a.Facts) == nil {
			p.lackSince = time.Time{}
			return
		}
	}
	if p.lackSince.IsZero() {
		p.lackSince = now
	}
}

func (m *Machine) dealOne(now time.Time, r *runState, names []string) bool {
	if r.Limit > 0 && r.active >= r.Limit {
		return false
	}
	panes := slices.Clone(r.panes)
	slices.SortStableFunc(panes, func(a, b *paneState) int { return a.active - b.active })
	for _, p := range panes {
		if len(p.queue) == 0 {
			continue
		}
		var able []*agentState
		slots := 0
		for _, name := range names {
			if a := m.agents[name]; a.online && fleet.Match(p.needs, a.Facts) == nil {
				able = append(able, a)
				slots += a.Slots
			}
		}
		slices.SortStableFunc(able, func(a, b *agentState) int { return b.free() - a.free() })
		for _, a := range able {
			if a.free() <= 0 {
				break
			}
			if tests := p.pick(a.Name, able, m.sliceSize(len(p.queue), slots)); len(tests) > 0 {
				m.grant(now, r, p, a, tests)
				return true
			}
		}
	}
	return false
}

// sliceSize shrinks as the queue empties, so that the last slots finish
// together: half of an even share, at least one.
func (m *Machine) sliceSize(queued, slots int) int {
	return min(m.cfg.MaxSlice, max(1, queued/(2*max(1, slots))))
}

// pick takes up to n queued tests for an agent, leaving those the lab failed
// there while an agent that has not failed them could take them.
func (p *paneState) pick(agent string, able []*agentState, n int) []int {
	var tests, rest []int
	for _, t := range p.queue {
		avoid := p.tests[t].avoid
		fresh := func(a *agentState) bool { return !avoid[a.Name] }
		if len(tests) == n || (avoid[agent] && slices.ContainsFunc(able, fresh)) {
			rest = append(rest, t)
			continue
		}
		tests = append(tests, t)
		p.tests[t].queued = false
	}
	p.queue = rest
	return tests
}

func (m *Machine) grant(now time.Time, r *runState, p *paneState, a *agentState, tests []int) {
	m.fence++
	l := Lease{Fence: m.fence, Agent: a.Name, Run: r.ID, Pane: p.index, Tests: tests, Expires: now.Add(m.cfg.LeaseTTL)}
	for _, t := range tests {
		l.Attempt = append(l.Attempt, len(p.tests[t].past)+1)
	}
	m.hold(r, p, &leaseState{Lease: l, left: slices.Clone(tests), started: -1})
	m.out = append(m.out, l)
}
