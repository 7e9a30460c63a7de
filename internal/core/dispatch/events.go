package dispatch

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
)

// Know adds an agent that is not online, so that work only it could do waits
// for it instead of ending as unsupported.
func (m *Machine) Know(now time.Time, a Agent) {
	if _, ok := m.agents[a.Name]; !ok {
		st := &agentState{Agent: a, leases: map[int64]*leaseState{}}
		m.agents[a.Name] = st
		m.refit(now, st)
	}
}

// Join brings an agent online. held are the fences of leases it still works on.
// Any other lease of that name is lost, since the program that held it is gone;
// where it is the same program still, an order of which nothing has begun never
// reached it, and its tests are queued again as if it had not been given.
func (m *Machine) Join(now time.Time, a Agent, held []int64) []Decision {
	m.Know(now, a)
	st := m.agents[a.Name]
	same := a.Program != "" && a.Program == st.Program
	st.Agent, st.online = a, true
	m.refit(now, st)
	m.count(now, st)
	for _, ls := range st.leases {
		if slices.Contains(held, ls.Fence) {
			ls.Expires = now.Add(m.cfg.LeaseTTL)
		}
	}
	for _, ls := range m.leasesOf(func(ls *leaseState) bool { return same && ls.Agent == a.Name && !slices.Contains(held, ls.Fence) }) {
		m.takeBack(now, ls, fmt.Sprintf("the order never reached agent %s", a.Name))
	}
	m.loseAll(now, a.Name, fmt.Sprintf("agent %s was started again while it held the test", a.Name),
		func(ls *leaseState) bool { return !slices.Contains(held, ls.Fence) })
	m.deal(now)
	return m.take()
}

// Refit takes what an agent has now, which decides what work it gets from here on. What
// it works on stays with it.
func (m *Machine) Refit(now time.Time, a Agent) []Decision {
	if st := m.agents[a.Name]; st != nil {
		st.Facts = a.Facts
		m.refit(now, st)
		m.count(now, st)
	}
	m.deal(now)
	return m.take()
}

// Leave marks an agent offline. Its leases live on until they expire, for the
// agent may only have lost its connection.
func (m *Machine) Leave(now time.Time, name string) []Decision {
	if st := m.agents[name]; st != nil {
		st.online = false
		m.count(now, st)
	}
	m.deal(now)
	return m.take()
}

// Drain has an agent take nothing new, or again take work.
func (m *Machine) Drain(now time.Time, name string, draining bool) []Decision {
	if st := m.agents[name]; st != nil {
		st.Draining = draining
		m.count(now, st)
	}
	m.deal(now)
	return m.take()
}

// Wake ends an agent's rest and forgets its faults.
func (m *Machine) Wake(now time.Time, name string) []Decision {
	if st := m.agents[name]; st != nil {
		st.faults, st.rest, st.restUntil = 0, 0, time.Time{}
		m.count(now, st)
	}
	m.deal(now)
	return m.take()
}

// Forget removes an agent for good; its leases are lost.
func (m *Machine) Forget(now time.Time, name string) []Decision {
	if st := m.agents[name]; st != nil {
		st.online = false
		m.count(now, st)
		m.loseAll(now, name, "agent "+name+" was removed", func(*leaseState) bool { return true })
		delete(m.agents, name)
		m.refit(now, st)
	}
	m.deal(now)
	return m.take()
}

// SetQuotas replaces all quotas. Leases that are more than a new one allows run
// to their end.
func (m *Machine) SetQuotas(now time.Time, quotas []Quota) []Decision {
	m.quotas = nil
	for _, q := range quotas {
		m.quotas = append(m.quotas, &quotaState{Quota: q})
	}
	for _, p := range m.projects {
		m.weigh(p)
	}
	for _, r := range m.byID {
		for _, p := range r.panes {
			m.subject(p)
			for _, q := range p.quotas {
				q.active += p.active
			}
		}
	}
	m.deal(now)
	return m.take()
}

// Submit adds a run. Panes that no known agent could ever serve end at once as
// unsupported; while no agent is known at all, they wait.
func (m *Machine) Submit(now time.Time, r Run) []Decision {
	st := m.add(now, r)
	if len(m.agents) > 0 {
		for _, p := range st.panes {
			if len(p.class.agents) == 0 {
				m.settleQueue(st, p, verdict.Unsupported, m.Ask(p.class.needs).Explain(p.class.needs))
			}
		}
	}
	m.deal(now)
	m.finish(st)
	return m.take()
}

// Extend adds tests to a pane of a run that goes on, by their places, of which none
// has a test yet that is to run. It reports whether the run still goes on. Its cost is
// that of as many submitted tests.
func (m *Machine) Extend(now time.Time, run string, pane int, tests map[int]Test) (accepted bool, _ []Decision) {
	st := m.byID[run]
	if st == nil {
		return false, nil
	}
	p := st.panes[pane]
	for _, at := range slices.Sorted(maps.Keys(tests)) {
		for len(p.tests) <= at {
			p.tests = append(p.tests, newTest(Test{Settled: true})) // places of tests that it has not
		}
		t := tests[at]
		t.Settled = false
		p.tests[at] = newTest(t)
		st.open++
		m.enqueue(p, at)
	}
	if len(m.agents) > 0 && len(p.class.agents) == 0 {
		m.settleQueue(st, p, verdict.Unsupported, m.Ask(p.class.needs).Explain(p.class.needs))
	}
	m.deal(now)
	m.finish(st)
	return true, m.take()
}

// Adopt adds to a lease tests that its holder came upon while it worked: new ones of its
// pane, by their places, and those of the pane that are queued and need no lock. It gives the number of
// the attempt of each; nil when the lease has ended. What the pane has settled, or has in
// another lease, stays as it is.
func (m *Machine) Adopt(fence int64, tests map[int]Test) (attempts map[int]int) {
	ls := m.leases[fence]
	if ls == nil {
		return nil
	}
	st := m.byID[ls.Run]
	p := st.panes[ls.Pane]
	attempts = map[int]int{}
	for _, at := range slices.Sorted(maps.Keys(tests)) {
		for len(p.tests) <= at {
			p.tests = append(p.tests, newTest(Test{Settled: true})) // places of tests that it has not
		}
		t := p.tests[at]
		switch {
		case t.queued && len(t.locks) == 0:
			i := slices.Index(p.queue, at)
			p.queue = slices.Delete(p.queue, i, i+1)
			m.tally(p, t, false)
		case t.settled && len(t.past) == 0 && !tests[at].Settled:
			t = newTest(tests[at])
			p.tests[at] = t
			st.open++
		default:
			continue
		}
		t.begun = true
		attempts[at] = len(t.past) + 1
		ls.left = append(ls.left, at)
		ls.Tests, ls.Attempt = append(ls.Tests, at), append(ls.Attempt, attempts[at])
	}
	return attempts
}

// Restore adds a run taken up from records, with the leases that were live as
// they were granted. They get a full TTL, in which their agents can come back. A
// test whose attempt is among the past ones has reported: it is no longer in the
// lease, and may be queued again or in a newer one. A lease of which nothing is
// left is closed.
func (m *Machine) Restore(now time.Time, r Run, leases []Lease) []Decision {
	st := m.add(now, r)
	for _, l := range leases {
		p := st.panes[l.Pane]
		ls := &leaseState{Lease: l, started: -1, startedAt: now}
		ls.Expires = now.Add(m.cfg.LeaseTTL)
		for k, t := range l.Tests {
			if len(p.tests[t].past) >= l.Attempt[k] {
				continue
			}
			if i := slices.Index(p.queue, t); i >= 0 {
				p.queue = slices.Delete(p.queue, i, i+1)
				m.tally(p, p.tests[t], false)
				ls.left = append(ls.left, t)
			}
		}
		m.fence = max(m.fence, m.cfg.count(l.Fence))
		if len(ls.left) == 0 {
			m.out = append(m.out, Closed{Fence: l.Fence})
			continue
		}
		m.Know(now, Agent{Name: l.Agent})
		m.hold(now, st, p, ls)
	}
	m.finish(st)
	return m.take()
}

// Started notes which test of a lease runs now, so that only this one counts as
// tried when the agent is lost. It reports whether the lease is live.
func (m *Machine) Started(now time.Time, fence int64, test int) bool {
	ls := m.leases[fence]
	if ls == nil || !slices.Contains(ls.left, test) {
		return false
	}
	ls.started, ls.startedAt = test, now
	m.byID[ls.Run].panes[ls.Pane].tests[test].begun = true
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

// Outcome is what an attempt came to.
type Outcome struct {
	Verdict verdict.Verdict
	Why     string
	Site    bool    // at fault is the site under test, not the agent
	Lacks   bool    // what this work needs is not there; the agent is well
	Seconds float64 // how long the attempt took; 0 when that says nothing
}

// Result takes the outcome of one attempt. It is accepted only while its lease
// lives and the test has no result in it yet.
func (m *Machine) Result(now time.Time, fence int64, test int, o Outcome) (accepted bool, _ []Decision) {
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
	if o.Seconds > 0 && o.Verdict != verdict.LabFault {
		m.learn(r, test, o.Seconds)
	}
	if len(ls.left) == 0 {
		m.release(now, ls)
		m.out = append(m.out, Closed{Fence: fence})
	}
	m.attempt(r, r.panes[ls.Pane], test, o.Verdict, ls.Agent)
	switch a := m.agents[ls.Agent]; {
	case o.Verdict == verdict.LabFault && !o.Site && !o.Lacks:
		m.fault(now, ls.Agent, o.Why)
	case a != nil && o.Verdict != verdict.LabFault:
		a.faults, a.rest = 0, 0
	}
	if r.lost(ls.Agent, o) && r.open > 0 {
		m.stop(now, r, verdict.LabFault, notReached+": agent "+ls.Agent+": "+o.Why)
	}
	if r.StopAfter > 0 && r.failed >= r.StopAfter && r.open > 0 {
		m.stop(now, r, verdict.Skipped, fmt.Sprintf("stopped after %d failed", r.failed))
	}
	m.deal(now)
	m.finish(r)
	return true, m.take()
}

// Done gives a lease back. Tests without a result are queued again; the one
// that had started counts as a lab fault.
func (m *Machine) Done(now time.Time, fence int64, why string) []Decision {
	if ls := m.leases[fence]; ls != nil {
		m.loseAll(now, ls.Agent, why, func(o *leaseState) bool { return o == ls })
		m.deal(now)
	}
	return m.take()
}

// Cancel ends a run: its leases end and every test without a verdict is
// skipped.
func (m *Machine) Cancel(now time.Time, id, why string) []Decision {
	if r := m.byID[id]; r != nil {
		m.stop(now, r, verdict.Skipped, why)
		m.deal(now)
	}
	return m.take()
}

// Tick lets time pass: leases that were not renewed end, rested agents take
// work again, work that waited too long for an agent is a lab fault, and runs that
// are over their time are stopped. Call it about once a second.
func (m *Machine) Tick(now time.Time) []Decision {
	expired := func(ls *leaseState) bool { return now.After(ls.Expires) }
	for _, ls := range m.leasesOf(expired) { // those of the first one's agent go with it
		m.loseAll(now, ls.Agent, fmt.Sprintf("agent %s stopped answering", ls.Agent), expired)
	}
	for _, a := range m.agents {
		if !a.restUntil.IsZero() && !now.Before(a.restUntil) {
			a.restUntil = time.Time{}
			a.faults = m.cfg.RestAfter - 1 // on trial
			m.count(now, a)
		}
	}
	m.deal(now)
	for _, r := range m.runs() {
		if r.TimeLimit > 0 && !r.StartedAt.IsZero() && now.Sub(r.StartedAt) > r.TimeLimit {
			m.stop(now, r, verdict.Skipped, fmt.Sprintf("the run's limit of %s is over", r.TimeLimit))
			continue
		}
		limit := m.cfg.QueueLimit
		if r.QueueLimit > 0 {
			limit = r.QueueLimit
		}
		for _, p := range r.panes {
			if len(p.queue) > 0 && !p.class.lackSince.IsZero() && now.Sub(later(p.class.lackSince, p.since)) > limit {
				m.settleQueue(r, p, verdict.LabFault, m.lacked(p.class.needs, limit))
			}
		}
		m.finish(r)
	}
	m.deal(now)
	return m.take()
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// lacked says which agents work waited for.
func (m *Machine) lacked(needs fleet.Needs, limit time.Duration) string {
	why := fmt.Sprintf("no agent with %s took work for %s", needs.Plain(), limit)
	for i, name := range m.Ask(needs).away() {
		sep := ", "
		if i == 0 {
			sep = ": "
		}
		why += sep + name
	}
	return why
}
