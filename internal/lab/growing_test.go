package lab

import (
	"fmt"
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
