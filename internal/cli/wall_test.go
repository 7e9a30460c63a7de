package cli

import (
	"bytes"
	"os"
	"path/filepath"
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
	writeWall(&out, sampleRun())
	for _, want := range []string{"chromium", "phone", "■ 900 ms", "◩ 1.5 s", "◧ 1 m 01 s", "╳", "■ passed   ╳ unsupported   ◧ flaky   ◩ failed"} {
		assert.Contains(t, out.String(), want)
	}
}

func TestFaultsAreGathered(t *testing.T) {
	run := sampleRun()
	run.Cells[0][0] = api.Cell{Verdict: verdict.Failed, Message: "covered"}
	faults, err := faultsOf(run, func(test int) (api.TestResult, error) {
		return api.TestResult{Results: []api.PaneAttempts{{Cell: run.Cells[0][test]}, {Cell: run.Cells[1][test]}}}, nil
	}, "http://x")
	require.NoError(t, err)
	require.Len(t, faults, 3)
	assert.Equal(t, []string{"chromium · phone", "webkitgtk · phone"}, faults[0].panes, "the same message twice is one thing")
	assert.Equal(t, verdict.Flaky, faults[1].verdict)
	assert.Equal(t, "no agent has it", faults[2].message)

	run.Cells[1][0] = run.Cells[1][1]
	faults, err = faultsOf(run, func(test int) (api.TestResult, error) {
		return api.TestResult{Results: []api.PaneAttempts{{Cell: run.Cells[0][test]}, {Cell: run.Cells[1][test]}}}, nil
	}, "http://x")
	require.NoError(t, err)
	require.Len(t, faults, 3, "what no agent can run is told once for its combination")
	var out bytes.Buffer
	writeFaults(&out, faults)
	assert.Contains(t, out.String(), "unsupported 2 tests")
}

func TestTook(t *testing.T) {
	assert.Equal(t, "0 ms", took(0))
	assert.Equal(t, "59.9 s", took(59_900*time.Millisecond))
	assert.Equal(t, "2 m 05 s", took(125*time.Second))
}

func TestFileSafe(t *testing.T) {
	for in, want := range map[string]string{"../../etc/passwd": "-..-etc-passwd", "chromium · phone": "chromium-phone", "": "_", "...": "_", "a\x00b": "a-b"} {
		got := fileSafe(in)
		assert.Equal(t, want, got)
		assert.True(t, filepath.IsLocal(got))
	}
}

func TestTokenSources(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	t.Setenv("HOME", dir)
	t.Setenv("PANE_TOKEN", "")
	t.Setenv("PANE_TOKEN_FILE", "")
	_, err := findToken("http://a", "", "admin.token")
	assert.ErrorContains(t, err, "no token for http://a")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "admin.token"), []byte("first\n"), 0o600))
	require.NoError(t, remember("http://a", dir))
	require.NoError(t, remember("http://b", "/elsewhere"))
	got, err := findToken("http://a", "", "admin.token")
	require.NoError(t, err)
	assert.Equal(t, "first", got)
	_, err = findToken("http://a", filepath.Join(dir, "gone"), "admin.token")
	assert.ErrorContains(t, err, "token file")
	t.Setenv("PANE_TOKEN", "env")
	got, _ = findToken("http://a", "", "admin.token")
	assert.Equal(t, "env", got)
}

func TestCleanBase(t *testing.T) {
	for in, want := range map[string]string{"lab:7420": "http://lab:7420", "https://lab/": "https://lab"} {
		got, err := cleanBase(in)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := cleanBase("ftp://x")
	assert.Error(t, err)
}
