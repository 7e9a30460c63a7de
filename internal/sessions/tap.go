package sessions

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/valyala/fasthttp"

	"parallelpane/internal/engine"
	"parallelpane/internal/webdriver"
)

// tap is where every command of a session passes on its way to the driver,
// whoever gives it: here commands are held while somebody has taken the session
// over, counted for the idle limit, and shown to the recording.
type tap struct {
	next     *http.Transport      // for the lab's own commands
	driver   *fasthttp.HostClient // for a client's
	rec      atomic.Pointer[Recording]
	done     atomic.Bool // the session was deleted
	deleting atomic.Bool // the command that ends the session is with the driver

	turn chan struct{} // has an element while a command is with the driver

	mu       sync.Mutex
	active   int       // commands under way
	last     time.Time // when the last one ended, or its client went away
	left     bool      // the client of those under way has gone away
	reaching string    // who has reached into the session; "" when nobody has
	free     chan struct{}
}

func newTap(inst *engine.Instance) *tap {
	return &tap{turn: make(chan struct{}, 1), last: time.Now(),
		next: &http.Transport{MaxIdleConnsPerHost: 8, DisableCompression: true, DialContext: inst.Dial},
		driver: &fasthttp.HostClient{Addr: strings.TrimPrefix(inst.URL, "http://"), NoDefaultUserAgentHeader: true,
			Dial:                   func(address string) (net.Conn, error) { return inst.Dial(context.Background(), "tcp", address) },
			DisablePathNormalizing: true, MaxConns: 64, MaxIdleConnDuration: time.Minute,
			RetryIfErr: func(*fasthttp.Request, int, error) (bool, bool) { return false, false }}}
}

func (t *tap) close() {
	t.next.CloseIdleConnections()
	t.driver.CloseIdleConnections()
}

// over says whether the session was deleted by a command.
func (t *tap) over() bool { return t.done.Load() }

type contextKey int

const (
	quietKey contextKey = iota
	byKey
	besideKey
)

// Quiet marks commands of the lab's own housekeeping, which are neither
// recorded nor counted nor held.
func Quiet(ctx context.Context) context.Context { return context.WithValue(ctx, quietKey, true) }

// Beside marks quiet commands that are given while another one is with the driver,
// to learn what keeps it.
func Beside(ctx context.Context) context.Context {
	return context.WithValue(Quiet(ctx), besideKey, true)
}

// By marks commands that a person gives by hand while reaching in.
func By(ctx context.Context, who string) context.Context {
	return context.WithValue(ctx, byKey, who)
}

// RoundTrip passes on a command of the lab's own client. Its answer is read to
// the end.
func (t *tap) RoundTrip(req *http.Request) (*http.Response, error) {
	if !strings.HasPrefix(req.URL.Path, "/session/") {
		return t.next.RoundTrip(req)
	}
	if req.Context().Value(quietKey) != nil {
		return t.quietly(req)
	}
	var body []byte
	if req.Body != nil {
		var err error
		if body, err = io.ReadAll(req.Body); err != nil {
			return nil, err
		}
		req.Body.Close()
	}
	var resp *http.Response
	a, err := t.command(req.Context(), req.Method, afterSession(req.URL.EscapedPath()), body, func() (a Answer, err error) {
		if body != nil {
			req.Body = io.NopCloser(bytes.NewReader(body))
		}
		if resp, err = t.next.RoundTrip(req); err != nil {
			return a, err
		}
		defer resp.Body.Close()
		a.Status = resp.StatusCode
		a.Body, err = io.ReadAll(resp.Body)
		return a, err
	})
	if err != nil {
		return nil, err
	}
	resp.Body = io.NopCloser(bytes.NewReader(a.Body))
	return resp, nil
}

// quietly passes a command of the lab's housekeeping.
func (t *tap) quietly(req *http.Request) (*http.Response, error) {
	if req.Context().Value(besideKey) == nil {
		if err := t.take(req.Context()); err != nil {
			return nil, err
		}
		defer func() { <-t.turn }()
	}
	resp, err := t.next.RoundTrip(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	resp.Body = io.NopCloser(bytes.NewReader(raw))
	return resp, err
}

// take waits for the driver to be free: section 6.5 "Processing model" has one
// command at a time, and not every driver sees to that itself.
func (t *tap) take(ctx context.Context) error {
	select {
	case t.turn <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// command passes one command with send, once nobody else has the session.
func (t *tap) command(ctx context.Context, method, path string, body []byte, send func() (Answer, error)) (Answer, error) {
	by, _ := ctx.Value(byKey).(string)
	if err := t.enter(ctx, by); err != nil {
		return Answer{}, err
	}
	defer t.leave()
	rec := t.rec.Load()
	x := &exchange{method: method, path: path, by: by, body: body}
	if rec != nil {
		x.at = rec.At()
		rec.coming(ctx, x)
	}
	if err := t.take(ctx); err != nil {
		if rec != nil {
			rec.came(x)
		}
		return Answer{}, err
	}
	t.deleting.Store(method == http.MethodDelete && path == "")
	a, err := pastLeaving(ctx, method, path, send)
	<-t.turn
	if err == nil && a.Status == http.StatusOK && method == http.MethodDelete && path == "" {
		t.done.Store(true)
	}
	t.deleting.Store(false)
	if rec != nil {
		if err == nil && a.Status == http.StatusOK {
			rec.onDisplay(ctx, x)
		}
		done := *x
		done.took, done.answer, done.err = rec.At()-x.at, a, err
		rec.note(done, x)
	}
	return a, err
}

// leavingLimit is how long a page's question before it is left may stay open:
// nobody is asked, so that it is answered as fast as the machine can.
const leavingLimit = 5 * time.Second

// abortedByNavigation is a code of Chromium's driver that the standard has not.
const abortedByNavigation = "aborted by navigation"

// pastLeaving gives a command, and gives it again where Chromium's driver stumbled
// over a page that asks before it is left. With a BiDi connection, one part of the
// driver accepts the question, as section 11 "User prompts" has it for
// beforeunload; until it has, the other parts answer that they do not know this
// kind of dialog, or that the page they were leaving has gone.
func pastLeaving(ctx context.Context, method, path string, send func() (Answer, error)) (Answer, error) {
	began, navigated := time.Now(), false
	for {
		a, err := send()
		if err != nil || a.Status == http.StatusOK || ctx.Err() != nil || time.Since(began) > leavingLimit {
			return a, err
		}
		var fault struct{ Value webdriver.Error }
		if json.Unmarshal(a.Body, &fault) != nil {
			return a, nil
		}
		// The code as well: what a page's own error says is in messages of another.
		switch v := fault.Value; {
		case v.Code == webdriver.InvalidArgument && strings.Contains(v.Message, "Unexpected dialog type beforeunload"):
			time.Sleep(5 * time.Millisecond)
		case !navigated && navigates(method, path) && v.Code == abortedByNavigation:
			navigated = true
		default:
			return a, nil
		}
	}
}

// navigates says whether a command of section 10 "Navigation" leaves the page for
// one that a second try would load as well.
func navigates(method, path string) bool {
	return method == http.MethodPost && (path == "/url" || path == "/refresh")
}

// afterSession is the rest of a path after /session/ID.
func afterSession(path string) string {
	_, rest, _ := strings.Cut(strings.TrimPrefix(path, "/session/"), "/")
	if rest == "" {
		return ""
	}
	return "/" + rest
}

// enter counts a command in; it waits while somebody else reaches in.
func (t *tap) enter(ctx context.Context, by string) error {
	for {
		t.mu.Lock()
		if t.reaching == "" || t.reaching == by {
			t.active++
			t.left = false
			t.mu.Unlock()
			return nil
		}
		free := t.free
		t.mu.Unlock()
		select {
		case <-free:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func (t *tap) leave() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.active--
	t.last = time.Now()
}

// ErrReached means that somebody else has reached into the session.
var ErrReached = errors.New("somebody else has reached into the session")

// ReachIn holds everybody else's commands until LetGo. It says who has the
// session if it is not free.
func (s *Session) ReachIn(who string) (holder string, err error) {
	t := s.tap
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.reaching != "" && t.reaching != who {
		return t.reaching, ErrReached
	}
	if t.reaching == "" {
		t.reaching, t.free, t.last = who, make(chan struct{}), time.Now()
	}
	return who, nil
}

// LetGo lets everybody's commands pass again.
func (s *Session) LetGo() {
	t := s.tap
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.reaching != "" {
		t.reaching, t.last = "", time.Now()
		close(t.free)
	}
}

// Forsaken says whether whoever has reached into the session has done nothing for
// some time.
func (s *Session) Forsaken(limit time.Duration) bool {
	t := s.tap
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.reaching != "" && t.active == 0 && time.Since(t.last) > limit
}

// Reaching is who has reached into the session; "" when nobody has.
func (s *Session) Reaching() string {
	s.tap.mu.Lock()
	defer s.tap.mu.Unlock()
	return s.tap.reaching
}

// Idle is for how long no command has been under way; 0 while one is, or while
// somebody reaches in.
func (s *Session) Idle() time.Duration {
	t := s.tap
	t.mu.Lock()
	defer t.mu.Unlock()
	if (t.active > 0 && !t.left) || t.reaching != "" {
		return 0
	}
	return time.Since(t.last)
}

// Busy says whether a command is under way: the driver would not answer another.
func (s *Session) Busy() bool {
	s.tap.mu.Lock()
	defer s.tap.mu.Unlock()
	return s.tap.active > 0
}

// Touch counts as a command that has just ended.
func (s *Session) Touch() {
	s.tap.mu.Lock()
	defer s.tap.mu.Unlock()
	s.tap.last = time.Now()
}

// Left notes that the client of the command under way has gone away: from now on
// the session counts as idle, whether the driver answers or not.
func (s *Session) Left() {
	s.tap.mu.Lock()
	defer s.tap.mu.Unlock()
	if s.tap.active > 0 {
		s.tap.left, s.tap.last = true, time.Now()
	}
}

// Deleted says whether a command has ended the session, or closed its last
// window.
func (s *Session) Deleted() bool { return s.tap.over() }

// Deleting says whether the client's command that ends the session is under way.
func (s *Session) Deleting() bool { return s.tap.deleting.Load() }

// Answer is what a driver said to a command.
type Answer struct {
	Status int
	Media  string
	Body   []byte
}

// Forward gives the driver a command as it is; path is what comes after the
// session, with its query. An error means that the driver did not answer.
func (s *Session) Forward(ctx context.Context, method, path string, body []byte) (Answer, error) {
	a, err := s.send(ctx, method, path, body)
	if err != nil {
		return a, err
	}
	if a, err = s.prompts.after(ctx, s, a, func() (Answer, error) { return s.send(ctx, method, path, body) }); err != nil {
		return a, err
	}
	if method == http.MethodDelete && path == "/window" && a.Status == http.StatusOK && noWindows(a.Body) {
		s.tap.done.Store(true) // section 11.2 "Close Window": with its last window a session ends
	}
	return a, nil
}

func noWindows(body []byte) bool {
	var v struct {
		Value []string `json:"value"`
	}
	return json.Unmarshal(body, &v) == nil && v.Value != nil && len(v.Value) == 0
}

// commandLimit is how long a driver may take for one command: longer than any
// page load or script limit that is usual.
const commandLimit = 15 * time.Minute

// noticed is how long it takes at most until the end of a program is known: what its
// children still print is waited for.
const noticed = 3 * time.Second

func (s *Session) send(ctx context.Context, method, path string, body []byte) (Answer, error) {
	return s.tap.command(ctx, method, path, body, func() (a Answer, err error) {
		req, resp := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
		defer fasthttp.ReleaseRequest(req)
		defer fasthttp.ReleaseResponse(resp)
		req.Header.SetMethod(method)
		req.SetRequestURI(s.inst.URL + "/session/" + s.ID + path)
		if len(body) > 0 {
			req.Header.SetContentType("application/json; charset=utf-8")
			req.SetBodyRaw(body)
		}
		err = s.tap.driver.DoTimeout(req, resp, commandLimit)
		if err != nil && method == http.MethodDelete && path == "" && s.inst.GoneWithin(noticed) != nil {
			// WebKit's driver now and then ends over the end of its session, which is all the same to the client.
			return Answer{http.StatusOK, "application/json; charset=utf-8", []byte(`{"value":null}`)}, nil
		}
		if err != nil {
			return a, err
		}
		return Answer{resp.StatusCode(), string(resp.Header.ContentType()), bytes.Clone(resp.Body())}, nil
	})
}

// prompts answers dialogs in the place of a driver. While the lab has a BiDi
// connection of its own to a session whose client knows of none, or takes
// pictures of it, the driver is told to leave dialogs alone, for it would
// otherwise close them at once; what section 11 "User prompts" wants for them is
// then done here. The nil prompts do nothing.
type prompts struct {
	asked   any    // as the client asked for it; nil when it did not
	handler string // of dialogs without a handler of their own
}

// stillDialogs changes capabilities so that dialogs stay open.
func stillDialogs(caps webdriver.Capabilities) *prompts {
	p := &prompts{asked: caps["unhandledPromptBehavior"], handler: "dismiss and notify"}
	switch asked := p.asked.(type) {
	case string:
		p.handler = asked
	case map[string]any:
		if h, ok := asked["default"].(string); ok {
			p.handler = h
		}
	}
	caps["unhandledPromptBehavior"] = "ignore"
	return p
}

// after looks at an answer and, when it says that a dialog is in the way,
// handles the dialog as was asked for: those that are not to be notified of are
// closed, and the command is given again.
func (p *prompts) after(ctx context.Context, s *Session, a Answer, again func() (Answer, error)) (Answer, error) {
	if p == nil || a.Status != http.StatusInternalServerError || !bytes.Contains(a.Body, []byte(webdriver.UnexpectedAlertOpen)) {
		return a, nil
	}
	verb, notify := strings.CutSuffix(p.handler, " and notify")
	if verb == "ignore" {
		return a, nil
	}
	if err := s.Do(Quiet(ctx), http.MethodPost, "/alert/"+verb, nil, nil); err != nil && webdriver.CodeOf(err) != webdriver.NoSuchAlert {
		return a, nil
	}
	if notify {
		return a, nil
	}
	return again()
}

// Given are the capabilities as the client is to see them: what the lab added
// for itself is taken back. webSocketUrl is the driver's own address.
func (s *Session) Given() webdriver.Capabilities {
	out := webdriver.Capabilities{}
	for name, v := range s.Capabilities {
		out[name] = v
	}
	if s.door != nil { // through which the one that was asked for leads
		if asked := s.asked["proxy"]; asked != nil {
			out["proxy"] = asked
		} else if _, told := out["proxy"]; told {
			out["proxy"] = map[string]any{}
		}
	}
	if p := s.prompts; p != nil {
		delete(out, "webSocketUrl")
		if out["unhandledPromptBehavior"] = p.asked; p.asked == nil {
			out["unhandledPromptBehavior"] = "dismiss and notify"
		}
	}
	return out
}
