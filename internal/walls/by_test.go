package walls

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

func TestARunsCellsAreCountedByAnAxisOrByWhatItsTestsAre(t *testing.T) {
	cell := func(v verdict.Verdict) api.Cell { return api.Cell{State: api.Ended, Verdict: v} }
	run := &api.Run{Panes: []api.Pane{{Values: map[string]string{"browser": "chromium"}}, {Values: map[string]string{"browser": "firefox"}}},
		Tests: []api.Test{{Name: "a", File: "tests/a.pane.yaml", Tags: []string{"smoke", "tides"}}, {Name: "b", File: "b.pane.yaml"}},
		Cells: [][]api.Cell{{cell(verdict.Passed), cell(verdict.Failed)}, {cell(verdict.Failed), cell(verdict.Failed)}}}
	assert.Equal(t, []Group{{"firefox", verdict.Counts{verdict.Failed: 2}},
		{"chromium", verdict.Counts{verdict.Passed: 1, verdict.Failed: 1}}}, By(run, "browser"))
	assert.Equal(t, []Group{{"", verdict.Counts{verdict.Failed: 2}}, {"smoke", verdict.Counts{verdict.Passed: 1, verdict.Failed: 1}},
		{"tides", verdict.Counts{verdict.Passed: 1, verdict.Failed: 1}}}, By(run, "tag"))
	assert.Equal(t, []Group{{".", verdict.Counts{verdict.Failed: 2}}, {"tests", verdict.Counts{verdict.Passed: 1, verdict.Failed: 1}}},
		By(run, "directory"))
	assert.Empty(t, By(run, "device"))
	run.Cells[0][0].State = api.Undealt
	assert.Equal(t, verdict.Counts{verdict.Failed: 1}, By(run, "browser")[0].Counts)
}
