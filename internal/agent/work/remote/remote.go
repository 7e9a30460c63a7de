// Package remote serves sessions that somebody else's runner drives: it opens them,
// passes their commands on to the drivers, and hands in how they ended.
package remote

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

	"parallelpane/internal/agent/work"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/record"
	guard "parallelpane/internal/core/remote"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/sessions"
	"parallelpane/internal/webdriver"
)

// MaxCommand bounds a command's body, in bytes.
const MaxCommand = 64 << 20

// Worker serves such sessions.
type Worker struct {
	*work.Floor
	begin func(ctx context.Context, fence int64, run int, do func(context.Context)) (known bool, err error)

	mu      sync.Mutex
	open    map[string]*remote    // by id
	answers map[int64]chan opened // to orders to open sessions, by fence
}

// New serves sessions on an agent's floor; begin starts work under a lease once a
// place is free, unless it has begun.
func New(f *work.Floor, begin func(ctx context.Context, fence int64, run int, do func(context.Context)) (known bool, err error)) *Worker {
	return &Worker{Floor: f, begin: begin, open: map[string]*remote{}, answers: map[int64]chan opened{}}
}

// remote is one session.
type remote struct {
	*work.Attempt
	order   link.Session
	session *sessions.Session
	ended   chan string // how it ended; has room for one

	mu    sync.Mutex
	said  link.SessionVerdict // by the runner
	given int64               // bytes of files that the runner brought
}

// opened is what came of an order.
type opened struct {
	open  link.SessionOpen
	fault *link.SessionFault
}

// Routes answers what the service asks about sessions.
func (on *Worker) Routes(ctx context.Context, mux *http.ServeMux) {
	mux.HandleFunc("POST /sessions", func(w http.ResponseWriter, r *http.Request) {
		var o link.Session
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 16<<20)).Decode(&o); err != nil {
			http.Error(w, "session: "+err.Error(), http.StatusBadRequest)
			return
		}
		answer := on.answerOf(o.Fence)
		known, err := on.begin(ctx, o.Fence, o.Run, func(ctx context.Context) {
			on.serve(ctx, o, answer)
			on.forgetAnswer(o.Fence)
		})
		if err != nil {
			if !known {
				on.forgetAnswer(o.Fence)
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
	mux.HandleFunc("POST /sessions/{id}/end", on.onRemote(func(s *remote, w http.ResponseWriter, r *http.Request) {
		s.end(r.URL.Query().Get("why"))
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("POST /sessions/{id}/left", on.onRemote(func(s *remote, w http.ResponseWriter, _ *http.Request) {
		s.session.Left()
		s.Note("the client went away in the middle of a command")
		w.WriteHeader(http.StatusNoContent)
	}))
}

// answerOf is where the answer to an order to open a session is, or will be. It
// has room for one, and whoever takes it puts it back.
func (on *Worker) answerOf(fence int64) chan opened {
	on.mu.Lock()
	defer on.mu.Unlock()
	if on.answers[fence] == nil {
		on.answers[fence] = make(chan opened, 1)
	}
	return on.answers[fence]
}

func (on *Worker) forgetAnswer(fence int64) {
	on.mu.Lock()
	defer on.mu.Unlock()
	delete(on.answers, fence)
}

// onRemote finds the session that a request is about.
func (on *Worker) onRemote(do func(*remote, http.ResponseWriter, *http.Request)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s := on.remote(r.PathValue("id"))
		if s == nil {
			http.Error(w, "no session "+r.PathValue("id"), http.StatusNotFound)
			return
		}
		do(s, w, r)
	}
}

func (on *Worker) remote(id string) *remote {
	on.mu.Lock()
	defer on.mu.Unlock()
	return on.open[id]
}

// serve opens a session and keeps it until it ends, for whatever reason.
func (on *Worker) serve(ctx context.Context, o link.Session, answer chan<- opened) {
	s := &remote{order: o, ended: make(chan string, 1),
		Attempt: on.Begin(o.Name, link.Result{ID: attempt.Of(o.ID), Fence: o.Fence, Attempt: o.Attempt}, o.Record,
			recording.NewMask(o.Secrets...))}
	s.Note("session %s for %q on %s, for run %d", o.ID, o.Name, on.Name, o.Run)
	fault := s.open(ctx)
	if fault != nil {
		answer <- opened{fault: fault}
		return
	}
	given := s.session.Given()
	s.Result.Detail.Given, _ = json.Marshal(s.maskedGiven(given))
	done := on.show(s)
	answer <- opened{open: link.SessionOpen{Given: given, Browser: s.session.Browser.Name, Version: s.session.Browser.Version}}
	on.Log.Info("session open", "session", o.ID, "run", o.Run, "pane", o.Label, "name", o.Name)

	how := s.wait(ctx)
	done()
	s.finish(ctx, how)
}

// show makes a session known until done is called.
func (on *Worker) show(s *remote) (done func()) {
	hide := on.Open.Show(s.order.ID, s.session, s.Rec, s.Note)
	on.mu.Lock()
	on.open[s.order.ID] = s
	on.mu.Unlock()
	return func() {
		on.mu.Lock()
		delete(on.open, s.order.ID)
		on.mu.Unlock()
		hide()
	}
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
	o := s.order
	b, err := s.Browser(o.Values)
	if err != nil {
		return &link.SessionFault{Code: webdriver.SessionNotCreated, Message: err.Error(), Lab: true}
	}
	profile, _ := device.Find("")
	if o.Device != nil {
		profile = *o.Device
	}
	s.Result.Detail.Browser, s.Result.Detail.Version = b.Name, b.Version
	if o.Device != nil {
		s.Result.Detail.Device = profile.Name
	}
	asked := webdriver.Capabilities(o.Asked)
	if asked == nil {
		asked = webdriver.Capabilities{}
	}
	shape, err := traffic.Parse(o.Traffic)
	if err != nil {
		return &link.SessionFault{Code: webdriver.InvalidArgument, Message: "traffic: " + err.Error()}
	}
	way, err := s.Way(o.Relay, o.Fence)
	if err != nil {
		return &link.SessionFault{Code: webdriver.SessionNotCreated, Message: err.Error(), Lab: true}
	}
	s.session, err = s.Host.Open(ctx, sessions.Request{Browser: b, Headed: o.Values["mode"] == "headed", Device: profile, Traffic: shape,
		Relay: way, Asked: asked, Bare: o.Device == nil,
		Pictures: o.Record[record.Screenshots] == record.Always, Film: o.Record.Wants(record.Video),
		Watch: o.Record.Wants("network") || o.Record.Wants("console")})
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
	s.Result.Sessions = 1
	s.Result.Detail.StartMS = time.Since(s.Began).Milliseconds()
	s.Result.Detail.Emulated = s.session.Outcome
	s.Note("%s %s is open after %d ms", b.Name, b.Version, s.Result.Detail.StartMS)
	if left := s.session.Decided(); len(left) > 0 {
		s.Note("left out, since the agent decides: %s", strings.Join(left, " "))
	}
	s.Record(ctx, s.session, o.Record)
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
		case s.session.Programs() != nil && !s.session.Deleting():
			s.settle(verdict.LabFault, s.session.Programs().Error())
			return "the browser or its driver ended"
		case idle > 0 && s.session.Idle() > idle:
			return fmt.Sprintf("no command came for %s", idle)
		case life > 0 && time.Since(s.Began) > life:
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
		s.Rec.Last()
	}
	s.Result.TookMS = time.Since(s.Began).Milliseconds() // what is recorded is put away on the lab's time
	s.mu.Lock()
	said := s.said
	s.mu.Unlock()
	if said.Verdict == "" {
		said.Verdict = verdict.Ended
	}
	s.Result.Detail.End = how
	s.End(said.Verdict, said.Message)
	s.Note("ended: %s", how)
	s.EndRecording()
	s.session.Close()
	if ctx.Err() != nil {
		s.Forget()
		return // dropped: the service has its own record of why
	}
	s.Leases.Vacate(s.order.Fence)
	s.Keep()
	s.Log.Info("session ended", "session", s.order.ID, "how", how, "verdict", said.Verdict)
}

// commandPath takes a command's session and path apart: /sessions/ID/wd/element
// is the command /element of the session ID.
func commandPath(path string) (id, rest string, ok bool) {
	id, rest, ok = strings.Cut(strings.TrimPrefix(path, "/sessions/"), "/wd")
	return id, rest, ok && strings.HasPrefix(path, "/sessions/") && !strings.Contains(id, "/") && (rest == "" || rest[0] == '/')
}

// Direct answers what is not to be tidied by a router, and in a hurry: commands, and
// requests for BiDi connections. It says whether a request was one of these.
func (on *Worker) Direct(ctx context.Context, c *fasthttp.RequestCtx) bool {
	path := string(c.URI().PathOriginal())
	if id, command, ok := commandPath(path); ok {
		on.command(ctx, c, id, command)
		return true
	}
	if id, ok := bidiPath(path); ok {
		on.relay(c, id)
		return true
	}
	return false
}

// command passes a command on to the driver and its answer back.
func (on *Worker) command(ctx context.Context, c *fasthttp.RequestCtx, id, path string) {
	s := on.remote(id)
	if s == nil || s.session.Deleted() { // one that was deleted may still be putting its recording away
		answer(c, webdriver.Errorf(webdriver.InvalidSessionID, "session %s is not open", id))
		return
	}
	method, body := string(c.Method()), bytes.Clone(c.Request.Body())
	switch path {
	case "/pane/verdict":
		s.takeVerdict(c, method, body)
		return
	case "/pane/file":
		s.takeFile(c, method, body)
		return
	}
	if why := guard.Command(method, path, body); why != "" {
		s.Note("refused: %s %s: %s", method, path, why)
		answer(c, webdriver.Errorf(webdriver.InvalidArgument, "%s", why))
		return
	}
	if method == fasthttp.MethodDelete && path == "" {
		s.Rec.Last()
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
	if s.session.Deleted() {
		s.end("the client ended it")
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
	v.Message = s.Mask.Text(v.Message)
	s.mu.Lock()
	s.said = v
	s.mu.Unlock()
	s.session.Touch()
	s.Note("the runner says: %s%s", v.Verdict, strings.TrimRight(": "+v.Message, ": "))
	c.SetContentType("application/json; charset=utf-8")
	c.SetBodyString(`{"value":null}`)
}

// maxGiven bounds the files that a runner brings into one session, in bytes.
const maxGiven = 256 << 20

// takeFile is the extension command with which a runner brings a file along, for
// its browser to upload. It answers with the path to type into a file input.
func (s *remote) takeFile(c *fasthttp.RequestCtx, method string, body []byte) {
	if method != fasthttp.MethodPost {
		answer(c, webdriver.Errorf(webdriver.UnknownMethod, "pane/file takes POST"))
		return
	}
	var file struct {
		Name    string `json:"name"`
		Content []byte `json:"content"` // in base64
	}
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&file); err != nil {
		answer(c, webdriver.Errorf(webdriver.InvalidArgument, `expected {"name": "certificate.pdf", "content": its bytes in base64}: %v`, err))
		return
	}
	if file.Name == "" || len(file.Name) > 200 || strings.ContainsAny(file.Name, "/\\\x00") || strings.Trim(file.Name, ".") == "" {
		answer(c, webdriver.Errorf(webdriver.InvalidArgument, "name: expected the name of a file, without a directory, found %.80q", file.Name))
		return
	}
	s.mu.Lock()
	s.given += int64(len(file.Content))
	over := s.given > maxGiven
	s.mu.Unlock()
	if over {
		answer(c, webdriver.Errorf(webdriver.InvalidArgument, "content: the files of one session may come to %d MB, not more", maxGiven>>20))
		return
	}
	path, err := s.session.GiveBytes(file.Name, file.Content)
	if err != nil {
		answer(c, webdriver.Errorf(webdriver.UnknownError, "%v", err))
		return
	}
	s.session.Touch()
	s.Note("the runner brings %s, %d bytes", file.Name, len(file.Content))
	raw, err := json.Marshal(map[string]string{"value": path})
	if err != nil {
		answer(c, webdriver.Errorf(webdriver.UnknownError, "%v", err))
		return
	}
	c.SetContentType("application/json; charset=utf-8")
	c.SetBody(raw)
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
