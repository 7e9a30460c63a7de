package cli

import (
	"encoding/json"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/demo"
	"parallelpane/internal/demo/desk"
)

func (b *bench) sessions(args ...string) (all []api.SessionSummary) {
	b.t.Helper()
	require.NoError(b.t, json.Unmarshal([]byte(b.want(append([]string{"sessions", "--json"}, args...))), &all))
	return all
}

// The demo's own runner drives the berth desk through the session endpoint; its
// two tests come out as the desk makes them.
func TestTheDemosRunner(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.agent("quay")
	web := httptest.NewServer(desk.New(time.Millisecond))
	t.Cleanup(web.Close)
	require.NoError(t, demo.Runner(t.Context(), b.endpoint(), web.URL, "chromium"))
	run := b.ended(1)
	assert.Equal(t, demo.RunnersRun, run.Suite)
	assert.Equal(t, verdict.Counts{verdict.Passed: 1, verdict.Failed: 1}, run.Counts)
	verdicts := map[string]verdict.Verdict{}
	for _, s := range b.sessions() {
		verdicts[s.Test] = s.Verdict
		if s.Verdict == verdict.Failed {
			assert.Contains(t, s.Message, "the berth was not held: ", "the desk says why")
		}
	}
	assert.Equal(t, map[string]verdict.Verdict{"A fractional boat finds a berth": verdict.Failed,
		"The tide table names the day's highs": verdict.Passed}, verdicts)
	assert.Error(t, demo.Runner(t.Context(), b.endpoint(), web.URL, "kestrel"), "a browser that nobody has")
}

// One script runs on a browser of the lab, where its session is recorded.
func TestTryInTheLab(t *testing.T) {
	b := newBench(t)
	b.serve()
	file := func(name string) string { return filepath.Join(b.project, name+".pane.yaml") }
	b.refused(verdict.ExitLab, "no agent", "try", file("good"), "--lab", "--env", "local", "--browser", "kestrel")
	b.agent("quay")
	code, out, errs := b.pane("try", file("good"), "--lab", "--env", "local", "--browser", "chromium", "--device", "phone")
	require.Zero(t, code, out+errs)
	assert.Contains(t, out, "The tide turns on chromium")
	assert.Contains(t, errs, "/sessions/")
	code, out, _ = b.pane("try", file("bad"), "--lab", "--env", "local", "--browser", "chromium", "--version", "latest")
	assert.Equal(t, verdict.ExitFailed, code, out)
	var all []api.SessionSummary
	require.Eventually(t, func() bool { all = b.sessions("--state", "ended"); return len(all) == 2 }, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, verdict.Failed, all[0].Verdict)
	assert.Contains(t, all[0].Message, "the page's text does not contain")
	assert.Equal(t, verdict.Passed, all[1].Verdict)
	assert.Equal(t, "phone", all[1].Device)
	assert.Equal(t, "tries", all[0].RunName)
	b.refused(verdict.ExitUsage, "version", "try", file("good"), "--lab", "--env", "local", "--browser", "chromium", "--version", "newest!")
	b.refused(verdict.ExitUsage, "buoy", "try", file("good"), "--lab", "--env", "local", "--device", "buoy")
}

// Sessions can be ended, judged while they are open, and are not somebody
// else's.
func TestSessionsByHand(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.agent("quay")
	s, err := b.endpoint().New(t.Context(), map[string]any{"browserName": "chromium", "pane:options": map[string]any{
		"test": "Tides", "run": "by hand"}})
	require.NoError(t, err)
	b.refused(verdict.ExitUsage, "passed, failed or skipped", "verdict", s.ID, "flaky")
	b.want([]string{"verdict", s.ID, "failed", "-m", "the tide was out"}, "failed")
	b.refused(verdict.ExitUsage, "there is no session", "sessions", "end", "nothing-like-it")
	b.want([]string{"sessions", "end", s.ID}, "")
	require.Eventually(t, func() bool { return len(b.sessions("--state", "ended")) == 1 }, 20*time.Second, 50*time.Millisecond)
	one := b.sessions()[0]
	assert.Equal(t, verdict.Failed, one.Verdict)
	assert.Equal(t, "the tide was out", one.Message)
	assert.Equal(t, "ended by admin", one.End)
	b.refused(verdict.ExitUsage, "has ended already", "sessions", "end", s.ID)
	b.want([]string{"verdict", s.ID, "passed"}, "passed")
	assert.Equal(t, verdict.Passed, b.show(1).Verdict, "a verdict that comes after the end changes the run's")
	_, err = s.Title(t.Context())
	assert.ErrorContains(t, err, "invalid session id")
}
