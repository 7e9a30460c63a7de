package project

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestATreeIsCopied(t *testing.T) {
	from, to := t.TempDir(), filepath.Join(t.TempDir(), "to")
	require.NoError(t, os.MkdirAll(filepath.Join(from, "a/b"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(from, "a/run"), []byte("x"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(from, "a/b/read"), []byte("y"), 0o400))
	require.NoError(t, os.Symlink("../run", filepath.Join(from, "a/b/link")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(from, "out")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(from, "pipe"), 0o600))
	require.NoError(t, Copy(from, to))
	info, err := os.Stat(filepath.Join(to, "a/run"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o755), info.Mode().Perm())
	raw, err := os.ReadFile(filepath.Join(to, "a/b/link"))
	require.NoError(t, err)
	assert.Equal(t, "x", string(raw))
	target, err := os.Readlink(filepath.Join(to, "out"))
	require.NoError(t, err)
	assert.Equal(t, "/etc", target, "a link is copied, not what it leads to")
	assert.NoFileExists(t, filepath.Join(to, "pipe"))
	assert.Error(t, Copy(from, to), "it is there already")
	assert.Error(t, Copy(filepath.Join(from, "none"), filepath.Join(to, "x")))
}
