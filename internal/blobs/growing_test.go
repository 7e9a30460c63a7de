package blobs

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func growing(t *testing.T, dir string) (*Dir, *Growing) {
	d, err := Open(dir)
	require.NoError(t, err)
	g, err := OpenGrowing(d)
	require.NoError(t, err)
	t.Cleanup(func() { g.Close() })
	return d, g
}

func contents(t require.TestingT, d *Dir, hash string) string {
	f, err := d.Get(hash)
	require.NoError(t, err)
	defer f.Close()
	b, err := io.ReadAll(f)
	require.NoError(t, err)
	return string(b)
}

func TestAFileGrowsAndIsStoredByItsContents(t *testing.T) {
	d, g := growing(t, t.TempDir())
	for _, c := range []struct {
		at, have int64
		piece    string
	}{{0, 4, "tide"}, {9, 4, "gap"}, {-1, 4, "x"}, {4, 9, " high"}, {4, 9, " high"}, {0, 9, "T"}} {
		have, err := g.Put("s1", "log", c.at, 100, []byte(c.piece))
		require.NoError(t, err)
		assert.Equal(t, c.have, have, c.piece)
	}
	all, err := g.Of("s1")
	require.NoError(t, err)
	assert.Equal(t, []Grown{{"log", 9}}, all)

	hash, size, err := g.Settle("s1", "log", hashOf("Tide high"))
	require.NoError(t, err)
	assert.Equal(t, hashOf("Tide high"), hash)
	assert.EqualValues(t, 9, size)
	assert.Equal(t, "Tide high", contents(t, d, hash))
	_, _, err = g.Settle("s1", "log", "")
	assert.ErrorIs(t, err, fs.ErrNotExist, "it is no longer growing")
}

func TestAFileThatIsNotWhatItShouldBeIsDropped(t *testing.T) {
	d, g := growing(t, t.TempDir())
	_, err := g.Put("s1", "log", 0, 100, []byte("tide"))
	require.NoError(t, err)
	_, _, err = g.Settle("s1", "log", hashOf("something else"))
	require.ErrorIs(t, err, ErrHash)
	assert.False(t, d.Has(hashOf("tide")))
	have, err := g.Put("s1", "log", 4, 100, []byte("!"))
	require.NoError(t, err)
	assert.Zero(t, have, "it begins anew")
}

func TestWhatGrowsHasALimit(t *testing.T) {
	_, g := growing(t, t.TempDir())
	_, err := g.Put("s1", "log", 0, 5, []byte("berth"))
	require.NoError(t, err)
	var large *TooLarge
	have, err := g.Put("s1", "log", 5, 5, []byte("!"))
	require.ErrorAs(t, err, &large)
	assert.EqualValues(t, 5, have, "what was there stays")
}

func TestGrowingFilesStayAmongThemselves(t *testing.T) {
	dir := t.TempDir()
	_, g := growing(t, dir)
	outside := filepath.Join(dir, "secret")
	require.NoError(t, os.WriteFile(outside, []byte("kept"), 0o600))
	for _, at := range [][2]string{{"..", "secret"}, {"s1", "../../secret"}, {"../..", "x"}, {"s1", "../../../x"}, {"", "/etc/hostname"}} {
		_, err := g.Put(at[0], at[1], 0, 100, []byte("gotcha"))
		assert.Error(t, err, "%v", at)
		_, _, err = g.Settle(at[0], at[1], "")
		assert.Error(t, err, "%v", at)
	}
	kept, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(kept))
}

func TestWhatWasGrowingIsKnownAgainAndDropped(t *testing.T) {
	dir := t.TempDir()
	_, first := growing(t, dir)
	for _, owner := range []string{"s1", "s2"} {
		_, err := first.Put(owner, "log", 0, 10, []byte(owner))
		require.NoError(t, err)
	}
	_, g := growing(t, dir)
	owners, err := g.Owners()
	require.NoError(t, err)
	assert.Equal(t, []string{"s1", "s2"}, owners)
	require.NoError(t, g.Drop("s1"))
	require.NoError(t, g.Drop("s1"), "twice is no error")
	left, err := g.Of("s1")
	require.NoError(t, err)
	assert.Empty(t, left)
	owners, err = g.Owners()
	require.NoError(t, err)
	assert.Equal(t, []string{"s2"}, owners)
}

// In whatever pieces a file comes, again or out of place, the answers lead the
// sender to the whole of it.
func TestPiecesAlwaysComeToTheWhole(t *testing.T) {
	d, g := growing(t, t.TempDir())
	rapid.Check(t, func(t *rapid.T) {
		whole := rapid.SliceOfN(rapid.Byte(), 0, 300).Draw(t, "whole")
		require.NoError(t, g.Drop("s"))
		have, err := g.Put("s", "f", 0, 1000, nil)
		require.NoError(t, err)
		for have < int64(len(whole)) {
			at := rapid.Int64Range(0, int64(len(whole))).Draw(t, "at")
			to := rapid.Int64Range(at, int64(len(whole))).Draw(t, "to")
			was := have
			have, err = g.Put("s", "f", at, 1000, whole[at:to])
			require.NoError(t, err)
			require.GreaterOrEqual(t, have, was)
			if at > was {
				require.Equal(t, was, have, "no gap is left")
				have, err = g.Put("s", "f", was, 1000, whole[was:to])
				require.NoError(t, err)
			}
		}
		_, _, err = g.Settle("s", "f", hashOf(string(whole)))
		require.NoError(t, err)
		require.Equal(t, string(whole), contents(t, d, hashOf(string(whole))))
	})
}
