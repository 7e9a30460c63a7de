//go:build linux

package sessions

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/webdriver"
)

// What a page has the browser save is kept with the session.
func TestRealDownloadsAreKept(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/tides.csv" {
			w.Header().Set("Content-Type", "text/csv")
			w.Header().Set("Content-Disposition", `attachment; filename="tides of the day.csv"`)
			_, _ = w.Write([]byte("high,06:12\n"))
			return
		}
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(`<!doctype html><a id=a href="/tides.csv">Tides</a>`))
	}))
	t.Cleanup(site.Close)
	for _, f := range []engine.Family{chromium.Family{}, gecko.Family{}} {
		t.Run(f.Name(), func(t *testing.T) {
			s := somebodyElses(t, f, Request{Asked: webdriver.Capabilities{}})
			rec, err := s.Record(t.Context(), record.Policy{record.Downloads: record.Always}, nil, filepath.Join(t.TempDir(), "rec"), time.Now())
			require.NoError(t, err)
			said(t, s, "POST", "/url", `{"url":"`+site.URL+`/"}`)
			said(t, s, "POST", "/execute/sync", `{"script":"document.getElementById('a').click()","args":[]}`)
			saved := filepath.Join(s.home(), engine.Downloads)
			require.Eventually(t, func() bool {
				raw, err := os.ReadFile(filepath.Join(saved, "tides of the day.csv"))
				return err == nil && len(raw) > 0
			}, 15*time.Second, 50*time.Millisecond)
			made := rec.End(verdict.Passed)
			require.Len(t, made, 1, "%v", rec.Missing())
			assert.Equal(t, []any{"download-tides-of-the-day.csv", record.Downloads}, []any{made[0].Name, made[0].Kind})
			raw, err := os.ReadFile(made[0].Path)
			require.NoError(t, err)
			assert.Equal(t, "high,06:12\n", string(raw))
		})
	}
}

// What a session puts in place of its downloads leads the agent nowhere.
func TestDownloadsThatAreNone(t *testing.T) {
	conformance.Browser(t, chromium.Family{})
	s := somebodyElses(t, chromium.Family{}, Request{Asked: webdriver.Capabilities{}})
	outside := filepath.Join(t.TempDir(), "agent.key")
	require.NoError(t, os.WriteFile(outside, []byte("the agent's"), 0o600))
	dir := filepath.Join(s.home(), engine.Downloads)
	end := func() ([]Made, []Missing) {
		rec, err := s.Record(t.Context(), record.Policy{record.Downloads: record.Always}, nil, filepath.Join(t.TempDir(), "rec"), time.Now())
		require.NoError(t, err)
		return rec.End(verdict.Passed), rec.Missing()
	}
	require.NoError(t, os.RemoveAll(dir))
	made, missing := end()
	assert.Empty(t, made)
	assert.Empty(t, missing, "most sessions save nothing")
	require.NoError(t, os.Symlink(filepath.Dir(outside), dir))
	made, _ = end()
	assert.Empty(t, made, "a link out of the home")
	require.NoError(t, os.Remove(dir))
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "a")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "b"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "c"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "d.crdownload"), nil, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "é.txt"), []byte("fine"), 0o644))
	large, err := os.Create(filepath.Join(dir, "f"))
	require.NoError(t, err)
	require.NoError(t, large.Truncate(maxDownloadBytes+1))
	large.Close()
	made, missing = end()
	require.Len(t, made, 1)
	assert.Equal(t, "download--.txt", made[0].Name)
	require.Len(t, missing, 1)
}
