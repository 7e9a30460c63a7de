package shelf

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/find"
	"parallelpane/internal/link"
	"parallelpane/internal/sessions"
)

// harbour is a service that stocks browsers, and an agent's shelf.
type harbour struct {
	t     *testing.T
	shelf *Shelf
	mu    sync.Mutex
	list  link.Stock
	packs map[string][]byte
	cut   int // bytes after which the next download breaks off; 0 for none
	asked []string
	now   find.Found

	disturbed atomic.Int32 // starts that fail, whatever the browser
}

// browser is an archive of a browser and a driver that opens nothing, or of none.
func packOf(t *testing.T, files map[string]string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	out := tar.NewWriter(z)
	for name, content := range files {
		require.NoError(t, out.WriteHeader(&tar.Header{Name: name, Mode: 0o755, Size: int64(len(content))}))
		_, err := io.WriteString(out, content)
		require.NoError(t, err)
	}
	require.NoError(t, out.Close())
	require.NoError(t, z.Close())
	return b.Bytes()
}

const script = "#!/bin/sh\necho Chromium 150.0.7871.100\n"

// one is a Chromium of version 150 whose driver is somebody's, or a program that ends.
func one(driver string) map[string]string {
	return map[string]string{"chrome-linux/chrome": script, "chrome-linux/chromedriver": driver}
}

const dead = "#!/bin/sh\necho ChromeDriver 150.0.7871.100\n"

func open(t *testing.T, fits bool) *harbour {
	h := &harbour{t: t, packs: map[string][]byte{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /api/v1/agent/stock", func(w http.ResponseWriter, _ *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		_ = json.NewEncoder(w).Encode(h.list)
	})
	mux.HandleFunc("GET /api/v1/agent/stock/{hash}", func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		raw, cut := h.packs[r.PathValue("hash")], h.cut
		h.asked = append(h.asked, r.Header.Get("Range"))
		h.cut = 0
		h.mu.Unlock()
		if from, ok := strings.CutPrefix(r.Header.Get("Range"), "bytes="); ok {
			n, _ := strconv.Atoi(strings.TrimSuffix(from, "-"))
			raw = raw[n:]
			w.WriteHeader(http.StatusPartialContent)
		}
		if cut > 0 {
			_, _ = w.Write(raw[:cut])
			_ = http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler)
		}
		_, _ = w.Write(raw)
	})
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	dir := t.TempDir()
	host, err := sessions.NewHost(filepath.Join(dir, "sessions"), slog.New(slog.DiscardHandler), family{fits: fits, fails: &h.disturbed})
	require.NoError(t, err)
	host.Bare = true
	host.Machine = find.Here()
	host.Machine.Root, host.Machine.Path = "/nowhere", nil
	host.Machine.Own = []string{filepath.Join(dir, "browsers")}
	h.shelf = New(Config{Host: host, Up: upstream.New(srv.URL, "secret", nil, ""), Dir: filepath.Join(dir, "stock"),
		Every:   10 * time.Millisecond,
		Willing: true, Idle: func() bool { return true }, Slot: h.slot, Log: slog.New(slog.DiscardHandler),
		Changed: func(_ context.Context, f find.Found) {
			h.mu.Lock()
			defer h.mu.Unlock()
			h.now = f
		}})
	return h
}

// family opens nothing; a session on it succeeds or fails as it is told.
type family struct {
	chromium.Family
	fits  bool
	fails *atomic.Int32 // starts that are disturbed first
}

func (f family) Launch(ctx context.Context, o engine.Options) (*engine.Instance, error) {
	if !f.fits || f.fails.Add(-1) >= 0 {
		return nil, io.ErrUnexpectedEOF
	}
	inst := engine.NewInstance(&o)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		value := `null`
		switch {
		case r.URL.Path == "/session":
			value = `{"sessionId":"one","capabilities":{"browserVersion":"` + o.Browser.Version + `"}}`
		case strings.HasSuffix(r.URL.Path, "/title"):
			value = `"It opens"`
		case strings.HasSuffix(r.URL.Path, "/rect"):
			value = `{"x":0,"y":0,"width":1280,"height":800}`
		case strings.HasSuffix(r.URL.Path, "/execute/async"):
			value = `[1280,800]`
		}
		_, _ = io.WriteString(w, `{"value":`+value+`}`)
	}))
	inst.URL = srv.URL
	inst.Cleanup(srv.Close)
	return inst, nil
}

func (h *harbour) slot(context.Context, bool) (func(), bool) { return func() {}, true }

func (h *harbour) stock(id string, raw []byte) {
	sum := sha256.Sum256(raw)
	hash := hex.EncodeToString(sum[:])
	h.mu.Lock()
	defer h.mu.Unlock()
	h.packs[hash] = raw
	h.list.Revision += "+"
	h.list.Items = append(h.list.Items, link.StockItem{ID: id, Name: id, Archives: []link.StockArchive{{Name: id + ".tar.gz", Hash: hash,
		Size: int64(len(raw))}}})
	h.shelf.Wanted(h.list.Revision)
}

func (h *harbour) drop() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.list.Revision, h.list.Items = h.list.Revision+"-", nil
	h.shelf.Wanted(h.list.Revision)
}

func (h *harbour) run() (stop func()) {
	ctx, cancel := context.WithCancel(h.t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		h.shelf.Run(ctx)
	}()
	stop = sync.OnceFunc(func() { cancel(); <-done })
	h.t.Cleanup(stop)
	return stop
}

func (h *harbour) state(id string) (st link.StockState) {
	for _, s := range h.shelf.States() {
		if s.ID == id {
			st = s
		}
	}
	return st
}

func (h *harbour) becomes(id, state string) {
	h.t.Helper()
	require.Eventually(h.t, func() bool { return h.state(id).State == state }, 20*time.Second, 5*time.Millisecond, "%s", state)
}

func (h *harbour) browsers() []fleet.Browser {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.now.Browsers
}

// From nothing to offered, over a download that breaks off; and away again, but not while
// a session is open on it.
func TestAStockedBrowserComesAndGoes(t *testing.T) {
	h := open(t, true)
	h.cut = 100
	h.run()
	h.stock("first", packOf(t, one(dead)))
	h.becomes("first", offered)
	h.mu.Lock()
	assert.Equal(t, []string{"", "bytes=100-"}, h.asked, "it went on where it broke off")
	h.mu.Unlock()
	require.Eventually(t, func() bool { b := h.browsers(); return len(b) == 1 && b[0].Fits }, 20*time.Second, 5*time.Millisecond)
	b := h.browsers()[0]
	assert.Equal(t, "150.0.7871.100", b.Version)
	s, err := h.shelf.Host.Open(t.Context(), sessions.Request{Browser: b, Asked: map[string]any{}, Bare: true})
	require.NoError(t, err)
	h.drop()
	require.Eventually(t, func() bool { return len(h.shelf.States()) == 0 }, 20*time.Second, 5*time.Millisecond)
	assert.FileExists(t, b.Path, "somebody uses it")
	s.Close()
	require.Eventually(t, func() bool { return len(h.browsers()) == 0 }, 20*time.Second, 5*time.Millisecond)
	assert.NoFileExists(t, b.Path)
	left, err := os.ReadDir(h.shelf.Host.Machine.Own[0])
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What cannot be used is refused with the reason, is not on disk, and is not tried again by
// the next agent of the directory.
func TestAStockedBrowserThatIsNone(t *testing.T) {
	h := open(t, false)
	stop := h.run()
	h.stock("nothing", packOf(t, map[string]string{"readme": "hello"}))
	h.stock("dead", packOf(t, one(dead)))
	h.becomes("nothing", refused)
	h.becomes("dead", refused)
	assert.Contains(t, h.state("nothing").Why, "there is no browser and no driver")
	assert.Contains(t, h.state("dead").Why, "chromium 150.0.7871.100: a trial start failed")
	left, err := os.ReadDir(h.shelf.Host.Machine.Own[0])
	require.NoError(t, err)
	assert.Empty(t, left)
	stop()
	asked := len(h.asked)
	h.shelf = New(h.shelf.Config)
	h.shelf.Wanted(h.list.Revision)
	h.run()
	h.becomes("dead", refused)
	h.becomes("nothing", refused)
	assert.Len(t, h.asked, asked)
}

// A trial that something else disturbs is no reason to leave a browser out.
func TestADisturbedTrial(t *testing.T) {
	h := open(t, true)
	h.disturbed.Store(trials - 1)
	h.run()
	h.stock("first", packOf(t, one(dead)))
	h.becomes("first", offered)
}

// What comes altered is thrown away and fetched anew; a name that leads elsewhere is
// refused before anything is.
func TestArchivesThatComeAltered(t *testing.T) {
	h := open(t, true)
	raw := packOf(t, one(dead))
	h.stock("altered", raw)
	hash := h.list.Items[0].Archives[0].Hash
	h.packs[hash] = bytes.Repeat([]byte("x"), len(raw))
	h.list.Items = append(h.list.Items, link.StockItem{ID: "evil", Archives: []link.StockArchive{{Name: "../../evil", Hash: hash}}})
	h.run()
	h.becomes("evil", refused)
	require.Eventually(t, func() bool { return strings.Contains(h.state("altered").Why, "tried again") }, 20*time.Second, 5*time.Millisecond)
	h.mu.Lock()
	h.packs[hash] = raw
	h.mu.Unlock()
	h.becomes("altered", offered)
}

// Somebody puts a browser into the directory by hand: it is offered when it was tried.
func TestABrowserThatSomebodyAdds(t *testing.T) {
	h := open(t, true)
	h.run()
	dir := filepath.Join(h.shelf.Host.Machine.Own[0], "mine")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, ".."), 0o755))
	tmp := filepath.Join(t.TempDir(), "mine")
	require.NoError(t, os.MkdirAll(tmp, 0o755))
	for name, content := range map[string]string{"chrome": script, "chromedriver": dead} {
		require.NoError(t, os.WriteFile(filepath.Join(tmp, name), []byte(content), 0o755))
	}
	require.NoError(t, os.Rename(tmp, dir))
	require.Eventually(t, func() bool { b := h.browsers(); return len(b) == 1 && b[0].Fits }, 20*time.Second, 5*time.Millisecond)
	untried := New(Config{Host: h.shelf.Host, Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler)}).Known(h.shelf.Host.Found(t.Context()))
	assert.False(t, untried.Browsers[0].Fits)
	assert.Equal(t, Untried, untried.Browsers[0].Problem)
}
