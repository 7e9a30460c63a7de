package httpapi_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/demo/tracker"
	"parallelpane/internal/httpapi"
	"parallelpane/internal/notify"
	"parallelpane/internal/service"
)

// contract is the API's own document, against which every answer in these tests is held.
type contract struct {
	compiler *jsonschema.Compiler
	ops      map[string]map[string]any // operations, by path as the document has it

	mu       sync.Mutex
	compiled map[string]*jsonschema.Schema // by pointer
	met      map[string]bool               // operations that answered
}

var theContract = sync.OnceValues(func() (*contract, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(httpapi.OpenAPI("test")))
	if err != nil {
		return nil, err
	}
	c := &contract{compiler: jsonschema.NewCompiler(), ops: map[string]map[string]any{}, compiled: map[string]*jsonschema.Schema{},
		met: map[string]bool{}}
	top := doc.(map[string]any)
	strict(top["components"].(map[string]any)["schemas"])
	for path, ops := range top["paths"].(map[string]any) {
		c.ops[path] = ops.(map[string]any)
	}
	return c, c.compiler.AddResource("api:document", doc)
})

// strict lets an object have only the fields that the document says.
func strict(v any) {
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			strict(x)
		}
	case map[string]any:
		_, more := v["additionalProperties"]
		if _, fields := v["properties"].(map[string]any); fields && !more {
			v["additionalProperties"] = false
		}
		for _, x := range v {
			strict(x)
		}
	}
}

// path is the one of the document that an address is of: of several the one with the most
// words of its own.
func (c *contract) path(address string) (best string) {
	address, _, _ = strings.Cut(address, "?")
	asked, most := strings.Split(address, "/"), -1
	for path := range c.ops {
		parts, own := strings.Split(path, "/"), 0
		if len(parts) != len(asked) {
			continue
		}
		for i, p := range parts {
			if !strings.HasPrefix(p, "{") {
				if own++; p != asked[i] {
					own = -1
					break
				}
			}
		}
		if own > most {
			best, most = path, own
		}
	}
	return best
}

// check says what of an answer is not as the document has it.
func (c *contract) check(method, address string, a answer) error {
	path := c.path(address)
	op, _ := c.ops[path][strings.ToLower(method)].(map[string]any)
	media, _, _ := strings.Cut(a.header.Get("Content-Type"), ";")
	if op == nil || len(a.body) == 0 || a.header.Get("Content-Encoding") != "" || !strings.HasSuffix(media, "json") {
		return nil
	}
	status := fmt.Sprint(a.status)
	if a.status >= 400 {
		status = "default"
	}
	content, _ := op["responses"].(map[string]any)[status].(map[string]any)["content"].(map[string]any)
	if content[media] == nil {
		if status == "default" || content != nil {
			return fmt.Errorf("the document has no %s with status %s", media, status)
		}
		return nil // a file
	}
	esc := strings.NewReplacer("~", "~0", "/", "~1").Replace
	pointer := "api:document#/paths/" + esc(path) + "/" + strings.ToLower(method) + "/responses/" + status + "/content/" + esc(media) +
		"/schema"
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.compiled[pointer]
	if s == nil {
		var err error
		if s, err = c.compiler.Compile(pointer); err != nil {
			return err
		}
		c.compiled[pointer] = s
	}
	if a.status < 300 {
		c.met[strings.ToUpper(method)+" "+strings.TrimPrefix(path, httpapi.Prefix)] = true
	}
	body, err := jsonschema.UnmarshalJSON(bytes.NewReader(a.body))
	if err != nil {
		return err
	}
	return s.Validate(body)
}

// conforms holds an answer against the API's document.
func (x *yard) conforms(method, address string, a answer) {
	x.t.Helper()
	c, err := theContract()
	require.NoError(x.t, err)
	assert.NoError(x.t, c.check(method, address, a), "%s %s: %.400s", method, address, a.body)
}

// elsewhere are operations that answer with JSON and need a real agent: the command line's
// tests have those.
var elsewhere = []string{"POST /agent/found", "POST /agent/recall", "POST /sessions/{id}/hand", "GET /attempts/{attempt}/pages/{name}",
	"POST /runs/{number}/bisect", "GET /bisects/{id}", "POST /bisects/{id}/end"}

// Every other one is asked by these tests, with success, and its answer held against the
// document.
func TestMain(m *testing.M) {
	code := m.Run()
	if c, err := theContract(); err == nil && code == 0 && flag.Lookup("test.run").Value.String() == "" && !testing.Short() {
		for path, ops := range c.ops {
			for method, op := range ops {
				name := strings.ToUpper(method) + " " + strings.TrimPrefix(path, httpapi.Prefix)
				ok, _ := op.(map[string]any)["responses"].(map[string]any)["200"].(map[string]any)
				content, _ := ok["content"].(map[string]any)
				if content["application/json"] != nil && !c.met[name] && !slices.Contains(elsewhere, name) {
					fmt.Fprintln(os.Stderr, "no test asks with success, and so nothing holds against the document:", name)
					code = 1
				}
			}
		}
	}
	os.Exit(code)
}

func TestWhatNoOtherTestAsks(t *testing.T) {
	receiver := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	t.Cleanup(receiver.Close)
	x := start(t, t.TempDir(), func(c *service.Config, _ string) {
		c.HooksTo = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
		c.Mail = notify.Mail{Server: "127.0.0.1", Port: 9, From: "lab@saltmarsh.example"}
	})
	h := x.mustJoin("quay", 1)
	for range 2 {
		x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
		for range 2 { // combinations
			require.True(t, h.result(h.next(), 0, verdict.Failed).Accepted)
		}
	}
	x.ended(2)
	tracker, err := tracker.New("http://tracker.saltmarsh.example")
	require.NoError(t, err)
	server := httptest.NewServer(tracker)
	t.Cleanup(server.Close)
	x.post("/trackers", api.TrackerRequest{Project: "saltmarsh", Name: "harbour", Address: server.URL + "/defects"}, nil)
	var causes api.Causes
	x.get("/runs/2/causes", &causes)
	require.NotEmpty(t, causes.Causes)
	at := "/runs/2/causes/" + causes.Causes[0].ID
	var form api.DefectForm
	x.get(at+"/defect", &form)
	var d api.Defect
	x.post(at+"/defect", api.DefectRequest{Values: map[string]any{"severity": "a nuisance"}}, &d)
	x.post("/defects/"+d.ID+"/ask", nil, &d)
	assert.Equal(t, []string{"HARBOUR-1", "open"}, []string{d.Key, d.Status})
	x.get(at, new(api.CausePage))

	// What is filed is for the team: a share link of the run shows none of it, in no form.
	var shared api.NewShare
	x.post("/shares", api.ShareRequest{Kind: "run", Run: 2, Until: time.Now().Add(time.Hour)}, &shared)
	_, link, _ := strings.Cut(shared.Address, "/shared#")
	for _, path := range []string{"/runs/2/words", "/runs/2/causes", at, "/runs/2/as/html", "/runs/2/as/markdown"} {
		mine, theirs := x.do("GET", "/api/v1"+path, x.token, nil), x.do("GET", "/api/v1"+path, link, nil)
		assert.Contains(t, string(mine.body), "HARBOUR-1", path)
		assert.Equal(t, 200, theirs.status, path)
		assert.NotContains(t, string(theirs.body), "HARBOUR-1", path)
	}

	var s api.NewSubscription
	x.post("/subscriptions", api.SubscriptionRequest{Project: "saltmarsh", Kind: "hook", Target: receiver.URL, Of: []string{"ended"}}, &s)
	var sent api.Delivery
	x.post("/subscriptions/"+s.ID+"/try", nil, &sent)
	require.Eventually(t, func() bool {
		a := x.do("POST", "/api/v1/deliveries/"+url.PathEscape(sent.ID)+"/again", x.token, nil)
		return a.status == 200
	}, 10*time.Second, 10*time.Millisecond, "once it is sent it is sent again")
	x.post("/subscriptions/"+s.ID+"/pause", map[string]bool{"paused": true}, &s.Subscription)
	assert.True(t, s.Paused)
	x.post("/accounts", api.AccountRequest{Name: "admin", Mail: "admin@saltmarsh.example", Role: api.Admin}, nil)
	x.post("/me/hears", api.HearRequest{Project: "saltmarsh", Of: []string{"failed"}}, nil)
	var mine api.MyAccount
	x.get("/me/account", &mine)
	require.Len(t, mine.Hears, 1)
	assert.Equal(t, 204, x.do("POST", "/api/v1/me/account", x.token, api.MyAccountRequest{}).status)
	assert.Equal(t, 204, x.do("DELETE", "/api/v1/me/hears/"+mine.Hears[0].ID, x.token, nil).status)

	x.get("/sides?project=saltmarsh", new(api.Sides))
	x.get("/compare?was=1&is=2", new(api.Compared))
	x.get("/snippets?browser=chromium&service=http://lab", new(api.Snippets))
	x.post("/presets", api.PresetRequest{Name: "nightly", Request: api.RunRequest{Bundle: x.bundle(), Matrix: "wall"}}, nil)
	x.post("/schedules/preview", api.ScheduleRequest{Name: "night", Preset: "nightly", Rule: "FREQ=DAILY"}, nil)
}

func TestAnswersThatAreNotAsTheDocumentHasThem(t *testing.T) {
	c, err := theContract()
	require.NoError(t, err)
	h := http.Header{"Content-Type": {"application/json"}}
	for body, want := range map[string]string{
		`{"name":"x","owner":"x","role":"viewer","rights":[],"share":null}`:         "",
		`{"name":"x","owner":"x","role":"viewer","rights":[],"share":null,"new":1}`: "'new' not allowed",
		`{"owner":"x","role":"viewer","rights":[],"share":null}`:                    "missing property 'name'",
		`{"name":"x","owner":"x","role":"viewer","rights":null,"share":null}`:       "got null, want array",
	} {
		err := c.check("GET", "/api/v1/me", answer{200, []byte(body), h})
		if want == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, want)
		}
	}
}

func TestListsComeInPages(t *testing.T) {
	x := start(t, t.TempDir())
	for i := range 7 {
		x.post("/accounts", api.AccountRequest{Name: fmt.Sprintf("gull-%d", i), Role: api.Viewer}, nil)
		x.as(fmt.Sprintf("token %d", i), api.InLab(api.Viewer)...)
	}
	for range 5 {
		x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
	}
	for n := range 5 {
		x.post("/runs/1/notes", api.NoteRequest{Kind: "run", Body: fmt.Sprint("note ", n)}, nil)
	}
	for _, path := range []string{"/accounts", "/tokens", "/runs", "/notes", "/audit", "/devices?family=phone"} {
		var all []json.RawMessage
		x.get(path, &all)
		require.Greater(t, len(all), 4, path)
		sep := "?"
		if strings.Contains(path, "?") {
			sep = "&"
		}
		var got []json.RawMessage
		pages, at := 0, httpapi.Prefix+path+sep+"limit=3"
		for at != "" {
			a := x.do("GET", at, x.token, nil)
			require.Equal(t, 200, a.status, "%s: %s", at, a.body)
			var part []json.RawMessage
			require.NoError(t, json.Unmarshal(a.body, &part))
			assert.LessOrEqual(t, len(part), 3, at)
			got, pages = append(got, part...), pages+1
			at = ""
			if link := a.header.Get("Link"); link != "" {
				require.True(t, strings.HasSuffix(link, `>; rel="next"`), link)
				at = strings.TrimSuffix(strings.TrimPrefix(link, "<"), `>; rel="next"`)
			}
			require.Less(t, pages, 50)
		}
		assert.Equal(t, len(all), len(got), path)
		if path != "/tokens" && path != "/accounts" { // which say when they were last used
			assert.Equal(t, all, got, path)
		}
		assert.Equal(t, 422, x.do("GET", httpapi.Prefix+path+sep+"after=nonsense", x.token, nil).status, path)
		assert.Equal(t, 422, x.do("GET", httpapi.Prefix+path+sep+"after=MSA", x.token, nil).status, path)
	}
	// What was there is gone, and what is new has come: nothing is shown twice, nothing is left out.
	a := x.do("GET", "/api/v1/accounts?limit=3", x.token, nil)
	var part []api.Account
	require.NoError(t, json.Unmarshal(a.body, &part))
	require.Equal(t, 204, x.do("DELETE", "/api/v1/accounts/"+part[0].ID, x.token, nil).status)
	x.post("/accounts", api.AccountRequest{Name: "avocet", Role: api.Viewer}, nil)
	link := strings.TrimSuffix(strings.TrimPrefix(a.header.Get("Link"), "<"), `>; rel="next"`)
	require.NoError(t, json.Unmarshal(x.do("GET", link, x.token, nil).body, &part))
	assert.Equal(t, "gull-3", part[0].Name)
	assert.Equal(t, 422, x.do("GET", "/api/v1/accounts?limit=0", x.token, nil).status)
	assert.Equal(t, 422, x.do("GET", "/api/v1/me?after=x", x.token, nil).status, "it is no list")
}

func TestWhatTheClientHasIsNotSentAgain(t *testing.T) {
	x := start(t, t.TempDir())
	x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
	for _, path := range []string{"/runs", "/runs/1", "/devices", "/version"} {
		a := x.do("GET", "/api/v1"+path, x.token, nil)
		tag := a.header.Get("ETag")
		require.NotEmpty(t, tag, path)
		assert.Equal(t, "private, no-cache", a.header.Get("Cache-Control"), path)
		b := x.do("GET", "/api/v1"+path, x.token, nil, "If-None-Match", `"other", W/`+tag)
		assert.Equal(t, []any{304, 0, tag}, []any{b.status, len(b.body), b.header.Get("ETag")}, path)
		assert.Equal(t, 200, x.do("GET", "/api/v1"+path, x.token, nil, "If-None-Match", `"other"`).status, path)
		assert.Equal(t, 401, x.do("GET", "/api/v1"+strings.Replace(path, "/version", "/me", 1), "pane_wrong", nil, "If-None-Match", tag).status,
			"whoever may not look learns nothing")
	}
	before := x.do("GET", "/api/v1/runs/1", x.token, nil).header.Get("ETag")
	x.post("/runs/1/cancel", nil, nil)
	assert.Equal(t, 200, x.do("GET", "/api/v1/runs/1", x.token, nil, "If-None-Match", before).status, "it has changed")
	zipped := x.do("GET", "/api/v1/runs/1", x.token, nil, "Accept-Encoding", "gzip")
	plain := x.do("GET", "/api/v1/runs/1", x.token, nil, "Accept-Encoding", "identity")
	assert.NotEqual(t, zipped.header.Get("ETag"), plain.header.Get("ETag"), "they are not the same bytes")
	posted := x.do("POST", "/api/v1/links", x.token, nil)
	assert.Empty(t, posted.header.Get("ETag"))
	assert.Equal(t, "no-store", posted.header.Get("Cache-Control"))
}

func TestATokenIsToldWhatItMayStillAsk(t *testing.T) {
	x := start(t, t.TempDir())
	a := x.do("GET", "/api/v1/me", x.token, nil)
	assert.Equal(t, `"token";q=2000;w=2`, a.header.Get("RateLimit-Policy"))
	assert.Regexp(t, `^"token";r=(1999|2000);t=[01]$`, a.header.Get("RateLimit"))
	assert.Empty(t, x.do("GET", "/api/v1/version", "", nil).header.Get("RateLimit"), "nobody is known there")
}
