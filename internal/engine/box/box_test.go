package box

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/engine/process"
)

func TestAnOpenBoxHidesWhatIsOurs(t *testing.T) {
	t.Setenv("PANE_TOKEN", "pane_ours")
	t.Setenv("SALTMARSH_SECRET", "ebb")
	out := printed(t, Open{}, "env")
	assert.NotContains(t, out, "pane_ours")
	assert.NotContains(t, out, "ebb")
	assert.Contains(t, out, "PATH=")
	assert.False(t, Open{}.Isolated())
}

func TestPathsAreWithin(t *testing.T) {
	for path, want := range map[string]string{"/a/b": ".", "/a/b/c": "c", "/a": "", "/a/bc": "", "/a/b/../c": "", "/a/b/..c": "..c"} {
		rest, ok := within(path, "/a/b")
		assert.Equal(t, want != "", ok, path)
		assert.Equal(t, want, rest, path)
	}
}

// printed is what a shell command prints in a box.
func printed(t *testing.T, b Box, command string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "printed")
	log, err := os.Create(file)
	require.NoError(t, err)
	p, err := b.Start(process.Command{Log: log, Path: "/bin/sh", Args: []string{"-c", command}})
	require.NoError(t, err)
	<-p.Done()
	require.NoError(t, log.Close())
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(raw)
}
