package blobs

import (
	"crypto/sha256"
	"encoding/hex"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func hashOf(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:])
}

func TestPutAndGet(t *testing.T) {
	d, err := Open(t.TempDir())
	require.NoError(t, err)
	h := hashOf("tide")
	assert.False(t, d.Has(h))
	for range 2 { // the same contents twice are no error
		n, err := d.Put(h, 10, strings.NewReader("tide"))
		require.NoError(t, err)
		assert.EqualValues(t, 4, n)
	}
	f, err := d.Get(h)
	require.NoError(t, err)
	defer f.Close()
	b, err := io.ReadAll(f)
	require.NoError(t, err)
	assert.Equal(t, "tide", string(b))
}

func TestRefusedContentsLeaveNothing(t *testing.T) {
	dir := t.TempDir()
	d, err := Open(dir)
	require.NoError(t, err)
	_, err = d.Put(hashOf("ebb"), 10, strings.NewReader("flow"))
	require.ErrorIs(t, err, ErrHash)
	_, err = d.Put(hashOf("flood"), 4, strings.NewReader("flood"))
	var large *TooLarge
	require.ErrorAs(t, err, &large)
	for _, bad := range []string{"", "../../etc/passwd", strings.Repeat("A", 64), hashOf("x") + "/.."} {
		_, err = d.Put(bad, 10, strings.NewReader("x"))
		assert.Error(t, err, bad)
		_, err = d.Get(bad)
		assert.ErrorIs(t, err, fs.ErrNotExist, bad)
	}
	var left []string
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if !e.IsDir() {
			left = append(left, p)
		}
		return err
	}))
	assert.Empty(t, left)
}
