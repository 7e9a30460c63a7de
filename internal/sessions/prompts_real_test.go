package sessions

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/webdriver"
)

// driverGone is the panic of a story whose driver ended in the middle.
type driverGone struct{ error }

// told is what a session answers to the commands about dialogs, a line each. WebKit's
// driver crashes now and then, recorded or not (a null pointer of its own, every few
// hundred sessions): what it was to tell is then told by another one.
func told(t *testing.T, open func() *Session, site string, with func(*Session) (done func())) (lines []string) {
	t.Helper()
	try := func() (lines []string, gone bool) {
		s := open()
		defer with(s)()
		defer func() {
			if p := recover(); p != nil {
				e, is := p.(driverGone)
				if !is || s.Browser.Name != "webkitgtk" {
					panic(p)
				}
				t.Log("WebKit's driver crashed:", e)
				gone = true
			}
		}()
		return story(t, s, site), false
	}
	for range 4 {
		lines, gone := try()
		if !gone {
			return lines
		}
	}
	require.Fail(t, "WebKit's driver crashed four times in a row")
	return nil
}

// eventually waits for something in the same goroutine.
func eventually(t *testing.T, limit time.Duration, is func() bool) {
	t.Helper()
	for end := time.Now().Add(limit); !is(); time.Sleep(20 * time.Millisecond) {
		require.True(t, time.Now().Before(end), "it never was so")
	}
}

// story is what one session answers.
func story(t *testing.T, s *Session, site string) (lines []string) {
	t.Helper()
	said := func(method, path, body string) (status int, value json.RawMessage) {
		a, err := s.Forward(t.Context(), method, path, []byte(body))
		if err != nil {
			panic(driverGone{err})
		}
		var v struct{ Value json.RawMessage }
		require.NoError(t, json.Unmarshal(a.Body, &v), "%s", a.Body)
		return a.Status, v.Value
	}
	tell := func(method, path, body string) json.RawMessage {
		status, v := said(method, path, body)
		var e webdriver.Error
		_ = json.Unmarshal(v, &e)
		line := fmt.Sprintf("%s %s: %d %s", method, path, status, e.Code)
		if path == "/title" || path == "/alert/text" || path == "/execute/sync" {
			if status == http.StatusOK {
				line += string(v)
			}
		}
		lines = append(lines, line)
		return v
	}
	dialog := func(script string) {
		raw, _ := json.Marshal(map[string]any{"script": "setTimeout(() => { window.got = " + script + " }, 0)", "args": []any{}})
		said("POST", "/execute/sync", string(raw))
		eventually(t, 5*time.Second, func() bool { status, _ := said("GET", "/alert/text", ""); return status == 200 })
	}
	var home string
	require.NoError(t, json.Unmarshal(tell("GET", "/window", ""), &home))
	tell("POST", "/url", `{"url":"`+site+`/tides"}`)
	for _, script := range []string{"alert('Low')", "confirm('Sail?')", "prompt('Boat?')"} {
		dialog(script)
		tell("GET", "/title", "")
		tell("POST", "/execute/sync", `{"script":"return String(window.got)","args":[]}`)
		tell("GET", "/alert/text", "")
		if status, _ := said("GET", "/alert/text", ""); status == 200 {
			tell("POST", "/alert/accept", "{}")
		}
		tell("GET", "/title", "")
	}
	for _, script := range []string{"alert('Low')", "setTimeout(() => alert('Late'), 40)"} { // of a click, at once and a little later
		raw, _ := json.Marshal(map[string]any{"script": "document.title = 'open'; document.getElementById('boat').onclick = () => { " +
			script + " }", "args": []any{}})
		said("POST", "/execute/sync", string(raw))
		_, v := said("POST", "/element", `{"using":"css selector","value":"#boat"}`)
		var e map[string]string
		require.NoError(t, json.Unmarshal(v, &e))
		tell("POST", "/element/"+e[webdriver.WebElementIdentifier]+"/click", "{}")
		lines[len(lines)-1] = "clicked"
		eventually(t, 15*time.Second, func() bool { status, _ := said("GET", "/alert/text", ""); return status == 200 })
		tell("POST", "/alert/accept", "{}")
		tell("GET", "/title", "")
		tell("POST", "/execute/sync", `{"script":"return 1","args":[]}`)
	}
	var made struct{ Handle string }
	require.NoError(t, json.Unmarshal(tell("POST", "/window/new", `{"type":"window"}`), &made))
	tell("POST", "/window", `{"handle":"`+made.Handle+`"}`)
	tell("POST", "/url", `{"url":"`+site+`/pier"}`)
	dialog("alert('Gone')")
	tell("DELETE", "/window", "")
	if status, _ := said("GET", "/alert/text", ""); status == 200 {
		tell("POST", "/alert/accept", "{}")
	}
	tell("DELETE", "/window", "")
	tell("POST", "/window", `{"handle":"`+home+`"}`)
	tell("GET", "/title", "")
	tell("POST", "/url", `{"url":"`+site+`/asks"}`)
	var e map[string]string
	require.NoError(t, json.Unmarshal(tell("POST", "/element", `{"using":"css selector","value":"#boat"}`), &e))
	tell("POST", "/element/"+e[webdriver.WebElementIdentifier]+"/value", `{"text":"Tern"}`)
	lines[len(lines)-1] = "typed" // the element has another id in each session
	tell("POST", "/url", `{"url":"`+site+`/next"}`)
	tell("GET", "/title", "")
	return lines
}

// What a client sees of dialogs is the same whether its session is recorded or not:
// under each handler, with each kind, in a second window, and of pages that ask
// before they are left. PANE_THOROUGH asks for every handler.
func TestDialogsOfRecordedSessionsAreAsTheDriverHasThem(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<title>%s</title><input id=boat>
<script>if (location.pathname == "/asks") addEventListener("beforeunload", (e) => { e.preventDefault();
e.returnValue = "1"; });</script>`, r.URL.Path[1:])
	}))
	t.Cleanup(site.Close)
	for name, f := range map[string]engine.Family{"chromium": chromium.Family{}, "gecko": gecko.Family{}, "webkit": webkit.Family{}} {
		handlers := []any{"ignore"}
		thorough := os.Getenv("PANE_THOROUGH") != ""
		if name == "chromium" || thorough {
			handlers = append(handlers, nil)
		}
		if thorough {
			handlers = append(handlers, "dismiss", "accept", "dismiss and notify", "accept and notify")
		}
		for _, handler := range handlers {
			t.Run(fmt.Sprintf("%s/%v", name, handler), func(t *testing.T) {
				caps := webdriver.Capabilities{}
				if handler != nil {
					caps["unhandledPromptBehavior"] = handler
				}
				want := told(t, func() *Session { return somebodyElses(t, f, Request{Asked: caps}) }, site.URL,
					func(s *Session) func() { return s.Close })
				all := record.Policy{}
				for _, k := range record.Kinds {
					all[k] = record.Always
				}
				got := told(t, func() *Session {
					return somebodyElses(t, f, Request{Asked: caps, Watch: true, Pictures: true, Film: true})
				}, site.URL, func(s *Session) func() {
					rec, err := s.Record(t.Context(), all, nil, filepath.Join(t.TempDir(), "rec"), time.Now())
					require.NoError(t, err)
					return func() { rec.End(verdict.Ended); s.Close() }
				})
				assert.Equal(t, want, got)
			})
		}
	}
}

// An extension capability that no engine knows, and a webSocketUrl that is not
// wanted, refuse nobody.
func TestCapabilitiesThatSayNothingToAnyEngine(t *testing.T) {
	for name, f := range map[string]engine.Family{"chromium": chromium.Family{}, "gecko": gecko.Family{}, "webkit": webkit.Family{}} {
		t.Run(name, func(t *testing.T) {
			s := somebodyElses(t, f, Request{Asked: webdriver.Capabilities{"test:extension": map[string]any{"key": "value"}, "webSocketUrl": false}})
			assert.NotContains(t, s.Given(), "webSocketUrl")
			status, _ := said(t, s, "GET", "/title", "")
			assert.Equal(t, 200, status)
		})
	}
}
