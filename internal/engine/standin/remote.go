package standin

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"io"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"parallelpane/internal/webdriver"
)

// maxBody bounds a command.
const maxBody = 16 << 20

// noScript is the answer to everything that needs a script engine.
var noScript = &webdriver.Error{Code: webdriver.UnsupportedOperation, Message: "this is a stand-in, a simulated browser without a " +
	"script engine"}

// timeouts in milliseconds (W3C WebDriver, section 9 "Timeouts").
type timeouts struct {
	Script   *float64 `json:"script"`
	PageLoad float64  `json:"pageLoad"`
	Implicit float64  `json:"implicit"`
}

func (t timeouts) pageLoad() time.Duration { return time.Duration(t.PageLoad) * time.Millisecond }

// session is an open session. The remote's lock guards it.
type session struct {
	id            string
	agent         string // User-Agent
	language      string
	who           string // browser and version
	width, height float64
	ratio         float64
	http          *http.Client
	timeouts      timeouts
	windows       []*window
	current       string
	cookies       []webdriver.Cookie
	nodes         map[string]*html.Node
	ids           map[*html.Node]string
}

// remote is the remote end: one browser, one session.
type remote struct {
	o       settings
	mu      sync.Mutex
	session *session
}

// settings make a remote.
type settings struct {
	name, version, platform string
	agent, language         string
	width, height, ratio    float64
	pause                   time.Duration                         // before each command
	crash                   func() bool                           // whether the browser crashes in this command; may be nil
	dead                    func()                                // called when it does
	lenient                 bool                                  // takes capabilities that the simulation has nothing for, as real drivers do
	forbidden               bool                                  // opens no session: the browser was never allowed to be driven
	through                 func(*http.Request) (*url.URL, error) // the proxy that leads to a site
}

type command struct {
	method  string
	path    string // segments below the session; {x} stands for any
	handler func(ctx context.Context, s *session, args []string, body json.RawMessage) (any, error)
}

func (r *remote) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	time.Sleep(r.o.pause)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.o.crash != nil && r.session != nil && r.o.crash() {
		r.o.dead()
		panic(http.ErrAbortHandler)
	}
	value, err := r.answer(req)
	status := http.StatusOK
	if err != nil {
		e, ok := err.(*webdriver.Error)
		if !ok {
			e = &webdriver.Error{Code: webdriver.UnknownError, Message: err.Error()}
		}
		value, status = e, e.Status()
	}
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.Header().Set("Cache-Control", "no-cache")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"value": value})
}

func (r *remote) answer(req *http.Request) (any, error) {
	raw, err := io.ReadAll(io.LimitReader(req.Body, maxBody+1))
	if err != nil || len(raw) > maxBody {
		return nil, failed(webdriver.InvalidArgument, "the command cannot be read or is larger than %d MiB", maxBody>>20)
	}
	path := strings.Split(strings.Trim(req.URL.EscapedPath(), "/"), "/")
	for i, part := range path { // a reference may hold a slash of its own
		if plain, err := url.PathUnescape(part); err == nil {
			path[i] = plain
		}
	}
	if req.Method == http.MethodPost {
		var object map[string]json.RawMessage
		if err := json.Unmarshal(raw, &object); err != nil || object == nil {
			return nil, failed(webdriver.InvalidArgument, "expected a JSON object")
		}
	}
	switch {
	case req.URL.Path == "/status" && req.Method == http.MethodGet:
		return map[string]any{"ready": r.session == nil, "message": "stand-in " + r.o.name}, nil
	case req.URL.Path == "/session" && req.Method == http.MethodPost:
		return r.open(raw)
	case len(path) < 2 || path[0] != "session":
		return nil, failed(webdriver.UnknownCommand, "there is no command %s", req.URL.Path)
	}
	h, args, err := route(req.Method, path[2:])
	if err != nil {
		return nil, err
	}
	if r.session == nil || path[1] != r.session.id {
		return nil, failed(webdriver.InvalidSessionID, "there is no session %s", path[1])
	}
	if len(path) == 2 {
		r.session = nil
		return nil, nil
	}
	return h(req.Context(), r.session, args, raw)
}

// route finds the command of a path below a session.
func route(method string, path []string) (func(context.Context, *session, []string, json.RawMessage) (any, error), []string, error) {
	if len(path) == 0 {
		if method == http.MethodDelete {
			return nil, nil, nil
		}
		return nil, nil, failed(webdriver.UnknownMethod, "a session takes DELETE")
	}
	known := false
	for _, c := range commands {
		want := strings.Split(c.path, "/")
		if len(want) != len(path) {
			continue
		}
		var args []string
		same := true
		for i := range want {
			if want[i][0] == '{' {
				v, err := url.PathUnescape(path[i])
				same = same && err == nil
				args = append(args, v)
			} else {
				same = same && want[i] == path[i]
			}
		}
		if !same {
			continue
		}
		known = true
		if c.method == method {
			return c.handler, args, nil
		}
	}
	if known {
		return nil, nil, failed(webdriver.UnknownMethod, "%s does not take %s", strings.Join(path, "/"), method)
	}
	return nil, nil, failed(webdriver.UnknownCommand, "there is no command %s", strings.Join(path, "/"))
}

func (r *remote) open(raw []byte) (any, error) {
	alternatives, err := webdriver.Alternatives(raw)
	if err != nil {
		return nil, err
	}
	if r.session != nil {
		return nil, failed(webdriver.SessionNotCreated, "this browser has a session already")
	}
	if r.o.forbidden {
		return nil, failed(webdriver.SessionNotCreated, "you must enable remote automation first: the stand-in was told so")
	}
	offer := webdriver.Offer{Browser: r.o.name, Version: r.o.version, Platform: r.o.platform, BiDi: r.o.lenient, Insecure: r.o.lenient}
	if _, err := offer.Choose(alternatives); err != nil {
		return nil, err
	}
	script := 30_000.0
	r.session = &session{id: rand.Text(), agent: r.o.agent, language: r.o.language, who: r.o.name + " " + r.o.version,
		width: r.o.width, height: r.o.height,
		ratio: r.o.ratio, timeouts: timeouts{&script, 300_000, 0}, nodes: map[string]*html.Node{}, ids: map[*html.Node]string{},
		http: &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			Transport: &http.Transport{Proxy: r.o.through, MaxIdleConnsPerHost: 2, IdleConnTimeout: 10 * time.Second}}}
	r.session.current = r.session.open().handle
	return map[string]any{"sessionId": r.session.id, "capabilities": map[string]any{
		"browserName": r.o.name, "browserVersion": r.o.version, "platformName": r.o.platform, "acceptInsecureCerts": false,
		"pageLoadStrategy": "normal",
		"setWindowRect":    true, "strictFileInteractability": false, "unhandledPromptBehavior": "dismiss and notify", "proxy": map[string]any{},
		"timeouts": r.session.timeouts, "userAgent": r.o.agent, webdriver.NoScript: true,
	}}, nil
}

// open makes a window with an empty page.
func (s *session) open() *window {
	p := blank()
	p.resize(s.width, s.height)
	w := &window{handle: rand.Text(), pages: []*page{p}}
	s.windows = append(s.windows, w)
	return w
}

func (s *session) window() *window {
	for _, w := range s.windows {
		if w.handle == s.current {
			return w
		}
	}
	return nil
}

func (s *session) page() *page {
	p := s.window().page()
	p.resize(s.width, s.height)
	return p
}

func (s *session) reference(n *html.Node) map[string]string {
	id := s.ids[n]
	if id == "" {
		id = rand.Text()
		s.ids[n], s.nodes[id] = id, n
	}
	return map[string]string{webdriver.WebElementIdentifier: id}
}

// element finds the node of a reference.
func (s *session) element(id string) (*html.Node, error) {
	n := s.nodes[id]
	if n == nil {
		return nil, failed(webdriver.NoSuchElement, "there is no element %s", id)
	}
	if !within(n, s.page().doc.Nodes[0]) {
		return nil, failed(webdriver.StaleElement, "the element %s belongs to a page that is no longer shown", called(n))
	}
	return n, nil
}

// decode reads the parameters of a command.
func decode(body json.RawMessage, into any) error {
	if err := json.Unmarshal(body, into); err != nil {
		return failed(webdriver.InvalidArgument, "%v", err)
	}
	return nil
}

type locator struct {
	Using string `json:"using"`
	Value string `json:"value"`
}

// find runs an element location strategy (W3C WebDriver, section 12.3).
func (s *session) find(root *html.Node, body json.RawMessage) ([]*html.Node, error) {
	var l locator
	if err := decode(body, &l); err != nil {
		return nil, err
	}
	switch l.Using {
	case "css selector":
		return byCSS(root, l.Value)
	case "xpath":
		return byXPath(root, l.Value)
	case "tag name":
		return collect(root, func(n *html.Node) bool { return strings.EqualFold(n.Data, l.Value) }), nil
	case "link text", "partial link text":
		p := s.page()
		return collect(root, func(n *html.Node) bool {
			if n.DataAtom != atom.A {
				return false
			}
			text := strings.TrimSpace(p.rendered(n))
			return text == l.Value || (l.Using != "link text" && strings.Contains(text, l.Value))
		}), nil
	}
	return nil, failed(webdriver.InvalidArgument, "%q is not a way to find elements", l.Using)
}

// findWithin waits for elements as long as the implicit timeout allows. Nothing
// changes by itself in a page without scripts, so it never helps to wait.
func (s *session) findWithin(root *html.Node, body json.RawMessage, one bool) (any, error) {
	found, err := s.find(root, body)
	if err != nil {
		return nil, err
	}
	if one {
		if len(found) == 0 {
			var l locator
			_ = decode(body, &l) // it was decoded before
			return nil, failed(webdriver.NoSuchElement, "no element by %s %q", l.Using, l.Value)
		}
		return s.reference(found[0]), nil
	}
	out := []map[string]string{}
	for _, n := range found {
		out = append(out, s.reference(n))
	}
	return out, nil
}

// on makes a handler of one that needs an element.
func on(f func(ctx context.Context, s *session, n *html.Node, args []string, body json.RawMessage) (any, error)) func(context.Context,
	*session, []string, json.RawMessage) (any, error) {
	return func(ctx context.Context, s *session, args []string, body json.RawMessage) (any, error) {
		n, err := s.element(args[0])
		if err != nil {
			return nil, err
		}
		return f(ctx, s, n, args[1:], body)
	}
}

func say(v any) func(context.Context, *session, []string, json.RawMessage) (any, error) {
	return func(context.Context, *session, []string, json.RawMessage) (any, error) { return v, nil }
}

func refuse(err error) func(context.Context, *session, []string, json.RawMessage) (any, error) {
	return func(context.Context, *session, []string, json.RawMessage) (any, error) { return nil, err }
}

func (s *session) rect() map[string]float64 {
	return map[string]float64{"x": 0, "y": 0, "width": s.width, "height": s.height}
}

func (s *session) handles() []string {
	out := []string{}
	for _, w := range s.windows {
		out = append(out, w.handle)
	}
	return out
}

func (s *session) move(by int) (any, error) {
	w := s.window()
	if at := w.current + by; at >= 0 && at < len(w.pages) {
		w.current, w.active = at, nil
	}
	return nil, nil
}

func (s *session) screenshot() (any, error) {
	raw, err := s.page().picture(s.who, s.ratio)
	if err != nil {
		return nil, failed(webdriver.UnableToCaptureScreen, "%v", err)
	}
	return base64.StdEncoding.EncodeToString(raw), nil
}

var noAlert = failed(webdriver.NoSuchAlert, "without scripts a page opens no dialog")

var commands []command

func init() { // the handlers use route, which uses commands
	get, post, del := http.MethodGet, http.MethodPost, http.MethodDelete
	add := func(method, path string, h func(context.Context, *session, []string, json.RawMessage) (any, error)) {
		commands = append(commands, command{method, path, h})
	}
	add(get, "timeouts", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		return s.timeouts, nil
	})
	add(post, "timeouts", func(_ context.Context, s *session, _ []string, body json.RawMessage) (any, error) {
		t := s.timeouts
		if err := decode(body, &t); err != nil {
			return nil, err
		}
		if t.PageLoad < 0 || t.Implicit < 0 || (t.Script != nil && *t.Script < 0) {
			return nil, failed(webdriver.InvalidArgument, "a timeout is 0 or more milliseconds")
		}
		s.timeouts = t
		return nil, nil
	})
	add(post, "url", func(ctx context.Context, s *session, _ []string, body json.RawMessage) (any, error) {
		var in struct {
			URL string `json:"url"`
		}
		if err := decode(body, &in); err != nil {
			return nil, err
		}
		if u, err := url.Parse(in.URL); err != nil || u.Scheme == "" {
			return nil, failed(webdriver.InvalidArgument, "url: expected an absolute address, found %q", in.URL)
		}
		return nil, s.goTo(ctx, in.URL)
	})
	add(get, "url", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		return s.page().address, nil
	})
	add(post, "back", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) { return s.move(-1) })
	add(post, "forward", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) { return s.move(1) })
	add(post, "refresh", func(ctx context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		p, err := s.load(ctx, http.MethodGet, s.page().address, "", nil)
		if err == nil {
			s.window().pages[s.window().current] = p
		}
		return nil, err
	})
	add(get, "title", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		return s.page().title(), nil
	})
	add(get, "source", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		return s.page().doc.Html()
	})
	addWindows(add)
	addElements(add)
	add(post, "execute/sync", refuse(noScript))
	add(post, "execute/async", refuse(noScript))
	add(post, "print", refuse(failed(webdriver.UnsupportedOperation, "a stand-in prints nothing")))
	addCookies(add)
	add(post, "actions", func(ctx context.Context, s *session, _ []string, body json.RawMessage) (any, error) {
		return nil, s.perform(ctx, body)
	})
	add(del, "actions", say(nil))
	for _, path := range []string{"alert/dismiss", "alert/accept", "alert/text"} {
		add(post, path, refuse(noAlert))
	}
	add(get, "alert/text", refuse(noAlert))
	add(get, "screenshot", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) { return s.screenshot() })
	add(post, "pane/look", func(_ context.Context, s *session, _ []string, body json.RawMessage) (any, error) {
		q := query{Matches: 10}
		if err := decode(body, &q); err != nil {
			return nil, err
		}
		return s.look(q)
	})
	add(get, "pane/text", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		return s.page().rendered(s.page().doc.Nodes[0]), nil
	})
}

type adder func(method, path string, h func(context.Context, *session, []string, json.RawMessage) (any, error))

func addWindows(add adder) {
	get, post, del := http.MethodGet, http.MethodPost, http.MethodDelete
	add(get, "window", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) { return s.current, nil })
	add(post, "window", func(_ context.Context, s *session, _ []string, body json.RawMessage) (any, error) {
		var in struct {
			Handle string `json:"handle"`
		}
		if err := decode(body, &in); err != nil {
			return nil, err
		}
		if !slices.Contains(s.handles(), in.Handle) {
			return nil, failed(webdriver.NoSuchWindow, "there is no window %s", in.Handle)
		}
		s.current = in.Handle
		return nil, nil
	})
	add(del, "window", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		s.windows = slices.DeleteFunc(s.windows, func(w *window) bool { return w.handle == s.current })
		return s.handles(), nil
	})
	add(get, "window/handles", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		return s.handles(), nil
	})
	add(post, "window/new", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		return map[string]string{"handle": s.open().handle, "type": "tab"}, nil
	})
	add(get, "window/rect", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) { return s.rect(), nil })
	add(post, "window/rect", func(_ context.Context, s *session, _ []string, body json.RawMessage) (any, error) {
		var in struct {
			Width, Height *float64
		}
		if err := decode(body, &in); err != nil {
			return nil, err
		}
		for _, x := range []struct {
			from *float64
			to   *float64
		}{{in.Width, &s.width}, {in.Height, &s.height}} {
			if x.from != nil && (*x.from < 0 || *x.from > math.MaxInt32) {
				return nil, failed(webdriver.InvalidArgument, "a window's side is 0 to 2147483647")
			}
			if x.from != nil {
				*x.to = min(max(*x.from, 100), 8192)
			}
		}
		return s.rect(), nil
	})
	for _, path := range []string{"window/maximize", "window/minimize", "window/fullscreen"} {
		add(post, path, func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) { return s.rect(), nil })
	}
	add(post, "frame", func(_ context.Context, _ *session, _ []string, body json.RawMessage) (any, error) {
		var in struct {
			ID any `json:"id"`
		}
		if err := decode(body, &in); err != nil || in.ID == nil {
			return nil, err
		}
		return nil, failed(webdriver.NoSuchFrame, "a stand-in loads no frames")
	})
	add(post, "frame/parent", say(nil))
}

func addCookies(add adder) {
	get, post, del := http.MethodGet, http.MethodPost, http.MethodDelete
	here := func(s *session) (*url.URL, []webdriver.Cookie) {
		u, err := url.Parse(s.page().address)
		if err != nil {
			return &url.URL{}, []webdriver.Cookie{}
		}
		return u, append([]webdriver.Cookie{}, s.cookiesFor(u)...)
	}
	add(get, "cookie", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		_, all := here(s)
		return all, nil
	})
	add(get, "cookie/{name}", func(_ context.Context, s *session, args []string, _ json.RawMessage) (any, error) {
		_, all := here(s)
		for _, c := range all {
			if c.Name == args[0] {
				return c, nil
			}
		}
		return nil, failed(webdriver.NoSuchCookie, "there is no cookie %s here", args[0])
	})
	add(post, "cookie", func(_ context.Context, s *session, _ []string, body json.RawMessage) (any, error) {
		var in struct {
			Cookie *webdriver.Cookie `json:"cookie"`
		}
		if err := decode(body, &in); err != nil {
			return nil, err
		}
		u, _ := here(s)
		switch {
		case in.Cookie == nil || in.Cookie.Name == "":
			return nil, failed(webdriver.InvalidArgument, "cookie: expected a name and a value")
		case u.Host == "":
			return nil, failed(webdriver.InvalidCookieDomain, "an empty page has no cookies")
		case in.Cookie.Domain != "" && !domainMatch(u.Hostname(), strings.TrimPrefix(in.Cookie.Domain, ".")):
			return nil, failed(webdriver.InvalidCookieDomain, "%s is not the page's domain", in.Cookie.Domain)
		}
		s.putCookie(u, *in.Cookie)
		return nil, nil
	})
	drop := func(s *session, which func(webdriver.Cookie) bool) {
		_, all := here(s)
		s.cookies = slices.DeleteFunc(s.cookies, func(c webdriver.Cookie) bool { return slices.Contains(all, c) && which(c) })
	}
	add(del, "cookie", func(_ context.Context, s *session, _ []string, _ json.RawMessage) (any, error) {
		drop(s, func(webdriver.Cookie) bool { return true })
		return nil, nil
	})
	add(del, "cookie/{name}", func(_ context.Context, s *session, args []string, _ json.RawMessage) (any, error) {
		drop(s, func(c webdriver.Cookie) bool { return c.Name == args[0] })
		return nil, nil
	})
}
