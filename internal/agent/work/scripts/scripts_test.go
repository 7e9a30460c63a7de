package scripts

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadWithinStaysInside(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("x"), 0o600))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(dir, "link")))
	_, err := readWithin(dir, "a")
	require.NoError(t, err)
	for _, bad := range []string{"../a", "/etc/hostname", "link"} {
		_, err := readWithin(dir, bad)
		assert.Error(t, err, bad)
	}
}
