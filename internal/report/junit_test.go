package report

import (
	"bytes"
	"encoding/xml"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

func TestJUnit(t *testing.T) {
	start := time.Date(2026, 3, 1, 6, 30, 0, 0, time.UTC)
	verdicts := []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.LabFault, verdict.Flaky, verdict.Skipped, verdict.Unsupported,
		verdict.Pending, verdict.Ended, verdict.Aside}
	run := api.Run{RunSummary: api.RunSummary{Project: "saltmarsh", Suite: "desk", Number: 7, StartedAt: &start}}
	for i, label := range []string{"chromium · 1.5", "webkitgtk"} {
		run.Panes = append(run.Panes, api.Pane{Index: i, Label: label, TookMS: 1500,
			Values: map[string]string{"device": "phone", "browser": label}})
		run.Cells = append(run.Cells, nil)
	}
	for j, v := range verdicts {
		run.Tests = append(run.Tests, api.Test{Index: j, Name: "Test <" + string(v) + ">", File: "t.pane.yaml"})
		for i := range run.Panes {
			cell := api.Cell{Verdict: v, TookMS: 250, Message: "first line\nsecond \x00 \"line\" ]]>", Attempts: 2}
			if v == verdict.Unsupported {
				cell.Why = "no agent has it"
			}
			if v == verdict.Aside {
				cell.Why = "set aside until 2026-12-24, tern looks after it: the sluice is stuck"
			}
			run.Cells[i] = append(run.Cells[i], cell)
		}
	}
	var out bytes.Buffer
	require.NoError(t, JUnit(&out, run))
	var back junitSuites
	require.NoError(t, xml.Unmarshal(out.Bytes(), &back), out.String())
	assert.Equal(t, "saltmarsh desk #7", back.Name)
	assert.Equal(t, []int{18, 2, 4, 8}, []int{back.Tests, back.Failures, back.Errors, back.Skipped})
	assert.Equal(t, "3.000", back.Time)
	s := back.Suites[0]
	assert.Equal(t, []junitProperty{{"browser", "chromium · 1.5"}, {"device", "phone"}}, s.Properties)
	assert.Equal(t, "2026-03-01T06:30:00Z", s.Timestamp)
	assert.Equal(t, "desk.chromium · 1_5", s.Cases[0].Class, "a dot would make a package of it")
	require.Len(t, s.Cases, len(verdicts))
	assert.Equal(t, "Test <passed>", s.Cases[0].Name)
	assert.Equal(t, "0.250", s.Cases[0].Time)
	assert.Equal(t, "first line", s.Cases[1].Failure.Message)
	assert.Contains(t, s.Cases[1].Failure.Text, `"line" ]]>`)
	assert.Equal(t, "lab-fault", s.Cases[2].Error.Type)
	assert.Contains(t, s.Cases[3].SystemOut, "flaky: passed at attempt 2; before: first line")
	assert.Nil(t, s.Cases[3].Failure)
	assert.Equal(t, "no agent has it", s.Cases[5].Skipped.Message)
	assert.NotNil(t, s.Cases[6].Error, "a test without a verdict is not a pass")
	assert.Equal(t, "ended: the session's runner never said how its test went", s.Cases[7].Skipped.Message)
	assert.Contains(t, s.Cases[8].Skipped.Message, "set aside until 2026-12-24")
	assert.Contains(t, s.Cases[8].SystemOut, "failed: first line", "how it failed is told")
	assert.Nil(t, s.Cases[8].Failure)
}

func TestWhatWasNotDealtIsNoCase(t *testing.T) {
	run := api.Run{Panes: []api.Pane{{Label: "kestrel"}, {Index: 1, Label: "osprey"}},
		Tests: []api.Test{{Name: "Tide"}, {Index: 1, Name: "Berth"}},
		Cells: [][]api.Cell{{{State: api.Ended, Verdict: verdict.Passed}, {State: api.Undealt}}, {{State: api.Undealt},
			{State: api.Ended, Verdict: verdict.Passed}}}}
	var out bytes.Buffer
	require.NoError(t, JUnit(&out, run))
	var back junitSuites
	require.NoError(t, xml.Unmarshal(out.Bytes(), &back))
	assert.Equal(t, []int{2, 0, 1}, []int{back.Tests, back.Errors, len(back.Suites[1].Cases)})
}
