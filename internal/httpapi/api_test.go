package httpapi_test

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/httpapi"
	"parallelpane/internal/link"
	"parallelpane/internal/project"
	"parallelpane/internal/service"
)

// yard is a service on loopback.
type yard struct {
	t     *testing.T
	dir   string
	base  string
	token string            // admin's
	agent string            // agent's that joins first
	own   map[string]string // tokens of agents, by name
	pool  string            // of the agents that join; "" means shared
	svc   *service.Service
	stop  func()
}

func start(t *testing.T, dir string, change ...func(c *service.Config, base string)) *yard {
	t.Helper()
	x := startOn(t, dir, change...)
	raw, err := os.ReadFile(filepath.Join(dir, "agent.token"))
	require.NoError(t, err)
	x.agent = strings.TrimSpace(string(raw))
	return x
}

// startOn starts a service on a directory that may have no agent's token.
func startOn(t *testing.T, dir string, change ...func(c *service.Config, base string)) *yard {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := service.Config{Dir: dir, Log: slog.New(slog.DiscardHandler), Tick: 50 * time.Millisecond,
		Dispatch: dispatch.Config{LeaseTTL: 1500 * time.Millisecond, QueueLimit: time.Minute}}
	for _, f := range change {
		f(&c, "http://"+l.Addr().String())
	}
	svc, err := service.Open(t.Context(), c)
	require.NoError(t, err)
	console := fstest.MapFS{"index.html": {Data: []byte("<p>console</p>")}, "assets/a.js": {Data: []byte("1")}}
	app := httpapi.New(httpapi.Config{Service: svc, Log: slog.New(slog.DiscardHandler), Version: "test", Console: console})
	served := make(chan error, 1)
	go func() { served <- app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true}) }()
	read := func(name string) string {
		raw, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return strings.TrimSpace(string(raw))
	}
	x := &yard{t: t, dir: dir, base: "http://" + l.Addr().String(), token: read("admin.token"), svc: svc}
	stopped := false
	x.stop = func() {
		if !stopped {
			stopped = true
			assert.NoError(t, svc.Close())
			http.DefaultClient.CloseIdleConnections() // connections that never carried a request do not count as idle there
			assert.NoError(t, app.ShutdownWithTimeout(15*time.Second))
			<-served
		}
	}
	t.Cleanup(x.stop)
	return x
}

type answer struct {
	status int
	body   []byte
	header http.Header
}

func (a answer) detail() string {
	var p httpapi.Problem
	_ = json.Unmarshal(a.body, &p)
	return p.Detail
}

func (x *yard) do(method, path, token string, body any, header ...string) answer {
	x.t.Helper()
	var r io.Reader
	switch b := body.(type) {
	case nil:
	case []byte:
		r = bytes.NewReader(b)
	case string:
		r = strings.NewReader(b)
	default:
		raw, err := json.Marshal(b)
		require.NoError(x.t, err)
		r = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(x.t.Context(), method, x.base+path, r)
	require.NoError(x.t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	resp, err := client.Do(req)
	require.NoError(x.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(x.t, err)
	a := answer{resp.StatusCode, raw, resp.Header}
	x.conforms(method, path, a)
	return a
}

func (x *yard) get(path string, out any) {
	x.t.Helper()
	a := x.do("GET", "/api/v1"+path, x.token, nil)
	require.Equal(x.t, 200, a.status, string(a.body))
	require.NoError(x.t, json.Unmarshal(a.body, out))
}

func hashOf(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func bundleOf(files map[string]string) []byte {
	var buf bytes.Buffer
	zw := gzip.NewWriter(&buf)
	tw := tar.NewWriter(zw)
	for name, body := range files {
		_ = tw.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Size: int64(len(body)), Mode: 0o644})
		_, _ = tw.Write([]byte(body))
	}
	tw.Close()
	zw.Close()
	return buf.Bytes()
}

const projectFile = `project: saltmarsh
suites: {desk: {scripts: t/*.pane.yaml}}
matrices:
  wall: {axes: {browser: [chromium, firefox]}}
  odd: {axes: {browser: [chromuim]}}
  none: {axes: {os: [linux]}}
  far: {axes: {browser: [webkitgtk]}}
  extra: {axes: {browser: [chromium]}, add: [{browser: chromuim}]}
  bare: {axes: {browser: [chromium]}, add: [{os: linux}]}
environments: {local: {base: "http://desk.example", vars: {boat: Osprey}}}
`

func (x *yard) bundle() string {
	x.t.Helper()
	raw := bundleOf(map[string]string{"pane.yaml": projectFile,
		"t/a.pane.yaml": "name: Tide\ntags: [smoke]\nsteps:\n  - visit: /\n", "t/b.pane.yaml": "name: Berth\nsteps:\n  - visit: /\n"})
	a := x.do("PUT", "/api/v1/bundles/"+hashOf(raw), x.token, raw)
	require.Equal(x.t, 204, a.status, string(a.body))
	return hashOf(raw)
}

func (x *yard) run(req api.RunRequest) api.Run {
	x.t.Helper()
	if req.Bundle == "" {
		req.Bundle = x.bundle()
	}
	a := x.do("POST", "/api/v1/runs", x.token, req)
	require.Equal(x.t, 200, a.status, string(a.body))
	var run api.Run
	require.NoError(x.t, json.Unmarshal(a.body, &run))
	return run
}

// order is a session that an agent is to open; it is open once it is answered.
type order struct {
	link.Session
	answer chan link.SessionOpen
}

// hand is an agent without browsers: the test decides what its work comes to.
type hand struct {
	x        *yard
	name     string
	instance string
	slices   chan link.Slice
	orders   chan order
	dropped  chan string
	l        net.Listener
	srv      *http.Server
}

// tokenOf is an agent's own token.
func (x *yard) tokenOf(agent string) string {
	x.t.Helper()
	if x.own == nil {
		x.own = map[string]string{agent: x.agent}
	}
	if !fleet.IsName(agent) {
		return x.agent
	}
	if x.own[agent] == "" {
		_, secret, err := x.svc.AddToken(x.t.Context(), api.TokenRequest{Name: agent, Role: api.AgentRole, Agent: agent})
		require.NoError(x.t, err)
		x.own[agent] = secret
	}
	return x.own[agent]
}

func (x *yard) join(name, instance string, slots int, held ...int64) (*hand, error) {
	h := &hand{x: x, name: name, instance: instance, slices: make(chan link.Slice, 100), orders: make(chan order, 100),
		dropped: make(chan string, 100)}
	hello := link.Hello{Name: name, Instance: instance, Held: held, Machine: fleet.Machine{OS: "linux", Slots: slots, Pool: x.pool,
		Isolation: fleet.Sandbox,
		Browsers:  []fleet.Browser{{Name: "chromium", Fits: true}, {Name: "firefox", Fits: true}}}}
	said := x.do("POST", "/api/v1"+link.HelloPath, x.tokenOf(name), hello)
	if said.status != 200 {
		return nil, &link.Refused{Status: said.status, Reason: said.detail()}
	}
	var welcome link.Welcome
	require.NoError(x.t, json.Unmarshal(said.body, &welcome))
	header := http.Header{"Authorization": {"Bearer " + x.tokenOf(name)}, link.TicketHeader: {welcome.Ticket}}
	l, err := link.Dial(x.t.Context(), "ws"+strings.TrimPrefix(x.base, "http")+link.Path, header, nil)
	if err != nil {
		return nil, err
	}
	h.l = l
	mux := http.NewServeMux()
	mux.HandleFunc("POST /slices", func(w http.ResponseWriter, r *http.Request) {
		var s link.Slice
		if json.NewDecoder(r.Body).Decode(&s) == nil {
			h.slices <- s
		}
		w.WriteHeader(http.StatusAccepted)
	})
	mux.HandleFunc("POST /sessions", func(w http.ResponseWriter, r *http.Request) {
		o := order{answer: make(chan link.SessionOpen)}
		if json.NewDecoder(r.Body).Decode(&o.Session) == nil {
			h.orders <- o
		}
		select {
		case open := <-o.answer:
			_ = json.NewEncoder(w).Encode(open)
		case <-r.Context().Done():
		}
	})
	mux.HandleFunc("DELETE /slices/{fence}", func(w http.ResponseWriter, r *http.Request) { h.dropped <- r.PathValue("fence") })
	h.srv = &http.Server{Handler: mux, ReadHeaderTimeout: time.Second}
	go func() { _ = h.srv.Serve(l) }()
	x.t.Cleanup(h.leave)
	return h, nil
}

func (x *yard) mustJoin(name string, slots int, held ...int64) *hand {
	x.t.Helper()
	h, err := x.join(name, name+"-1", slots, held...)
	require.NoError(x.t, err)
	require.Eventually(x.t, func() bool {
		for _, a := range x.svc.Agents() {
			if a.Name == name && a.Online {
				return true
			}
		}
		return false
	}, 5*time.Second, 5*time.Millisecond)
	return h
}

func (h *hand) leave() { _ = h.srv.Close() }

func (h *hand) next() link.Slice {
	h.x.t.Helper()
	select {
	case s := <-h.slices:
		return s
	case <-time.After(10 * time.Second):
		require.Fail(h.x.t, "no slice came")
		return link.Slice{}
	}
}

func (h *hand) result(s link.Slice, test int, v verdict.Verdict, files ...attempt.File) link.ResultAnswer {
	h.x.t.Helper()
	r := link.Result{ID: s.Tests[test].ID, Fence: s.Fence, Test: s.Tests[test].Index, Attempt: s.Tests[test].Attempt, Agent: h.name,
		Sessions: 1,
		Verdict:  v, Message: "because", TookMS: 1200, Files: files, Detail: attempt.Detail{Browser: s.Values["browser"], Version: "9"}}
	a := h.x.do("POST", "/api/v1/agent/results", h.x.tokenOf(h.name), r)
	require.Equal(h.x.t, 200, a.status, string(a.body))
	var out link.ResultAnswer
	require.NoError(h.x.t, json.Unmarshal(a.body, &out))
	return out
}

func (x *yard) ended(number int) api.Run {
	x.t.Helper()
	var run api.Run
	require.Eventually(x.t, func() bool {
		x.get(fmt.Sprintf("/runs/%d", number), &run)
		return run.State == api.Ended
	}, 15*time.Second, 10*time.Millisecond)
	return run
}

func TestARunThroughTheAPI(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 2)
	run := x.run(api.RunRequest{Matrix: "wall", Retries: 1})
	require.Equal(t, 1, run.Number)
	events := x.follow(t, "/runs/1/events")

	for h, left := h, 5; left > 0; left-- { // two tests in two panes, and one retry
		s := h.next()
		require.Len(t, s.Tests, 1)
		assert.Equal(t, "http://desk.example", s.Base)
		assert.Equal(t, "Osprey", s.Vars["boat"])
		v := verdict.Passed
		if s.Values["browser"] == "firefox" && s.Tests[0].Name == "Tide" && s.Tests[0].Attempt == 1 {
			v = verdict.Failed
		}
		require.Equal(t, 204, x.do("POST", "/api/v1/agent/started", x.agent, link.Started{Fence: s.Fence, Test: s.Tests[0].Index}).status)
		assert.True(t, h.result(s, 0, v).Accepted)
		assert.False(t, h.result(s, 0, verdict.Failed).Accepted, "the same test twice")
	}
	done := x.ended(1)
	assert.Equal(t, verdict.Flaky, done.Verdict)
	assert.Equal(t, verdict.Counts{verdict.Passed: 3, verdict.Flaky: 1}, done.Counts)
	assert.Equal(t, "firefox", done.Panes[1].Info.Browser)

	seen := map[string]int{}
	for e := range events {
		seen[e.Type]++
		for _, c := range e.Cells {
			seen[string(c.State)+string(c.Verdict)]++
		}
		if e.Run.State == api.Ended {
			break
		}
	}
	assert.Equal(t, 1, seen["endedflaky"], "%v", seen)
	assert.Equal(t, 3, seen["endedpassed"], "%v", seen)
	assert.Positive(t, seen["running"], "%v", seen)

	a := x.do("GET", "/api/v1/runs/1/as/junit", x.token, nil)
	var doc struct {
		Tests  int `xml:"tests,attr"`
		Suites []struct {
			Cases []struct {
				Name string `xml:"name,attr"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal(a.body, &doc))
	assert.Equal(t, 4, doc.Tests)
	assert.Len(t, doc.Suites[1].Cases, 2)
	for form, want := range map[string]string{"text": "#1 saltmarsh", "markdown": "flaky", "summary": "| combination |",
		"tap": "TAP version 14\n1..4\n",
		"csv": "test,combination,browser", "xlsx": "PK", "html": "<!doctype html>"} {
		got := x.do("GET", "/api/v1/runs/1/as/"+form, x.token, nil)
		assert.Equal(t, 200, got.status, form)
		assert.Contains(t, string(got.body), want, form)
	}
	for path, want := range map[string]string{"runs/1/as/docx": "form: expected text, markdown",
		"runs/1/as/html?pictures=101": "expected 1 to 100",
		"runs/1/causes/as/pdf":        "form: expected csv, xlsx", "compare/as/csv": "was: say what to compare with"} {
		assert.Contains(t, string(x.do("GET", "/api/v1/"+path, x.token, nil).body), want, path)
	}
	drawn := x.do("GET", "/api/v1/runs/1/as/pdf", x.token, nil)
	assert.Equal(t, 200, drawn.status, "no agent has Chromium")
	assert.Equal(t, "%PDF-", string(drawn.body[:5]))
	for path, want := range map[string]string{"runs/1/causes/as/csv": "failed,kind,cause", "compare/as/csv?was=1&is=1": "difference,test",
		"trends/as/csv?by=test": "day,test,failed", "trends/lab/as/csv": "day,attempts"} {
		assert.Contains(t, string(x.do("GET", "/api/v1/"+path, x.token, nil).body), want, path)
	}
	var words api.Words
	x.get("/runs/1/words", &words)
	assert.Contains(t, words.Title, "#1 saltmarsh")

	var res api.TestResult
	x.get("/runs/1/tests/0", &res)
	assert.Contains(t, res.Source, "name: Tide")
	assert.Len(t, res.Results[1].Attempts, 2)
	var list []api.RunSummary
	x.get("/runs?verdict=flaky", &list)
	require.Len(t, list, 1)
	assert.Equal(t, verdict.Flaky, list[0].Panes[1].Verdict)
	x.get("/runs?verdict=failed", &list)
	assert.Empty(t, list)
	assert.Contains(t, string(x.do("GET", "/metrics", x.token, nil).body), `pane_attempts_total{verdict="passed"} 4`)
}

func TestEventsOfWallsThatAreShown(t *testing.T) {
	x := start(t, t.TempDir())
	for _, bad := range []string{"x", "1,y", strings.Repeat("1,", 51)} {
		assert.Equal(t, 422, x.do("GET", "/api/v1/events?walls="+bad, x.token, nil).status, bad)
	}
	h := x.mustJoin("quay", 1)
	events := x.follow(t, "/events?walls=1")
	x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
	s := h.next()
	assert.True(t, h.result(s, 0, verdict.Passed).Accepted)
	for e := range events {
		if e.Type == "wall" && len(e.Cells) == 1 && e.Cells[0].Verdict == verdict.Passed {
			return
		}
	}
	assert.Fail(t, "no cell came")
}

// follow streams events into a channel.
func (x *yard) follow(t *testing.T, path string) <-chan api.Event {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	t.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, x.base+"/api/v1"+path, nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+x.token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.Equal(t, "text/event-stream", resp.Header.Get("Content-Type"))
	out := make(chan api.Event, 1000)
	go func() {
		defer close(out)
		defer resp.Body.Close()
		in := bufio.NewScanner(resp.Body)
		for in.Scan() {
			if data, ok := strings.CutPrefix(in.Text(), "data: "); ok {
				var e api.Event
				if json.Unmarshal([]byte(data), &e) == nil {
					out <- e
				}
			}
		}
	}()
	return out
}

func TestWhoMayDoWhat(t *testing.T) {
	x := start(t, t.TempDir())
	token := func(role string) string {
		a := x.do("POST", "/api/v1/tokens", x.token, map[string]string{"name": role, "role": role})
		require.Equal(t, 200, a.status, string(a.body))
		var made struct{ Secret string }
		require.NoError(t, json.Unmarshal(a.body, &made))
		return made.Secret
	}
	viewer, runner := token("viewer"), token("runner")
	for _, tc := range []struct {
		method, path, token string
		want                int
	}{
		{"GET", "/api/v1/runs", "", 401}, {"GET", "/api/v1/runs", "pane_wrong", 401}, {"GET", "/api/v1/runs", viewer, 200},
		{"GET", "/api/v1/runs", x.agent, 403}, {"POST", "/api/v1/runs", viewer, 403}, {"POST", "/api/v1/runs", runner, 422},
		{"GET", "/api/v1/tokens", runner, 200}, {"POST", "/api/v1/tokens", runner, 403}, {"GET", "/api/v1/audit", runner, 403}, {"GET",
			"/api/v1/tokens", x.token, 200}, {"POST", "/api/v1/agent/beat", runner, 403},
		{"GET", "/metrics", "", 401}, {"GET", "/healthz", "", 200}, {"GET", "/readyz", "", 200}, {"GET", "/api/v1/nowhere", viewer, 404},
		{"GET", "/api/v1/runs/99", viewer, 404}, {"GET", "/api/v1/runs/x", viewer, 422}, {"GET", "/api/v1/runs?verdikt=x", viewer, 422},
		{"GET", "/api/v1/runs?verdict=green", viewer, 422}, {"DELETE", "/api/v1/tokens/none", x.token, 404},
		{"GET", "/api/v1/agent/link", x.agent, 422}, {"DELETE", "/api/v1/agents/none", x.token, 404},
		{"GET", "/api/v1/bundles/" + strings.Repeat("0", 64), viewer, 404},
	} {
		a := x.do(tc.method, tc.path, tc.token, map[bool]any{true: struct{}{}}[tc.method == "POST"])
		assert.Equal(t, tc.want, a.status, "%s %s: %s", tc.method, tc.path, a.body)
		if a.status >= 400 {
			assert.Equal(t, "application/problem+json", a.header.Get("Content-Type"))
			assert.NotEmpty(t, a.detail())
		}
	}
	raw, err := os.ReadFile(filepath.Join(x.dir, "pane.db-wal"))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), viewer, "tokens are kept as hashes only")
	info, err := os.Stat(filepath.Join(x.dir, "admin.token"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestConsoleSession(t *testing.T) {
	x := start(t, t.TempDir())
	assert.Equal(t, 401, x.do("POST", "/api/v1/console/session", "", map[string]string{"token": "pane_no"}).status)
	assert.Equal(t, 403, x.do("POST", "/api/v1/console/session", "", map[string]string{"token": x.agent}).status)
	a := x.do("POST", "/api/v1/console/session", "", map[string]string{"token": x.token})
	require.Equal(t, 200, a.status)
	cookie := a.header.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "path=/"} {
		assert.Contains(t, cookie, want)
	}
	assert.NotContains(t, cookie, x.token, "the cookie is a token of its own")
	session, _, _ := strings.Cut(cookie, ";")
	assert.Equal(t, 200, x.do("GET", "/api/v1/me", "", nil, "Cookie", session).status)
	assert.Equal(t, 403, x.do("POST", "/api/v1/links", "", nil, "Cookie", session).status, "another site cannot act with the cookie")
	assert.Equal(t, 403, x.do("POST", "/api/v1/links", "", nil, "Cookie", session, "Sec-Fetch-Site", "cross-site").status)
	a = x.do("POST", "/api/v1/links", "", nil, "Cookie", session, "Sec-Fetch-Site", "same-origin")
	require.Equal(t, 200, a.status, string(a.body))
	var made struct{ Path string }
	require.NoError(t, json.Unmarshal(a.body, &made))
	first := x.do("GET", made.Path, "", nil)
	assert.Equal(t, 200, first.status)
	assert.Contains(t, first.header.Get("Set-Cookie"), "HttpOnly")
	second := x.do("GET", made.Path, "", nil)
	assert.Equal(t, 401, second.status)
	assert.Contains(t, string(second.body), "no longer works")
	assert.Equal(t, 204, x.do("DELETE", "/api/v1/console/session", "", nil, "Cookie", session, "Sec-Fetch-Site", "same-origin").status)
	assert.Equal(t, 401, x.do("GET", "/api/v1/me", "", nil, "Cookie", session).status)
	assert.Contains(t, string(x.do("GET", "/runs/7", "", nil).body), "console", "the console's pages all start with its index")
	assert.Contains(t, x.do("GET", "/assets/a.js", "", nil).header.Get("Cache-Control"), "immutable")
}

func TestBadBundles(t *testing.T) {
	x := start(t, t.TempDir())
	good := bundleOf(map[string]string{"pane.yaml": projectFile})
	evil := bundleOf(map[string]string{"../evil": "x"})
	for name, tc := range map[string]struct {
		hash string
		raw  []byte
		want string
	}{
		"hash differs": {hashOf([]byte("other")), good, "do not have the hash"},
		"no hash":      {"abc", good, "not a SHA-256"},
		"leaves root":  {hashOf(evil), evil, `the path "../evil" leaves its root`},
		"not archive":  {hashOf([]byte("x")), []byte("x"), "not a gzip archive"},
	} {
		a := x.do("PUT", "/api/v1/bundles/"+tc.hash, x.token, tc.raw)
		assert.Equal(t, 422, a.status, name)
		assert.Contains(t, a.detail(), tc.want, name)
		assert.Equal(t, 404, x.do("HEAD", "/api/v1/bundles/"+tc.hash, x.token, nil).status, "%s: nothing is kept", name)
	}
	large := bytes.Repeat([]byte("x"), project.MaxBundleBytes+1)
	a := x.do("PUT", "/api/v1/bundles/"+hashOf(large), x.token, large)
	assert.Equal(t, 413, a.status, string(a.body))
	assert.Contains(t, a.detail(), "larger than the limit of 256 MiB")
	var left []string
	require.NoError(t, filepath.WalkDir(filepath.Join(x.dir, "blobs"), func(p string, e os.DirEntry, _ error) error {
		if !e.IsDir() {
			left = append(left, p)
		}
		return nil
	}))
	assert.Empty(t, left)
}

func TestBadRequestsForARun(t *testing.T) {
	x := start(t, t.TempDir())
	hash := x.bundle()
	wrong := bundleOf(map[string]string{"pane.yaml": projectFile, "t/a.pane.yaml": "name: A\nsteps:\n  - clik: x\n"})
	require.Equal(t, 204, x.do("PUT", "/api/v1/bundles/"+hashOf(wrong), x.token, wrong).status)
	for name, tc := range map[string]struct {
		body any
		want string
	}{
		"unknown field":  {`{"bundle":"x","matrx":"wall"}`, `unknown field "matrx"`},
		"not json":       {`{`, "the body is not as expected"},
		"wrong type":     {`{"bundle":7}`, "the body is not as expected"},
		"no bundle":      {api.RunRequest{Bundle: strings.Repeat("0", 64)}, "is not here: send it first"},
		"suite":          {api.RunRequest{Bundle: hash, Suite: "dsk", Matrix: "wall"}, `unknown suite "dsk" (did you mean "desk"?)`},
		"matrix":         {api.RunRequest{Bundle: hash, Matrix: "wal"}, `unknown matrix "wal" (did you mean "wall"?)`},
		"which matrix":   {api.RunRequest{Bundle: hash}, "say which matrix"},
		"environment":    {api.RunRequest{Bundle: hash, Matrix: "wall", Environment: "prod"}, `unknown environment "prod"`},
		"tag":            {api.RunRequest{Bundle: hash, Matrix: "wall", Tags: []string{"smok"}}, `unknown tag "smok" (did you mean "smoke"?)`},
		"test":           {api.RunRequest{Bundle: hash, Matrix: "wall", Tests: []string{"Tid"}}, `unknown test "Tid"`},
		"browser":        {api.RunRequest{Bundle: hash, Matrix: "odd"}, `unknown browser "chromuim" (did you mean "chromium"?)`},
		"no browser":     {api.RunRequest{Bundle: hash, Matrix: "none"}, "neither an axis browser nor an axis engine"},
		"retries":        {api.RunRequest{Bundle: hash, Matrix: "wall", Retries: 11}, "retries: expected 0 to 10"},
		"base":           {api.RunRequest{Bundle: hash, Matrix: "wall", Base: "javascript:alert(1)"}, "base: expected an address"},
		"script problem": {api.RunRequest{Bundle: hashOf(wrong), Matrix: "wall"}, "the bundle's files have problems"},
	} {
		a := x.do("POST", "/api/v1/runs", x.token, tc.body)
		assert.Equal(t, 422, a.status, "%s: %s", name, a.body)
		assert.Contains(t, a.detail(), tc.want, name)
		if name == "script problem" {
			assert.Contains(t, string(a.body), `"file":"t/a.pane.yaml","line":3,"column":5`)
		}
	}
	a := x.do("POST", "/api/v1/runs", x.token, bytes.Repeat([]byte(" "), httpapi.MaxJSONBytes+1))
	assert.Equal(t, 413, a.status)
	var runs []api.RunSummary
	x.get("/runs", &runs)
	assert.Empty(t, runs, "nothing was started")
}

func TestSecondAgentOfTheSameName(t *testing.T) {
	x := start(t, t.TempDir())
	first := x.mustJoin("quay", 1)
	_, err := x.join("quay", "another", 1)
	var refused *link.Refused
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, 409, refused.Status)
	assert.Contains(t, refused.Reason, "another agent named quay is online")
	_, err = x.join("../x", "i", 1)
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Reason, "is not a name for an agent")
	first.leave()
	require.Eventually(t, func() bool { return !x.svc.Agents()[0].Online }, 5*time.Second, 10*time.Millisecond)
	x.mustJoin("quay", 1)
}

func TestUnsupportedAndCancel(t *testing.T) {
	x := start(t, t.TempDir())
	x.mustJoin("quay", 1)
	run := x.run(api.RunRequest{Matrix: "far"})
	assert.Equal(t, verdict.Unsupported, run.Verdict)
	assert.Contains(t, run.Cells[0][0].Why, "no agent has browser=webkitgtk; nearest: quay (browser: wants webkitgtk, has chromium, firefox)")
	open := x.run(api.RunRequest{Matrix: "wall"})
	a := x.do("POST", fmt.Sprintf("/api/v1/runs/%d/cancel", open.Number), x.token, nil)
	require.Equal(t, 200, a.status, string(a.body))
	done := x.ended(open.Number)
	assert.Equal(t, "cancelled by admin", done.Why)
	assert.Equal(t, verdict.Counts{verdict.Skipped: 4}, done.Counts)
	assert.Equal(t, 409, x.do("POST", fmt.Sprintf("/api/v1/runs/%d/cancel", open.Number), x.token, nil).status)
}

func TestAgentGoneInTheMiddle(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	x.run(api.RunRequest{Matrix: "wall", QueueLimitS: 1})
	s := h.next()
	h.leave()
	done := x.ended(1)
	assert.Equal(t, verdict.LabFault, done.Verdict)
	assert.Equal(t, 4, done.Counts[verdict.LabFault])
	assert.Contains(t, done.Cells[s.Pane][s.Tests[0].Index].Message, "agent quay stopped answering")
	a := h.result(s, 0, verdict.Passed)
	assert.False(t, a.Accepted, "a late result does not count")
}

// TestServiceStoppedInTheMiddle starts a second service on the records of a
// first that stopped without ending its run.
func TestServiceStoppedInTheMiddle(t *testing.T) {
	dir := t.TempDir()
	patient := func(c *service.Config, _ string) { c.Dispatch.LeaseTTL = time.Minute } // no lease is to end by itself
	x := start(t, dir, patient)
	h := x.mustJoin("quay", 2)
	x.run(api.RunRequest{Matrix: "wall"})
	one, two := h.next(), h.next()
	assert.True(t, h.result(one, 0, verdict.Passed).Accepted)
	third := h.next()
	h.leave()
	x.stop()

	y := start(t, dir, patient)
	assert.Equal(t, x.token, y.token)
	again := y.mustJoin("quay", 2, two.Fence) // it still works on the second, and has lost the third
	assert.True(t, again.result(two, 0, verdict.Passed).Accepted)
	assert.False(t, again.result(third, 0, verdict.Passed).Accepted)
	for range 2 { // the third again, then the fourth
		assert.True(t, again.result(again.next(), 0, verdict.Passed).Accepted)
	}
	done := y.ended(1)
	assert.Equal(t, verdict.Counts{verdict.Passed: 4}, done.Counts)
	attempts := 0
	for test := range done.Tests {
		var res api.TestResult
		y.get(fmt.Sprintf("/runs/1/tests/%d", test), &res)
		for _, r := range res.Results {
			attempts += len(r.Attempts)
		}
	}
	assert.Equal(t, 4, attempts, "four results, none of them twice; the order of which nothing had begun is no attempt")
	assert.Equal(t, 2, y.run(api.RunRequest{Matrix: "far"}).Number, "numbers go on")
}

// Whatever an artifact is called or holds, it cannot act in the console's name.
func TestArtifactsAreHarmless(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
	s := h.next()
	page := []byte("<script>alert(document.cookie)</script>")
	put := func(contents []byte) string {
		require.Equal(t, 204, x.do("PUT", fmt.Sprintf("/api/v1/agent/files/%s?fence=%d", hashOf(contents), s.Fence), x.agent, contents).status)
		return hashOf(contents)
	}
	file := attempt.File{Name: "page.html", Kind: "log", Media: "text/html\r\nX-Evil: 1", Hash: put(page), Size: int64(len(page))}
	all := []attempt.File{file, file} // the second has a name that is taken
	for _, bad := range []string{"../x", "a/b", "", "a\r\nb", "a\"b", ".hidden", strings.Repeat("n", 101)} {
		f := file
		f.Name = bad
		all = append(all, f)
	}
	unsent := file
	unsent.Hash = hashOf([]byte("unsent"))
	assert.Equal(t, 409, x.do("POST", "/api/v1/agent/results", x.agent, link.Result{ID: "u", Fence: s.Fence, Agent: "quay",
		Verdict: verdict.Passed, Files: []attempt.File{unsent}}).status)
	assert.True(t, h.result(s, 0, verdict.Failed, all...).Accepted, "the verdict counts whatever the files are called")
	var res api.TestResult
	x.get("/runs/1/tests/0", &res)
	assert.Len(t, res.Results[0].Attempts[0].Detail.Cut, 8, "and what was left out is said")
	var files []api.RunFile
	x.get("/runs/1/files", &files)
	require.Len(t, files, 1)
	a := x.do("GET", "/api/v1/attempts/"+files[0].Attempt+"/files/page.html", x.token, nil)
	assert.Equal(t, page, a.body)
	assert.Equal(t, "application/octet-stream", a.header.Get("Content-Type"))
	assert.Contains(t, a.header.Get("Content-Disposition"), "attachment")
	assert.Equal(t, "default-src 'none'; sandbox", a.header.Get("Content-Security-Policy"))
	assert.Equal(t, "nosniff", a.header.Get("X-Content-Type-Options"))
	assert.Empty(t, a.header.Get("X-Evil"))
	for _, path := range []string{"/files/%2e%2e%2fpane.db", "/files/..%2f..%2fpane.db", "/files/none"} {
		assert.Equal(t, 404, x.do("GET", "/api/v1/attempts/"+files[0].Attempt+path, x.token, nil).status, path)
	}
}

// An agent that holds many leases, or has many browsers, joins all the same; a
// ticket opens one link.
func TestALongIntroductionIsTaken(t *testing.T) {
	x := start(t, t.TempDir())
	held := make([]int64, 5000)
	for i := range held {
		held[i] = 1<<40 + int64(i)
	}
	x.mustJoin("quay", 1, held...)
	hello := link.Hello{Name: "pier", Instance: "1", Machine: fleet.Machine{Slots: 1}}
	for i := range 200 {
		hello.Machine.Browsers = append(hello.Machine.Browsers, fleet.Browser{Name: "chromium", Version: fmt.Sprint(i),
			Path: strings.Repeat("/opt", 50), Fits: true})
	}
	pier := x.tokenOf("pier")
	a := x.do("POST", "/api/v1"+link.HelloPath, pier, hello)
	require.Equal(t, 200, a.status, string(a.body))
	var w link.Welcome
	require.NoError(t, json.Unmarshal(a.body, &w))
	dial := func(ticket string) error {
		l, err := link.Dial(t.Context(), "ws"+strings.TrimPrefix(x.base, "http")+link.Path, http.Header{"Authorization": {"Bearer " +
			pier}, link.TicketHeader: {ticket}}, nil)
		if err == nil {
			t.Cleanup(func() { l.Close() })
		}
		return err
	}
	require.ErrorContains(t, dial("guess"), "the ticket is not valid")
	voided := w.Ticket
	require.NoError(t, json.Unmarshal(x.do("POST", "/api/v1"+link.HelloPath, pier, hello).body, &w))
	require.ErrorContains(t, dial(voided), "the ticket is not valid", "one ticket for each token")
	require.NoError(t, dial(w.Ticket))
	require.ErrorContains(t, dial(w.Ticket), "the ticket is not valid")
	assert.Equal(t, 403, x.do("POST", "/api/v1"+link.HelloPath, x.secretOf("runner"), hello).status)
	hello.Held = make([]int64, 100_001)
	assert.Equal(t, 422, x.do("POST", "/api/v1"+link.HelloPath, pier, hello).status)
}

// Whatever an agent calls an attempt, the service has its own name for it: no
// result can be booked over another one, nor stop the service.
func TestAnAgentCannotNameAnAttemptThatThereIs(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 2)
	x.run(api.RunRequest{Matrix: "wall"})
	first := h.next()
	require.True(t, h.result(first, 0, verdict.Passed).Accepted)
	for range 3 {
		s := h.next()
		s.Tests[0].ID = first.Tests[0].ID
		require.True(t, h.result(s, 0, verdict.Failed).Accepted)
	}
	run := x.ended(1)
	assert.Equal(t, verdict.Counts{verdict.Passed: 1, verdict.Failed: 3}, run.Counts)
}
