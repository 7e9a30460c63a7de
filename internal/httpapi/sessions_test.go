package httpapi_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/httpapi"
	"parallelpane/internal/lab"
	"parallelpane/internal/link"
)

// secretOf makes a token of a role.
func (x *yard) secretOf(role string) string {
	x.t.Helper()
	a := x.do("POST", "/api/v1/tokens", x.token, map[string]string{"name": role, "role": role})
	require.Equal(x.t, 200, a.status, string(a.body))
	var made struct{ Secret string }
	require.NoError(x.t, json.Unmarshal(a.body, &made))
	return made.Secret
}

func TestAScriptsSessionThroughTheAPI(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
	s := h.next()
	film := []byte("0123456789")
	require.Equal(t, 204, x.do("PUT", fmt.Sprintf("/api/v1/agent/files/%s?fence=%d", hashOf(film), s.Fence), x.agent, film).status)
	require.Equal(t, 204, x.do("POST", "/api/v1/agent/started", x.agent, link.Started{Fence: s.Fence, Test: s.Tests[0].Index}).status)
	var list []api.SessionSummary
	x.get("/sessions?state=open", &list)
	require.Len(t, list, 1)
	assert.Equal(t, []string{attempt.Session(s.Tests[0].ID, 1), "script", "open", "Tide"}, []string{list[0].ID, list[0].Kind,
		list[0].State, list[0].Test})
	assert.True(t, h.result(s, 0, verdict.Passed, attempt.File{Name: "video.webm", Kind: "video", Media: "video/webm",
		Hash: hashOf(film), Size: 10}).Accepted)
	x.get("/sessions?state=open", &list)
	assert.Empty(t, list)
	x.get("/sessions?kind=script&verdict=passed", &list)
	require.Len(t, list, 1)
	id := list[0].ID
	var one api.Session
	x.get("/sessions/"+id, &one)
	assert.Equal(t, "its script ended", one.End)
	require.Len(t, one.Files, 1)

	// A player asks for parts of a video (RFC 9110, section 14).
	path := "/api/v1/attempts/" + one.AttemptID + "/files/video.webm"
	for _, c := range []struct {
		ask    string
		status int
		body   string
		says   string
	}{
		{"", 200, "0123456789", ""}, {"bytes=2-4", 206, "234", "bytes 2-4/10"}, {"bytes=7-", 206, "789", "bytes 7-9/10"}, {"bytes=-2", 206,
			"89", "bytes 8-9/10"}, {"bytes=12-", 416, "", "bytes */10"},
	} {
		a := x.do("GET", path, x.token, nil, "Range", c.ask)
		assert.Equal(t, c.status, a.status, c.ask)
		assert.Equal(t, c.says, a.header.Get("Content-Range"), c.ask)
		if c.status < 400 {
			assert.Equal(t, c.body, string(a.body), c.ask)
		}
		assert.Equal(t, "bytes", a.header.Get("Accept-Ranges"))
	}
	require.Equal(t, 204, x.do("POST", "/api/v1/sessions/"+id+"/note", x.token, map[string]string{"note": "ask the harbour master"}).status)
	x.get("/sessions?text=harbour+master", &list)
	assert.Len(t, list, 1, "notes are searched as well")
	for q, n := range map[string]int{"browser=none": 0, "since=2020-01-01": 1, "until=2020-01-01": 0, "agent=quay": 1, "run=1": 1,
		"run=2": 0, "before=" + id: 0, "project=saltmarsh": 1, "device=phone": 0, "tag=none": 0, "text=%25": 0} {
		x.get("/sessions?"+q, &list)
		assert.Len(t, list, n, q)
	}
	for path, want := range map[string]int{"/sessions/none": 404, "/sessions?state=asleep": 422, "/sessions?since=x": 422, "/sessions/" +
		id + "/picture": 404, "/sessions/" + id + "/so-far/commands": 404, "/snippets?service=x": 422} {
		a := x.do("GET", "/api/v1"+path, x.token, nil)
		assert.Equal(t, want, a.status, "%s: %s", path, a.body)
		assert.NotEmpty(t, a.detail())
	}
}

func TestAFileInPieces(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
	s := h.next()
	require.Equal(t, 204, x.do("POST", "/api/v1/agent/started", x.agent, link.Started{Fence: s.Fence, Test: s.Tests[0].Index}).status)
	put := func(query, piece string) (int, int64) {
		a := x.do("PUT", "/api/v1/agent/sessions/"+attempt.Session(s.Tests[0].ID, 1)+"/files/"+query, x.agent, []byte(piece))
		var g link.Grown
		_ = json.Unmarshal(a.body, &g)
		return a.status, g.Have
	}
	fence := fmt.Sprintf("?fence=%d", s.Fence)
	for _, c := range []struct {
		query, piece string
		status       int
		have         int64
	}{
		{"video.webm" + fence + "&at=0", "01234", 200, 5}, {"video.webm" + fence + "&at=9", "9", 200, 5},
		{"video.webm" + fence + "&at=5", "56789", 200, 10},
		{"video.webm?fence=99&at=10", "x", 404, 0}, {"video.webm" + fence + "&at=ten", "x", 422, 0}, {"page.html" + fence, "x", 422, 0},
		{"..%2Fvideo.webm" + fence, "x", 422, 0}, {"video.webm" + fence + fmt.Sprintf("&at=%d", lab.MaxFileBytes), "x", 200, 10},
	} {
		status, have := put(c.query, c.piece)
		assert.Equal(t, c.status, status, c.query)
		assert.Equal(t, c.have, have, c.query)
	}
	film, log := hashOf([]byte("0123456789")), hashOf([]byte("log"))
	a := x.do("POST", "/api/v1/agent/sessions/"+attempt.Session(s.Tests[0].ID, 1)+"/files", x.agent, link.Handover{Fence: s.Fence,
		Files: []attempt.File{{Name: "video.webm", Hash: film}, {Name: "driver.log", Hash: log}}})
	require.Equal(t, 200, a.status, string(a.body))
	assert.JSONEq(t, `{"lacking":["driver.log"]}`, string(a.body))
	assert.Equal(t, 422, x.do("POST", "/api/v1/agent/sessions/"+attempt.Session(s.Tests[0].ID, 1)+"/files", x.agent,
		link.Handover{Fence: s.Fence, Files: []attempt.File{{Name: "../x", Hash: film}}}).status)
	assert.True(t, h.result(s, 0, verdict.Passed, attempt.File{Name: "video.webm", Kind: "video", Media: "video/webm",
		Hash: film, Size: 10}).Accepted)
	var list []api.SessionSummary
	x.get("/sessions?kind=script", &list)
	require.Len(t, list, 1)
	assert.Equal(t, "0123456789", string(x.do("GET", "/api/v1/attempts/"+attempt.Of(list[0].ID)+"/files/video.webm", x.token, nil).body))
	assert.Equal(t, 403, x.do("PUT", "/api/v1/agent/sessions/"+attempt.Session(s.Tests[0].ID, 1)+"/files/video.webm"+fence,
		x.secretOf("runner"), []byte("x")).status, "only agents send files")
}

func TestWhoMayDoWhatWithSessions(t *testing.T) {
	x := start(t, t.TempDir())
	viewer, runner := x.secretOf("viewer"), x.secretOf("runner")
	for _, tc := range []struct {
		method, path, token, body string
		want                      int
	}{
		{"GET", "/sessions", viewer, "", 200}, {"GET", "/sessions", x.agent, "", 403}, {"GET", "/storage", viewer, "", 200},
		{"POST", "/sessions/x/hand", viewer, `{"do":"reach"}`, 403}, {"POST", "/sessions/x/hand", runner, `{"do":"reach"}`, 404},
		{"POST", "/sessions/x/verdict", viewer, `{"verdict":"passed"}`, 403}, {"POST", "/sessions/x/verdict", runner,
			`{"verdict":"passed"}`, 404},
		{"POST", "/sessions/x/verdict", runner, `{"verdict":"flaky"}`, 404}, {"POST", "/sessions/x/end", viewer, `{}`, 403},
		{"POST", "/sessions/x/note", viewer, `{"note":""}`, 403},
		{"POST", "/projects/saltmarsh", runner, `{"record":{},"keep":[]}`, 403}, {"POST", "/projects/saltmarsh", x.token,
			`{"record":{"film":"always"},"keep":[]}`, 422},
		{"POST", "/projects/saltmarsh", x.token, `{"record":{},"keep":[{"days":-1}]}`, 422}, {"POST", "/projects/saltmarsh", x.token,
			`{"record":{"video":"always"},"keep":[{"kind":"video","days":3}]}`, 204},
		{"GET", "/projects/saltmarsh", viewer, "", 200}, {"POST", "/sweeps", runner, `{"dry":true}`, 403}, {"POST", "/sweeps",
			x.token, `{"dry":true}`, 200},
	} {
		var body any
		if tc.body != "" {
			body = tc.body
		}
		a := x.do(tc.method, "/api/v1"+tc.path, tc.token, body)
		assert.Equal(t, tc.want, a.status, "%s %s %s: %s", tc.method, tc.path, tc.body, a.body)
	}
	var p api.ProjectSettings
	x.get("/projects/saltmarsh", &p)
	assert.Equal(t, "always", string(p.Record["video"]))
	assert.Len(t, p.Keep, 1)
}

// The endpoint speaks W3C WebDriver whatever goes wrong.
func TestTheEndpointsErrorsAreThoseOfTheStandard(t *testing.T) {
	x := start(t, t.TempDir())
	for _, tc := range []struct {
		method, path, token, body string
		status                    int
		code                      string
	}{
		{"GET", "/webdriver/status", "", "", 401, "unknown error"},
		{"POST", "/webdriver/session", x.agent, `{"capabilities":{}}`, 403, "unknown error"},
		{"POST", "/webdriver/session", x.token, `{"capabilities":{}}`, 500, "session not created"},
		{"POST", "/webdriver/session", x.token, `[]`, 400, "invalid argument"},
		{"PUT", "/webdriver/session", x.token, `{}`, 405, "unknown method"},
		{"GET", "/webdriver", x.token, "", 404, "unknown command"},
		{"GET", "/webdriver/session/", x.token, "", 404, "unknown command"},
		{"GET", "/webdriver/session/..%2f..%2fetc/url", x.token, "", 404, "unknown command"},
		{"GET", "/webdriver/session/7/url", x.token, "", 404, "invalid session id"},
		{"DELETE", "/webdriver/session/" + strings.Repeat("7", 300), x.token, "", 404, "invalid session id"},
	} {
		var body any
		if tc.body != "" {
			body = tc.body
		}
		a := x.do(tc.method, tc.path, tc.token, body)
		var v struct {
			Value struct{ Error, Message, Stacktrace *string }
		}
		require.NoError(t, json.Unmarshal(a.body, &v), "%s %s: %s", tc.method, tc.path, a.body)
		assert.Equal(t, tc.status, a.status, "%s %s: %s", tc.method, tc.path, a.body)
		require.NotNil(t, v.Value.Error, "%s", a.body)
		assert.Equal(t, tc.code, *v.Value.Error)
		assert.NotNil(t, v.Value.Message)
		assert.NotNil(t, v.Value.Stacktrace)
		assert.Equal(t, "application/json; charset=utf-8", a.header.Get("Content-Type"))
		assert.Equal(t, "no-cache", a.header.Get("Cache-Control"))
	}
	a := x.do("GET", "/webdriver/status", x.token, nil)
	assert.JSONEq(t, `{"value":{"ready":false,"message":"agents online: 0, slots free: 0"}}`, string(a.body))
	foreign := x.do("POST", "/webdriver/session", "", `{"capabilities":{}}`, "Authorization", "Basic "+basic("x", x.token),
		"Origin", "http://evil.example")
	assert.Equal(t, 403, foreign.status, "a foreign page cannot use credentials that a browser remembers")
	bidi := x.do("GET", "/webdriver/session/7/bidi/key", "", nil, "Upgrade", "websocket", "Connection", "Upgrade")
	assert.Equal(t, 404, bidi.status)
}

func basic(name, password string) string {
	return base64.StdEncoding.EncodeToString([]byte(name + ":" + password))
}

// asking opens a session for a runner and returns the answer when it comes.
func (x *yard) asking(options string) <-chan answer {
	return x.askingAs(x.secretOf("runner"), options)
}

func (x *yard) askingAs(token, options string) <-chan answer {
	out := make(chan answer, 1)
	go func() {
		out <- x.do("POST", httpapi.RemotePath+"/session", token, `{"capabilities":{"alwaysMatch":{"browserName":"chromium","pane:options":`+
			options+`}}}`)
	}()
	return out
}

func (h *hand) nextOrder() order {
	h.x.t.Helper()
	select {
	case o := <-h.orders:
		return o
	case <-time.After(10 * time.Second):
		require.Fail(h.x.t, "no session was asked for")
		return order{}
	}
}

// beat keeps an agent's lease alive, as its beats do without a link as well.
func (h *hand) beat(fence int64) (stop func()) {
	h.x.t.Helper()
	ctx, cancel := context.WithCancel(h.x.t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for ctx.Err() == nil {
			h.x.do("POST", "/api/v1/agent/beat", h.x.tokenOf(h.name), link.Beat{Name: h.name, Instance: h.instance, Held: []int64{fence}})
			select {
			case <-ctx.Done():
			case <-time.After(100 * time.Millisecond):
			}
		}
	}()
	return func() { cancel(); <-done }
}

// The link drops while a browser opens, and comes back: the session is opened, and
// its client answered, as if nothing had been.
func TestASessionIsOpenedAcrossADroppedLink(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	got := x.asking(`{"test":"Tides","queueLimit":1}`)
	o := h.nextOrder()
	h.leave()
	beats := h.beat(o.Fence)
	again := x.mustJoin("quay", 1, o.Fence)
	second := again.nextOrder()
	assert.Equal(t, o.Fence, second.Fence, "it is the same order, asked for anew")
	beats()
	second.answer <- link.SessionOpen{Browser: "chromium", Version: "156", Given: map[string]any{"browserName": "chrome"}}
	a := <-got
	require.Equal(t, 200, a.status, string(a.body))
	assert.Contains(t, string(a.body), o.ID)
}

// The link drops while a browser opens, and stays away: the client is answered
// once the queue's limit is over, with the reason, and it was the lab's fault.
func TestNewSessionKeepsItsQueueLimitWhenItsAgentGoes(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	got := x.asking(`{"test":"Tides","queueLimit":1}`)
	o := h.nextOrder()
	h.leave()
	defer h.beat(o.Fence)() // its beats still come: the lease lives
	select {
	case a := <-got:
		assert.Equal(t, 500, a.status, string(a.body))
		assert.Contains(t, string(a.body), "session not created")
		assert.Contains(t, string(a.body), "agent quay lost its link")
	case <-time.After(15 * time.Second):
		require.Fail(t, "the client still waits")
	}
	var s api.Session
	x.get("/sessions/"+o.ID, &s)
	assert.Equal(t, verdict.LabFault, s.Verdict)
	assert.Contains(t, s.Message, "agent quay lost its link")
	assert.Equal(t, verdict.LabFault, x.ended(1).Verdict)
}
