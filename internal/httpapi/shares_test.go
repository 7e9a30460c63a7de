package httpapi_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/httpapi"
	"parallelpane/internal/link"
)

// altered is a secret that differs from another in its last character.
func altered(secret string) string {
	last := "2"
	if strings.HasSuffix(secret, last) {
		last = "3"
	}
	return secret[:len(secret)-1] + last
}

// A share link shows what it is of and what belongs to it: every operation of the API is
// asked with it, as the API's own document lists them.
func TestAShareLinkShowsOneThing(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 2)
	var attempts []string
	for n := range 2 {
		run := x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}, Vars: map[string]string{"boat": "Osprey of the marina"}})
		require.Equal(t, n+1, run.Number)
		var s link.Slice
		for range 2 { // combinations
			s = h.next()
			require.Equal(t, n+1, s.Run)
			film := []byte(fmt.Sprintf("film of run %d", n+1))
			require.Equal(t, 204, x.do("PUT", fmt.Sprintf("/api/v1/agent/files/%s?fence=%d", hashOf(film), s.Fence), x.agent, film).status)
			require.True(t, h.result(s, 0, verdict.Failed, attempt.File{Name: "video.webm", Kind: "video", Media: "video/webm", Hash: hashOf(film),
				Size: int64(len(film))}).Accepted)
		}
		attempts = append(attempts, s.Tests[0].ID)
	}
	until := time.Now().Add(time.Hour)
	share := func(q api.ShareRequest) (api.NewShare, string) {
		q.Until = until
		var made api.NewShare
		x.post("/shares", q, &made)
		_, secret, ok := strings.Cut(made.Address, "/shared#")
		require.True(t, ok, made.Address)
		return made, secret
	}
	made, ofRun := share(api.ShareRequest{Kind: "run", Run: 1})
	_, ofTest := share(api.ShareRequest{Kind: "test", Run: 1, Test: 0})
	var causes api.Causes
	x.get("/runs/1/causes", &causes)
	require.Len(t, causes.Causes, 1)
	cause := causes.Causes[0].ID // the other run's says the same
	_, ofCause := share(api.ShareRequest{Kind: "cause", Run: 1, Cause: cause})
	_, ofSession := share(api.ShareRequest{Kind: "session", Session: attempt.Session(attempts[0], 1)})

	var doc struct {
		Paths map[string]map[string]json.RawMessage
	}
	require.NoError(t, json.Unmarshal(httpapi.OpenAPI("test"), &doc))
	answered := map[string]bool{}
	for path, methods := range doc.Paths {
		short := strings.TrimPrefix(path, httpapi.Prefix)
		if strings.Contains(short, "events") {
			continue // they never end
		}
		for method := range methods {
			method = strings.ToUpper(method)
			for i, id := range attempts {
				full := strings.NewReplacer("{number}", fmt.Sprint(i+1), "{test}", "0", "{pane}", "0", "{id}", attempt.Session(id, 1), "{attempt}",
					id, "{cause}", cause,
					"{form}", "csv", "{kind}", "commands", "{name}", "video.webm", "{hash}", strings.Repeat("0", 64)).Replace(path)
				a := x.do(method, full, ofRun, nil)
				if a.status < 300 {
					assert.Equal(t, "GET", method, full)
					answered[short] = true
					if strings.Contains(path, "{") {
						assert.Zero(t, i, "%s is of another run", full)
					}
				}
				assert.NotContains(t, string(a.body), "film of run 2", full)
				assert.NotContains(t, string(a.body), "Osprey of the marina", full)
			}
		}
	}
	for _, short := range []string{"/me", "/runs/{number}", "/runs/{number}/causes", "/runs/{number}/past", "/runs/{number}/tests/{test}",
		"/runs/{number}/causes/{cause}",
		"/runs/{number}/as/{form}", "/attempts/{attempt}/files/{name}"} {
		assert.True(t, answered[short], "%s belongs to it", short)
	}
	for _, short := range []string{"/runs", "/overview", "/agents", "/trends", "/compare", "/tokens", "/shares", "/sessions", "/suites",
		"/subscriptions", "/defects", "/trackers", "/runs/{number}/causes/{cause}/defect"} {
		assert.False(t, answered[short], "%s is of the whole lab", short)
	}

	status := func(path, token string) int { return x.do("GET", "/api/v1"+path, token, nil).status }
	for _, c := range []struct {
		token, path string
		want        int
	}{
		{ofTest, "/runs/1/tests/0", 200}, {ofTest, "/runs/1/tests/1", 404}, {ofTest, "/runs/1", 404}, {ofTest, "/runs/2/tests/0", 404},
		{ofTest, "/attempts/" + attempts[0] + "/files/video.webm", 200}, {ofTest, "/attempts/" + attempts[1] + "/files/video.webm", 404},
		{ofCause, "/runs/1/causes/" + cause, 200}, {ofCause, "/runs/1/tests/0", 200}, {ofCause, "/runs/1/tests/1", 404}, {ofCause, "/runs/1",
			404},
		{ofCause, "/runs/1/causes", 404}, {ofCause, "/runs/1/causes/other", 404}, {ofCause, "/runs/2/causes/" + cause, 404},
		{ofTest, "/runs/1/causes/" + cause, 404}, {ofCause, "/attempts/" + attempts[0] + "/files/video.webm", 200},
		{ofCause, "/attempts/" + attempts[1] + "/files/video.webm", 404}, {ofCause, "/runs/1/causes/" + cause + "/defect", 403},
		{ofSession, "/runs/1", 404}, {ofSession, "/runs/1/tests/0", 404}, {ofSession, "/attempts/" + attempts[0] + "/files/video.webm", 200},
		{ofSession, "/attempts/" + attempts[1] + "/files/video.webm", 404}, {ofSession, "/sessions/" + attempt.Session(attempts[1], 1), 404},
		{altered(ofRun), "/runs/1", 401}, {"", "/runs/1", 401},
	} {
		assert.Equal(t, c.want, status(c.path, c.token), c.path)
	}
	var one api.TestResult
	require.NoError(t, json.Unmarshal(x.do("GET", "/api/v1/runs/1/tests/0", ofTest, nil).body, &one))
	assert.Equal(t, []int{1, 0, 0}, []int{len(one.Tests), len(one.Run.Counts), len(one.Run.Panes)}, "of the run's other tests nothing is told")
	assert.Equal(t, 403, status("/runs/1/as/pdf", ofRun), "it would take a slot of the lab")
	assert.Equal(t, 404, status("/runs/1/notes", ofRun), "what people note is for the team")
	assert.Equal(t, 403, x.do("POST", "/api/v1/runs/1/again", ofRun, map[string]any{}).status)
	assert.Equal(t, 403, x.do("POST", "/webdriver/session", ofRun, map[string]any{}).status)
	assert.Equal(t, 403, x.do("GET", "/metrics", ofRun, nil).status)

	// In a browser it is a cookie that is nobody's session: leaving ends it for nobody else.
	a := x.do("POST", "/api/v1/console/session", "", map[string]string{"token": ofRun})
	require.Equal(t, 200, a.status)
	var who api.Who
	require.NoError(t, json.Unmarshal(a.body, &who))
	require.NotNil(t, who.Share)
	assert.Equal(t, "/runs/1", who.Share.Path)
	assert.Equal(t, "noindex, nofollow", a.header.Get("X-Robots-Tag"))
	session := strings.SplitN(a.header.Get("Set-Cookie"), ";", 2)[0]
	assert.Equal(t, 204, x.do("DELETE", "/api/v1/console/session", "", nil, "Cookie", session, "Sec-Fetch-Site", "same-origin").status)
	assert.Equal(t, 200, status("/runs/1", ofRun))

	var list []api.ShareLink
	x.get("/shares", &list)
	require.Len(t, list, 4)
	assert.NotNil(t, list[3].UsedAt)
	assert.NotContains(t, string(x.do("GET", "/api/v1/shares", x.token, nil).body), ofRun)
	assert.NotContains(t, string(x.do("GET", "/api/v1/tokens", x.token, nil).body), "share link", "they are no tokens of people")
	for q, want := range map[*api.ShareRequest]string{
		{Kind: "lab", Run: 1, Until: until}:                                "kind: expected run, test, cause, session or badge",
		{Kind: "run", Run: 9, Until: until}:                                "there is no run 9",
		{Kind: "test", Run: 1, Test: 7, Until: until}:                      "run 1 has tests 0 to 0, found 7",
		{Kind: "session", Session: "x", Until: until}:                      "there is no session",
		{Kind: "cause", Run: 1, Cause: "c9", Until: until}:                 "run 1 has no cause",
		{Kind: "run", Run: 1, Until: time.Now().Add(-time.Minute)}:         "expected a time within a year from now",
		{Kind: "run", Run: 1, Until: time.Now().Add(400 * 24 * time.Hour)}: "expected a time within a year from now",
	} {
		a := x.do("POST", "/api/v1/shares", x.token, q)
		assert.GreaterOrEqual(t, a.status, 400)
		assert.Contains(t, string(a.body), want)
	}
	badge := api.NewShare{}
	x.post("/shares", api.ShareRequest{Kind: "badge", Project: "saltmarsh", Suite: "desk", Until: until}, &badge)
	_, path, _ := strings.Cut(badge.Address, "/badge/")
	svg := x.do("GET", "/badge/"+path, "", nil)
	require.Equal(t, 200, svg.status, badge.Address)
	assert.Contains(t, string(svg.body), `aria-label="saltmarsh desk: 2 of 2 failed"`)
	assert.Equal(t, "image/svg+xml", svg.header.Get("Content-Type"))
	for path, want := range map[string]int{"/badge/" + strings.TrimSuffix(ofRun, ".svg"): 404, "/badge/pane_no.svg": 401} {
		assert.Equal(t, want, x.do("GET", path, "", nil).status, path)
	}
	for _, p := range []string{"/runs/1", "/runs", "/runs/1/tests/0", "/attempts/" + attempts[0] + "/files/video.webm"} {
		assert.GreaterOrEqual(t, status(p, strings.TrimSuffix(path, ".svg")), 403, p)
	}
	guest := x.as("guest", in("marina", api.Admin))
	assert.Equal(t, 404, x.do("DELETE", "/api/v1/shares/"+made.ID, guest, nil).status)
	assert.Equal(t, 404, x.do("POST", "/api/v1/shares", guest, api.ShareRequest{Kind: "run", Run: 1, Until: until}).status)
	assert.NotContains(t, string(x.do("GET", "/api/v1/shares", guest, nil).body), made.ID)
	require.Equal(t, http.StatusNoContent, x.do("DELETE", "/api/v1/shares/"+made.ID, x.token, nil).status)
	assert.Equal(t, 401, status("/runs/1", ofRun), "withdrawn")
	assert.Equal(t, 200, status("/runs/1/tests/0", ofTest), "the others go on")
}
