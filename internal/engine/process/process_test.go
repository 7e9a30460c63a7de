//go:build linux

package process

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestStopEndsTheWholeGroup(t *testing.T) {
	file := filepath.Join(t.TempDir(), "child")
	p, err := Start(Command{Path: "sh", Args: []string{"-c", "sleep 1000 & echo $! > " + file + "; echo ready; wait"}})
	require.NoError(t, err)
	line, err := p.WaitLine(t.Context(), func(l string) bool { return l == "ready" })
	require.NoError(t, err)
	assert.Equal(t, "ready", line)
	assert.NoError(t, p.Gone())
	p.Stop(time.Second)
	assert.ErrorContains(t, p.Gone(), "sh is gone")
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Eventually(t, func() bool { return !alive(strings.TrimSpace(string(raw))) }, 5*time.Second, 5*time.Millisecond)
}

// alive reports whether a process runs; a zombie does not.
func alive(pid string) bool {
	raw, err := os.ReadFile("/proc/" + pid + "/stat")
	return err == nil && !strings.Contains(string(raw), ") Z ")
}

func TestGoneTellsTheLastWords(t *testing.T) {
	p, err := Start(Command{Path: "sh", Args: []string{"-c", "echo cannot open the sluice >&2; exit 3"}})
	require.NoError(t, err)
	<-p.Done()
	assert.ErrorContains(t, p.Gone(), "sh is gone (exit status 3): cannot open the sluice")
	_, err = p.WaitLine(t.Context(), func(string) bool { return false })
	assert.ErrorContains(t, err, "cannot open the sluice")
	_, err = Start(Command{Path: "/no/such/program"})
	assert.ErrorContains(t, err, "start program")
}

func TestSweepEndsWhatASessionLeftBehind(t *testing.T) {
	dir := t.TempDir()
	mine, err := Start(Command{Env: []string{SessionEnv(filepath.Join(dir, "one"))}, Path: "sleep", Args: []string{"1000"}})
	require.NoError(t, err)
	other, err := Start(Command{Env: []string{SessionEnv(dir + "-other")}, Path: "sleep", Args: []string{"1000"}})
	require.NoError(t, err)
	defer other.Stop(0)
	assert.Equal(t, 1, Sweep(dir))
	<-mine.Done()
	assert.NoError(t, other.Gone(), "a directory whose name only begins alike is somebody else's")
}

// What holds a sandbox open has no environment: it is known by the directory that it
// lends to it.
func TestSweepEndsASandboxThatWasLeftBehind(t *testing.T) {
	dir := t.TempDir()
	held := func(lent string) *Process {
		p, err := Start(Command{Path: "sh", Args: []string{"-c", "sleep 1000; :", "wrap", "--bind", lent, "/home/pane"}})
		require.NoError(t, err)
		return p
	}
	left, other := held(filepath.Join(dir, "one")), held(dir+"-other")
	defer other.Stop(0)
	assert.Equal(t, 1, Sweep(dir))
	<-left.Done()
	assert.NoError(t, other.Gone())
}
