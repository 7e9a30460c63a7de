package lab

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/walls"
)

// hands plays one agent: what it holds, and what of it has reported.
type hands struct {
	name, instance string

	held map[int64]grant
	done map[int64]int // how many tests of a lease have reported
}

// Random histories of runs with retries, over the real records: agents report,
// die, come back; the service is stopped and opened again in the middle. However
// it went, every cell has one verdict, it is what its attempts say, no attempt is
// lost or doubled, and the lab is at fault only where an agent died.
func TestHistoriesOverTheRecords(t *testing.T) {
	for seed := range uint64(12) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { history(t, rand.New(rand.NewPCG(seed, 7))) })
	}
}

func history(t *testing.T, rng *rand.Rand) {
	y := openYard(t, t.TempDir())
	agents := []*hands{{name: "quay", instance: "1"}, {name: "pier", instance: "1"}}
	for _, a := range agents {
		a.held, a.done = map[int64]grant{}, map[int64]int{}
		y.joinAs(a.name, a.instance)
	}
	tests := 6 + rng.IntN(20)
	run := y.submit(tests, 1, api.RunRequest{Retries: 1})
	reported := map[[2]int][]verdict.Verdict{} // by pane and test
	faults := map[[2]int]int{}                 // tests that ran when their agent died
	report := func(a *hands, fence int64) {
		x := a.held[fence]
		i := a.done[fence]
		test := x.Tests[i]
		v := []verdict.Verdict{verdict.Passed, verdict.Passed, verdict.Failed}[rng.IntN(3)]
		r := link.Result{ID: x.ids[i], Fence: fence, Test: test, Attempt: x.Attempt[i], Agent: a.name, Verdict: v, Message: "because", TookMS: 5}
		got, err := y.Result(r.Agent, r)
		require.NoError(t, err)
		require.True(t, got.Accepted, "what an agent did under a lease that it holds counts: %s", got.Why)
		cell := [2]int{x.Pane, test}
		reported[cell] = append(reported[cell], v)
		if rng.IntN(4) == 0 { // the answer got lost
			_, err := y.Result(r.Agent, r)
			require.NoError(t, err)
		}
		if a.done[fence]++; a.done[fence] == len(x.Tests) {
			delete(a.held, fence)
		}
	}
	take := func() {
		for _, a := range agents {
			live := y.granted(a.name)
			maps.DeleteFunc(a.held, func(fence int64, _ grant) bool { _, ok := live[fence]; return !ok })
			for fence, x := range live {
				if _, known := a.held[fence]; !known {
					a.held[fence], a.done[fence] = x, 0
				}
			}
		}
	}
	for step := 0; ; step++ {
		require.Less(t, step, 2000, "the run does not end")
		take()
		a := agents[rng.IntN(len(agents))]
		fences := slices.Sorted(maps.Keys(a.held))
		if now, err := y.Run(t.Context(), run.Number); err == nil && now.State == api.Ended {
			break
		}
		switch what := rng.IntN(14); {
		case what == 0: // the service is killed; agents come back with what they hold
			y.reopen()
			for _, a := range agents {
				y.joinAs(a.name, a.instance, slices.Sorted(maps.Keys(a.held))...)
			}
		case what == 2 && len(fences) > 0: // it is killed before an order reaches its agent
			report(a, fences[rng.IntN(len(fences))])
			y.reopen()
			for _, a := range agents {
				y.joinAs(a.name, a.instance, slices.Sorted(maps.Keys(a.held))...)
			}
		case what == 1 && step < 300: // an agent dies and is started again
			for _, fence := range fences {
				x := a.held[fence]
				faults[[2]int{x.Pane, x.Tests[a.done[fence]]}]++
				require.NoError(t, y.Started(a.name, link.Started{Fence: fence, Test: x.Tests[a.done[fence]]}))
			}
			a.held = map[int64]grant{}
			a.instance += "'"
			y.joinAs(a.name, a.instance)
			require.NoError(t, y.WakeAgent(a.name))
		case len(fences) > 0:
			report(a, fences[rng.IntN(len(fences))])
		}
	}
	done, err := y.Run(t.Context(), run.Number)
	require.NoError(t, err)
	for p := range done.Panes {
		for i := range done.Tests {
			cell := [2]int{p, i}
			res, err := y.TestOfRun(t.Context(), run.Number, i)
			require.NoError(t, err)
			var all, counted []verdict.Verdict
			for k, a := range res.Results[p].Attempts {
				require.Equal(t, k+1, a.Number)
				all = append(all, a.Verdict)
				if a.Verdict != verdict.LabFault {
					counted = append(counted, a.Verdict)
				}
			}
			require.Equal(t, reported[cell], counted, "cell %v", cell)
			require.Equal(t, faults[cell], len(res.Results[p].Attempts)-len(counted), "cell %v has a fault of the lab that nobody made", cell)
			require.Equal(t, verdict.OfAttempts(all), done.Cells[p][i].Verdict)
		}
	}
	require.Zero(t, done.Counts[verdict.Pending])

	// A wall that is lost is drawn from the records again, as it was.
	row, err := y.store.RunByNumber(t.Context(), run.Number)
	require.NoError(t, err)
	w, err := y.store.WholeRun(t.Context(), run.Number)
	require.NoError(t, err)
	again, err := walls.RunOf(row, w)
	require.NoError(t, err)
	for _, v := range []*api.Run{&done, &again} {
		api.Fill(v)
		for i := range v.Panes {
			slices.Sort(v.Panes[i].Agents)
		}
	}
	require.True(t, assert.ObjectsAreEqual(done, again))
}
