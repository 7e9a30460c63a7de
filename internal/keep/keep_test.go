package keep

import (
	"crypto/sha256"
	"encoding/hex"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

// open makes a keeper of a disk on which so many bytes must be free.
func open(t *testing.T, minFree uint64) *Keeper {
	dir := t.TempDir()
	st, err := store.Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = st.Close() })
	bl, err := blobs.Open(filepath.Join(dir, "blobs"))
	require.NoError(t, err)
	return New(Config{Store: st, Blobs: bl, Log: slog.New(slog.DiscardHandler), Now: time.Now, Dir: dir, MinFree: minFree})
}

func hashOf(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:])
}

func kindOf(err error) api.Kind {
	var e *api.Error
	if err == nil || !assert.ErrorAs(new(testing.T), err, &e) {
		return ""
	}
	return e.Kind
}

func TestWhatIsTaken(t *testing.T) {
	k := open(t, 1)
	log := strings.Repeat("low tide\n", 10)
	for name, c := range map[string]struct {
		hash, contents string
		want           api.Kind
	}{
		"no hash":            {"../../etc/passwd", log, api.Invalid},
		"of something else":  {hashOf("high tide"), log, api.Invalid},
		"larger than it may": {hashOf(log + log), log + log, api.TooLarge},
		"as it should be":    {hashOf(log), log, ""},
	} {
		err := k.Take(c.hash, int64(len(log)), strings.NewReader(c.contents))
		assert.Equal(t, c.want, kindOf(err), name)
		if c.want == "" {
			require.NoError(t, err, name)
		}
	}
	assert.True(t, k.blobs.Has(hashOf(log)))
	assert.False(t, k.blobs.Has(hashOf(log+log)), "nothing is half kept")
	require.NoError(t, k.Take(hashOf(log), 1, strings.NewReader("which is not looked at")), "it is here already")
}

// Without room nothing new is taken and nothing is recorded; what is here may still
// be named.
func TestADiskWithoutRoom(t *testing.T) {
	k := open(t, 1<<62)
	require.NotEmpty(t, k.Storage().Full)
	assert.Equal(t, api.NoRoom, kindOf(k.Take(hashOf("x"), 10, strings.NewReader("x"))))
	wanted := record.Policy{record.Video: record.Always, record.Commands: record.UnlessPassed}
	for kind, when := range k.Recorded(wanted) {
		assert.Equal(t, record.Never, when, kind)
	}
	assert.Equal(t, wanted, open(t, 1).Recorded(wanted))
}

func TestSettingsOfAProject(t *testing.T) {
	k := open(t, 1)
	nobody, err := k.ProjectSettings(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, api.ProjectSettings{Name: "saltmarsh", Record: record.Policy{}}, nobody)
	settled := api.ProjectSettings{Name: "saltmarsh", Record: record.Policy{record.Video: record.Never},
		Keep: []retain.Rule{{Kind: record.Video, Verdict: verdict.Passed, Days: 3}}}
	require.NoError(t, k.SetProject(settled))
	got, err := k.ProjectSettings(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, settled, got)
	for name, bad := range map[string]api.ProjectSettings{
		"record": {Name: "saltmarsh", Record: record.Policy{"smells": record.Always}},
		"keep":   {Name: "saltmarsh", Keep: []retain.Rule{{Kind: "smells", Days: 3}}},
	} {
		err := k.SetProject(bad)
		assert.Equal(t, api.Invalid, kindOf(err), name)
		assert.ErrorContains(t, err, name+": ")
	}
	got, err = k.ProjectSettings(t.Context(), "saltmarsh")
	require.NoError(t, err)
	assert.Equal(t, settled, got, "what is refused changes nothing")
}

// A service that was killed in the middle of a backup leaves nothing of it to the next.
func TestABackupThatWasKilledIsRemoved(t *testing.T) {
	dir := t.TempDir()
	left := filepath.Join(dir, "backup-123")
	require.NoError(t, os.MkdirAll(left, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(left, "pane.db"), []byte("x"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "blobs"), 0o700))
	New(Config{Dir: dir, Log: slog.New(slog.DiscardHandler)})
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	assert.Equal(t, "blobs", entries[0].Name())
}
