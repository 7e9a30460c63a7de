package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// refused runs a command that fails with a code and says some text.
func (b *bench) refused(code int, says string, args ...string) {
	b.t.Helper()
	got, out, errs := b.pane(args...)
	assert.Equal(b.t, code, got, "%v: %s%s", args, out, errs)
	assert.Contains(b.t, errs, says, "%v", args)
}

func TestTokensAndLinks(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.refused(verdict.ExitUsage, "role", "token", "add", "gull", "--role", "harbour master")
	secret := strings.TrimSpace(b.want([]string{"token", "add", "gull", "--role", "viewer"}))
	assert.True(t, strings.HasPrefix(secret, "pane_"), secret)
	list := b.want([]string{"token", "list"}, "gull", "viewer", "first admin")
	assert.NotContains(t, list, secret, "a secret is shown once")
	var made struct{ ID, Secret string }
	require.NoError(t, json.Unmarshal([]byte(b.want([]string{"token", "add", "tern", "--role", "runner", "--json"})), &made))
	assert.Contains(t, b.want([]string{"link"}), "/enter?code=")
	var link struct{ Link string }
	require.NoError(t, json.Unmarshal([]byte(b.want([]string{"link", "--json"})), &link))
	assert.True(t, strings.HasPrefix(link.Link, "http://"+b.listen+"/enter?code="))

	t.Setenv("PANE_TOKEN", secret)
	b.want([]string{"runs"})
	b.refused(verdict.ExitUsage, `this needs the role runner; the token "gull" has the role viewer`, "run", "--dir", b.project)
	own := b.want([]string{"token", "list"}, "gull", "from 127.0.0.1")
	assert.NotContains(t, own, "tern", "of others they see nothing")
	b.refused(verdict.ExitUsage, "there is no token", "token", "drop", made.ID)
	b.refused(verdict.ExitUsage, "this needs the role admin", "audit")
	t.Setenv("PANE_TOKEN", "")
	b.want([]string{"token", "drop", made.ID})
	t.Setenv("PANE_TOKEN", made.Secret)
	b.refused(verdict.ExitUsage, "the token is not valid here", "runs")
	t.Setenv("PANE_TOKEN", "")
	b.want([]string{"audit"}, "token add", "tern", "refused: this needs the role runner")
	b.want([]string{"audit", "--refused", "--csv"}, "id,at,who,token,from,act,target,project,before,after,refused\n", ",gull,gull,127.0.0.1,")
	b.want([]string{"audit", "--act", "sweep"}, "Nothing is on record")
	b.want([]string{"token", "add", "Berth desk's CI", "--owner", "ci", "--role", "runner:saltmarsh", "--role", "viewer:marina", "--expires",
		"30d"}, "pane_")
	b.want([]string{"token", "list"}, "runner in saltmarsh, viewer in marina", "4 weeks from now")
	b.refused(verdict.ExitUsage, "--expires", "token", "add", "x", "--expires", "soon")
	t.Setenv("PANE_TOKEN", "")
	b.refused(verdict.ExitUsage, "token", "token", "drop", "nobody")
}

func TestPresetsAndSchedules(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.want([]string{"preset", "list"}, "No preset yet")
	b.want([]string{"schedule", "list"}, "schedule")
	b.refused(verdict.ExitUsage, "nightly", "preset", "run", "nightly")
	b.refused(verdict.ExitUsage, "unknown matrix", "preset", "save", "nightly", "--dir", b.project, "--matrix", "fra")
	b.want([]string{"preset", "save", "nightly", "--dir", b.project, "--tag", "smoke"}, "pane preset run nightly")
	b.want([]string{"preset", "list"}, "nightly")
	assert.NotContains(t, b.want([]string{"preset", "list", "--text", "daily"}), "nightly")
	var presets []api.Preset
	require.NoError(t, json.Unmarshal([]byte(b.want([]string{"preset", "list", "--json"})), &presets))
	require.Len(t, presets, 1)
	assert.Equal(t, []string{"smoke"}, presets[0].Request.Tags)

	b.refused(verdict.ExitUsage, "expected NAME=VALUE parts", "schedule", "add", "mornings", "nightly", "every day")
	b.refused(verdict.ExitUsage, "Atlantis", "schedule", "add", "mornings", "nightly", "FREQ=DAILY", "--zone", "Atlantis/Port")
	b.want([]string{"schedule", "add", "mornings", "nightly", "FREQ=DAILY;BYHOUR=6;BYMINUTE=0;BYSECOND=0"}, "mornings")
	b.refused(verdict.ExitUsage, "is used by the schedule mornings", "preset", "remove", "nightly")
	b.want([]string{"schedule", "pause", "mornings"}, "paused")
	b.want([]string{"schedule", "resume", "mornings"}, "mornings")
	assert.Contains(t, b.want([]string{"schedule", "calendar"}), "DESCRIPTION:every day at 06:00")
	b.want([]string{"schedule", "remove", "mornings"}, "mornings is removed")
	b.refused(verdict.ExitUsage, "mornings", "schedule", "pause", "mornings")
	var removed map[string]string
	require.NoError(t, json.Unmarshal([]byte(b.want([]string{"preset", "remove", "nightly", "--json"})), &removed))
	assert.Equal(t, map[string]string{"removed": "nightly"}, removed)
}

func TestOccurrencesOfARule(t *testing.T) {
	code, out, errs := alone(t, "schedule", "preview", "FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=6;BYMINUTE=30;BYSECOND=0", "--start",
		"2026-03-27T00:00:00Z", "--zone", "Europe/Berlin", "--count", "3")
	require.Zero(t, code, errs)
	assert.Contains(t, out, "every Monday and Friday at 06:30")
	assert.Contains(t, out, "Fri 27 Mar 2026 06:30 +01:00")
	assert.Contains(t, out, "Mon 30 Mar 2026 06:30 +02:00", "the wall clock is kept when the clocks change")
	code, out, _ = alone(t, "schedule", "preview", "FREQ=DAILY;COUNT=2", "--start", "2026-03-01T08:00:00Z", "--json")
	require.Zero(t, code)
	assert.JSONEq(t, `{"occurrences":["2026-03-01T08:00:00Z","2026-03-02T08:00:00Z"]}`, out)
	for says, args := range map[string][]string{
		"is not a time zone such as": {"FREQ=DAILY", "--zone", "Atlantis/Port"}, "--start: expected a time": {
			"FREQ=DAILY", "--start", "tomorrow"},
		"--count: expected 1 to": {"FREQ=DAILY", "--count", "0"}, "FREQ": {"BYDAY=MO"},
	} {
		code, _, errs := alone(t, append([]string{"schedule", "preview"}, args...)...)
		assert.Equal(t, verdict.ExitUsage, code, says)
		assert.Contains(t, errs, says)
	}
}

// Whoever stops waiting for a run stops the run.
func TestAnInterruptedRunIsCancelled(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.agent("quay")
	cmd := b.spawn("run", "--service", b.listen, "--dir", b.project, "--tag", "slow")
	require.Eventually(t, func() bool {
		var runs []api.RunSummary
		return json.Unmarshal([]byte(b.want([]string{"runs", "--json"})), &runs) == nil && len(runs) == 1 && runs[0].State == api.Running
	}, 30*time.Second, 50*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	assert.Equal(t, verdict.ExitInterrupted, cmd.ProcessState.ExitCode())
	run := b.ended(1)
	assert.Contains(t, run.Why, "cancelled")
	assert.Zero(t, run.Counts[verdict.Passed])
	b.refused(verdict.ExitUsage, "ended", "cancel", "1")
}

func TestFilesAreFetched(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.agent("quay")
	code, run := b.run("--tag", "smoke", "--tag", "bad")
	require.Equal(t, verdict.ExitFailed, code)
	dir := filepath.Join(b.dir, "fetched")
	b.want([]string{"fetch", strconv.Itoa(run.Number), dir})
	all, err := filepath.Glob(filepath.Join(dir, "*", "*", "*"))
	require.NoError(t, err)
	names := strings.Join(all, "\n")
	assert.Contains(t, names, "start.png")
	assert.Contains(t, names, "failure.png")
	assert.Contains(t, names, "agent.log")
	only := filepath.Join(b.dir, "only")
	b.want([]string{"fetch", strconv.Itoa(run.Number), only, "--kind", "screenshots"})
	all, err = filepath.Glob(filepath.Join(only, "*", "*", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, all)
	for _, f := range all {
		assert.Equal(t, ".png", filepath.Ext(f))
	}
	b.want([]string{"show", strconv.Itoa(run.Number)}, "The tide stays", "bad.pane.yaml:6:5", "reads \"Flood\"")
	b.want([]string{"show", strconv.Itoa(run.Number), "--test", "The tide stays"}, "failed", "bad.pane.yaml:6", "/sessions/")
	b.refused(verdict.ExitUsage, "The tide sleeps", "show", strconv.Itoa(run.Number), "--test", "The tide sleeps")
	b.refused(verdict.ExitUsage, "99", "show", "99")
	b.refused(verdict.ExitUsage, "99", "fetch", "99", dir)
}
