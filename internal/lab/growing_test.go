package lab

import (
	"fmt"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
)

// A run of whatever kind takes more tests while it goes on: they are on the wall of
// the pane that has them, are run, outlive a restart, and the run ends with them.
func TestARunTakesMoreTestsWhileItGoesOn(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	run := y.submit(2, 1, api.RunRequest{})
	found := []suite.Case{{Name: "Berth 001"}, {Name: "Found on the way", File: "t/found.js", Tags: []string{"late"},
		Locks: []string{"the crane"}}, {Name: "Found as well"}}
	require.NoError(t, y.Extend(run.ID, 1, found))
	require.NoError(t, y.Extend(run.ID, 1, found), "what it has already changes nothing")
	check := func(again string) {
		now, err := y.Run(t.Context(), run.Number)
		require.NoError(t, err)
		require.Len(t, now.Tests, 4, again)
		assert.Equal(t, api.Test{Index: 2, Name: "Found on the way", File: "t/found.js", Tags: []string{"late"},
			Locks: []string{"the crane"}}, now.Tests[2])
		assert.Equal(t, []int{2, 4}, []int{now.Panes[0].Counts.Total(), now.Panes[1].Counts.Total()}, again)
		assert.Equal(t, api.Undealt, now.Cells[0][2].State, again)
	}
	check("at once")
	y.reopen()
	y.join("quay")
	check("after a restart")
	ran := map[string]int{}
	for range 8 {
		for _, g := range y.granted("quay") {
			for i, test := range g.Tests {
				got, err := y.Result("quay", link.Result{ID: g.ids[i], Fence: g.Fence, Test: test, Agent: "quay", Verdict: verdict.Passed})
				require.NoError(t, err)
				require.True(t, got.Accepted)
				ran[fmt.Sprint(g.Pane, " ", test)]++
			}
		}
	}
	assert.Equal(t, map[string]int{"0 0": 1, "0 1": 1, "1 0": 1, "1 1": 1, "1 2": 1, "1 3": 1}, ran)
	done, err := y.Run(t.Context(), run.Number)
	require.NoError(t, err)
	assert.Equal(t, api.Ended, done.State)
	assert.Equal(t, verdict.Counts{verdict.Passed: 6}, done.Counts)
	require.Error(t, y.Extend(run.ID, 1, found), "an ended run takes none")
}

func TestARunTakesNoTestsThatItCannotHave(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	y.session("nightly", "Tides")
	sessions, err := y.Run(t.Context(), 1)
	require.NoError(t, err)
	run := y.submit(2, 1, api.RunRequest{})
	for why, err := range map[string]error{
		"has no pane 2":   y.Extend(run.ID, 2, []suite.Case{{Name: "Tides"}}),
		"at most":         y.Extend(run.ID, 0, make([]suite.Case, api.MaxCells)),
		"one of sessions": y.Extend(sessions.ID, 0, []suite.Case{{Name: "Fees"}}),
		"it has ended":    y.Extend("none", 0, nil),
	} {
		assert.ErrorContains(t, err, why)
	}
}

// Tests that an agent comes upon are its own at once, are on the wall of its pane, and
// outlive a restart; what is another's, or has its verdict, stays so.
func TestTestsThatAnAgentComesUpon(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	run := y.submit(1, 1, api.RunRequest{})
	mine := y.granted("quay")
	var g grant
	for _, g = range mine {
		if g.Pane == 0 {
			break
		}
	}
	names := []link.FoundTest{{Name: "a.js › low", File: "a.js"}, {Name: "a.js › high", File: "a.js"}, {Name: "Berth 000", File: "a.js"}}
	got, err := y.Found("quay", link.Found{Fence: g.Fence, Tests: names})
	require.NoError(t, err)
	require.Len(t, got.Tests, 3)
	assert.Equal(t, "a.js › low", got.Tests[0].Name)
	assert.Equal(t, []int{1, 2}, []int{got.Tests[0].Index, got.Tests[1].Index})
	now, err := y.Run(t.Context(), run.Number)
	require.NoError(t, err)
	assert.Equal(t, api.Running, now.Cells[g.Pane][1].State)
	assert.Equal(t, api.Undealt, now.Cells[1-g.Pane][1].State)
	again, err := y.Found("quay", link.Found{Fence: g.Fence, Tests: names})
	require.NoError(t, err)
	assert.ElementsMatch(t, got.Tests, again.Tests, "whoever did not hear the answer hears it again")
	for says, f := range map[string]link.Found{"has ended": {Fence: 99}, "1 to": {Fence: g.Fence, Tests: []link.FoundTest{{}}},
		"at most": {Fence: g.Fence, Tests: make([]link.FoundTest, maxFound+1)}} {
		_, err := y.Found("quay", f)
		assert.ErrorContains(t, err, says)
	}
	_, err = y.Found("pier", link.Found{Fence: g.Fence, Tests: names})
	require.ErrorContains(t, err, "has ended")
	y.reopen()
	y.join("quay", slices.Collect(maps.Keys(mine))...)
	for _, x := range got.Tests[:2] {
		r, err := y.Result("quay", link.Result{ID: x.ID, Fence: g.Fence, Test: x.Index, Agent: "quay", Verdict: verdict.Failed, Message: "wet"})
		require.NoError(t, err)
		require.True(t, r.Accepted, x.Name)
	}
	for fence, o := range mine {
		r, err := y.Result("quay", link.Result{ID: o.ids[0], Fence: fence, Test: 0, Agent: "quay", Verdict: verdict.Passed})
		require.NoError(t, err)
		require.True(t, r.Accepted)
	}
	done, err := y.Run(t.Context(), run.Number)
	require.NoError(t, err)
	assert.Equal(t, api.Ended, done.State)
	assert.Equal(t, verdict.Counts{verdict.Passed: 2, verdict.Failed: 2}, done.Counts)
}
