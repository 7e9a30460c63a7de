package cli

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/verdict"
)

// lateService takes a run and is asked to wait before it says its number. Interrupt is called between the two.
type lateService struct {
	interrupt context.CancelFunc

	mu    sync.Mutex
	calls []string
}

func (l *lateService) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	_, _ = io.Copy(io.Discard, req.Body)
	call := req.Method + " " + strings.TrimPrefix(req.URL.Path, "/api/v1")
	l.mu.Lock()
	l.calls = append(l.calls, call)
	l.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	switch call {
	case "POST /runs", "POST /runs/6/again", "POST /presets/nightly/run":
		l.interrupt()
		select {
		case <-req.Context().Done(): // the client did not wait
			return
		case <-time.After(200 * time.Millisecond):
		}
		_, _ = io.WriteString(w, `{"number":7,"state":"running"}`)
	default:
		_, _ = io.WriteString(w, `{}`)
	}
}

func (l *lateService) cancelled() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range l.calls {
		if c == "POST /runs/7/cancel" {
			return true
		}
	}
	return false
}

func TestAnInterruptBeforeTheNumberIsKnownCancelsTheRun(t *testing.T) {
	dir := t.TempDir()
	for name, body := range map[string]string{
		"pane.yaml":      "project: saltmarsh\nsuites: {quay: {scripts: \"*.pane.yaml\"}}\nmatrices: {all: {axes: {browser: [gannet]}}}\n",
		"tide.pane.yaml": "name: The tide turns\nsteps:\n  - visit: /\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(body), 0o600))
	}
	for _, args := range [][]string{{"run", "--dir", dir}, {"again", "6"}, {"preset", "run", "nightly"}} {
		t.Run(args[0], func(t *testing.T) {
			ctx, interrupt := context.WithCancel(t.Context())
			defer interrupt()
			late := &lateService{interrupt: interrupt}
			srv := httptest.NewServer(late)
			defer srv.Close()
			t.Setenv("PANE_SERVICE", srv.URL)
			t.Setenv("PANE_TOKEN", "pane_none")
			var out, errs bytes.Buffer
			code := Run(ctx, Build{Version: "test"}, args, &out, &errs)
			assert.Equal(t, verdict.ExitInterrupted, code, errs.String())
			assert.Contains(t, errs.String(), "run #7 is cancelled")
			assert.True(t, late.cancelled(), late.calls)
		})
	}
}
