package backup

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever bytes are said to be a backup, what is written stays in the directory that is
// made, and nothing is left of one that is none.
func FuzzRestore(f *testing.F) {
	var b bytes.Buffer
	out := tar.NewWriter(&b)
	require.NoError(f, putJSON(out, headName, Head{Format: format}))
	require.NoError(f, putJSON(out, Records, 1))
	require.NoError(f, putJSON(out, endName, End{Bytes: 1}))
	require.NoError(f, out.Close())
	f.Add(b.Bytes())
	f.Add(b.Bytes()[:600])
	f.Fuzz(func(t *testing.T, raw []byte) {
		above := t.TempDir()
		_, _, err := Restore(bytes.NewReader(raw), filepath.Join(above, "made"))
		left, readErr := os.ReadDir(above)
		require.NoError(t, readErr)
		if err != nil {
			assert.Empty(t, left)
		} else {
			assert.Len(t, left, 1)
		}
	})
}

// A small archive does not unpack to a large file: files with holes are in no backup.
func TestAFileWithHolesIsInNoBackup(t *testing.T) {
	assert.True(t, sparse(&tar.Header{PAXRecords: map[string]string{"GNU.sparse.major": "1", "GNU.sparse.realsize": "1099511627776"}}))
	assert.False(t, sparse(&tar.Header{PAXRecords: map[string]string{"mtime": "1"}}))
}
