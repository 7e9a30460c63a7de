package notify

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
	standin "parallelpane/internal/demo/tracker"
	"parallelpane/internal/store"
)

var filed sync.Map // defects of the causes of shelf, by signature

func (shelf) Cause(_ context.Context, number int, id string) (api.CausePage, error) {
	if id == "none" || number > 900 {
		return api.CausePage{}, api.Errorf(api.NotFound, "run %d has no cause %q", number, id)
	}
	at := time.Date(2026, 11, 20, 9, 0, 0, 0, time.UTC)
	p := api.CausePage{Run: summary(number), Step: "tap button “Hold”", File: "berth.pane.yaml", Line: 12,
		Cause: api.Cause{Cause: triage.Cause{ID: id, Signature: "sign-" + id, Title: "the button of cause " + id + " cannot be seen",
			Sentence: "fails with " +
				"device=phone", Message: "no button\n\x1b[31m\u202ered", Tests: []string{"Hold a berth"}, Panes: []string{"chromium, phone",
				"firefox, phone"}},
			Runs: 3, First: &api.CauseSeen{Run: 1, At: &at}, Last: &api.CauseSeen{Run: number, At: &at}},
		Pictures: []api.CauseShot{{Attempt: "a1", Name: "failure.png"}}}
	if d, ok := filed.Load(p.Cause.Signature); ok {
		p.Cause.Defect = d.(*api.Defect)
	}
	return p, nil
}

func (shelf) PictureNamed(context.Context, string, string) ([]byte, string, error) {
	return []byte("picture"), "image/png", nil
}

// desk is a tracker's office with a project that files there.
func openDesk(t *testing.T, h http.Handler) (p *post, tracker api.Tracker, server *httptest.Server) {
	p = openPost(t, Mail{})
	server = httptest.NewServer(h)
	t.Cleanup(server.Close)
	tracker, err := p.AddTracker(t.Context(), keeper, api.TrackerRequest{Project: "saltmarsh", Name: "harbour",
		Address: server.URL + standin.Path,
		Secret:  "very-secret-token"})
	require.NoError(t, err)
	return p, tracker, server
}

// standIn is the stand-in that ships, as it is reached.
type standIn struct {
	http.Handler
	asked []string
	mu    sync.Mutex
}

func (s *standIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	s.asked = append(s.asked, r.Method+" "+r.URL.Path+" "+r.Header.Get("Authorization")+" "+r.Header.Get("Idempotency-Key"))
	s.mu.Unlock()
	s.Handler.ServeHTTP(w, r)
}

func newStandIn(t *testing.T) *standIn {
	tr, err := standin.New("http://tracker.saltmarsh.example")
	require.NoError(t, err)
	return &standIn{Handler: tr}
}

func (p *post) file(run int, cause string, q api.DefectRequest) (api.Defect, error) {
	d, err := p.FileDefect(p.t.Context(), keeper, run, cause, q)
	if err == nil {
		filed.Store(d.Signature, &d)
		p.t.Cleanup(func() { filed.Delete(d.Signature) })
	}
	return d, err
}

func TestADefectIsFiledOnceAndToldAgainWhenItIsBack(t *testing.T) {
	tr := newStandIn(t)
	p, _, server := openDesk(t, tr)
	f, err := p.DefectForm(t.Context(), 4, "once", "")
	require.NoError(t, err)
	assert.Equal(t, 1, f.Pictures)
	assert.Nil(t, f.Defect)
	assert.Equal(t, []any{"chromium, phone", "firefox, phone"}, f.Values["where"])
	assert.Equal(t, "Hold a berth", f.Values["found_by"])
	assert.Equal(t, "tap button “Hold” (berth.pane.yaml:12)", f.Values["step"])
	assert.Equal(t, "no button\n\uFFFD[31m\uFFFDred", f.Values["message"])
	assert.Equal(t, "2026-11-20T09:00:00Z", f.Values["first_seen"])
	assert.Equal(t, "https://lab.saltmarsh.example/runs/4/causes/once", f.Values["link"])
	assert.Contains(t, f.Values["details"], "fails with device=phone")
	require.Len(t, f.Missing, 1)
	assert.Contains(t, f.Missing[0].Message, "severity")

	_, err = p.file(4, "once", api.DefectRequest{Values: map[string]any{"severity": "none"}})
	assert.ErrorContains(t, err, "values: severity")
	d, err := p.file(4, "once", api.DefectRequest{Values: map[string]any{"severity": "a nuisance", "title": "Phones cannot hold a berth"}})
	require.NoError(t, err)
	assert.Equal(t, []string{api.Filed, "HARBOUR-1", "open", "http://tracker.saltmarsh.example/HARBOUR-1", "Phones cannot hold a berth"},
		[]string{d.State, d.Key, d.Status, d.Link, d.Title})
	_, err = p.file(5, "once", api.DefectRequest{Values: map[string]any{"severity": "a nuisance"}})
	assert.ErrorContains(t, err, "has a defect already: HARBOUR-1, open")

	get := func(path string) string {
		resp, err := http.Get(server.URL + path)
		require.NoError(t, err)
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return string(body)
	}
	assert.Contains(t, get("/HARBOUR-1"), "cGljdHVyZQ==", "the picture is there")
	resp, err := http.PostForm(server.URL+"/set/HARBOUR-1", nil)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	p.pass(askOpen + time.Second)
	p.until(func() bool {
		d, err = p.Defect(t.Context(), d.ID)
		return err == nil && d.Closed && d.Status == "closed"
	})

	// The next run has the cause again: it is told though the run before had it too, for the defect is closed.
	run := func(number int, signatures ...string) {
		p.end(number, "failed")
		cells := map[string]int{}
		for _, s := range signatures {
			cells[s] = 1
		}
		require.NoError(t, p.Store.Write(store.KeepCauses(store.Run{Number: number}, 0, cells)...))
		p.Kick()
	}
	run(4, "sign-once")
	run(5, "sign-once")
	p.until(func() bool { return strings.Contains(get("/HARBOUR-1"), "It is back. #5") })
	p.until(func() bool {
		d, err = p.Defect(t.Context(), d.ID)
		return err == nil && !d.Closed && d.Told == 5 && d.Status == "open"
	})
	run(6, "sign-once")                 // it goes on, and is open: nothing new
	run(7, "sign-other")                // it is gone
	run(8, "sign-once", "sign-strange") // it is back
	p.until(func() bool { return strings.Contains(get("/HARBOUR-1"), "It is back. #8") })
	assert.NotContains(t, get("/HARBOUR-1"), "back. #6")
	tr.mu.Lock()
	defer tr.mu.Unlock()
	for _, a := range tr.asked {
		if strings.Contains(a, standin.Path) {
			assert.Contains(t, a, "Bearer very-secret-token", a)
		}
	}
}

func TestADuplicateIsFoundBeforeItIsFiled(t *testing.T) {
	p, _, server := openDesk(t, newStandIn(t))
	resp, err := http.Post(server.URL+standin.Path, "application/json", strings.NewReader(
		`{"title": "The button of cause twin cannot be seen", "severity": "a nuisance", "details": "by hand"}`))
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
	f, err := p.DefectForm(t.Context(), 4, "twin", "")
	require.NoError(t, err)
	require.Len(t, f.Like, 1)
	assert.Equal(t, "HARBOUR-1", f.Like[0].Key)
	severe := map[string]any{"severity": "a nuisance"}
	_, err = p.file(4, "twin", api.DefectRequest{Values: severe})
	assert.ErrorContains(t, err, "most probably HARBOUR-1")
	_, err = p.file(4, "twin", api.DefectRequest{Same: "HARBOUR-9"})
	assert.ErrorContains(t, err, `does not know "HARBOUR-9"`)
	d, err := p.file(4, "twin", api.DefectRequest{Same: "HARBOUR-1"})
	require.NoError(t, err)
	assert.Equal(t, []string{api.Filed, "HARBOUR-1", "open", "The button of cause twin cannot be seen"}, []string{d.State, d.Key, d.Status,
		d.Title})
	d, err = p.file(4, "twins", api.DefectRequest{Values: severe, Anyway: true})
	require.NoError(t, err)
	assert.Equal(t, "HARBOUR-2", d.Key)
	assert.ErrorContains(t, p.DropDefect(t.Context(), api.Who{Name: "gull", Rights: api.InLab(api.Runner)}, d.ID), "a keeper of saltmarsh")
	require.NoError(t, p.DropDefect(t.Context(), keeper, d.ID))
	all, err := p.Defects(t.Context(), api.DefectFilter{State: "open"})
	require.NoError(t, err)
	require.Len(t, all, 1)
}

// A tracker that takes a defect and never says so has it once.
func TestATrackerIsDownWhenADefectIsFiled(t *testing.T) {
	good := newStandIn(t)
	var mu sync.Mutex
	broken := "down"
	p, tracker, server := openDesk(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		how := broken
		mu.Unlock()
		switch {
		case r.Method == http.MethodGet || how == "":
			good.ServeHTTP(w, r)
		case how == "down":
			http.Error(w, "at lunch, "+r.Header.Get("Authorization"), http.StatusServiceUnavailable)
		case how == "deaf": // it takes it, and the answer is lost
			good.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		}
	}))
	d, err := p.file(4, "lunch", api.DefectRequest{Values: map[string]any{"severity": "a nuisance"}})
	require.NoError(t, err)
	assert.Equal(t, api.Awaiting, d.State)
	assert.Equal(t, "status 503 at lunch, Bearer ***", d.Trouble)
	mu.Lock()
	broken = "deaf"
	mu.Unlock()
	d, err = p.AskDefect(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, api.Awaiting, d.State)
	assert.Contains(t, d.Trouble, "not reached")
	mu.Lock()
	broken = ""
	mu.Unlock()
	p.stop() // and a restart meanwhile
	p.open(Mail{})
	p.pass(longestPause)
	p.until(func() bool { d, err = p.Defect(t.Context(), d.ID); return err == nil && d.State == api.Filed })
	assert.Equal(t, "HARBOUR-1", d.Key, "it was filed once")
	sent := p.deliveries(api.DeliveryFilter{Subscription: tracker.ID})
	require.Len(t, sent, 1)
	assert.Equal(t, []string{api.TrackerKind, api.Sent, api.OfDefect}, []string{sent[0].Kind, sent[0].State, sent[0].Of})
	server.Close()
	d, err = p.AskDefect(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Contains(t, d.Trouble, "not reached")
	assert.Equal(t, "open", d.Status, "what was last known stays")
	require.NoError(t, p.DropTracker(t.Context(), tracker.ID))
	_, err = p.AskDefect(t.Context(), d.ID)
	assert.ErrorContains(t, err, "its tracker was dropped")
}

func TestTrackersThatAreNotToBeTrusted(t *testing.T) {
	form := `{"type": "object", "properties": {"title": {"type": "string"}}}`
	for name, c := range map[string]struct {
		form, answer string
		status       int
		header       [2]string
		want         string // in the trouble of the defect, or the error
	}{
		"no form":      {form: "<html>", want: "what it says is nonsense"},
		"endless form": {form: `{"type": "object", "x": "` + strings.Repeat("x", 300<<10) + `"}`, want: "it has"},
		"form outside": {form: `{"type": "object", "properties": {"a": {"$ref": "file:///etc/passwd"}}}`, want: "cannot be used"},
		"nonsense":     {form: form, status: 200, answer: "<html>taken</html>", want: "what it says is nonsense"},
		"nameless":     {form: form, status: 201, answer: `{"id": 3}`, want: "does not say what it calls the defect"},
		"refused":      {form: form, status: 422, answer: `{"message": "title\u001b: too short"}`, want: "status 422"},
		"elsewhere":    {form: form, status: 307, header: [2]string{"Location", "http://169.254.169.254/"}, want: "it sends elsewhere"},
		"place outside": {form: form, status: 201, answer: `{"key": "X-1", "link": "javascript:alert(1)"}`, header: [2]string{"Location",
			"http://10.0.0.1/x"}},
	} {
		p, _, _ := openDesk(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodGet {
				fmt.Fprint(w, c.form)
				return
			}
			if c.header[0] != "" {
				w.Header().Set(c.header[0], c.header[1])
			}
			w.WriteHeader(c.status)
			fmt.Fprint(w, c.answer)
		}))
		d, err := p.file(4, "cause of "+name, api.DefectRequest{})
		if c.status == 0 {
			assert.ErrorContains(t, err, c.want, name)
			continue
		}
		require.NoError(t, err, name)
		if c.want != "" {
			assert.Equal(t, api.Refused, d.State, name)
			assert.Contains(t, d.Trouble, c.want, name)
			continue
		}
		assert.Equal(t, []string{api.Filed, "X-1", ""}, []string{d.State, d.Key, d.Link}, name)
		row, err := p.Store.Defect(t.Context(), d.ID)
		require.NoError(t, err)
		assert.Empty(t, row.Place, "a tracker has the service ask nobody else")
	}
	p := openPost(t, Mail{})
	for _, c := range []struct {
		q    api.TrackerRequest
		want string
	}{
		{api.TrackerRequest{Project: "saltmarsh", Name: "x", Address: "http://10.0.0.1/"}, "--hooks-to"},
		{api.TrackerRequest{Project: "saltmarsh", Name: "x", Address: "ftp://tracker.example/"}, "address: expected"},
		{api.TrackerRequest{Project: "saltmarsh", Name: "x y", Address: "https://t.example/"}, "name:"},
		{api.TrackerRequest{Project: "saltmarsh", Name: "x", Address: "https://t.example/", Secret: "a\nb"}, "secret:"},
		{api.TrackerRequest{Project: "saltmarsh", Name: "x", Address: "https://t.example/", Header: "X-Key"}, "header:"},
		{api.TrackerRequest{Project: "saltmarsh", Name: "x", Address: "https://t.example/", Mapping: &api.TrackerMapping{
			Form: json.RawMessage(`{}`)}}, "mapping: form"},
		{api.TrackerRequest{Project: "saltmarsh", Name: "x", Address: "https://t.example/", Mapping: &api.TrackerMapping{
			Place: "http://127.0.0.2/${key}"}}, "mapping: place"},
		{api.TrackerRequest{Project: "saltmarsh", Name: "x", Address: "https://t.example/", Mapping: &api.TrackerMapping{
			Answer: api.TrackerAnswer{Key: "key"}}}, "JSON Pointer"},
	} {
		_, err := p.AddTracker(t.Context(), keeper, c.q)
		assert.ErrorContains(t, err, c.want)
	}
	_, err := p.DefectForm(t.Context(), 4, "x", "")
	assert.ErrorContains(t, err, "has no tracker")
}

func TestATrackerThatSpeaksOtherwise(t *testing.T) {
	var got, told map[string]any
	var key string
	p := openPost(t, Mail{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key = r.Header.Get("X-Key")
		switch r.Method + " " + r.URL.RequestURI() {
		case "POST /logbook":
			assert.NoError(t, json.NewDecoder(r.Body).Decode(&got))
			fmt.Fprint(w, `{"id": 77}`)
		case "GET /logbook/77":
			fmt.Fprint(w, `{"id": 77, "entry": {"stands": "let be"}}`)
		case "POST /logbook/77/remarks":
			assert.NoError(t, json.NewDecoder(r.Body).Decode(&told))
		case "GET /logbook/like?line=the+button+of+cause+mapped+cannot+be+seen&n=5":
			fmt.Fprint(w, `{"hits": [{"id": 5, "entry": {"line": "Something else", "stands": "new"}}]}`)
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(server.Close)
	_, err := p.AddTracker(t.Context(), keeper, api.TrackerRequest{Project: "saltmarsh", Name: "other", Address: server.URL + "/logbook",
		Secret: "s3cret", Header: "X-Key", Mapping: &api.TrackerMapping{
			Send: json.RawMessage(`{"entry": {"line": "${title}", "places": "${combinations}", "text": "${markdown}",
				"rank": "${severity}"}}`),
			Answer: api.TrackerAnswer{Key: "/id", Link: "https://tracker.saltmarsh.example/${key}", Status: "/entry/stands",
				Title: "/entry/line", List: "/hits"},
			Place: server.URL + "/logbook/${key}", Search: server.URL + "/logbook/like?line=${text}&n=5", Closed: []string{"Let be"},
			Back: &api.TrackerBackward{Address: server.URL + "/logbook/${key}/remarks", Send: json.RawMessage(`{"remark": "${words}"}`)}}})
	require.NoError(t, err)
	f, err := p.DefectForm(t.Context(), 4, "mapped", "")
	require.NoError(t, err)
	assert.Equal(t, []api.LikeDefect{{Key: "5", Title: "Something else", Link: "https://tracker.saltmarsh.example/5", Status: "new",
		Why: "found in the tracker"}}, f.Like)
	d, err := p.file(4, "mapped", api.DefectRequest{Values: map[string]any{"severity": "hurts"}})
	require.NoError(t, err)
	assert.Equal(t, []string{api.Filed, "77", "https://tracker.saltmarsh.example/77"}, []string{d.State, d.Key, d.Link})
	fields := got["entry"].(map[string]any)
	assert.Equal(t, []any{"the button of cause mapped cannot be seen", []any{"chromium, phone", "firefox, phone"}, "hurts"},
		[]any{fields["line"], fields["places"], fields["rank"]})
	assert.Contains(t, fields["text"], "**Cause**")
	assert.Equal(t, "s3cret", key)
	d, err = p.AskDefect(t.Context(), d.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{"let be", true}, []any{d.Status, d.Closed})
	p.end(5, "failed")
	require.NoError(t, p.Store.Write(store.KeepCauses(store.Run{Number: 5}, 0, map[string]int{"sign-mapped": 1})...))
	p.Kick()
	p.until(func() bool { d, err = p.Defect(t.Context(), d.ID); return err == nil && d.Told == 5 })
	assert.Contains(t, told["remark"], "#5 saltmarsh desk")
}
