package sessions

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/process"
)

// family launches nothing but a remote end that opens sessions, or fails as the
// test says.
type family struct {
	fail    error
	refuse  bool
	ended   bool
	options engine.Options
	linger  atomic.Int32 // reads for which cookies that were deleted are still there
	visited atomic.Int32 // reads that were left when the next page was opened
}

func (*family) Name() string { return "gecko" }
func (*family) Find(context.Context) []fleet.Browser {
	return []fleet.Browser{{Name: "firefox", Engine: "gecko", Version: "9", Fits: true}}
}
func (f *family) Launch(_ context.Context, o engine.Options) (*engine.Instance, error) {
	f.options = o
	if f.fail != nil {
		return nil, f.fail
	}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /session", func(w http.ResponseWriter, _ *http.Request) {
		if f.refuse {
			w.WriteHeader(500)
			fmt.Fprint(w, `{"value":{"error":"session not created","message":"no","stacktrace":""}}`)
			return
		}
		fmt.Fprint(w, `{"value":{"sessionId":"s","capabilities":{}}}`)
	})
	mux.HandleFunc("POST /session/s/window/rect", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"value":{"width":390,"height":860}}`)
	})
	mux.HandleFunc("POST /session/s/execute/async", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"value":[390,844]}`) })
	mux.HandleFunc("GET /session/s/window/handles", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"value":["w"]}`) })
	mux.HandleFunc("POST /session/s/window", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"value":null}`) })
	mux.HandleFunc("DELETE /session/s/cookie", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"value":null}`) })
	mux.HandleFunc("GET /session/s/cookie", func(w http.ResponseWriter, _ *http.Request) {
		if f.linger.Add(-1) >= 0 {
			fmt.Fprint(w, `{"value":[{"name":"tide","value":"high"}]}`)
			return
		}
		fmt.Fprint(w, `{"value":[]}`)
	})
	mux.HandleFunc("POST /session/s/url", func(w http.ResponseWriter, _ *http.Request) {
		f.visited.Store(f.linger.Load())
		fmt.Fprint(w, `{"value":null}`)
	})
	mux.HandleFunc("DELETE /session/s", func(w http.ResponseWriter, _ *http.Request) { f.ended = true; fmt.Fprint(w, `{"value":null}`) })
	srv := httptest.NewServer(mux)
	inst := &engine.Instance{URL: srv.URL}
	p, err := process.Start(process.Command{Log: o.Log, Env: []string{process.SessionEnv(o.Dir)}, Path: "sleep", Args: []string{"1000"}})
	if err != nil {
		return nil, err
	}
	inst.Own(p)
	inst.Cleanup(srv.Close)
	return inst, nil
}

func host(t *testing.T, f *family) (*Host, string) {
	dir := filepath.Join(t.TempDir(), "sessions")
	h, err := NewHost(dir, slog.New(slog.DiscardHandler), f)
	require.NoError(t, err)
	return h, dir
}

func empty(t *testing.T, dir string) {
	t.Helper()
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func phone(t *testing.T) device.Profile {
	p, err := device.Find("phone")
	require.NoError(t, err)
	return p
}

func TestASessionFromOpenToClose(t *testing.T) {
	f := &family{}
	h, dir := host(t, f)
	b := h.Found(t.Context()).Browsers[0]
	s, err := h.Open(t.Context(), Request{Browser: b, Device: phone(t), Headed: true})
	require.NoError(t, err)
	assert.True(t, f.options.Headed)
	assert.Contains(t, s.Outcome.Applied, "viewport 390×844")
	assert.Equal(t, []device.Missing{{Feature: "touch", Reason: engine.ErrNoCommand.Error()}, {Feature: "orientation portrait",
		Reason: engine.ErrNoCommand.Error()}}, s.Outcome.Missing)
	assert.NoError(t, s.Gone(t.Context()))
	s.Close()
	assert.True(t, f.ended)
	assert.ErrorContains(t, s.Gone(t.Context()), "sleep is gone")
	empty(t, dir)
}

// A driver may answer that cookies are deleted before they are: the next test's page is
// opened when they are gone, or it would lose its own.
func TestCookiesAreGoneBeforeTheNextTest(t *testing.T) {
	f := &family{}
	h, _ := host(t, f)
	s, err := h.Open(t.Context(), Request{Browser: h.Found(t.Context()).Browsers[0], Device: phone(t)})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	f.linger.Store(5)
	require.NoError(t, s.Reset(t.Context()))
	assert.Negative(t, f.visited.Load())
}

func TestNoSessionIsTheLabsFaultAndLeavesNothing(t *testing.T) {
	for name, f := range map[string]*family{"launch": {fail: errors.New("no such driver")}, "refused": {refuse: true}} {
		h, dir := host(t, f)
		_, err := h.Open(t.Context(), Request{Browser: h.Found(t.Context()).Browsers[0], Device: phone(t)})
		var start *StartError
		require.ErrorAs(t, err, &start, name)
		assert.ErrorContains(t, err, "firefox 9 would not start: ")
		empty(t, dir)
	}
	h, _ := host(t, &family{})
	_, err := h.Open(t.Context(), Request{Browser: fleet.Browser{Name: "x", Engine: "other"}})
	assert.ErrorContains(t, err, `this agent has no engine "other"`)
	_, err = h.Open(t.Context(), Request{Browser: fleet.Browser{Engine: "gecko", Problem: "driver 1 does not fit"}})
	assert.ErrorContains(t, err, "driver 1 does not fit")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = h.Open(ctx, Request{Browser: h.Found(t.Context()).Browsers[0], Device: phone(t)})
	var start *StartError
	assert.False(t, errors.As(err, &start), "being told to stop is nobody's fault: %v", err)
}

func TestANewHostEndsWhatAnOlderOneLeft(t *testing.T) {
	h, dir := host(t, &family{})
	s, err := h.Open(t.Context(), Request{Browser: h.Found(t.Context()).Browsers[0], Device: phone(t)})
	require.NoError(t, err)
	_, err = NewHost(dir, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	empty(t, dir)
	require.Eventually(t, func() bool { return s.Gone(t.Context()) != nil }, 5*time.Second, 5*time.Millisecond)
}
