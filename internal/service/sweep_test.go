package service

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/keep"
	"parallelpane/internal/link"
)

func (l *lab) file(contents string) string {
	l.t.Helper()
	sum := sha256.Sum256([]byte(contents))
	hash := hex.EncodeToString(sum[:])
	require.NoError(l.t, l.PutFile(hash, strings.NewReader(contents)))
	return hash
}

// Contents that no record names go after a day: files of results that were
// refused, bundles that were sent and never run.
func TestContentsThatNothingNamesGo(t *testing.T) {
	l := openLab(t, t.TempDir())
	l.now = time.Now()
	l.join("quay")
	used, unused := l.bundle(1), l.bundle(2)
	_, err := l.Submit(t.Context(), api.Who{Name: "ci"}, api.RunRequest{Bundle: used, Matrix: "wall"})
	require.NoError(t, err)
	kept, refused := l.file("the log of a result"), l.file("the log of a result that came too late")
	for _, g := range l.granted("quay") {
		got, err := l.Result(link.Result{ID: g.ids[0], Fence: g.Fence, Test: g.Tests[0], Agent: "quay", Verdict: verdict.Passed, StartedAt: l.now.UnixMilli(),
			Files: []attempt.File{{Name: "agent.log", Kind: "logs", Hash: kept, Size: 19}}})
		require.NoError(t, err)
		require.True(t, got.Accepted)
	}
	half := filepath.Join(l.dir, "blobs", "incoming", "blob-1")
	require.NoError(t, os.WriteFile(half, []byte("half"), 0o600))

	_, err = l.Sweep(t.Context(), false)
	require.NoError(t, err)
	assert.True(t, l.blobs.Has(unused) && l.blobs.Has(refused), "what has just come may be named in a moment")
	l.now = time.Now().Add(keep.OrphanLife + time.Hour)
	require.True(t, l.HasBundle(unused))
	dry, err := l.Sweep(t.Context(), true)
	require.NoError(t, err)
	assert.Equal(t, 2, dry.Orphans)
	assert.True(t, l.blobs.Has(refused), "a dry sweep removes nothing")
	swept, err := l.Sweep(t.Context(), false)
	require.NoError(t, err)
	assert.Equal(t, 2, swept.Orphans)
	assert.Positive(t, swept.OrphanBytes)
	assert.True(t, l.blobs.Has(used) && l.blobs.Has(kept))
	assert.False(t, l.blobs.Has(unused) || l.blobs.Has(refused))

	require.NoError(t, l.Close())
	l.reopen()
	assert.NoFileExists(t, half, "what was half received is gone at the next start")
}

// Asking for a bundle renews it: a client that is told that it is there may run
// it.
func TestABundleThatWasAskedForStays(t *testing.T) {
	l := openLab(t, t.TempDir())
	bundle := l.bundle(1)
	path := filepath.Join(l.dir, "blobs", bundle[:2], bundle)
	long := time.Now().Add(-2 * keep.OrphanLife)
	require.NoError(t, os.Chtimes(path, long, long))
	require.True(t, l.HasBundle(bundle))
	l.now = time.Now()
	_, err := l.Sweep(t.Context(), false)
	require.NoError(t, err)
	assert.True(t, l.blobs.Has(bundle))
}

func TestNoBundleIsTakenWithoutRoom(t *testing.T) {
	l := openLab(t, t.TempDir())
	require.NoError(t, l.Close())
	l.minFree = 1 << 62
	l.reopen()
	sum := sha256.Sum256([]byte("x"))
	err := l.PutBundle(hex.EncodeToString(sum[:]), strings.NewReader("x"))
	var e *api.Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, api.NoRoom, e.Kind)
}
