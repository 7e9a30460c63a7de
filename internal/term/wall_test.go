package term

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

func sampleRun() api.Run {
	run := api.Run{Panes: []api.Pane{{Index: 0, Label: "chromium · phone"}, {Index: 1, Label: "webkitgtk · phone"}},
		Tests: []api.Test{{Index: 0, Name: "Hold a berth"}, {Index: 1, Name: "Read the tides"}}}
	run.Cells = [][]api.Cell{
		{{Verdict: verdict.Passed, TookMS: 900}, {Verdict: verdict.Flaky, TookMS: 61_000, Message: "late"}},
		{{Verdict: verdict.Failed, TookMS: 1500, Message: "covered"}, {Verdict: verdict.Unsupported, Why: "no agent has it"}},
	}
	return run
}

func TestWall(t *testing.T) {
	var out bytes.Buffer
	Wall(&out, sampleRun(), nil)
	for _, want := range []string{"chromium", "phone", "■ 900 ms", "◩ 1.5 s", "◧ 1 m 01 s", "╳", "■ passed   ╳ unsupported " +
		"  ◧ flaky   ◩ failed"} {
		assert.Contains(t, out.String(), want)
	}
	lines := strings.Split(out.String(), "\n")
	assert.Contains(t, lines[0], "chromium")
	assert.Contains(t, lines[1], "phone")
	assert.Equal(t, strings.Repeat("─", len([]rune(lines[0]))), lines[2], "the rule parts the heads from the tests")
	assert.NotContains(t, strings.Join(lines[3:], ""), "─")
}

func TestFaultsAreGathered(t *testing.T) {
	run := sampleRun()
	run.Cells[0][0] = api.Cell{Verdict: verdict.Failed, Message: "covered"}
	faults, err := FaultsOf(run, func(test int) (api.TestResult, error) {
		return api.TestResult{Results: []api.PaneAttempts{{Cell: run.Cells[0][test]}, {Cell: run.Cells[1][test]}}}, nil
	}, "http://x")
	require.NoError(t, err)
	require.Len(t, faults, 3)
	assert.Equal(t, []string{"chromium · phone", "webkitgtk · phone"}, faults[0].panes, "the same message twice is one thing")
	assert.Equal(t, verdict.Flaky, faults[1].verdict)
	assert.Equal(t, "no agent has it", faults[2].message)

	run.Cells[1][0] = run.Cells[1][1]
	faults, err = FaultsOf(run, func(test int) (api.TestResult, error) {
		return api.TestResult{Results: []api.PaneAttempts{{Cell: run.Cells[0][test]}, {Cell: run.Cells[1][test]}}}, nil
	}, "http://x")
	require.NoError(t, err)
	require.Len(t, faults, 3, "what no agent can run is told once for its combination")
	var out bytes.Buffer
	Faults(&out, faults)
	assert.Contains(t, out.String(), "unsupported 2 tests")
}

func TestTook(t *testing.T) {
	assert.Equal(t, "0 ms", Took(0))
	assert.Equal(t, "59.9 s", Took(59_900*time.Millisecond))
	assert.Equal(t, "2 m 05 s", Took(125*time.Second))
}
