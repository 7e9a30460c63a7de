package work

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Bundles that nothing has used for long go; one that is in use, or was a moment
// ago, stays.
func TestBundlesUnusedForLongGo(t *testing.T) {
	b := &Bundles{dir: t.TempDir()}
	long := time.Now().Add(-bundleLife - time.Hour)
	for i, name := range []string{"unused", "in use", "fresh", "new-1"} {
		require.NoError(t, os.MkdirAll(filepath.Join(b.dir, name, "t"), 0o755))
		if i != 2 {
			require.NoError(t, os.Chtimes(filepath.Join(b.dir, name), long, long))
		}
	}
	b.using = map[string]int{"in use": 1}
	require.NoError(t, b.Sweep(time.Now()))
	entries, err := os.ReadDir(b.dir)
	require.NoError(t, err)
	var left []string
	for _, e := range entries {
		left = append(left, e.Name())
	}
	assert.Equal(t, []string{"fresh", "in use"}, left)
}
