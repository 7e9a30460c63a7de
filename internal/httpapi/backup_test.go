package httpapi_test

import (
	"archive/tar"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/keep"
	"parallelpane/internal/service"
)

// kept is a service with a run that has ended, a recording, and a run that goes on.
func kept(t *testing.T) *yard {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	bundle := x.bundle()
	x.run(api.RunRequest{Bundle: bundle, Matrix: "wall", Tests: []string{"Tide"}})
	film := []byte("a film of the tide")
	for range 2 {
		s := h.next()
		require.Equal(t, 204, x.do("PUT", fmt.Sprintf("/api/v1/agent/files/%s?fence=%d", hashOf(film), s.Fence), x.agent, film).status)
		h.result(s, 0, verdict.Passed, attempt.File{Name: "video.webm", Kind: "video", Media: "video/webm", Hash: hashOf(film), Size: 18})
	}
	x.ended(1)
	x.run(api.RunRequest{Bundle: bundle, Matrix: "wall", Tests: []string{"Berth"}})
	return x
}

// A backup is made while the service runs; what is restored of it is a service as it
// was, with a token for its admin. One that is cut off anywhere, or holds something
// else, leaves nothing behind.
func TestBackupAndRestore(t *testing.T) {
	x := kept(t)
	assert.Equal(t, 403, x.do("GET", "/api/v1/backup", x.as("gull", in(api.Everywhere, api.Keeper)), nil).status)
	a := x.do("GET", "/api/v1/backup", x.token, nil)
	require.Equal(t, 200, a.status)
	dir := filepath.Join(t.TempDir(), "again")
	head, end, err := service.Restore(t.Context(), bytes.NewReader(a.body), dir)
	require.NoError(t, err)
	assert.Equal(t, []any{"test", 2}, []any{head.Version, end.Contents}, "a bundle and a film")
	report, err := keep.Check(t.Context(), dir, true, nil)
	require.NoError(t, err)
	assert.Equal(t, api.DataReport{Runs: 2, Contents: 2}, report)
	_, err = os.Stat(filepath.Join(dir, "secrets.key"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, _, err = service.Restore(t.Context(), bytes.NewReader(a.body), dir)
	assert.ErrorContains(t, err, "is not empty")

	y := startOn(t, dir)
	for n := 1; n <= 2; n++ {
		var before, after api.Run
		x.get(fmt.Sprintf("/runs/%d", n), &before)
		y.get(fmt.Sprintf("/runs/%d", n), &after)
		assert.Equal(t, before.Counts, after.Counts)
	}
	assert.Equal(t, 200, y.do("GET", "/api/v1/runs", x.token, nil).status, "the tokens are those that there were")

	for _, at := range []int{0, 100, 600, len(a.body) / 3, len(a.body) / 2, len(a.body) - 2000} {
		to := filepath.Join(t.TempDir(), "cut")
		_, _, err := service.Restore(t.Context(), bytes.NewReader(a.body[:at]), to)
		assert.Error(t, err, at)
		left, err := os.ReadDir(filepath.Dir(to))
		require.NoError(t, err)
		assert.Empty(t, left, at)
	}
	for _, name := range []string{"../escaped", "/etc/passwd", "blobs/aa/x", "secrets.key", "blobs/00/../../x"} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, body := range [][2]string{{"backup.json", `{"format":1}`}, {name, "x"}} {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: body[0], Typeflag: tar.TypeReg, Size: int64(len(body[1])), Mode: 0o600}))
			_, _ = w.Write([]byte(body[1]))
		}
		require.NoError(t, w.Close())
		to := filepath.Join(t.TempDir(), "bad")
		_, _, err := service.Restore(t.Context(), &b, to)
		assert.Error(t, err, name)
		_, err = os.Stat(to)
		assert.ErrorIs(t, err, os.ErrNotExist, name)
	}
}

// Damage is found and said; what is not damaged can be used.
func TestDataThatIsDamaged(t *testing.T) {
	x := kept(t)
	x.stop()
	film := hashOf([]byte("a film of the tide"))
	path := filepath.Join(x.dir, "blobs", film[:2], film)
	require.NoError(t, os.WriteFile(path, []byte("a film of the ebb!"), 0o600))
	report, err := keep.Check(t.Context(), x.dir, true, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"the contents " + film + " are others than their name says"}, report.Findings)
	require.NoError(t, os.Remove(path))
	report, err = keep.Check(t.Context(), x.dir, true, nil)
	require.NoError(t, err)
	assert.Equal(t, []any{0, 1, []string{film}}, []any{report.Wrong, report.Gone, report.Missing})

	// A page of the records that is overwritten costs what it held.
	db := filepath.Join(x.dir, "pane.db")
	raw, err := os.ReadFile(db)
	require.NoError(t, err)
	for i := len(raw) - 4096; i < len(raw); i++ {
		raw[i] ^= 0xff
	}
	require.NoError(t, os.WriteFile(db, raw, 0o600))
	report, err = keep.Check(t.Context(), x.dir, false, nil)
	require.NoError(t, err)
	assert.Positive(t, report.Wrong)
	_, err = keep.Check(t.Context(), t.TempDir(), false, nil)
	assert.ErrorContains(t, err, "there are no records in")
}
