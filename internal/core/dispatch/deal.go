package dispatch

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"
)

// deal hands out queued tests while slots are free. Projects come in order of
// their shares, within a project runs by priority and age, within a run the
// class that would be done last, within a class the longest test.
func (m *Machine) deal(now time.Time) {
	for m.free > 0 && m.queued > 0 && m.dealOne(now) {
	}
}

func (m *Machine) dealOne(now time.Time) bool {
	m.pressure.refresh(m)
	projects := make([]*projectState, 0, len(m.projects))
	for _, p := range m.projects {
		if len(p.runs) > 0 {
			p.spend(now)
			projects = append(projects, p)
		}
	}
	slices.SortFunc(projects, func(a, b *projectState) int {
		return cmp.Or(cmp.Compare(a.share(), b.share()), cmp.Compare(a.name, b.name))
	})
	for _, p := range projects {
		for _, r := range p.runs {
			if r.queued > 0 && (r.Limit == 0 || r.active < r.Limit) && m.dealRun(now, r) {
				return true
			}
		}
	}
	return false
}

// shareHorizon is over how many seconds a project that had less than its share
// gets the rest: the shorter, the more slots it is ahead meanwhile.
const shareHorizon = 60

// share is what a project has had for its weight, with its slots counted for a
// while ahead.
func (p *projectState) share() float64 { return (p.used + shareHorizon*float64(p.active)) / p.weight }

// dealRun grants one lease of a run. Its cost is linear in the run's panes.
func (m *Machine) dealRun(now time.Time, r *runState) bool {
	var refused map[*paneState]bool
	for {
		var best *paneState
		var head float64
		for _, p := range r.panes {
			if len(p.queue) == 0 || p.class.free == 0 || refused[p] || !p.mayHold() {
				continue
			}
			if h := p.tests[p.queue[0]].rank(); best == nil || p.before(best, h, head) {
				best, head = p, h
			}
		}
		if best == nil {
			return false
		}
		if m.dealPane(now, r, best) {
			return true
		}
		if refused == nil {
			refused = map[*paneState]bool{}
		}
		refused[best] = true
	}
}

// before orders panes that may be served.
func (p *paneState) before(o *paneState, head, headOfO float64) bool {
	if x, y := p.class.load+head, o.class.load+headOfO; x != y {
		return x > y
	}
	return p.active < o.active
}

// mayHold says whether a pane's lanes and quotas leave room for a lease.
func (p *paneState) mayHold() bool {
	if p.run.Lanes > 0 && p.active >= p.run.Lanes {
		return false
	}
	return !slices.ContainsFunc(p.quotas, (*quotaState).full)
}

func (m *Machine) dealPane(now time.Time, r *runState, p *paneState) bool {
	var able []*agentState
	for _, a := range p.class.agents {
		if a.open > 0 {
			able = append(able, a)
		}
	}
	n, seconds := m.sliceSize(p)
	if pin := m.agents[p.pin]; pin != nil && pin.takes() && slices.Contains(p.class.agents, pin) {
		if pin.open == 0 {
			return false
		}
		if tests := m.pick(p, pin, n, seconds); len(tests) > 0 {
			m.grant(now, r, p, pin, tests)
			return true
		} // what waits met a fault of the lab there: it moves to another agent
	}
	for len(able) > 0 {
		best := 0
		for i := range able {
			if m.spares(able[i], able[best], p.class) {
				best = i
			}
		}
		if tests := m.pick(p, able[best], n, seconds); len(tests) > 0 {
			m.grant(now, r, p, able[best], tests)
			return true
		}
		able = slices.Delete(able, best, best+1)
	}
	return false
}

// spares says whether giving work of a class to a rather than b keeps more for
// work that only few agents can do: first for work that waits, then for what
// may come.
func (m *Machine) spares(a, b *agentState, c *class) bool {
	if wa, wb := a.wanted(c), b.wanted(c); wa != wb {
		return wa < wb
	}
	if a.rarity != b.rarity {
		return a.rarity < b.rarity
	}
	return a.open > b.open
}

// wanted is the highest load among the other classes an agent serves.
func (a *agentState) wanted(c *class) float64 {
	if a.kind == nil {
		return 0
	}
	if a.kind.first == c {
		return a.kind.second
	}
	return a.kind.top
}

// sliceSize is how many tests, and seconds of them, a lease may take: a third
// of an even share of what waits, so that the last slots finish together.
func (m *Machine) sliceSize(p *paneState) (n int, seconds float64) {
	slots := max(1, p.class.slots)
	if r := p.run; r.Limit > 0 {
		slots = min(slots, r.Limit)
	}
	seconds = min(p.class.work/float64(slots), m.work/float64(max(1, m.slots))) / 3
	return m.cfg.MaxSlice, seconds
}

// pick takes queued tests for an agent: at least one, more while they are less
// than the seconds given. Those the lab failed there are left while an agent
// that has not failed them could take them; one with locks goes alone.
func (m *Machine) pick(p *paneState, a *agentState, n int, seconds float64) (tests []int) {
	sum, kept := 0.0, 0
	for i, t := range p.queue {
		ts := p.tests[t]
		take := len(tests) < n && (len(tests) == 0 || sum+ts.weight() <= seconds)
		if !take && len(tests) > 0 {
			kept += copy(p.queue[kept:], p.queue[i:])
			break
		}
		if !take || m.lockedOut(ts) || (len(ts.locks) > 0 && len(tests) > 0) || p.shuns(ts, a) {
			p.queue[kept] = t
			kept++
			continue
		}
		tests = append(tests, t)
		sum += ts.weight()
		if len(ts.locks) > 0 || ts.seconds == 0 { // how long it takes is not known: nothing may wait behind it
			sum = math.Inf(1)
		}
	}
	p.queue = p.queue[:kept]
	for _, t := range tests {
		m.tally(p, p.tests[t], false)
	}
	return tests
}

func (m *Machine) lockedOut(t *testState) bool {
	return slices.ContainsFunc(t.locks, func(l string) bool { _, held := m.locks[l]; return held })
}

// shuns says whether a test should rather wait for another agent.
func (p *paneState) shuns(t *testState, a *agentState) bool {
	return t.avoid[a.Name] && slices.ContainsFunc(p.class.agents, func(o *agentState) bool { return o.takes() && !t.avoid[o.Name] })
}

func (m *Machine) grant(now time.Time, r *runState, p *paneState, a *agentState, tests []int) {
	m.fence++
	l := Lease{Fence: m.cfg.fence(m.fence), Agent: a.Name, Run: r.ID, Pane: p.index, Tests: tests, Expires: now.Add(m.cfg.LeaseTTL)}
	for _, t := range tests {
		l.Attempt = append(l.Attempt, len(p.tests[t].past)+1)
	}
	m.hold(now, r, p, &leaseState{Lease: l, left: slices.Clone(tests), started: -1, startedAt: now})
	m.out = append(m.out, l)
	m.pressure.grants++
}

// pressure keeps the loads of the classes: how many seconds each would take if
// every agent gave its slots to its classes so that they end together as far as
// they can. Agents that serve the same classes are one kind.
type pressure struct {
	stale  bool // the fleet or the classes have changed
	grants int  // since the loads were computed
	every  int  // grants after which they are computed anew
	kinds  []*kind
}

type kind struct {
	slots       float64
	classes     []*class
	first       *class  // that has the highest load of those with work
	top, second float64 // its load and the next one's
}

const balanceRounds = 6

func (x *pressure) refresh(m *Machine) {
	if !x.stale && x.grants < x.every {
		return
	}
	if x.stale {
		x.sort(m)
		m.rate()
	}
	x.stale, x.grants = false, 0
	// Loads are guessed from all slots a class could use, then mended: each kind
	// divides its slots by its classes' claims, and a class that would be late
	// claims more.
	claim := make(map[*class]float64, len(m.classes))
	for _, c := range m.classes {
		claim[c] = c.work / float64(max(1, c.slots))
		c.load = claim[c]
	}
	got := make(map[*class]float64, len(m.classes))
	cost := 0
	for range balanceRounds {
		clear(got)
		for _, k := range x.kinds {
			sum := 0.0
			for _, c := range k.classes {
				sum += claim[c]
			}
			cost += len(k.classes)
			if sum == 0 {
				continue
			}
			for _, c := range k.classes {
				got[c] += k.slots * claim[c] / sum
			}
		}
		for c, slots := range got {
			if slots > 0 {
				c.load = c.work / slots
				claim[c] *= c.load
			}
		}
		scale(claim)
	}
	for _, k := range x.kinds {
		k.first, k.top, k.second = nil, 0, 0
		for _, c := range k.classes {
			switch {
			case c.queued == 0:
			case c.load > k.top:
				k.first, k.top, k.second = c, c.load, k.top
			case c.load > k.second:
				k.second = c.load
			}
		}
	}
	x.every = max(16, cost/64)
}

// scale keeps claims within range; only their proportions matter.
func scale(claim map[*class]float64) {
	most := 0.0
	for _, v := range claim {
		most = max(most, v)
	}
	if most == 0 {
		return
	}
	for c := range claim {
		claim[c] /= most
	}
}

// sort gathers the agents into kinds.
func (x *pressure) sort(m *Machine) {
	x.kinds = nil
	index := map[string]*kind{}
	for _, name := range slices.Sorted(maps.Keys(m.agents)) {
		a := m.agents[name]
		if a.kind = nil; a.counted == 0 {
			continue
		}
		slices.SortFunc(a.classes, func(p, q *class) int { return cmp.Compare(p.key, q.key) })
		key := ""
		for _, c := range a.classes {
			key += c.key + "\n"
		}
		k := index[key]
		if k == nil {
			k = &kind{classes: slices.Clone(a.classes)}
			index[key] = k
			x.kinds = append(x.kinds, k)
		}
		k.slots += float64(a.counted)
		a.kind = k
	}
}

// rate says how hard each agent would be to replace: the largest part it has of
// the slots behind any of its browsers, systems and other shared facts.
func (m *Machine) rate() {
	slots := map[string]float64{}
	each := func(a *agentState, f func(key string)) {
		for fact, values := range a.Facts {
			if slices.Contains([]string{"agent", "cores", "memory_mb", "os_version"}, fact) {
				continue // nearly every agent has its own
			}
			for _, v := range values {
				f(fact + "=" + v)
			}
		}
	}
	for _, a := range m.agents {
		each(a, func(key string) { slots[key] += float64(a.counted) })
	}
	for _, a := range m.agents {
		a.rarity = 0
		each(a, func(key string) {
			if n := slots[key]; n > 0 {
				a.rarity = max(a.rarity, float64(a.counted)/n)
			}
		})
	}
}
