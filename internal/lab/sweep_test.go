package lab

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

func (y *yard) file(contents string) string {
	y.t.Helper()
	sum := sha256.Sum256([]byte(contents))
	hash := hex.EncodeToString(sum[:])
	require.NoError(y.t, y.Take(hash, MaxFileBytes, strings.NewReader(contents)))
	return hash
}

// Contents that no record names go after a day: files of results that were
// refused, bundles that were sent and never run.
func TestContentsThatNothingNamesGo(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.now = time.Now()
	y.join("quay")
	unused := y.file("a bundle that was sent and never run")
	y.submit(1, 1, api.RunRequest{})
	kept, refused := y.file("the log of a result"), y.file("the log of a result that came too late")
	for _, g := range y.granted("quay") {
		got, err := y.Result("quay", link.Result{ID: g.ids[0], Fence: g.Fence, Test: g.Tests[0], Agent: "quay", Verdict: verdict.Passed,
			StartedAt: y.now.UnixMilli(),
			Files:     []attempt.File{{Name: "agent.log", Kind: "logs", Hash: kept, Size: 19}}})
		require.NoError(t, err)
		require.True(t, got.Accepted)
	}
	half := filepath.Join(y.dir, "blobs", "incoming", "blob-1")
	require.NoError(t, os.WriteFile(half, []byte("half"), 0o600))

	_, err := y.Sweep(t.Context(), false)
	require.NoError(t, err)
	assert.True(t, y.blobs.Has(unused) && y.blobs.Has(refused), "what has just come may be named in a moment")
	y.now = time.Now().Add(keep.OrphanLife + time.Hour)
	dry, err := y.Sweep(t.Context(), true)
	require.NoError(t, err)
	assert.Equal(t, 2, dry.Orphans)
	assert.True(t, y.blobs.Has(refused), "a dry sweep removes nothing")
	swept, err := y.Sweep(t.Context(), false)
	require.NoError(t, err)
	assert.Equal(t, 2, swept.Orphans)
	assert.Positive(t, swept.OrphanBytes)
	assert.True(t, y.blobs.Has(kept))
	assert.False(t, y.blobs.Has(unused) || y.blobs.Has(refused))

	y.reopen()
	assert.NoFileExists(t, half, "what was half received is gone at the next start")
}
