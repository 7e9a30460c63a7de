package sessions

import (
	"context"
	"encoding/json"
	"log/slog"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/recording"
	"parallelpane/internal/recording/hartest"
	"parallelpane/internal/webdriver"
)

// desk is a page with a form, a message on the console and an uncaught error.
func desk(t *testing.T) *httptest.Server {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/tide.json" {
			w.Header().Set("Content-Type", "application/json")
			_, _ = w.Write([]byte(`{"high":"06:12"}`))
			return
		}
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(`<!doctype html><title>Quay</title><h1 id=h>Quay</h1><form method=post><input name=boat></form>
			<script>console.warn("low tide"); fetch("/tide.json").then(r => r.json()).then(t => { document.title = t.high });
setTimeout(() => { throw new Error("adrift") }, 10)</script>`))
	}))
	t.Cleanup(s.Close)
	return s
}

// said sends a command as somebody else's client would.
func said(t *testing.T, s *Session, method, path, body string) (status int, value json.RawMessage) {
	t.Helper()
	a, err := s.Forward(t.Context(), method, path, []byte(body))
	require.NoError(t, err)
	var v struct{ Value json.RawMessage }
	require.NoError(t, json.Unmarshal(a.Body, &v), "%s", a.Body)
	return a.Status, v.Value
}

// somebodyElses opens a session for a client that is not the lab's own.
func somebodyElses(t *testing.T, f engine.Family, r Request) *Session {
	t.Helper()
	r.Browser, r.Bare = conformance.Browser(t, f), true
	h, err := NewHost(filepath.Join(t.TempDir(), "sessions"), slog.New(slog.DiscardHandler), f)
	require.NoError(t, err)
	r.Device, err = device.Find("")
	require.NoError(t, err)
	s, err := h.Open(t.Context(), r)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func TestRealSessionsAreRecorded(t *testing.T) {
	site := desk(t)
	for _, f := range []engine.Family{chromium.Family{}, gecko.Family{}, webkit.Family{}} {
		t.Run(f.Name(), func(t *testing.T) {
			s := somebodyElses(t, f, Request{Asked: webdriver.Capabilities{}, Watch: true, Pictures: true})
			given := s.Given()
			assert.NotContains(t, given, "webSocketUrl", "what the lab asks for itself is not the client's")
			assert.Equal(t, "dismiss and notify", given["unhandledPromptBehavior"])

			all := record.Policy{}
			for _, k := range record.Kinds {
				all[k] = record.Always
			}
			began := time.Now()
			rec, err := s.Record(t.Context(), all, nil, filepath.Join(t.TempDir(), "rec"), began)
			require.NoError(t, err)
			said(t, s, "POST", "/url", `{"url":"`+site.URL+`/?boat=Osprey"}`)
			require.Eventually(t, func() bool { _, v := said(t, s, "GET", "/title", ""); return string(v) == `"06:12"` },
				10*time.Second, 50*time.Millisecond)
			status, v := said(t, s, "POST", "/element", `{"using":"css selector","value":"#none"}`)
			assert.Equal(t, 404, status)
			assert.Contains(t, string(v), webdriver.NoSuchElement)

			// A dialog that nobody handles: the next command dismisses it and says so; then
			// all is well. One that is handled stays until it is.
			said(t, s, "POST", "/execute/sync", `{"script":"setTimeout(() => confirm('Sail?'), 0)","args":[]}`)
			require.Eventually(t, func() bool { status, _ := said(t, s, "GET", "/alert/text", ""); return status == 200 },
				5*time.Second, 20*time.Millisecond)
			status, v = said(t, s, "GET", "/title", "")
			assert.Equal(t, 500, status)
			assert.Contains(t, string(v), webdriver.UnexpectedAlertOpen)
			status, _ = said(t, s, "GET", "/title", "")
			assert.Equal(t, 200, status)

			require.Eventually(t, func() bool { return time.Since(began) > 3*time.Second }, 10*time.Second, 10*time.Millisecond)
			rec.Last()
			length := time.Since(began)
			files := map[string]string{}
			for _, m := range rec.End(verdict.Failed) {
				files[m.Name] = m.Path
			}
			missing := map[record.Kind]bool{}
			for _, m := range rec.Missing() {
				missing[m.Kind] = true
				t.Log("not recorded:", m)
			}

			commands := read[recording.Command](t, files[recording.CommandsFile])
			assert.Equal(t, "Navigate To", commands[0].Name)
			last := 0.0
			for i, c := range commands {
				assert.Equal(t, i+1, c.Number)
				assert.GreaterOrEqual(t, c.AtMS, last)
				last = c.AtMS
			}
			assert.InDelta(t, length.Seconds(), seconds(t, files[recording.VideoFile]), 0.5, "the video is as long as the session")
			if f.Name() == "webkit" {
				assert.Equal(t, map[record.Kind]bool{record.Console: true, "network of https": true}, missing, "what an engine cannot record is said")
			} else {
				assert.Empty(t, missing)
			}
			raw, err := os.ReadFile(files[recording.NetworkFile])
			require.NoError(t, err)
			require.NoError(t, hartest.Check(raw))
			var har recording.HAR
			require.NoError(t, json.Unmarshal(raw, &har))
			bodies := map[string]string{}
			for _, e := range har.Log.Entries {
				bodies[strings.TrimPrefix(e.Request.URL, site.URL)] = e.Response.Content.Text
				assert.GreaterOrEqual(t, e.AtMS, 0.0)
				assert.LessOrEqual(t, e.AtMS, ms(length))
			}
			assert.Equal(t, `{"high":"06:12"}`, bodies["/tide.json"])
			assert.Contains(t, bodies["/?boat=Osprey"], "<title>Quay</title>")
			if f.Name() == "webkit" {
				return
			}
			var texts []string
			for _, l := range read[recording.Line](t, files[recording.ConsoleFile]) {
				texts = append(texts, l.Level+" "+l.Source)
			}
			assert.ElementsMatch(t, []string{"warn console", "error javascript"}, texts)
		})
	}
}

func read[T any](t *testing.T, path string) []T {
	t.Helper()
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	items, err := recording.Read[T](f)
	require.NoError(t, err)
	require.NotEmpty(t, items)
	return items
}

// seconds is how long a video is, by another program's reading.
func seconds(t *testing.T, path string) float64 {
	t.Helper()
	out, err := exec.Command("ffprobe", "-v", "error", "-show_entries", "format=duration", "-of", "csv=p=0", path).Output()
	require.NoError(t, err)
	s, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
	require.NoError(t, err)
	return math.Abs(s)
}

func TestATakenSessionHoldsItsClientsCommands(t *testing.T) {
	h, _ := host(t, &family{})
	s, err := h.Open(t.Context(), Request{Browser: h.Found(t.Context()).Browsers[0], Device: phone(t)})
	require.NoError(t, err)
	defer s.Close()
	_, err = s.ReachIn("tern")
	require.NoError(t, err)
	who, err := s.ReachIn("gull")
	assert.ErrorIs(t, err, ErrReached)
	assert.Equal(t, "tern", who)
	assert.Zero(t, s.Idle(), "a session that somebody has taken is not idle")
	assert.False(t, s.Forsaken(time.Hour))
	assert.True(t, s.Forsaken(0), "but it may be forsaken")
	done := make(chan error, 1)
	go func() { _, err := s.Windows(context.Background()); done <- err }()
	_, err = s.Windows(By(t.Context(), "tern"))
	require.NoError(t, err, "who has taken it may act")
	_, err = s.Windows(Quiet(t.Context()))
	require.NoError(t, err, "so may the lab's housekeeping")
	select {
	case <-done:
		t.Fatal("the client's command was not held")
	default:
	}
	s.LetGo()
	assert.NoError(t, <-done)
	ctx, cancel := context.WithCancel(t.Context())
	_, err = s.ReachIn("tern")
	require.NoError(t, err)
	cancel()
	_, err = s.Windows(ctx)
	assert.ErrorIs(t, err, context.Canceled, "a client that goes away waits no longer")
	s.LetGo()
}
