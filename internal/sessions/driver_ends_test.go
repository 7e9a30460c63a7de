package sessions

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/webdriver"
)

// A driver that never answers a script of the lab's does not keep the client
// waiting for ever: the session ends, and says why.
func TestADriverThatIsStuckEndsItsSession(t *testing.T) {
	p, err := process.Start(process.Command{Path: "sleep", Args: []string{"1000"}})
	require.NoError(t, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json; charset=utf-8")
		switch {
		case strings.HasSuffix(r.URL.Path, "/alert/text"):
			w.WriteHeader(http.StatusNotFound)
			_, _ = w.Write([]byte(`{"value":{"error":"no such alert","message":"","stacktrace":""}}`))
		case strings.HasSuffix(r.URL.Path, "/execute/sync"):
			<-p.Done() // a driver's connections end with it
			panic(http.ErrAbortHandler)
		default:
			_, _ = w.Write([]byte(`{"value":{"sessionId":"s","capabilities":{}}}`))
		}
	}))
	t.Cleanup(srv.Close)
	inst := &engine.Instance{URL: srv.URL, Display: &process.Display{}}
	inst.Own(p)
	defer inst.Close()
	s := &Session{inst: inst, tap: newTap(inst), patience: 50 * time.Millisecond, Browser: fleet.Browser{Driver: "/usr/bin/WebKitWebDriver"}}
	s.Client = webdriver.NewClient(srv.URL, &http.Client{Transport: s.tap})
	s.Session, err = s.Client.New(t.Context(), nil)
	require.NoError(t, err)
	r := &Recording{s: s, video: &video{}}
	r.onDisplay(t.Context(), &exchange{method: "POST", path: "/element/e/click"})
	assert.ErrorContains(t, s.Programs(), "WebKitWebDriver does not answer any more: a dialog opened just as the page was asked")
}

// A driver that ends over the end of its session has done what it was asked for.
func TestADriverThatEndsWithItsSession(t *testing.T) {
	p, err := process.Start(process.Command{Path: "sleep", Args: []string{"1000"}})
	require.NoError(t, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			_, _ = w.Write([]byte(`{"value":{"sessionId":"s","capabilities":{}}}`))
			return
		}
		if r.URL.Path == "/session/s" {
			p.Stop(0)
		}
		panic(http.ErrAbortHandler)
	}))
	t.Cleanup(srv.Close)
	inst := &engine.Instance{URL: srv.URL}
	inst.Own(p)
	defer inst.Close()
	s := &Session{inst: inst, tap: newTap(inst)}
	s.Client = webdriver.NewClient(srv.URL, &http.Client{Transport: s.tap})
	s.Session, err = s.Client.New(t.Context(), nil)
	require.NoError(t, err)
	_, err = s.Forward(t.Context(), "GET", "/title", nil)
	assert.Error(t, err, "of another command nobody knows what became of it")
	a, err := s.Forward(t.Context(), "DELETE", "", nil)
	require.NoError(t, err)
	assert.Equal(t, []any{200, `{"value":null}`}, []any{a.Status, string(a.Body)})
	assert.True(t, s.Deleted())
}
