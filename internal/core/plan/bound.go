package plan

import (
	"math"
	"slices"

	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
)

// load is work of the same needs and the kinds of agents that can do it.
type load struct {
	seconds, longest float64
	kinds            []int
}

// Bound is the earliest end, in seconds, that any schedule of the tests on the
// agents could reach; see bound.
func Bound(tests []Test, agents []dispatch.Agent, limit int) float64 {
	loads, slots, _ := loadsOf(tests, agents)
	return bound(loads, slots, limit)
}

// bound is the earliest end that any schedule could reach, in seconds: no test
// is divided, none moves, and for every set of tests the slots that can do
// any of them have to do them all. limit, when positive, bounds the slots used.
func bound(loads []load, slots []int, limit int) float64 {
	total, all, t := 0.0, 0, 0.0
	for _, l := range loads {
		total += l.seconds
		t = max(t, l.longest)
	}
	for _, n := range slots {
		all += n
	}
	if limit > 0 {
		all = min(all, limit)
	}
	if total == 0 || all == 0 {
		return t
	}
	t = max(t, total/float64(all))
	// The tightest set of tests is the cut that hinders a flow of all work into
	// slots that are open for t seconds. Each round either finds that all of it
	// fits, or a set that needs longer.
	for {
		set := hindered(loads, slots, t)
		if set == nil {
			return t
		}
		work, reach := 0.0, map[int]bool{}
		for _, i := range set {
			work += loads[i].seconds
			for _, k := range loads[i].kinds {
				reach[k] = true
			}
		}
		n := 0
		for k := range reach {
			n += slots[k]
		}
		next := work / float64(n)
		if next <= t*(1+1e-9) {
			return t
		}
		t = next
	}
}

// hindered returns loads that do not fit together into t seconds of the slots
// that can do them, or nil when everything fits. It is a maximum flow by
// shortest augmenting paths (Edmonds and Karp, 1972) from loads to kinds.
func hindered(loads []load, slots []int, t float64) (set []int) {
	n, k := len(loads), len(slots)
	source, sink := n+k, n+k+1
	room := make([]map[int]float64, n+k+2)
	for i := range room {
		room[i] = map[int]float64{}
	}
	for i, l := range loads {
		room[source][i] = l.seconds
		for _, kind := range l.kinds {
			room[i][n+kind] = math.Inf(1)
		}
	}
	for kind, s := range slots {
		room[n+kind][sink] = t * float64(s)
	}
	const dust = 1e-9
	for {
		from := slices.Repeat([]int{-1}, len(room))
		from[source] = source
		queue := []int{source}
		for len(queue) > 0 && from[sink] < 0 {
			at := queue[0]
			queue = queue[1:]
			for to, free := range room[at] {
				if free > dust && from[to] < 0 {
					from[to] = at
					queue = append(queue, to)
				}
			}
		}
		if from[sink] < 0 {
			for i := range loads {
				if from[i] >= 0 && len(loads[i].kinds) > 0 {
					set = append(set, i)
				}
			}
			return set
		}
		push := math.Inf(1)
		for at := sink; at != source; at = from[at] {
			push = min(push, room[from[at]][at])
		}
		for at := sink; at != source; at = from[at] {
			room[from[at]][at] -= push
			room[at][from[at]] += push
		}
	}
}

// loadsOf gathers tests by needs and agents by what they can do; kindOf says
// which kind each agent is.
func loadsOf(tests []Test, agents []dispatch.Agent) (loads []load, slots, kindOf []int) {
	byNeeds := map[string]int{}
	var needs []fleet.Needs
	for _, t := range tests {
		key := t.Needs.String()
		i, ok := byNeeds[key]
		if !ok {
			i = len(loads)
			byNeeds[key] = i
			loads = append(loads, load{})
			needs = append(needs, t.Needs)
		}
		loads[i].seconds += t.Seconds
		loads[i].longest = max(loads[i].longest, t.Seconds)
	}
	kinds := map[string]int{}
	for _, a := range agents {
		key := make([]byte, len(loads))
		for i := range loads {
			key[i] = '0'
			if fleet.Match(needs[i], a.Facts) == nil {
				key[i] = '1'
			}
		}
		k, ok := kinds[string(key)]
		if !ok {
			k = len(slots)
			kinds[string(key)] = k
			slots = append(slots, 0)
			for i := range loads {
				if key[i] == '1' {
					loads[i].kinds = append(loads[i].kinds, k)
				}
			}
		}
		slots[k] += a.Slots
		kindOf = append(kindOf, k)
	}
	return loads, slots, kindOf
}
