package report

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

func TestMarkdown(t *testing.T) {
	began := time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC)
	ended := began.Add(23400 * time.Millisecond)
	run := api.Run{RunSummary: api.RunSummary{Number: 7, Project: "saltmarsh", Suite: "desk", Matrix: "wall",
		By:    "ada",
		State: api.Ended, Verdict: verdict.Failed, Counts: verdict.Counts{verdict.Passed: 2, verdict.Failed: 2},
		StartedAt: &began, EndedAt: &ended}}
	run.Base = "http://127.0.0.1:7480"
	run.Tests = []api.Test{{Name: "Read the tides"}, {Name: "Hold a | berth <img src=x>"}}
	for _, label := range []string{"chromium", "firefox"} {
		run.Panes = append(run.Panes, api.Pane{Label: label, Verdict: verdict.Failed, TookMS: 1500,
			Counts: verdict.Counts{verdict.Passed: 1, verdict.Failed: 1}})
		run.Cells = append(run.Cells, []api.Cell{{Verdict: verdict.Passed}, {Verdict: verdict.Failed,
			Message: "`it` rains\n[click](javascript:alert(1)) @harbour"}})
	}
	var out strings.Builder
	require.NoError(t, Markdown(&out, run, api.Causes{}, "http://lab.example/runs/7"))
	assert.Equal(t, `# ◩ [\#7](http://lab.example/runs/7) saltmarsh desk on wall: **2 of 4 failed**

At http&#58;//127.0.0.1:7480, by ada, in 23.4s

| combination | | tests | time |
| --- | --- | --- | --- |
| chromium | ◩ failed | 1 failed, 1 passed | 1.5 s |
| firefox | ◩ failed | 1 failed, 1 passed | 1.5 s |

## What did not pass

| test | | on | why |
| --- | --- | --- | --- |
| [Hold a \| berth &lt;img src=x&gt;](http://lab.example/runs/7/tests/1) | ◩ failed | chromium, firefox | `+"\\`it\\`"+` rains |
`, out.String())
	assert.Equal(t, `\[click\](javascript:alert(1)) &#64;harbour`, plain("[click](javascript:alert(1)) @harbour"))
}
