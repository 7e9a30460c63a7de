package webdriver

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// remote is a remote end that answers every command with one value and keeps
// what it was asked.
type remote struct {
	*httptest.Server
	method, path, body string
	status             int
	answer             string
}

func newRemote(t *testing.T) *remote {
	r := &remote{status: 200, answer: `{"value":null}`}
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		raw, _ := io.ReadAll(req.Body)
		r.method, r.path, r.body = req.Method, req.URL.EscapedPath(), string(raw)
		w.WriteHeader(r.status)
		fmt.Fprint(w, r.answer)
	}))
	t.Cleanup(r.Close)
	return r
}

// Every command is sent as the endpoint table of W3C WebDriver section 6.4 has
// it.
func TestCommands(t *testing.T) {
	r := newRemote(t)
	s := &Session{ID: "s 1", client: NewClient(r.URL+"/", nil)}
	e := Element("e/1")
	ref := `{"` + WebElementIdentifier + `":"e/1"}`
	for _, tc := range []struct {
		call               func(context.Context) (any, error)
		method, path, body string
		value              string
		want               any
	}{
		{func(ctx context.Context) (any, error) { return nil, s.Navigate(ctx, "http://a") }, "POST", "/url", `{"url":"http://a"}`, "null", nil},
		{func(ctx context.Context) (any, error) { return s.URL(ctx) }, "GET", "/url", "", `"http://a"`, "http://a"},
		{func(ctx context.Context) (any, error) { return s.Title(ctx) }, "GET", "/title", "", `"T"`, "T"},
		{func(ctx context.Context) (any, error) { return s.Source(ctx) }, "GET", "/source", "", `"<p>"`, "<p>"},
		{func(ctx context.Context) (any, error) { return s.Find(ctx, "xpath", "//p") }, "POST", "/element",
			`{"using":"xpath","value":"//p"}`, ref, e},
		{func(ctx context.Context) (any, error) { return s.FindAll(ctx, "css selector", "p") }, "POST", "/elements",
			`{"using":"css selector","value":"p"}`, "[" + ref + "]", []Element{e}},
		{func(ctx context.Context) (any, error) { return nil, s.Click(ctx, e) }, "POST", "/element/e%2F1/click", `{}`, "null", nil},
		{func(ctx context.Context) (any, error) { return nil, s.Clear(ctx, e) }, "POST", "/element/e%2F1/clear", `{}`, "null", nil},
		{func(ctx context.Context) (any, error) { return nil, s.SendKeys(ctx, e, "ü") }, "POST", "/element/e%2F1/value",
			`{"text":"ü"}`, "null", nil},
		{func(ctx context.Context) (any, error) { return s.Text(ctx, e) }, "GET", "/element/e%2F1/text", "", `"x"`, "x"},
		{func(ctx context.Context) (any, error) { return s.Property(ctx, e, "a b") }, "GET", "/element/e%2F1/property/a%20b", "", `7`, 7.0},
		{func(ctx context.Context) (any, error) { return s.Attribute(ctx, e, "href") }, "GET", "/element/e%2F1/attribute/href", "", `null`, nil},
		{func(ctx context.Context) (any, error) {
			var v int
			err := s.Execute(ctx, "return 1", &v, 2)
			return v, err
		}, "POST", "/execute/sync", `{"args":[2],"script":"return 1"}`, "1", 1},
		{func(ctx context.Context) (any, error) { return nil, s.ExecuteAsync(ctx, "x", nil) }, "POST", "/execute/async",
			`{"args":[],"script":"x"}`, "null", nil},
		{func(ctx context.Context) (any, error) { return s.Screenshot(ctx) }, "GET", "/screenshot", "", `"aGk="`, []byte("hi")},
		{func(ctx context.Context) (any, error) { return s.Cookies(ctx) }, "GET", "/cookie", "", `[{"name":"a","value":"b"}]`,
			[]Cookie{{Name: "a", Value: "b"}}},
		{func(ctx context.Context) (any, error) { return nil, s.AddCookie(ctx, Cookie{Name: "a", Value: "b"}) }, "POST", "/cookie",
			`{"cookie":{"name":"a","value":"b"}}`, "null", nil},
		{func(ctx context.Context) (any, error) { return nil, s.DeleteCookies(ctx) }, "DELETE", "/cookie", "", "null", nil},
		{func(ctx context.Context) (any, error) { return s.WindowRect(ctx) }, "GET", "/window/rect", "",
			`{"x":1,"y":2,"width":3,"height":4}`, Rect{1, 2, 3, 4}},
		{func(ctx context.Context) (any, error) { return s.SetWindowRect(ctx, Rect{1, 2, 3, 4}) }, "POST", "/window/rect",
			`{"x":1,"y":2,"width":3,"height":4}`, `{"width":5}`, Rect{Width: 5}},
		{func(ctx context.Context) (any, error) { return s.Window(ctx) }, "GET", "/window", "", `"w"`, "w"},
		{func(ctx context.Context) (any, error) { return s.Windows(ctx) }, "GET", "/window/handles", "", `["w"]`, []string{"w"}},
		{func(ctx context.Context) (any, error) { return s.NewWindow(ctx, "tab") }, "POST", "/window/new", `{"type":"tab"}`,
			`{"handle":"x","type":"tab"}`, "x"},
		{func(ctx context.Context) (any, error) { return nil, s.SwitchTo(ctx, "w") }, "POST", "/window", `{"handle":"w"}`, "null", nil},
		{func(ctx context.Context) (any, error) { return s.CloseWindow(ctx) }, "DELETE", "/window", "", `["w"]`, []string{"w"}},
		{func(ctx context.Context) (any, error) { return s.AlertText(ctx) }, "GET", "/alert/text", "", `"!"`, "!"},
		{func(ctx context.Context) (any, error) { return nil, s.AcceptAlert(ctx) }, "POST", "/alert/accept", `{}`, "null", nil},
		{func(ctx context.Context) (any, error) {
			return nil, s.SetTimeouts(ctx, Timeouts{Script: 1, PageLoad: 2})
		}, "POST", "/timeouts", `{"script":1,"pageLoad":2,"implicit":0}`, "null", nil},
		{func(ctx context.Context) (any, error) {
			return nil, s.Perform(ctx, Action{Type: "key", ID: "k", Actions: []map[string]any{{"type": "pause"}}})
		}, "POST", "/actions", `{"actions":[{"type":"key","id":"k","actions":[{"type":"pause"}]}]}`, "null", nil},
		{func(ctx context.Context) (any, error) { return nil, s.Close(ctx) }, "DELETE", "", "", "null", nil},
	} {
		r.answer = `{"value":` + tc.value + `}`
		got, err := tc.call(t.Context())
		require.NoError(t, err, tc.path)
		assert.Equal(t, tc.want, got, tc.path)
		assert.Equal(t, tc.method+" /session/s%201"+tc.path, r.method+" "+r.path)
		if tc.body == "" {
			assert.Empty(t, r.body, tc.path)
		} else {
			assert.JSONEq(t, tc.body, r.body, tc.path)
		}
	}
}

func TestNewSession(t *testing.T) {
	r := newRemote(t)
	r.answer = `{"value":{"sessionId":"s","capabilities":{"browserName":"x","webSocketUrl":"ws://a"}}}`
	s, err := NewClient(r.URL, nil).New(t.Context(), Capabilities{"browserName": "x"})
	require.NoError(t, err)
	assert.Equal(t, "s", s.ID)
	assert.Equal(t, "ws://a", s.WebSocketURL())
	assert.JSONEq(t, `{"capabilities":{"alwaysMatch":{"browserName":"x"}}}`, r.body)
	r.answer = `{"value":{"ready":true,"message":""}}`
	ready, err := NewClient(r.URL, nil).Status(t.Context())
	require.NoError(t, err)
	assert.True(t, ready)
}

func TestErrors(t *testing.T) {
	r := newRemote(t)
	c := NewClient(r.URL, nil)
	ask := func() error { return c.Do(t.Context(), "GET", "/x", nil, new(string)) }
	r.status, r.answer = 404, `{"value":{"error":"no such element","message":"gone","stacktrace":""}}`
	err := ask()
	assert.Equal(t, NoSuchElement, CodeOf(err))
	assert.EqualError(t, err, "no such element: gone")
	assert.False(t, SessionLost(err))
	r.answer = `{"value":{"error":"invalid session id","message":"","stacktrace":""}}`
	err = ask()
	assert.EqualError(t, err, "invalid session id")
	assert.True(t, SessionLost(err))
	for status, answer := range map[int]string{200: `<html>`, 500: `{"value":{}}`, 502: `bad gateway`, 201: `{"value":7}`} {
		r.status, r.answer = status, answer
		if status == 201 {
			r.status = 200 // a value of another kind than expected
		}
		err = ask()
		assert.True(t, SessionLost(err), "%d %s: %v", status, answer, err)
		assert.Empty(t, CodeOf(err))
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, c.Do(ctx, "GET", "/x", nil, nil), context.Canceled)
	r.Close()
	err = ask()
	assert.True(t, SessionLost(err))
	assert.ErrorContains(t, err, "GET /x: ")
}

func TestErrorStatus(t *testing.T) {
	for code, want := range map[string]int{NoSuchElement: 404, InvalidArgument: 400, UnknownMethod: 405,
		SessionNotCreated: 500, "made up": 500} {
		assert.Equal(t, want, Errorf(code, "x").Status(), code)
	}
}

func TestElementJSON(t *testing.T) {
	raw, err := json.Marshal(Element("a"))
	require.NoError(t, err)
	var back Element
	require.NoError(t, json.Unmarshal(raw, &back))
	assert.Equal(t, Element("a"), back)
	assert.Error(t, json.Unmarshal([]byte(`{"x":"a"}`), &back))
	assert.Error(t, json.Unmarshal([]byte(`7`), &back))
}

func TestObserver(t *testing.T) {
	r := newRemote(t)
	c := NewClient(r.URL, nil)
	var seen []string
	c.Observe = func(method, path string, took time.Duration, err error) {
		seen = append(seen, fmt.Sprintf("%s%s %t %v", method, path, took > 0, err))
	}
	require.NoError(t, c.Do(t.Context(), "POST", "/x", nil, nil))
	assert.Equal(t, []string{"POST/x true <nil>"}, seen)
}
