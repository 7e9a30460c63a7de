package spool

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/blobs"
	"parallelpane/internal/client"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/link"
)

// warehouse is a service that takes pieces, with faults of the way there.
type warehouse struct {
	*httptest.Server
	grown *blobs.Growing
	up    *upstream.Service
	next  atomic.Int64 // fault of the next piece: see below
	bytes atomic.Int64 // that came
}

const (
	noFault    = iota
	lostBefore // the connection breaks before the piece is written
	lostAfter  // and after it
	forgetful  // the service has lost what it had
	refuses    // it takes no more pieces
)

func newWarehouse(t *testing.T) *warehouse {
	d, err := blobs.Open(t.TempDir())
	require.NoError(t, err)
	w := &warehouse{}
	w.grown, err = blobs.OpenGrowing(d)
	require.NoError(t, err)
	mux := http.NewServeMux()
	mux.HandleFunc("PUT /api/v1/agent/sessions/{id}/files/{name}", func(rw http.ResponseWriter, r *http.Request) {
		fault := w.next.Swap(noFault)
		body, _ := io.ReadAll(r.Body)
		w.bytes.Add(int64(len(body)))
		at, _ := strconv.ParseInt(r.URL.Query().Get("at"), 10, 64)
		switch fault {
		case lostBefore:
			panic(http.ErrAbortHandler)
		case refuses:
			http.Error(rw, `{"detail":"it is not open"}`, http.StatusNotFound)
			return
		case forgetful:
			_ = w.grown.Drop(r.PathValue("id"))
		}
		have, err := w.grown.Put(r.PathValue("id"), r.PathValue("name"), at, 1<<30, body)
		if err != nil || fault == lostAfter {
			panic(http.ErrAbortHandler)
		}
		_ = json.NewEncoder(rw).Encode(link.Grown{Have: have})
	})
	w.Server = httptest.NewServer(mux)
	w.up = upstream.New(w.URL, "", nil, "")
	t.Cleanup(func() { w.Close(); w.grown.Close() })
	return w
}

func (w *warehouse) trickle(id string) *Trickle {
	return &Trickle{up: w.up, id: id, fence: 7, files: map[string]*sent{}}
}

func hashOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// However a file grows, is written over, and is lost on the way: after the end
// the service has it as it is.
func TestAFileArrivesWhateverHappens(t *testing.T) {
	w, dir := newWarehouse(t), t.TempDir()
	sessions := 0
	rapid.Check(t, func(t *rapid.T) {
		sessions++
		tr := w.trickle(fmt.Sprint("s", sessions))
		path := filepath.Join(dir, tr.id)
		var whole []byte
		write := func() { require.NoError(t, os.WriteFile(path, whole, 0o600)) }
		send := func() error {
			f, err := os.Open(path)
			require.NoError(t, err)
			defer f.Close()
			return tr.Grow(t.Context(), "log", f)
		}
		write()
		t.Repeat(map[string]func(*rapid.T){
			"grows": func(t *rapid.T) {
				whole = append(whole, rapid.SliceOfN(rapid.Byte(), 1, 100).Draw(t, "more")...)
				write()
				w.next.Store(rapid.Int64Range(noFault, forgetful).Draw(t, "fault"))
				_ = send()
				w.next.Store(noFault)
			},
			"head is written over": func(t *rapid.T) {
				if len(whole) > 0 {
					whole = slices.Concat([]byte{rapid.Byte().Draw(t, "head")}, whole[1:])
					write()
				}
			},
		})
		require.NoError(t, tr.finish(t.Context(), "log", path))
		if tr.files["log"] == nil || len(whole) == 0 {
			return // it never began to grow
		}
		_, _, err := w.grown.Settle(tr.id, "log", hashOf(whole))
		require.NoError(t, err)
	})
}

func TestOnlyWhatIsNewIsSent(t *testing.T) {
	w := newWarehouse(t)
	tr := w.trickle("s")
	path := filepath.Join(t.TempDir(), "video.webm")
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	for range 3 {
		_, err = f.Write(make([]byte, 1000))
		require.NoError(t, err)
		require.NoError(t, tr.Grow(t.Context(), "video.webm", f))
	}
	require.NoError(t, tr.Grow(t.Context(), "video.webm", f))
	assert.EqualValues(t, 3000, w.bytes.Load())
	_, err = f.WriteAt([]byte("length"), 100)
	require.NoError(t, err)
	_, err = f.WriteAt([]byte("index"), 3000)
	require.NoError(t, err)
	require.NoError(t, tr.finish(t.Context(), "video.webm", path))
	assert.EqualValues(t, 4005, w.bytes.Load(), "the piece that was written over, and the end")
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	_, _, err = w.grown.Settle("s", "video.webm", hashOf(raw))
	require.NoError(t, err)
	require.NoError(t, tr.finish(t.Context(), "other.log", path), "what had not been growing is left alone")
	assert.EqualValues(t, 4005, w.bytes.Load())
}

func TestPiecesAreOfALimitedSize(t *testing.T) {
	w := newWarehouse(t)
	tr := w.trickle("s")
	path := filepath.Join(t.TempDir(), "video.webm")
	whole := make([]byte, 2*attempt.MaxPiece+1)
	whole[2*attempt.MaxPiece] = 1
	require.NoError(t, os.WriteFile(path, whole, 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, tr.Grow(t.Context(), "video.webm", f))
	assert.Len(t, tr.files["video.webm"].pieces, 3)
	_, _, err = w.grown.Settle("s", "video.webm", hashOf(whole))
	require.NoError(t, err)
}

func TestAServiceThatRefusesPiecesGetsTheWhole(t *testing.T) {
	w := newWarehouse(t)
	tr := w.trickle("s")
	path := filepath.Join(t.TempDir(), "log")
	require.NoError(t, os.WriteFile(path, []byte("tide"), 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	w.next.Store(refuses)
	var refused *client.Error
	require.ErrorAs(t, tr.Grow(t.Context(), "log", f), &refused)
	assert.Equal(t, http.StatusNotFound, refused.Status)
}

func TestAServiceThatHasMoreGetsTheWhole(t *testing.T) {
	w := newWarehouse(t)
	tr := w.trickle("s")
	_, err := w.grown.Put("s", "log", 0, 100, []byte("tide and more"))
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "log")
	require.NoError(t, os.WriteFile(path, []byte("tide"), 0o600))
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	assert.ErrorIs(t, tr.Grow(t.Context(), "log", f), errAhead, "and not asked for again and again")
}
