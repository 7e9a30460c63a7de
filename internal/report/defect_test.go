package report

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
)

func TestWhatIsKnownOfACause(t *testing.T) {
	at := time.Date(2026, 11, 20, 9, 0, 0, 0, time.FixedZone("CET", 3600))
	p := api.CausePage{Run: api.RunSummary{Number: 12, Project: "saltmarsh", Suite: "desk", Environment: "local"}, Step: "tap “Hold”",
		File: "berth.pane.yaml", Line: 7, Pictures: []api.CauseShot{{Attempt: "a/1", Name: "failure 1.png"}},
		Cause: api.Cause{Cause: triage.Cause{ID: "x9", Kind: triage.Product, Title: "no button\x1b[2J " + hostile,
			Sentence: "fails with device=phone",
			Message:  "no button\r\n```\n\x00at \u202ehere", Tests: []string{"Hold a berth"}}, Runs: 3, First: &api.CauseSeen{Run: 4, At: &at},
			Last: &api.CauseSeen{Run: 12, At: &at}}}
	for i := range maxPlaces + 3 {
		p.Cause.Panes = append(p.Cause.Panes, fmt.Sprint("pane ", i))
	}
	link := func(format string, args ...any) string { return "https://lab.example" + fmt.Sprintf(format, args...) }
	k := Known(p, link)
	assert.Equal(t, "tap “Hold” (berth.pane.yaml:7)", k["step"])
	assert.Equal(t, "no button\n```\n\uFFFDat \uFFFDhere", k["message"])
	assert.Equal(t, "2026-11-20T08:00:00Z", k["first_seen"])
	assert.Equal(t, "in 3 runs of its suite, first in #4 on 20 November 2026 08:00 UTC, last in #12 on 20 November 2026 08:00 UTC", k["times"])
	assert.Len(t, k["combinations"], maxPlaces+1)
	assert.Equal(t, "and 3 more", k["combinations"].([]string)[maxPlaces])
	assert.Equal(t, "https://lab.example/runs/12/causes/x9", k["link"])
	assert.Equal(t, []string{"https://lab.example/api/v1/attempts/a%2F1/files/failure%201.png"}, k["pictures"])
	assert.NotContains(t, k["title"], "\x1b")
	text := k["description"].(string)
	for _, want := range []string{"Cause:\nfails with device=phone\n", "Step:\ntap “Hold”", "Tests:\n- Hold a berth",
		"Environment:\nlocal",
		"To be read at:\n- https://lab.example/runs/12/causes/x9\n- https://lab.example/runs/12\n"} {
		assert.Contains(t, text, want)
	}
	assert.Contains(t, k["markdown"], "````\nno button\n```\n", "a message ends no fence")
	assert.Less(t, len(Lines(strings.Repeat("long ", 5000))), 4*maxLines)

	bare := Known(api.CausePage{}, func(string, ...any) string { return "" })
	assert.NotContains(t, bare, "link")
	assert.Empty(t, bare["links"])
	assert.NotContains(t, bare["description"], "To be read at")
}
