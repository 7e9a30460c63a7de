package order

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
	"parallelpane/internal/keep"
)

// Runs that spread their tests take turns, also when they come at the same time.
func TestSpreadRunsTakeTurns(t *testing.T) {
	d := openCounter(t, t.TempDir())
	bundle := d.bundle(4)
	const runs = 12
	errs := make(chan error, runs)
	for range runs {
		go func() {
			_, err := d.Submit(t.Context(), api.Who{Name: "ci", Rights: api.InLab(api.Runner)}, api.RunRequest{Bundle: bundle,
				Matrix: "wall", Deal: api.Spread})
			errs <- err
		}()
	}
	turns := map[int]bool{}
	for range runs {
		require.NoError(t, <-errs)
	}
	for n := range runs {
		run, err := d.Run(t.Context(), n+1)
		require.NoError(t, err)
		turns[run.Plan.Turn] = true
	}
	assert.Len(t, turns, runs, "%v", turns)
}

// Asking for a bundle renews it: a client that is told that it is there may run
// it.
func TestABundleThatWasAskedForStays(t *testing.T) {
	d := openCounter(t, t.TempDir())
	bundle := d.bundle(1)
	path := filepath.Join(d.dir, "blobs", bundle[:2], bundle)
	long := time.Now().Add(-2 * keep.OrphanLife)
	require.NoError(t, os.Chtimes(path, long, long))
	require.True(t, d.HasBundle(bundle))
	d.now = time.Now()
	_, err := d.Sweep(t.Context(), false)
	require.NoError(t, err)
	assert.True(t, d.blobs.Has(bundle))
}

func TestNoBundleIsTakenWithoutRoom(t *testing.T) {
	d := openCounter(t, t.TempDir())
	d.minFree = 1 << 62
	d.reopen()
	sum := sha256.Sum256([]byte("x"))
	err := d.PutBundle(hex.EncodeToString(sum[:]), strings.NewReader("x"))
	var e *api.Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, api.NoRoom, e.Kind)
}
