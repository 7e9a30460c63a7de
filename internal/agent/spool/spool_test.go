package spool

import (
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
)

// office is a service that takes results, or refuses them with a status.
type office struct {
	*httptest.Server
	mu       sync.Mutex
	status   int
	tooLarge bool // every file is
	patience int  // so many answers have the status; 0 means all
	results  []link.Result
	files    map[string]string
}

func newOffice(t *testing.T) *office {
	o := &office{files: map[string]string{}}
	mux := http.NewServeMux()
	mux.HandleFunc("PUT /api/v1/agent/files/{hash}", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.status != 0 && o.patience == 0 || o.tooLarge {
			w.WriteHeader(max(o.status, 413))
			return
		}
		o.files[r.PathValue("hash")] = string(body)
	})
	mux.HandleFunc("POST /api/v1/agent/results", func(w http.ResponseWriter, r *http.Request) {
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.status != 0 {
			w.WriteHeader(o.status)
			fmt.Fprint(w, `{"detail":"not now"}`)
			if o.patience--; o.patience == 0 {
				o.status = 0
			}
			return
		}
		var res link.Result
		_ = json.NewDecoder(r.Body).Decode(&res)
		o.results = append(o.results, res)
		fmt.Fprint(w, `{"accepted":true}`)
	})
	o.Server = httptest.NewServer(mux)
	t.Cleanup(o.Close)
	return o
}

func (o *office) say(status int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.status = status
}

var quietLog = slog.New(slog.DiscardHandler)

func spooled(t *testing.T, s *Spool, id string, fence int64) {
	t.Helper()
	f, err := s.File(id, "agent.log", "log", "text/plain", []byte("the same for all"))
	require.NoError(t, err)
	require.NoError(t, s.Add(link.Result{ID: id, Fence: fence, Verdict: verdict.Failed, Files: []attempt.File{f}}, nil))
}

func TestResultsWaitUntilTheServiceHasThem(t *testing.T) {
	o, dir := newOffice(t), t.TempDir()
	s, err := Open(dir)
	require.NoError(t, err)
	spooled(t, s, "02", 7)
	spooled(t, s, "01", 7)
	up := upstream.New(o.URL, "t", nil, "")
	o.say(503)
	require.Error(t, s.Send(t.Context(), up, quietLog, func(int64) {}))
	assert.True(t, s.Holds(7), "a service in trouble gets them later")

	s, err = Open(dir) // the agent was started again
	require.NoError(t, err)
	assert.Equal(t, []int64{7}, s.Fences())
	o.say(0)
	var sent []int64
	require.NoError(t, s.Send(t.Context(), up, quietLog, func(f int64) { sent = append(sent, f) }))
	assert.Equal(t, []int64{7, 7}, sent)
	require.Len(t, o.results, 2)
	assert.Equal(t, "01", o.results[0].ID, "oldest first")
	assert.Len(t, o.results[1].Files, 1, "sending one does not take the files of the other")
	assert.Len(t, o.files, 1)
	assert.Empty(t, files(t, dir), "nothing stays on disk")
}

func files(t *testing.T, dir string) (names []string) {
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if !e.IsDir() {
			names = append(names, p)
		}
		return err
	}))
	return names
}

// Whatever the service does not like of a result, its verdict arrives.
func TestAVerdictArrivesWhenTheRestIsRefused(t *testing.T) {
	for _, status := range []int{400, 413, 422} {
		o, dir := newOffice(t), t.TempDir()
		s, err := Open(dir)
		require.NoError(t, err)
		spooled(t, s, "01", 7)
		o.mu.Lock()
		o.status, o.patience = status, 1
		o.mu.Unlock()
		require.NoError(t, s.Send(t.Context(), upstream.New(o.URL, "t", nil, ""), quietLog, func(int64) {}))
		require.Len(t, o.results, 1)
		assert.Equal(t, verdict.Failed, o.results[0].Verdict)
		assert.Empty(t, o.results[0].Files)
		assert.Contains(t, o.results[0].Detail.Cut[0], "the service refused it: status "+strconv.Itoa(status))
		assert.Empty(t, files(t, dir))
	}
}

func TestAVerdictThatIsRefusedForGoodIsSetAside(t *testing.T) {
	o, dir := newOffice(t), t.TempDir()
	s, err := Open(dir)
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	o.say(422)
	require.NoError(t, s.Send(t.Context(), upstream.New(o.URL, "t", nil, ""), quietLog, func(int64) {}))
	assert.False(t, s.Holds(7), "nothing waits for it")
	assert.Contains(t, strings.Join(files(t, dir), " "), "01.json.refused")
}

// A refusal that has nothing to do with the result itself may pass.
func TestOtherRefusalsAreTriedAgain(t *testing.T) {
	for _, status := range []int{401, 403, 404, 409, 429, 500, 503} {
		o := newOffice(t)
		s, err := Open(t.TempDir())
		require.NoError(t, err)
		spooled(t, s, "01", 7)
		o.say(status)
		require.Error(t, s.Send(t.Context(), upstream.New(o.URL, "t", nil, ""), quietLog, func(int64) {}), status)
		assert.True(t, s.Holds(7), status)
	}
}

func TestResultsOfAnEndedLeaseAreDropped(t *testing.T) {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	spooled(t, s, "02", 8)
	s.Discard(7)
	assert.Equal(t, []int64{8}, s.Fences())
	assert.Len(t, files(t, s.dir), 2)
}

func TestALostFileDoesNotLoseTheVerdict(t *testing.T) {
	o := newOffice(t)
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	blobs, err := filepath.Glob(filepath.Join(s.dir, "blobs", "*"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(blobs[0]))
	require.NoError(t, s.Send(t.Context(), upstream.New(o.URL, "t", nil, ""), quietLog, func(int64) {}))
	require.Len(t, o.results, 1)
	assert.Empty(t, o.results[0].Files)
}

func TestAFileThatIsRefusedIsSaid(t *testing.T) {
	o := newOffice(t)
	o.tooLarge = true
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	require.NoError(t, s.Send(t.Context(), upstream.New(o.URL, "t", nil, ""), quietLog, func(int64) {}))
	require.Len(t, o.results, 1)
	assert.Equal(t, verdict.Failed, o.results[0].Verdict)
	assert.Contains(t, o.results[0].Detail.Cut[0], "the file agent.log: the service refused it")
}

func TestSafeName(t *testing.T) {
	assert.Equal(t, "..-..-etc-passwd", SafeName("../../etc/passwd"))
	assert.Equal(t, "na-me.png", SafeName("na\nme.png"))
}

// An agent that was killed between a result's files and the result leaves the
// files; they go when the next one starts.
func TestASpoolsOrphansGoAtItsStart(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	_, err = s.File("02", "agent.log", "log", "text/plain", []byte("its result was never written"))
	require.NoError(t, err)
	old := filepath.Join(dir, "00.json"+refusedSuffix)
	for _, half := range []string{filepath.Join(dir, ".new-1"), filepath.Join(dir, "blobs", ".new-2"), old} {
		require.NoError(t, os.WriteFile(half, []byte("half"), 0o600))
	}
	require.NoError(t, os.Chtimes(old, time.Time{}, time.Now().Add(-8*24*time.Hour)))
	s, err = Open(dir)
	require.NoError(t, err)
	assert.Equal(t, []int64{7}, s.Fences())
	assert.Len(t, files(t, dir), 2, "the result that waits and its file")
}
