package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/valyala/fasthttp"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/sessions"
	"parallelpane/internal/webdriver"
)

// maxCommand bounds a command's body, in bytes.
const maxCommand = 64 << 20

// remote is a session that somebody else's runner drives.
type remote struct {
	*execution
	order   link.Session
	session *sessions.Session
	ended   chan string // how it ended; has room for one

	mu   sync.Mutex
	said link.SessionVerdict // by the runner
}

// opened is what came of an order.
type opened struct {
	open  link.SessionOpen
	fault *link.SessionFault
}

// sessionRoutes answers what the service asks about sessions.
func (a *Agent) sessionRoutes(ctx context.Context, mux *http.ServeMux) {
	mux.HandleFunc("POST /sessions", func(w http.ResponseWriter, r *http.Request) {
		var o link.Session
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 16<<20)).Decode(&o); err != nil {
			http.Error(w, "session: "+err.Error(), http.StatusBadRequest)
			return
		}
		answer := a.answerOf(o.Fence)
		known, err := a.begin(ctx, o.Fence, o.Run, func(ctx context.Context) {
			a.serve(ctx, o, answer)
			a.forgetAnswer(o.Fence)
		})
		if err != nil {
			if !known {
				a.forgetAnswer(o.Fence)
			}
			http.Error(w, fmt.Sprintf("session %s: %v", o.ID, err), http.StatusConflict)
			return
		}
		select {
		case got := <-answer:
			answer <- got // for an order that is sent once more because the link dropped
			w.Header().Set("Content-Type", "application/json")
			if got.fault != nil {
				w.WriteHeader(http.StatusBadGateway)
				_ = json.NewEncoder(w).Encode(got.fault)
				return
			}
			_ = json.NewEncoder(w).Encode(got.open)
		case <-r.Context().Done():
		}
	})
	mux.HandleFunc("POST /sessions/{id}/end", a.onRemote(func(s *remote, w http.ResponseWriter, r *http.Request) {
		s.end(r.URL.Query().Get("why"))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /sessions/{id}/left", a.onRemote(func(s *remote, w http.ResponseWriter, _ *http.Request) {
		s.session.Left()
		s.note("the client went away in the middle of a command")
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /sessions/{id}/picture", a.sendPicture)
	mux.HandleFunc("GET /sessions/{id}/sofar/{kind}", a.soFar)
	mux.HandleFunc("POST /sessions/{id}/hand", func(w http.ResponseWriter, r *http.Request) { a.hand(ctx, w, r) })
}

// answerOf is where the answer to an order to open a session is, or will be. It
// has room for one, and whoever takes it puts it back.
func (a *Agent) answerOf(fence int64) chan opened {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.answers[fence] == nil {
		a.answers[fence] = make(chan opened, 1)
	}
	return a.answers[fence]
}

func (a *Agent) forgetAnswer(fence int64) {
	a.mu.Lock()
	defer a.mu.Unlock()
	delete(a.answers, fence)
}

// onRemote finds the session that a request is about.
func (a *Agent) onRemote(do func(*remote, http.ResponseWriter, *http.Request)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s := a.remote(r.PathValue("id"))
		if s == nil {
			http.Error(w, "no session "+r.PathValue("id"), http.StatusNotFound)
			return
		}
		do(s, w, r)
	}
}

func (a *Agent) remote(id string) *remote {
	a.mu.Lock()
	defer a.mu.Unlock()
	if s := a.open[id]; s != nil {
		return s.remote
	}
	return nil
}

// serve opens a session and keeps it until it ends, for whatever reason.
func (a *Agent) serve(ctx context.Context, o link.Session, answer chan<- opened) {
	s := &remote{order: o, ended: make(chan string, 1), execution: &execution{agent: a, began: time.Now(), mask: recording.NewMask(o.Secrets...)}}
	s.slice = link.Slice{Fence: o.Fence, Run: o.Run, Label: o.Label}
	s.test = link.SliceTest{Name: o.Name, Attempt: o.Attempt}
	s.result = link.Result{ID: o.ID, Fence: o.Fence, Attempt: o.Attempt, Agent: a.Name, StartedAt: s.began.UnixMilli(),
		Detail: attempt.Detail{Steps: []attempt.Step{}, Record: o.Record}, Files: []attempt.File{}}
	s.note("session %s for %q on %s, for run %d", o.ID, o.Name, a.Name, o.Run)
	fault := s.open(ctx)
	if fault != nil {
		answer <- opened{fault: fault}
		return
	}
	given := s.session.Given()
	s.result.Detail.Given, _ = json.Marshal(s.maskedGiven(given))
	done := a.show(o.ID, &watched{session: s.session, remote: s, rec: s.rec, note: s.note})
	answer <- opened{open: link.SessionOpen{Given: given, Browser: s.session.Browser.Name, Version: s.session.Browser.Version}}
	a.Log.Info("session open", "session", o.ID, "run", o.Run, "pane", o.Label, "name", o.Name)

	how := s.wait(ctx)
	done()
	s.finish(ctx, how)
}

// maskedGiven leaves addresses that open the session out of the record.
func (s *remote) maskedGiven(given webdriver.Capabilities) webdriver.Capabilities {
	out := webdriver.Capabilities{}
	for name, v := range given {
		out[name] = v
	}
	if _, ok := out["webSocketUrl"].(string); ok {
		out["webSocketUrl"] = recording.Masked
	}
	return out
}

// open opens the browser and begins to record.
func (s *remote) open(ctx context.Context) *link.SessionFault {
	a, o := s.agent, s.order
	b, err := a.browser(o.Values)
	if err != nil {
		return &link.SessionFault{Code: webdriver.SessionNotCreated, Message: err.Error(), Lab: true}
	}
	profile, _ := device.Find("")
	if o.Device != nil {
		profile = *o.Device
	}
	s.result.Detail.Browser, s.result.Detail.Version = b.Name, b.Version
	if o.Device != nil {
		s.result.Detail.Device = profile.Name
	}
	asked := webdriver.Capabilities(o.Asked)
	if asked == nil {
		asked = webdriver.Capabilities{}
	}
	s.session, err = a.host.Open(ctx, sessions.Request{Browser: b, Headed: o.Values["mode"] == "headed", Device: profile, Asked: asked, Bare: o.Device == nil,
		Pictures: o.Record[record.Screenshots] == record.Always, Film: o.Record.Wants(record.Video),
		Watch: o.Record.Wants("network") || o.Record.Wants("console"), Proxy: o.Record["network"] == record.Always})
	if refused, ok := errors.AsType[*engine.Refused](err); ok {
		return &link.SessionFault{Code: webdriver.InvalidArgument, Message: refused.Why}
	}
	if w3c, ok := errors.AsType[*webdriver.Error](err); ok {
		// The browser starts; a driver that then refuses what was asked for is right.
		return &link.SessionFault{Code: w3c.Code, Message: w3c.Message, Lab: w3c.Code != webdriver.InvalidArgument && len(asked) == 0}
	}
	if err != nil {
		return &link.SessionFault{Code: webdriver.SessionNotCreated, Message: err.Error(), Lab: true}
	}
	s.result.Detail.StartMS = time.Since(s.began).Milliseconds()
	s.result.Detail.Emulated = s.session.Outcome
	s.note("%s %s is open after %d ms", b.Name, b.Version, s.result.Detail.StartMS)
	s.record(ctx, s.session, o.Record)
	return nil
}

// end asks the session to end; the first reason counts.
func (s *remote) end(how string) {
	select {
	case s.ended <- how:
	default:
	}
}

// looks is how often a session is looked at for reasons to end.
const looks = 250 * time.Millisecond

// wait returns how the session ended.
func (s *remote) wait(ctx context.Context) string {
	t := time.NewTicker(looks)
	defer t.Stop()
	idle, life := time.Duration(s.order.IdleMS)*time.Millisecond, time.Duration(s.order.LifeMS)*time.Millisecond
	for {
		select {
		case <-ctx.Done():
			return "the lease ended"
		case how := <-s.ended:
			return how
		case <-t.C:
		}
		switch {
		case s.session.Deleted():
			return "the client ended it"
		case s.session.Programs() != nil:
			s.settle(verdict.LabFault, s.session.Programs().Error())
			return "the browser or its driver ended"
		case idle > 0 && s.session.Idle() > idle:
			return fmt.Sprintf("no command came for %s", idle)
		case life > 0 && time.Since(s.began) > life:
			return fmt.Sprintf("it was open for %s, the longest a session may be", life)
		}
	}
}

// settle gives the session a verdict, unless the runner has.
func (s *remote) settle(v verdict.Verdict, message string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.said.Verdict == "" {
		s.said = link.SessionVerdict{Verdict: v, Message: message}
	}
}

// finish closes the browser, keeps what was recorded and hands the result in.
func (s *remote) finish(ctx context.Context, how string) {
	if !s.session.Deleted() && s.session.Programs() == nil {
		s.rec.Last()
	}
	s.result.TookMS = time.Since(s.began).Milliseconds() // what is recorded is put away on the lab's time
	s.mu.Lock()
	said := s.said
	s.mu.Unlock()
	if said.Verdict == "" {
		said.Verdict = verdict.Ended
	}
	s.result.Detail.End = how
	s.execution.end(said.Verdict, said.Message)
	s.note("ended: %s", how)
	s.endRecording()
	s.session.Close()
	if ctx.Err() != nil {
		s.forget()
		return // dropped: the service has its own record of why
	}
	s.agent.vacate(s.order.Fence)
	s.keep()
	s.agent.Log.Info("session ended", "session", s.order.ID, "how", how, "verdict", said.Verdict)
}

// commandPath takes a command's session and path apart: /sessions/ID/wd/element
// is the command /element of the session ID.
func commandPath(path string) (id, rest string, ok bool) {
	id, rest, ok = strings.Cut(strings.TrimPrefix(path, "/sessions/"), "/wd")
	return id, rest, ok && strings.HasPrefix(path, "/sessions/") && !strings.Contains(id, "/") && (rest == "" || rest[0] == '/')
}

// command passes a command on to the driver and its answer back.
func (a *Agent) command(ctx context.Context, c *fasthttp.RequestCtx, id, path string) {
	a.mu.Lock()
	s := a.open[id]
	a.mu.Unlock()
	if s == nil || s.session.Deleted() { // one that was deleted may still be putting its recording away
		answer(c, webdriver.Errorf(webdriver.InvalidSessionID, "session %s is not open", id))
		return
	}
	method, body := string(c.Method()), bytes.Clone(c.Request.Body())
	if s.remote != nil {
		if path == "/pane/verdict" {
			s.remote.takeVerdict(c, method, body)
			return
		}
		if method == fasthttp.MethodDelete && path == "" {
			s.remote.rec.Last()
		}
	}
	if query := c.URI().QueryString(); len(query) > 0 {
		path += "?" + string(query)
	}
	got, err := s.session.Forward(ctx, method, path, body)
	if err != nil {
		if gone := s.session.Programs(); gone != nil {
			err = gone
		}
		answer(c, webdriver.Errorf(webdriver.UnknownError, "the driver did not answer: %v", err))
		return
	}
	if s.remote != nil && s.session.Deleted() {
		s.remote.end("the client ended it")
	}
	c.Response.Header.SetContentType(got.Media)
	c.SetStatusCode(got.Status)
	c.Response.SetBodyRaw(got.Body)
}

// takeVerdict is the extension command with which a runner says how its test
// went.
func (s *remote) takeVerdict(c *fasthttp.RequestCtx, method string, body []byte) {
	if method != fasthttp.MethodPost {
		answer(c, webdriver.Errorf(webdriver.UnknownMethod, "pane/verdict takes POST"))
		return
	}
	var v link.SessionVerdict
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&v); err != nil {
		answer(c, webdriver.Errorf(webdriver.InvalidArgument, `expected {"verdict": "passed", "failed" or "skipped", "message": …}: %v`, err))
		return
	}
	if v.Verdict != verdict.Passed && v.Verdict != verdict.Failed && v.Verdict != verdict.Skipped {
		answer(c, webdriver.Errorf(webdriver.InvalidArgument, "verdict: expected passed, failed or skipped, found %q", v.Verdict))
		return
	}
	v.Message = s.mask.Text(v.Message)
	s.mu.Lock()
	s.said = v
	s.mu.Unlock()
	s.session.Touch()
	s.note("the runner says: %s%s", v.Verdict, strings.TrimRight(": "+v.Message, ": "))
	c.SetContentType("application/json; charset=utf-8")
	c.SetBodyString(`{"value":null}`)
}

// answer writes an error of W3C WebDriver.
func answer(c *fasthttp.RequestCtx, e *webdriver.Error) {
	raw, err := json.Marshal(map[string]any{"value": e})
	if err != nil {
		raw = []byte(`{"value":{"error":"unknown error","message":"","stacktrace":""}}`)
	}
	c.SetContentType("application/json; charset=utf-8")
	c.SetStatusCode(e.Status())
	c.SetBody(raw)
}
