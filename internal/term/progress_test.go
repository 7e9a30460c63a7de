package term

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

func TestLinesOfARunAsItGoes(t *testing.T) {
	run := api.Run{Tests: make([]api.Test, 4), Panes: []api.Pane{
		{Index: 0, Label: "chromium", Counts: verdict.Counts{verdict.Passed: 2, verdict.Failed: 1, verdict.Pending: 1}, State: api.Running,
			Agents: []string{"quay", "tern"}},
		{Index: 1, Label: "webkitgtk · phone", Counts: verdict.Counts{verdict.Pending: 4}, State: api.Queued},
	}}
	var out bytes.Buffer
	p := NewProgress(&out, false, false)
	p.Whole(run)
	assert.Empty(t, out.String(), "a combination is told when it has ended")
	assert.Equal(t, 4, dealt(run.Panes[0]))
	line := p.line(0, 14, 4)
	for _, want := range []string{"chromium      ", Shapes[verdict.Passed] + Shapes[verdict.Passed], Shapes[verdict.Failed], "on tern"} {
		assert.Contains(t, line, want)
	}
	assert.NotContains(t, p.line(1, 14, 4), "on ", "who waits has no agent")

	ended := run.Panes[0]
	ended.State, ended.Verdict, ended.Counts = api.Ended, verdict.Failed, verdict.Counts{verdict.Passed: 3, verdict.Failed: 1}
	for range 2 {
		p.Event(api.Event{Panes: []api.Pane{ended}, Cells: []api.CellAt{{Cell: api.Cell{State: api.Ended, Verdict: verdict.Passed}}}}, run)
	}
	assert.Equal(t, 1, strings.Count(out.String(), "chromium"), "once")
	assert.Contains(t, out.String(), "3 passed, 1 failed")
	p.Event(api.Event{Type: "agents"}, run)
	p.Done()

	out.Reset()
	watched := NewProgress(&out, true, false)
	watched.Whole(run)
	run.Tests[2].Name = "Hold a berth"
	for range 2 {
		watched.Event(api.Event{Panes: run.Panes[1:2], Cells: []api.CellAt{{Pane: 1, Test: 2, Cell: api.Cell{State: api.Ended,
			Verdict: verdict.Failed, TookMS: 1500}}}}, run)
	}
	assert.Equal(t, 1, strings.Count(out.String(), "Hold a berth"), "a test is told once")
	assert.Contains(t, out.String(), "1.5 s")

	out.Reset()
	quiet := NewProgress(&out, true, true)
	quiet.Whole(run)
	quiet.Event(api.Event{Panes: []api.Pane{ended}, Cells: []api.CellAt{{Cell: api.Cell{State: api.Ended}}}}, run)
	assert.Empty(t, out.String())
}
