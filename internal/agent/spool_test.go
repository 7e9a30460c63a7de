package agent

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

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/sessions"
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

func spooled(t *testing.T, s *spool, id string, fence int64) {
	t.Helper()
	f, err := s.file(id, "agent.log", "log", "text/plain", []byte("the same for all"))
	require.NoError(t, err)
	require.NoError(t, s.add(link.Result{ID: id, Fence: fence, Verdict: verdict.Failed, Files: []attempt.File{f}}, nil))
}

func TestResultsWaitUntilTheServiceHasThem(t *testing.T) {
	o, dir := newOffice(t), t.TempDir()
	s, err := openSpool(dir)
	require.NoError(t, err)
	spooled(t, s, "02", 7)
	spooled(t, s, "01", 7)
	up := newUpstream(o.URL, "t")
	o.say(503)
	require.Error(t, s.send(t.Context(), up, quietLog, func(int64) {}))
	assert.True(t, s.holds(7), "a service in trouble gets them later")

	s, err = openSpool(dir) // the agent was started again
	require.NoError(t, err)
	assert.Equal(t, []int64{7}, s.fences())
	o.say(0)
	var sent []int64
	require.NoError(t, s.send(t.Context(), up, quietLog, func(f int64) { sent = append(sent, f) }))
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
		s, err := openSpool(dir)
		require.NoError(t, err)
		spooled(t, s, "01", 7)
		o.mu.Lock()
		o.status, o.patience = status, 1
		o.mu.Unlock()
		require.NoError(t, s.send(t.Context(), newUpstream(o.URL, "t"), quietLog, func(int64) {}))
		require.Len(t, o.results, 1)
		assert.Equal(t, verdict.Failed, o.results[0].Verdict)
		assert.Empty(t, o.results[0].Files)
		assert.Contains(t, o.results[0].Detail.Cut[0], "the service refused it: status "+strconv.Itoa(status))
		assert.Empty(t, files(t, dir))
	}
}

func TestAVerdictThatIsRefusedForGoodIsSetAside(t *testing.T) {
	o, dir := newOffice(t), t.TempDir()
	s, err := openSpool(dir)
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	o.say(422)
	require.NoError(t, s.send(t.Context(), newUpstream(o.URL, "t"), quietLog, func(int64) {}))
	assert.False(t, s.holds(7), "nothing waits for it")
	assert.Contains(t, strings.Join(files(t, dir), " "), "01.json.refused")
}

// A refusal that has nothing to do with the result itself may pass.
func TestOtherRefusalsAreTriedAgain(t *testing.T) {
	for _, status := range []int{401, 403, 404, 409, 429, 500, 503} {
		o := newOffice(t)
		s, err := openSpool(t.TempDir())
		require.NoError(t, err)
		spooled(t, s, "01", 7)
		o.say(status)
		require.Error(t, s.send(t.Context(), newUpstream(o.URL, "t"), quietLog, func(int64) {}), status)
		assert.True(t, s.holds(7), status)
	}
}

func TestResultsOfAnEndedLeaseAreDropped(t *testing.T) {
	s, err := openSpool(t.TempDir())
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	spooled(t, s, "02", 8)
	s.discard(7)
	assert.Equal(t, []int64{8}, s.fences())
	assert.Len(t, files(t, s.dir), 2)
}

func TestALostFileDoesNotLoseTheVerdict(t *testing.T) {
	o := newOffice(t)
	s, err := openSpool(t.TempDir())
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	blobs, err := filepath.Glob(filepath.Join(s.dir, "blobs", "*"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(blobs[0]))
	require.NoError(t, s.send(t.Context(), newUpstream(o.URL, "t"), quietLog, func(int64) {}))
	require.Len(t, o.results, 1)
	assert.Empty(t, o.results[0].Files)
}

func TestAFileThatIsRefusedIsSaid(t *testing.T) {
	o := newOffice(t)
	o.tooLarge = true
	s, err := openSpool(t.TempDir())
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	require.NoError(t, s.send(t.Context(), newUpstream(o.URL, "t"), quietLog, func(int64) {}))
	require.Len(t, o.results, 1)
	assert.Equal(t, verdict.Failed, o.results[0].Verdict)
	assert.Contains(t, o.results[0].Detail.Cut[0], "the file agent.log: the service refused it")
}

func TestSafeName(t *testing.T) {
	assert.Equal(t, "..-..-etc-passwd", safeName("../../etc/passwd"))
	assert.Equal(t, "na-me.png", safeName("na\nme.png"))
}

func TestReadWithinStaysInside(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("x"), 0o600))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(dir, "link")))
	_, err := readWithin(dir, "a")
	require.NoError(t, err)
	for _, bad := range []string{"../a", "/etc/hostname", "link"} {
		_, err := readWithin(dir, bad)
		assert.Error(t, err, bad)
	}
}

// A script that takes more screenshots than a result holds keeps the first of
// them, and says so.
func TestAnAttemptHasALimitOfCaptures(t *testing.T) {
	s, err := openSpool(t.TempDir())
	require.NoError(t, err)
	at := &execution{agent: &Agent{spool: s}, result: link.Result{ID: "01"}}
	assert.Equal(t, "seen.png", at.Shot("seen", nil))
	assert.Equal(t, "seen-2.png", at.Shot("seen", nil), "two captures of one name get a number")
	assert.Equal(t, "seen-2-2.png", at.Shot("seen-2", nil), "and nothing gets a name that is taken")
	assert.Equal(t, "seen-3.png", at.Shot("seen", nil))
	for i := range maxCaptures {
		at.Shot(fmt.Sprint("shot-", i), []byte("png"))
	}
	assert.Len(t, at.result.Files, maxCaptures)
	assert.Contains(t, string(at.notes()), "shot-249 was not kept: an attempt has at most 250 captures")
	assert.Less(t, maxCaptures+sessions.MaxShots+10, attempt.MaxFiles)
}

// An agent that was killed between a result's files and the result leaves the
// files; they go when the next one starts.
func TestASpoolsOrphansGoAtItsStart(t *testing.T) {
	dir := t.TempDir()
	s, err := openSpool(dir)
	require.NoError(t, err)
	spooled(t, s, "01", 7)
	_, err = s.file("02", "agent.log", "log", "text/plain", []byte("its result was never written"))
	require.NoError(t, err)
	old := filepath.Join(dir, "00.json"+refusedSuffix)
	for _, half := range []string{filepath.Join(dir, ".new-1"), filepath.Join(dir, "blobs", ".new-2"), old} {
		require.NoError(t, os.WriteFile(half, []byte("half"), 0o600))
	}
	require.NoError(t, os.Chtimes(old, time.Time{}, time.Now().Add(-8*24*time.Hour)))
	s, err = openSpool(dir)
	require.NoError(t, err)
	assert.Equal(t, []int64{7}, s.fences())
	assert.Len(t, files(t, dir), 2, "the result that waits and its file")
}

// Bundles that nothing has used for long go; one that is in use, or was a moment
// ago, stays.
func TestBundlesUnusedForLongGo(t *testing.T) {
	b := &bundles{dir: t.TempDir()}
	long := time.Now().Add(-bundleLife - time.Hour)
	for i, name := range []string{"unused", "in use", "fresh", "new-1"} {
		require.NoError(t, os.MkdirAll(filepath.Join(b.dir, name, "t"), 0o755))
		if i != 2 {
			require.NoError(t, os.Chtimes(filepath.Join(b.dir, name), long, long))
		}
	}
	b.using = map[string]int{"in use": 1}
	require.NoError(t, b.sweep(time.Now()))
	entries, err := os.ReadDir(b.dir)
	require.NoError(t, err)
	var left []string
	for _, e := range entries {
		left = append(left, e.Name())
	}
	assert.Equal(t, []string{"fresh", "in use"}, left)
}
