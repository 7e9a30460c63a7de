package httpapi_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/httpapi"
	"parallelpane/internal/link"
)

// as makes a token of somebody with rights.
func (x *yard) as(owner string, rights ...api.Right) string {
	x.t.Helper()
	_, secret, err := x.svc.AddToken(x.t.Context(), api.TokenRequest{Name: owner, Owner: owner, Rights: rights})
	require.NoError(x.t, err)
	return secret
}

func in(project string, r api.Role) api.Right { return api.Right{Project: project, Role: r} }

// Somebody who may look at one project finds nothing of another anywhere: every
// operation of the API is asked, as its own document lists them.
func TestNothingIsSeenOfAnotherProject(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 2)
	x.pool = "saltmarsh"
	x.mustJoin("tidal-agent", 1)
	run := x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
	require.Equal(t, 1, run.Number)
	s := h.next()
	require.Equal(t, 204, x.do("POST", "/api/v1/agent/started", x.agent, link.Started{Fence: s.Fence, Test: s.Tests[0].Index}).status)
	film := []byte("0123456789")
	require.Equal(t, 204, x.do("PUT", fmt.Sprintf("/api/v1/agent/files/%s?fence=%d", hashOf(film), s.Fence), x.agent, film).status)
	assert.True(t, h.result(s, 0, verdict.Failed, attempt.File{Name: "video.webm", Kind: "video", Media: "video/webm",
		Hash: hashOf(film), Size: 10}).Accepted)
	x.post("/presets", api.PresetRequest{Name: "nightly", Request: api.RunRequest{Bundle: x.bundle(), Matrix: "wall"}}, nil)
	x.post("/schedules", api.ScheduleRequest{Name: "mornings", Preset: "nightly", Rule: "FREQ=DAILY"}, nil)
	x.post("/quotas", api.QuotaRequest{Kind: "project", Name: "saltmarsh", Slots: 3}, nil)
	var list []api.SessionSummary
	x.get("/sessions", &list)
	require.NotEmpty(t, list)
	session := list[len(list)-1].ID
	var told api.NewSubscription
	x.post("/subscriptions", api.SubscriptionRequest{Project: "saltmarsh", Kind: "hook", Target: "https://saltmarsh.example/x",
		Of: []string{"ended"}},
		&told)

	var causes api.Causes
	x.get("/runs/1/causes", &causes)
	require.NotEmpty(t, causes.Causes)
	cause := causes.Causes[0].ID
	var tracker api.Tracker
	x.post("/trackers", api.TrackerRequest{Project: "saltmarsh", Name: "harbour", Address: "http://tracker.invalid/", Secret: "lock-and-key",
		Mapping: &api.TrackerMapping{Send: json.RawMessage(`"${title}"`)}}, &tracker)
	var defect api.Defect
	x.post("/runs/1/causes/"+cause+"/defect", api.DefectRequest{Values: map[string]any{"title": "Tides are late", "severity": "hurts"}},
		&defect)
	assert.Equal(t, api.Awaiting, defect.State, "nobody is there to take it")

	marks := []string{"saltmarsh", "Tide", "Berth", "nightly", "mornings", "tidal-agent", "0123456789", session, s.Tests[0].ID, told.Key,
		"lock-and-key", defect.ID,
		tracker.ID, "Tides are late"}
	guest, insider := x.as("guest", in("marina", api.Admin)), x.as("insider", in("saltmarsh", api.Viewer))
	fill := strings.NewReplacer("{number}", "1", "{test}", "0", "{pane}", "0", "{other}", "1", "{id}", session, "{attempt}", s.Tests[0].ID,
		"{kind}", "commands", "{form}", "csv", "{subscription}", told.ID, "{cause}", cause, "{tracker}", tracker.ID, "{defect}", defect.ID,
		"{delivery}", told.ID+":1",
		"{hash}", strings.Repeat("0", 64), "{secret}", "PIN", "{project}", "saltmarsh")
	names := map[string]string{"/presets/{name}": "nightly", "/presets/{name}/run": "nightly", "/schedules/{name}": "mornings",
		"/schedules/{name}/pause": "mornings", "/schedules/{name}/resume": "mornings", "/projects/{name}": "saltmarsh",
		"/projects/{name}/secrets/read": "saltmarsh", "/projects/{name}/secrets/{secret}": "saltmarsh",
		"/attempts/{attempt}/files/{name}": "video.webm"}
	var doc struct {
		Paths map[string]map[string]json.RawMessage
	}
	require.NoError(t, json.Unmarshal(httpapi.OpenAPI("test"), &doc))
	asked := 0
	for path, methods := range doc.Paths {
		short := strings.TrimPrefix(path, httpapi.Prefix)
		if strings.HasPrefix(short, "/agent/") || strings.HasPrefix(short, "/agents/") || strings.HasPrefix(short, "/bundles/") {
			continue
		}
		name, named := names[short]
		full := strings.ReplaceAll(fill.Replace(path), "{name}", name)
		for method := range methods {
			method = strings.ToUpper(method)
			if strings.Contains(short, "events") {
				continue // they never end; see below
			}
			var body any
			if method == "POST" {
				body = map[string]any{}
				if strings.HasSuffix(short, "/forecasts") {
					body = map[string]any{"run": 1}
				}
			}
			a := x.do(method, full, guest, body)
			asked++
			text := string(a.body)
			if a.status >= 400 { // an error repeats what was asked for
				text = strings.NewReplacer("nightly", "", "mornings", "", `project \"saltmarsh`, "", session, "", s.Tests[0].ID, "", told.ID, "",
					tracker.ID, "", defect.ID, "").Replace(text)
			}
			for _, m := range marks {
				assert.NotContains(t, text, m, "%s %s", method, full)
			}
			if named || strings.Contains(short, "{number}") || strings.Contains(short, "/sessions/{id}") || strings.Contains(short,
				"{subscription}") || strings.Contains(short, "{tracker}") || strings.Contains(short, "{defect}") {
				assert.Equal(t, 404, a.status, "%s %s: %s", method, full, a.body)
			}
			if method == "GET" && (named || strings.Contains(short, "{number}")) {
				status := x.do(method, full, insider, nil).status
				assert.True(t, status < 300 || status == 409 && strings.HasSuffix(full, "/beside") || status == 403 && strings.HasSuffix(full,
					"/defect"), "%s %s: who may look, does: %d", method,
					full, status) // the run has one pane
			}
		}
	}
	assert.NotContains(t, string(x.do("GET", "/api/v1/trackers", insider, nil).body), "${title}", "how it speaks is for keepers")
	assert.Greater(t, asked, 40)
	assert.Equal(t, 403, x.do("GET", "/metrics", guest, nil).status)
	for _, path := range []string{"/runs?text=salt", "/runs?project=saltmarsh", "/sessions?text=tide", "/why?needs=browser=chromium",
		"/why?project=saltmarsh", "/snippets?browser=chromium&service=http://lab&project=saltmarsh", "/audit?text=salt"} {
		a := x.do("GET", "/api/v1"+path, guest, nil)
		for _, m := range marks {
			assert.NotContains(t, strings.ReplaceAll(string(a.body), `project \"saltmarsh\"`, ""), m, path)
		}
	}
	assert.Equal(t, 403, x.do("POST", "/api/v1/runs", guest, api.RunRequest{Bundle: x.bundle(), Matrix: "wall"}).status)
	assert.Equal(t, 403, x.do("POST", "/api/v1/runs/preview", guest, api.RunRequest{Bundle: x.bundle(), Matrix: "wall"}).status)
	assert.Equal(t, 403, x.do("POST", "/api/v1/presets", guest, api.PresetRequest{Name: "mine",
		Request: api.RunRequest{Bundle: x.bundle(), Matrix: "wall"}}).status)
	assert.Equal(t, 404, x.do("POST", "/api/v1/schedules", guest, api.ScheduleRequest{Name: "mine", Preset: "nightly",
		Rule: "FREQ=DAILY"}).status)
	a := x.do("POST", "/webdriver/session", guest, `{"capabilities":{"alwaysMatch":{"pane:options":{"project":"saltmarsh"}}}}`)
	assert.Contains(t, string(a.body), "has not the role runner in the project saltmarsh")

	// What a request's body or query names is another project's too.
	runner := x.as("runner", in("saltmarsh", api.Runner))
	aside := api.AsideRequest{AsideName: api.AsideName{Project: "saltmarsh", Suite: run.Suite, Test: "Tide"}, Owner: "tern", Reason: "late",
		Until: time.Now().Add(time.Hour)}
	gone := "/api/v1/aside?project=saltmarsh&suite=" + run.Suite + "&test=Tide"
	for _, path := range []string{"/api/v1/locators?project=saltmarsh&suite=" + run.Suite} {
		assert.Equal(t, 404, x.do("GET", path, guest, nil).status)
		assert.Equal(t, 200, x.do("GET", path, insider, nil).status)
	}
	for token, want := range map[string][2]int{guest: {404, 404}, insider: {403, 403}, runner: {200, 204}} {
		assert.Equal(t, want[0], x.do("POST", "/api/v1/aside", token, aside).status)
		if token != runner {
			assert.Equal(t, want[1], x.do("DELETE", gone, token, nil).status)
		}
	}
	assert.Contains(t, string(x.do("GET", "/api/v1/aside", insider, nil).body), "Tide")
	assert.NotContains(t, string(x.do("GET", "/api/v1/aside", guest, nil).body), "Tide")
	assert.Equal(t, 204, x.do("DELETE", gone, runner, nil).status)

	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var heard bytes.Buffer
	done := make(chan struct{})
	resp := x.stream(ctx, "/events?walls=1,2", guest)
	go func() {
		defer close(done)
		_, _ = heard.ReadFrom(resp.Body)
	}()
	x.run(api.RunRequest{Matrix: "wall"})
	time.Sleep(100 * time.Millisecond) // for what should not come
	stop()
	<-done
	for _, m := range marks {
		assert.NotContains(t, heard.String(), m)
	}
	assert.Equal(t, 404, x.do("GET", "/api/v1/runs/1/events", guest, nil).status)
}

// stream opens a stream that lasts.
func (x *yard) stream(ctx context.Context, path, token string) *http.Response {
	x.t.Helper()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, x.base+"/api/v1"+path, nil)
	require.NoError(x.t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(x.t, err)
	require.Equal(x.t, 200, resp.StatusCode)
	x.t.Cleanup(func() { resp.Body.Close() })
	return resp
}

// What was made from a token ends with it: streams, links of agents, and sessions that
// wait.
func TestStreamsEndWithTheirToken(t *testing.T) {
	x := start(t, t.TempDir())
	quay := x.mustJoin("quay", 1)
	secret := x.as("tern", in(api.Everywhere, api.Runner))
	stream := x.stream(t.Context(), "/events", secret)
	waiting := make(chan answer, 1)
	go func() {
		waiting <- x.do("POST", "/webdriver/session", secret,
			`{"capabilities":{"alwaysMatch":{"browserName":"chromium","pane:options":{"queueLimit":60}}}}`)
	}()
	drop := func(name string) {
		t.Helper()
		var all []api.Token
		x.get("/tokens", &all)
		i := slices.IndexFunc(all, func(k api.Token) bool { return k.Name == name })
		require.GreaterOrEqual(t, i, 0)
		require.Equal(t, 204, x.do("DELETE", "/api/v1/tokens/"+all[i].ID, x.token, nil).status)
	}
	<-quay.orders // it waits for the agent, which does not answer
	drop("tern")
	var rest bytes.Buffer
	_, _ = rest.ReadFrom(stream.Body)
	assert.Equal(t, 500, (<-waiting).status)
	drop("first agent")
	require.Eventually(t, func() bool { return !x.svc.Agents()[0].Online }, 5*time.Second, 5*time.Millisecond)
	assert.Equal(t, 401, x.do("GET", "/api/v1/runs", secret, nil).status)
}

// An agent's calls are about its own leases: what another has been given it can
// neither begin, nor end, nor read, nor add to.
func TestAgentsAreNotEachOther(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	rogue := x.tokenOf("rogue")
	x.mustJoin("rogue", 1)
	require.NoError(t, x.svc.DrainAgent("rogue", true))
	run := x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
	s := h.next()
	assert.Greater(t, s.Fence, int64(1)<<32, "nobody guesses a fence")
	refused := func(want int, method, path string, body any) {
		t.Helper()
		a := x.do(method, "/api/v1"+path, rogue, body)
		assert.Equal(t, want, a.status, "%s %s: %s", method, path, a.body)
	}
	refused(409, "POST", "/agent/started", link.Started{Fence: s.Fence, Test: s.Tests[0].Index})
	refused(409, "POST", "/agent/beat", link.Beat{Name: "quay", Instance: "quay-1", Held: []int64{s.Fence}})
	refused(404, "GET", "/agent/bundles/"+run.Request.Bundle, nil)
	refused(404, "PUT", fmt.Sprintf("/agent/files/%s?fence=%d", hashOf([]byte("x")), s.Fence), []byte("x"))
	refused(404, "PUT", fmt.Sprintf("/agent/sessions/%s/files/commands.jsonl?fence=%d&at=0", attempt.Session(s.Tests[0].ID, 1), s.Fence),
		[]byte("x"))
	refused(409, "POST", link.HelloPath, link.Hello{Name: "quay", Instance: "2", Machine: fleet.Machine{OS: "linux", Slots: 1}})
	refused(403, "POST", link.HelloPath, link.Hello{Name: "gull", Instance: "2", Machine: fleet.Machine{OS: "linux", Slots: 1}})
	a := x.do("POST", "/api/v1/agent/results", rogue, link.Result{ID: s.Tests[0].ID, Fence: s.Fence, Test: s.Tests[0].Index, Agent: "quay",
		Verdict: verdict.Passed})
	assert.Contains(t, string(a.body), `"accepted":false`)
	assert.Equal(t, 403, x.do("POST", "/api/v1/agent/beat", x.token, link.Beat{Name: "quay"}).status, "an admin's token is no agent's")
	assert.Equal(t, 200, x.do("GET", "/api/v1/agent/bundles/"+run.Request.Bundle, x.agent, nil).status)
	assert.True(t, h.result(s, 0, verdict.Passed).Accepted)
	assert.Equal(t, 404, x.do("GET", "/api/v1/agent/bundles/"+run.Request.Bundle, rogue, nil).status)
}

// A session is ended, judged and reached into by its owner and by keepers; others may
// look on.
func TestWhoseSessionItIs(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 1)
	run := in("unnamed", api.Runner)
	owner, other, keeper := x.as("tern", run), x.as("gull", run), x.as("ada", in("unnamed", api.Keeper))
	opened := x.askingAs(owner, `{}`)
	o := h.nextOrder()
	defer h.beat(o.Fence)()
	o.answer <- link.SessionOpen{Given: map[string]any{}, Browser: "chromium", Version: "9"}
	require.Equal(t, 200, (<-opened).status)
	for _, call := range []string{"end", "verdict", "hand"} {
		body := map[string]any{"verdict": map[string]any{"verdict": "passed"}, "hand": map[string]any{"do": "reach"}}[call]
		if body == nil {
			body = map[string]any{}
		}
		a := x.do("POST", "/api/v1/sessions/"+o.ID+"/"+call, other, body)
		assert.Equal(t, 403, a.status, "%s: %s", call, a.body)
		assert.Contains(t, a.detail(), "is of tern", call)
		for _, who := range []string{owner, keeper} {
			assert.NotEqual(t, 403, x.do("POST", "/api/v1/sessions/"+o.ID+"/"+call, who, body).status, call)
		}
	}
	assert.Equal(t, 200, x.do("GET", "/api/v1/sessions/"+o.ID, other, nil).status)
	assert.Equal(t, 204, x.do("POST", "/api/v1/sessions/"+o.ID+"/note", other, map[string]any{"note": "seen"}).status)
	var s api.Session
	x.get("/sessions/"+o.ID, &s)
	assert.Equal(t, []string{"seen", "gull"}, []string{s.Note, s.NoteBy})
	var log []api.AuditEntry
	x.get("/audit?act=session+end&refused=yes", &log)
	require.Len(t, log, 1)
	assert.Equal(t, []string{"gull", o.ID, "unnamed"}, []string{log[0].Who, log[0].Target, log[0].Project})
}
