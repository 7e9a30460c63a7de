package dispatch

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"parallelpane/internal/core/fleet"
)

// Live reports whether the machine still has work for a run.
func (m *Machine) Live(run string) bool { return m.byID[run] != nil }

// Ahead is how many queued tests that ask for the same were submitted before
// those of a run. Shares and priorities may still bring it forward.
func (m *Machine) Ahead(run string) int {
	r := m.byID[run]
	if r == nil {
		return 0
	}
	n := 0
	for _, o := range m.byID {
		for _, p := range o.panes {
			if o.serial < r.serial && p.class == r.panes[0].class {
				n += len(p.queue)
			}
		}
	}
	return n
}

// Load is what an agent does and can.
type Load struct {
	Used, Slots int
	Away        string    // why it takes no work; "" when it does
	RestUntil   time.Time // zero unless it rests
}

// Load is how many slots an agent uses and has.
func (m *Machine) Load(agent string) Load {
	st := m.agents[agent]
	if st == nil {
		return Load{Away: "unknown"}
	}
	return Load{len(st.leases), st.Slots, st.away(), st.restUntil}
}

// Depth is how many tests are queued and how many leases are live.
func (m *Machine) Depth() (queued, leased int) { return m.queued, len(m.leases) }

// Ask says which agents match the needs now.
func (m *Machine) Ask(needs fleet.Needs) Answer { return Answer{fleet.Ask(needs, m.Members())} }

// Answer is fleet's answer about the machine's agents.
type Answer struct{ fleet.Answer }

// away lists the agents that are away with their reasons, by name.
func (a Answer) away() []string {
	names := slices.Sorted(maps.Keys(a.Away))
	for i, name := range names {
		names[i] = name + " is " + a.Away[name]
	}
	return names
}

// Members lists the agents as matching sees them, by name.
func (m *Machine) Members() []fleet.Member {
	names := slices.Sorted(maps.Keys(m.agents))
	out := make([]fleet.Member, len(names))
	for i, name := range names {
		a := m.agents[name]
		out[i] = fleet.Member{Name: name, Facts: a.Facts, Away: a.away(), Busy: len(a.leases) >= a.Slots}
	}
	return out
}

// runs lists the runs in order of submission.
func (m *Machine) runs() []*runState {
	out := slices.Collect(maps.Values(m.byID))
	slices.SortFunc(out, func(a, b *runState) int { return cmp.Compare(a.serial, b.serial) })
	return out
}

// Outline is the machine's work and fleet at one moment, enough to go on with in
// a simulation.
type Outline struct {
	Agents []Agent // those that take work
	Quotas []Quota
	Runs   []Run
	Leases []Holding
}

// Holding is a live lease with what is left of it.
type Holding struct {
	Lease
	Left []int
	// Gone is how many seconds the first test of Left has run already.
	Gone float64
}

// Outline copies what a simulation needs.
func (m *Machine) Outline(now time.Time) Outline {
	var o Outline
	for _, name := range slices.Sorted(maps.Keys(m.agents)) {
		if a := m.agents[name]; a.takes() || len(a.leases) > 0 {
			c := a.Agent
			c.Draining = !a.takes()
			o.Agents = append(o.Agents, c)
		}
	}
	for _, q := range m.quotas {
		o.Quotas = append(o.Quotas, q.Quota)
	}
	for _, r := range m.runs() {
		c := r.Run
		c.QueueLimit, c.TimeLimit, c.StopAfter = 0, 0, 0
		c.Panes = make([]Pane, len(r.panes))
		for i, p := range r.panes {
			c.Panes[i] = Pane{Needs: p.class.needs, Values: p.values, Tests: make([]Test, len(p.tests))}
			for j, t := range p.tests {
				c.Panes[i].Tests[j] = Test{Seconds: t.seconds, Locks: t.locks, Settled: t.settled}
			}
		}
		o.Runs = append(o.Runs, c)
	}
	for _, ls := range m.leasesOf(func(*leaseState) bool { return true }) {
		h := Holding{Lease: ls.Lease, Left: slices.Clone(ls.left)}
		if i := slices.Index(h.Left, ls.started); i >= 0 {
			h.Left[0], h.Left[i] = h.Left[i], h.Left[0]
			h.Gone = now.Sub(ls.startedAt).Seconds()
		}
		o.Leases = append(o.Leases, h)
	}
	return o
}
