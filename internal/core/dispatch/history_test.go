package dispatch

import (
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/core/verdict"
)

// world is what a caller of the machine would believe, kept beside it.
type world struct {
	m       *Machine
	now     time.Time
	live    map[int64]Lease
	left    map[int64][]int
	settled map[string]verdict.Verdict
	over    map[string]bool
	tests   map[string]int
	slots   map[string]int
	limits  map[string]int
}

func (w *world) carryOut(t require.TestingT, ds []Decision) {
	for _, d := range ds {
		switch d := d.(type) {
		case Lease:
			require.NotContains(t, w.live, d.Fence)
			w.live[d.Fence] = d
			w.left[d.Fence] = slices.Clone(d.Tests)
		case End:
			require.Contains(t, w.live, d.Fence)
			delete(w.live, d.Fence)
		case Settled:
			key := fmt.Sprintf("%s/%d/%d", d.Run, d.Pane, d.Test)
			require.NotContains(t, w.settled, key, "settled twice")
			w.settled[key] = d.Verdict
		case Over:
			require.False(t, w.over[d.Run])
			w.over[d.Run] = true
		}
	}
	used, ofRun, held := map[string]int{}, map[string]int{}, map[string]bool{}
	for fence, l := range w.live {
		used[l.Agent]++
		ofRun[l.Run]++
		for _, test := range w.left[fence] {
			key := fmt.Sprintf("%s/%d/%d", l.Run, l.Pane, test)
			require.False(t, held[key], "%s is in two leases", key)
			held[key] = true
		}
	}
	for agent, n := range used {
		require.LessOrEqual(t, n, w.slots[agent], "slots of %s", agent)
	}
	for run, n := range ofRun {
		if limit := w.limits[run]; limit > 0 {
			require.LessOrEqual(t, n, limit, "limit of %s", run)
		}
	}
}

func (w *world) result(t require.TestingT, fence int64, test int, v verdict.Verdict) {
	_, alive := w.live[fence]
	alive = alive && slices.Contains(w.left[fence], test)
	ok, ds := w.m.Result(w.now, fence, test, v)
	require.Equal(t, alive, ok, "a result counts exactly while its lease lives")
	if ok {
		w.left[fence] = slices.DeleteFunc(w.left[fence], func(x int) bool { return x == test })
		if len(w.left[fence]) == 0 {
			delete(w.live, fence)
		}
	}
	w.carryOut(t, ds)
}

func TestEveryHistoryEndsWithOneVerdictForEachTest(t *testing.T) {
	verdicts := []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.Broken}
	agents := []Agent{agentWith("pier", 1, "chromium"), agentWith("quay", 2, "chromium", "firefox"), agentWith("slip", 3, "webkit", "firefox")}
	rapid.Check(t, func(t *rapid.T) {
		w := &world{m: New(Config{MaxSlice: 3}, 0), now: t0, live: map[int64]Lease{}, left: map[int64][]int{},
			settled: map[string]verdict.Verdict{}, over: map[string]bool{}, tests: map[string]int{}, slots: map[string]int{}, limits: map[string]int{}}
		for _, a := range agents {
			w.slots[a.Name] = a.Slots
		}
		var ended []Lease
		for range rapid.IntRange(5, 60).Draw(t, "events") {
			w.now = w.now.Add(time.Duration(rapid.IntRange(0, 8000).Draw(t, "ms")) * time.Millisecond)
			agent := rapid.SampledFrom(agents).Draw(t, "agent")
			switch rapid.SampledFrom([]string{"submit", "join", "join", "leave", "result", "result", "result", "late", "done", "cancel", "tick", "renew"}).Draw(t, "event") {
			case "submit":
				r := runOf(fmt.Sprintf("r%d", len(w.tests)), rapid.IntRange(1, 5).Draw(t, "tests"), "chromium", "firefox", "webkit")
				r.Retries = rapid.IntRange(0, 2).Draw(t, "retries")
				r.Limit = rapid.IntRange(0, 3).Draw(t, "limit")
				w.tests[r.ID], w.limits[r.ID] = 3*len(r.Panes[0].Tests), r.Limit
				w.carryOut(t, w.m.Submit(w.now, r))
			case "join":
				var held []int64
				for _, fence := range slices.Sorted(maps.Keys(w.live)) {
					if w.live[fence].Agent == agent.Name && rapid.Bool().Draw(t, "kept") {
						held = append(held, fence)
					}
				}
				w.carryOut(t, w.m.Join(w.now, agent, held))
			case "leave":
				w.carryOut(t, w.m.Leave(w.now, agent.Name))
			case "result":
				if len(w.live) > 0 {
					fence := rapid.SampledFrom(slices.Sorted(maps.Keys(w.live))).Draw(t, "fence")
					ended = append(ended, w.live[fence])
					test := rapid.SampledFrom(w.live[fence].Tests).Draw(t, "test")
					w.m.Started(fence, test)
					w.result(t, fence, test, rapid.SampledFrom(verdicts).Draw(t, "verdict"))
				}
			case "late":
				if len(ended) > 0 {
					l := rapid.SampledFrom(ended).Draw(t, "late")
					w.result(t, l.Fence, l.Tests[0], verdict.Failed)
				}
			case "done":
				if len(w.live) > 0 {
					w.carryOut(t, w.m.Done(w.now, rapid.SampledFrom(slices.Sorted(maps.Keys(w.live))).Draw(t, "fence"), "given back"))
				}
			case "cancel":
				if len(w.tests) > 0 {
					w.carryOut(t, w.m.Cancel(w.now, rapid.SampledFrom(slices.Sorted(maps.Keys(w.tests))).Draw(t, "run"), "enough"))
				}
			case "tick":
				w.carryOut(t, w.m.Tick(w.now))
			case "renew":
				w.m.Renew(w.now, agent.Name, slices.Sorted(maps.Keys(w.live)))
			}
		}
		for _, a := range agents {
			w.carryOut(t, w.m.Join(w.now, a, nil))
		}
		for round := 0; len(w.live) > 0; round++ {
			require.Less(t, round, 1000, "the machine goes round for ever")
			fence := slices.Min(slices.Collect(maps.Keys(w.live)))
			w.result(t, fence, w.left[fence][0], rapid.SampledFrom(verdicts).Draw(t, "verdict"))
			if len(w.live) == 0 { // tests that every agent broke wait for one that did not, then give up
				w.now = w.now.Add(10 * time.Minute)
				w.carryOut(t, w.m.Tick(w.now))
			}
		}
		want := 0
		for run, n := range w.tests {
			require.True(t, w.over[run], "%s never ended", run)
			want += n
		}
		require.Len(t, w.settled, want)
	})
}
