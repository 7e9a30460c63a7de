package cli

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// A test that is set aside runs and is shown, and turns nothing red; afterwards it does.
func TestATestThatIsSetAside(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.agent("quay")
	until := time.Now().AddDate(0, 0, 7).UTC().Format(time.DateOnly)
	args := []string{"aside", "add", "The tide stays", "--owner", "tern", "--reason", "the sluice is stuck", "--until", until}
	b.refused(verdict.ExitUsage, "say whose test it is with --project and --suite", args...)
	args = append(args, "--project", "saltmarsh", "--suite", "quay")
	b.refused(verdict.ExitUsage, `no run of suite quay of project saltmarsh has had a test "The tide stays"`, args...)
	code, run := b.run("--tag", "bad", "--tag", "smoke")
	assert.Equal(t, verdict.ExitFailed, code)
	_, out, _ := b.pane("aside")
	assert.Contains(t, out, "No test is set aside.")
	code, out, errs := b.pane(args...)
	require.Zero(t, code, errs)
	assert.Contains(t, out, `"The tide stays" of suite quay is set aside until `+until)

	code, run = b.run("--tag", "bad", "--tag", "smoke", "--retries", "1")
	assert.Zero(t, code)
	assert.Equal(t, verdict.Passed, run.Verdict)
	assert.Equal(t, verdict.Counts{verdict.Passed: 1, verdict.Aside: 1}, run.Counts)
	at := 0
	for i, test := range run.Tests {
		if test.Name == "The tide stays" {
			at = i
		}
	}
	cell := run.Cells[0][at]
	assert.Equal(t, verdict.Aside, cell.Verdict)
	assert.Equal(t, 2, cell.Attempts, "it is tried again as any other")
	assert.Equal(t, "set aside until "+until+", tern looks after it: the sluice is stuck", cell.Why)
	assert.Contains(t, cell.Message, "does not contain", "how it failed is told all the same")
	_, out, _ = b.pane("causes", "1", "--json")
	assert.Contains(t, out, `"failed": 1`)
	code, out, _ = b.pane("causes", "2")
	assert.Zero(t, code, out)
	_, out, _ = b.pane("compare", "1", "2", "--json")
	assert.Contains(t, out, `"broke": []`)
	assert.Contains(t, out, `"mended": []`, "it fails as before")

	// It is known after a restart, and counts again when it is taken back.
	b.kill("serve")
	b.serve()
	require.Eventually(t, func() bool {
		_, out, _ := b.pane("agents", "--online", "--json")
		return strings.Contains(out, `"name": "quay"`)
	}, 30*time.Second, 50*time.Millisecond)
	var all []api.Aside
	_, out, _ = b.pane("aside", "--text", "SLUICE", "--json")
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	require.Len(t, all, 1)
	assert.Equal(t, "admin", all[0].By)
	end := []string{"aside", "end", "The tide stays", "--project", "saltmarsh", "--suite", "quay"}
	code, out, errs = b.pane(end...)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "count again")
	b.refused(verdict.ExitUsage, `"The tide stays" of suite quay is not set aside`, end...)
	code, _ = b.run("--tag", "bad")
	assert.Equal(t, verdict.ExitFailed, code)
	for until, want := range map[string]string{"soon": "expected a day such as", "2020-01-01": "expected a time within a year from now",
		"2100-01-01": "expected a time within a year from now"} {
		b.refused(verdict.ExitUsage, want, "aside", "add", "The tide stays", "--owner", "tern", "--reason", "x", "--until", until, "--project",
			"saltmarsh", "--suite", "quay")
	}
}
