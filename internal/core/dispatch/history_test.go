package dispatch

import (
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
)

// world is what a caller of the machine would believe, kept beside it.
type world struct {
	m       *Machine
	now     time.Time
	fence   int64
	live    map[int64]Lease
	left    map[int64][]int
	settled map[string]verdict.Verdict
	over    map[string]bool
	runs    map[string]*Run // with the verdicts so far, as records would have them
	tests   int
	agents  map[string]Agent
	online  map[string]bool
	resting map[string]bool
	quotas  []Quota
}

func key(run string, pane, test int) string { return fmt.Sprintf("%s/%d/%d", run, pane, test) }

func (w *world) test(l Lease, test int) *Test { return &w.runs[l.Run].Panes[l.Pane].Tests[test] }

func (w *world) carryOut(t require.TestingT, ds []Decision) {
	for _, d := range ds {
		switch d := d.(type) {
		case Lease:
			require.Greater(t, d.Fence, w.fence)
			w.fence = d.Fence
			require.True(t, w.online[d.Agent] && !w.agents[d.Agent].Draining && !w.resting[d.Agent], "%s takes no work", d.Agent)
			require.Nil(t, fleet.Match(w.runs[d.Run].Panes[d.Pane].Needs, w.agents[d.Agent].Facts))
			w.live[d.Fence], w.left[d.Fence] = d, slices.Clone(d.Tests)
		case End:
			require.Contains(t, w.live, d.Fence)
			delete(w.live, d.Fence)
		case Lost:
			w.test(Lease{Run: d.Run, Pane: d.Pane}, d.Test).Past = append(w.test(Lease{Run: d.Run, Pane: d.Pane}, d.Test).Past, verdict.LabFault)
		case Settled:
			require.NotContains(t, w.settled, key(d.Run, d.Pane, d.Test), "settled twice")
			w.settled[key(d.Run, d.Pane, d.Test)] = d.Verdict
			w.runs[d.Run].Panes[d.Pane].Tests[d.Test].Settled = true
		case Over:
			require.False(t, w.over[d.Run])
			w.over[d.Run] = true
		case Rests:
			w.resting[d.Agent] = true
		}
	}
	w.check(t)
}

// check holds every bound against the live leases.
func (w *world) check(t require.TestingT) {
	used, held, locks := map[string]int{}, map[string]bool{}, map[string]int64{}
	quotas := make([]int, len(w.quotas))
	for fence, l := range w.live {
		r := w.runs[l.Run]
		used["agent "+l.Agent]++
		used["run "+l.Run]++
		used[fmt.Sprintf("pane %s/%d", l.Run, l.Pane)]++
		for _, test := range w.left[fence] {
			require.False(t, held[key(l.Run, l.Pane, test)], "a test is in two leases")
			held[key(l.Run, l.Pane, test)] = true
			for _, lock := range w.test(l, test).Locks {
				require.Zero(t, locks[lock], "the lock %s is held twice", lock)
				locks[lock] = fence
			}
		}
		for i, q := range w.quotas {
			if (&quotaState{Quota: q}).covers(&runState{Run: *r}, &paneState{values: r.Panes[l.Pane].Values}) {
				quotas[i]++
			}
		}
	}
	atMost := func(limit int, what string) {
		if limit > 0 {
			require.LessOrEqual(t, used[what], limit, what)
		}
	}
	for _, a := range w.agents {
		atMost(a.Slots, "agent "+a.Name)
	}
	for _, r := range w.runs {
		atMost(r.Limit, "run "+r.ID)
		for i := range r.Panes {
			atMost(r.Lanes, fmt.Sprintf("pane %s/%d", r.ID, i))
		}
	}
	for i, q := range w.quotas {
		if q.Slots > 0 {
			require.LessOrEqual(t, quotas[i], q.Slots, "quota %v", q)
		}
	}
	queued, leased := w.m.Depth()
	require.GreaterOrEqual(t, queued, 0)
	require.Equal(t, len(w.live), leased)
}

func (w *world) result(t require.TestingT, fence int64, test int, v verdict.Verdict) {
	l, alive := w.live[fence]
	alive = alive && slices.Contains(w.left[fence], test)
	ok, ds := w.m.Result(w.now, fence, test, Outcome{Verdict: v, Why: "it rains",
		Site: v == verdict.LabFault && test%2 == 0})
	require.Equal(t, alive, ok, "a result counts exactly while its lease lives")
	if ok {
		w.test(l, test).Past = append(w.test(l, test).Past, v)
		w.resting = w.whoRests()
		w.left[fence] = slices.DeleteFunc(w.left[fence], func(x int) bool { return x == test })
		if len(w.left[fence]) == 0 {
			delete(w.live, fence)
		}
	}
	w.carryOut(t, ds)
}

// whoRests asks the machine, for rests end by time.
func (w *world) whoRests() map[string]bool {
	out := map[string]bool{}
	for name := range w.agents {
		out[name] = !w.m.Load(name).RestUntil.IsZero()
	}
	return out
}

// restart makes a new machine of what records would hold.
func (w *world) restart(t require.TestingT) {
	w.m = New(w.m.cfg, w.fence)
	w.m.SetQuotas(w.now, w.quotas)
	for _, name := range slices.Sorted(maps.Keys(w.agents)) {
		w.m.Know(w.now, w.agents[name])
	}
	w.online, w.resting = map[string]bool{}, map[string]bool{}
	var ds []Decision
	for _, id := range slices.Sorted(maps.Keys(w.runs)) {
		if w.over[id] {
			continue
		}
		r := *w.runs[id]
		r.Panes = slices.Clone(r.Panes)
		for i := range r.Panes {
			r.Panes[i].Tests = slices.Clone(r.Panes[i].Tests)
		}
		var leases []Lease
		for _, fence := range slices.Sorted(maps.Keys(w.live)) {
			if l := w.live[fence]; l.Run == id { // whole, as it was granted: what has reported is among the attempts
				leases = append(leases, l)
			}
		}
		ds = append(ds, w.m.Restore(w.now, r, leases)...)
	}
	w.carryOut(t, ds)
}

func (w *world) submit(t *rapid.T) {
	r := &Run{ID: fmt.Sprintf("r%d", len(w.runs)), Project: rapid.SampledFrom([]string{"berths", "tides"}).Draw(t, "project"),
		Owner: rapid.SampledFrom([]string{"ada", "bo"}).Draw(t, "owner"), Priority: rapid.IntRange(-1, 1).Draw(t, "priority"),
		Retries: rapid.IntRange(0, 2).Draw(t, "retries"), Limit: rapid.IntRange(0, 3).Draw(t, "limit"),
		Lanes:     rapid.IntRange(0, 2).Draw(t, "lanes"),
		StopAfter: rapid.SampledFrom([]int{0, 0, 2}).Draw(t, "stop after"), TimeLimit: time.Duration(rapid.SampledFrom([]int{0, 0, 60}).Draw(
			t, "time limit")) * time.Second}
	for _, b := range []string{"chromium", "firefox", "webkitgtk"} {
		p := Pane{Needs: fleet.Needs{"browser": {b}}, Values: map[string]string{"browser": b}}
		for range rapid.IntRange(1, 5).Draw(t, "tests") {
			test := Test{Seconds: float64(rapid.IntRange(0, 30).Draw(t, "seconds"))}
			if rapid.IntRange(0, 3).Draw(t, "lock") == 0 {
				test.Locks = []string{rapid.SampledFrom([]string{"berth 7", "the crane"}).Draw(t, "name")}
			}
			p.Tests = append(p.Tests, test)
			w.tests++
		}
		r.Panes = append(r.Panes, p)
	}
	w.runs[r.ID] = r
	handed := *r
	handed.Panes = slices.Clone(r.Panes)
	for i := range handed.Panes {
		handed.Panes[i].Tests = slices.Clone(r.Panes[i].Tests)
	}
	w.carryOut(t, w.m.Submit(w.now, handed))
}

// extend adds tests to a run, which takes them exactly while it goes on.
func (w *world) extend(t *rapid.T) {
	if len(w.runs) == 0 {
		return
	}
	id := rapid.SampledFrom(slices.Sorted(maps.Keys(w.runs))).Draw(t, "run")
	pane := rapid.IntRange(0, 2).Draw(t, "pane")
	p := &w.runs[id].Panes[pane]
	at := len(p.Tests) + rapid.IntRange(0, 1).Draw(t, "gap") // a place between may be of a test that only other panes have
	more := map[int]Test{at: {Seconds: float64(rapid.IntRange(0, 30).Draw(t, "seconds"))}}
	over := w.over[id]
	tests := slices.Clone(p.Tests)
	for len(tests) < at {
		tests = append(tests, Test{Settled: true})
	}
	if !over {
		p.Tests = append(tests, more[at])
		w.tests++
	}
	accepted, ds := w.m.Extend(w.now, id, pane, more)
	require.Equal(t, !over, accepted)
	w.carryOut(t, ds)
}

// adopt adds a new test of its pane to a lease, and perhaps one that waits.
func (w *world) adopt(t *rapid.T, fence int64) {
	l := w.live[fence]
	p := &w.runs[l.Run].Panes[l.Pane]
	at, old := len(p.Tests), rapid.IntRange(0, len(p.Tests)-1).Draw(t, "old")
	tests := map[int]Test{at: {}}
	if !p.Tests[old].Settled {
		tests[old] = Test{}
	}
	waits := tests[old].Seconds == 0 && !p.Tests[old].Settled && len(p.Tests[old].Locks) == 0
	for other := range w.live {
		waits = waits && !(w.live[other].Run == l.Run && w.live[other].Pane == l.Pane && slices.Contains(w.left[other], old))
	}
	p.Tests = append(p.Tests, Test{})
	w.tests++
	got := w.m.Adopt(fence, tests)
	require.Equal(t, 1, got[at])
	require.Equal(t, waits, got[old] > 0, "one that waits comes along, no other")
	for _, i := range slices.Sorted(maps.Keys(got)) {
		require.Len(t, p.Tests[i].Past, got[i]-1)
		l.Tests, l.Attempt = append(slices.Clip(l.Tests), i), append(slices.Clip(l.Attempt), got[i])
		w.left[fence] = append(w.left[fence], i)
	}
	w.live[fence] = l
	w.check(t)
}

func newWorld(t *rapid.T) *world {
	w := &world{m: New(Config{MaxSlice: 3}, 0), now: t0, live: map[int64]Lease{}, left: map[int64][]int{},
		settled: map[string]verdict.Verdict{},
		over:    map[string]bool{}, runs: map[string]*Run{}, agents: map[string]Agent{}, online: map[string]bool{}, resting: map[string]bool{}}
	for _, a := range []Agent{agentWith("pier", 1, "chromium"), agentWith("quay", 2, "chromium", "firefox"), agentWith("slip",
		3, "webkitgtk", "firefox")} {
		w.agents[a.Name] = a
	}
	if rapid.Bool().Draw(t, "quotas") {
		w.quotas = []Quota{{Kind: OfProject, Name: "berths", Slots: 2, Weight: 3}, {Kind: OfOwner, Name: "ada", Slots: 3},
			{Kind: OfCombination, Values: map[string]string{"browser": "firefox"}, Slots: 1}}
		w.m.SetQuotas(w.now, w.quotas)
	}
	return w
}

func TestEveryHistoryEndsWithOneVerdictForEachTest(t *testing.T) {
	verdicts := []verdict.Verdict{verdict.Passed, verdict.Passed, verdict.Failed, verdict.LabFault}
	events := []string{"submit", "extend", "adopt", "join", "join", "leave", "result", "result", "result", "result", "late", "done", "cancel",
		"tick", "renew", "drain", "wake", "restart", "back"}
	rapid.Check(t, func(t *rapid.T) {
		w := newWorld(t)
		var ended []Lease
		for range rapid.IntRange(5, 80).Draw(t, "events") {
			// Clocks jump, forwards by much and backwards by a little.
			w.now = w.now.Add(time.Duration(rapid.IntRange(-500, 8000).Draw(t, "ms")) * time.Millisecond)
			w.resting = w.whoRests()
			name := rapid.SampledFrom(slices.Sorted(maps.Keys(w.agents))).Draw(t, "agent")
			fences := slices.Sorted(maps.Keys(w.live))
			event := rapid.SampledFrom(events).Draw(t, "event")
			if len(fences) == 0 && slices.Contains([]string{"result", "done", "adopt"}, event) {
				event = "submit"
			}
			switch event {
			case "submit":
				w.submit(t)
			case "extend":
				w.extend(t)
			case "join":
				var held []int64
				for _, fence := range fences {
					if w.live[fence].Agent == name && rapid.Bool().Draw(t, "kept") {
						held = append(held, fence)
					}
				}
				w.online[name] = true
				a := w.agents[name]
				a.Program = rapid.SampledFrom([]string{"", "first", "first", "second"}).Draw(t, "program")
				w.agents[name] = a
				w.carryOut(t, w.m.Join(w.now, a, held))
			case "leave":
				w.online[name] = false
				w.carryOut(t, w.m.Leave(w.now, name))
			case "drain", "back":
				a := w.agents[name]
				a.Draining = event == "drain"
				w.agents[name] = a
				w.carryOut(t, w.m.Drain(w.now, name, a.Draining))
			case "wake":
				w.resting[name] = false
				w.carryOut(t, w.m.Wake(w.now, name))
			case "result":
				fence := rapid.SampledFrom(fences).Draw(t, "fence")
				ended = append(ended, w.live[fence])
				test := rapid.SampledFrom(w.live[fence].Tests).Draw(t, "test")
				w.m.Started(w.now, fence, test)
				w.result(t, fence, test, rapid.SampledFrom(verdicts).Draw(t, "verdict"))
			case "adopt":
				w.adopt(t, rapid.SampledFrom(fences).Draw(t, "fence"))
			case "late":
				if len(ended) > 0 {
					l := rapid.SampledFrom(ended).Draw(t, "late")
					w.result(t, l.Fence, l.Tests[0], verdict.Failed)
				}
			case "done":
				w.carryOut(t, w.m.Done(w.now, rapid.SampledFrom(fences).Draw(t, "fence"), "given back"))
			case "cancel":
				if len(w.runs) > 0 {
					w.carryOut(t, w.m.Cancel(w.now, rapid.SampledFrom(slices.Sorted(maps.Keys(w.runs))).Draw(t, "run"), "enough"))
				}
			case "tick":
				w.tick(t)
			case "renew":
				w.m.Renew(w.now, name, fences)
			case "restart":
				w.restart(t)
			}
		}
		w.finish(t, verdicts)
	})
}

func (w *world) tick(t require.TestingT) {
	ds := w.m.Tick(w.now)
	w.resting = map[string]bool{} // who rested may have been woken and given work within the tick
	w.carryOut(t, ds)
	w.resting = w.whoRests()
}

// finish brings everybody back and sees every run to its end.
func (w *world) finish(t *rapid.T, verdicts []verdict.Verdict) {
	for _, name := range slices.Sorted(maps.Keys(w.agents)) {
		a := w.agents[name]
		a.Draining = false
		w.agents[name], w.online[name] = a, true
		w.carryOut(t, w.m.Join(w.now, a, nil))
	}
	for round := 0; len(w.over) < len(w.runs); round++ {
		require.Less(t, round, 3000, "the machine goes round for ever")
		w.resting = w.whoRests()
		if len(w.live) == 0 { // whoever rests comes back
			w.now = w.now.Add(10 * time.Minute)
			w.tick(t)
			continue
		}
		fence := slices.Min(slices.Collect(maps.Keys(w.live)))
		w.result(t, fence, w.left[fence][0], rapid.SampledFrom(verdicts).Draw(t, "verdict"))
	}
	require.Len(t, w.settled, w.tests)
	queued, leased := w.m.Depth()
	require.Zero(t, queued+leased)
	require.Empty(t, w.m.locks)
	require.Empty(t, w.m.classes)
	require.Zero(t, w.m.work)
}
