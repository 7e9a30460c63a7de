package commands

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"reflect"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/agent/work"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/record"
	guard "parallelpane/internal/core/remote"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/sessions"
	"parallelpane/internal/webdriver"
)

// Bounds of what one command may ask of its endpoint.
const (
	maxOpen  = 8   // sessions at once
	maxEver  = 500 // sessions in all
	maxBody  = 64 << 20
	openings = 2 // sessions that are opened at the same time
)

// endpoint is the W3C remote end of one command. It needs no credentials, and opens the
// combination of the command's pane, whatever browser is asked for.
type endpoint struct {
	*work.Floor
	slice   link.Slice
	browser fleet.Browser
	mask    *recording.Mask
	dir     string // for recordings
	note    func(format string, args ...any)

	srv    *http.Server
	ctx    context.Context
	turn   chan struct{}
	mu     sync.Mutex
	all    []*opened
	closed bool // and takes no more sessions
}

// opened is one session that the command opened.
type opened struct {
	*sessions.Session
	rec     *sessions.Recording // nil where nothing can be recorded
	name    string              // of the test, as the command says
	began   time.Time
	made    []sessions.Made
	missing []sessions.Missing
	once    sync.Once
}

// serve answers on a listener until the endpoint is closed.
func (e *endpoint) serve(ctx context.Context, l net.Listener) {
	e.ctx, e.turn = ctx, make(chan struct{}, openings)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /status", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"ready": true, "message": ""})
	})
	mux.HandleFunc("POST /session", e.open)
	mux.HandleFunc("/session/{id}", e.command)
	mux.HandleFunc("/session/{id}/{rest...}", e.command)
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		fault(w, webdriver.Errorf(webdriver.UnknownCommand, "%s %s is no command", r.Method, r.URL.Path))
	})
	e.srv = &http.Server{Handler: http.MaxBytesHandler(mux, maxBody), ReadHeaderTimeout: 30 * time.Second}
	go func() { _ = e.srv.Serve(l) }() // which ends with close
}

// close ends every session that is still open.
func (e *endpoint) close() {
	_ = e.srv.Close()
	e.mu.Lock()
	e.closed = true
	all := e.all
	e.mu.Unlock()
	for _, s := range all {
		s.end()
	}
}

// end closes the browser. Of what was recorded all stays that any verdict may want.
func (s *opened) end() {
	s.once.Do(func() {
		if s.rec != nil {
			if !s.Deleted() && s.Programs() == nil {
				s.rec.Last()
			}
			s.made, s.missing = s.rec.End(verdict.Failed), s.rec.Missing()
		}
		s.Close()
	})
}

func answer(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"value": value}) // whoever hung up hears nothing
}

func fault(w http.ResponseWriter, e *webdriver.Error) { answer(w, e.Status(), e) }

// asked is a New Session command as far as it counts: standard capabilities that are none
// of the combination's, and the test's name.
type asked struct {
	Capabilities struct {
		AlwaysMatch map[string]any   `json:"alwaysMatch"`
		FirstMatch  []map[string]any `json:"firstMatch"`
	} `json:"capabilities"`
}

// passed are the capabilities that a command may ask for.
var passed = []string{"acceptInsecureCerts", "pageLoadStrategy", "timeouts", "unhandledPromptBehavior", "strictFileInteractability"}

func (a asked) settle() (caps webdriver.Capabilities, test string) {
	caps = webdriver.Capabilities{}
	for _, from := range append([]map[string]any{a.Capabilities.AlwaysMatch}, a.Capabilities.FirstMatch...) {
		for _, name := range passed {
			if v, there := from[name]; there && caps[name] == nil {
				caps[name] = v
			}
		}
		if own, ok := from[guard.OptionsKey].(map[string]any); ok && test == "" {
			test, _ = own["test"].(string)
		}
	}
	return caps, test
}

func (e *endpoint) open(w http.ResponseWriter, r *http.Request) {
	var a asked
	if err := json.NewDecoder(r.Body).Decode(&a); err != nil {
		fault(w, webdriver.Errorf(webdriver.InvalidArgument, "expected capabilities: %v", err))
		return
	}
	caps, test := a.settle()
	e.turn <- struct{}{}
	defer func() { <-e.turn }()
	open, ever := 0, 0
	e.mu.Lock()
	for _, s := range e.all {
		if ever++; !s.Deleted() && s.Programs() == nil {
			open++
		}
	}
	e.mu.Unlock()
	if open >= maxOpen || ever >= maxEver {
		fault(w, webdriver.Errorf(webdriver.SessionNotCreated, "a command has at most %d sessions open at once and %d in all", maxOpen, maxEver))
		return
	}
	s, err := e.start(r.Context(), caps, test)
	if err != nil {
		var said *webdriver.Error
		if !errors.As(err, &said) {
			said = webdriver.Errorf(webdriver.SessionNotCreated, "%v", err)
		}
		e.note("no session: %s", said.Message)
		fault(w, said)
		return
	}
	given := s.Given()
	delete(given, "webSocketUrl")
	answer(w, http.StatusOK, map[string]any{"sessionId": s.ID, "capabilities": given})
}

func (e *endpoint) start(ctx context.Context, caps webdriver.Capabilities, test string) (*opened, error) {
	shape, err := traffic.Parse(e.slice.Traffic)
	if err != nil {
		return nil, err
	}
	way, err := e.Way(e.slice.Relay, e.slice.Fence)
	if err != nil {
		return nil, err
	}
	plain, err := device.Find("")
	if err != nil {
		return nil, err
	}
	policy := e.slice.Record
	began := time.Now()
	session, err := e.Host.Open(ctx, sessions.Request{Browser: e.browser, Headed: e.slice.Values["mode"] == "headed", Device: e.slice.Device,
		Traffic: shape, Relay: way, Asked: caps, Bare: reflect.DeepEqual(plain, e.slice.Device), Watch: policy.Wants(record.Network) ||
			policy.Wants(record.Console),
		Pictures: policy[record.Screenshots] == record.Always, Film: policy.Wants(record.Video)})
	if err != nil {
		return nil, err
	}
	s := &opened{Session: session, name: test, began: began}
	dir, err := os.MkdirTemp(e.dir, "session-")
	if err == nil {
		s.rec, err = session.Record(e.ctx, policy, e.mask, dir, time.Now())
	}
	if err != nil {
		e.note("a session is not recorded: %v", err)
	}
	e.mu.Lock()
	late := e.closed
	if !late {
		e.all = append(e.all, s)
	}
	e.mu.Unlock()
	if late { // the command has ended while the browser opened
		s.end()
		return nil, errors.New("the command has ended")
	}
	e.note("a session is open on %s %s%s", e.browser.Name, e.browser.Version, prefixed(", for ", test))
	return s, nil
}

func prefixed(prefix, s string) string {
	if s == "" {
		return ""
	}
	return prefix + s
}

// command passes a command on to the driver and its answer back.
func (e *endpoint) command(w http.ResponseWriter, r *http.Request) {
	id := r.PathValue("id")
	var s *opened
	e.mu.Lock()
	for _, o := range e.all {
		if o.ID == id {
			s = o
		}
	}
	e.mu.Unlock()
	if s == nil || s.Deleted() {
		fault(w, webdriver.Errorf(webdriver.InvalidSessionID, "session %.80s is not open", id))
		return
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		fault(w, webdriver.Errorf(webdriver.InvalidArgument, "%v", err))
		return
	}
	path := strings.TrimPrefix(r.URL.EscapedPath(), "/session/"+id)
	if why := guard.Command(r.Method, path, body); why != "" {
		fault(w, webdriver.Errorf(webdriver.InvalidArgument, "%s", why))
		return
	}
	if r.Method == http.MethodDelete && path == "" && s.rec != nil {
		s.rec.Last()
	}
	got, err := s.Forward(r.Context(), r.Method, path, body)
	if err != nil {
		if gone := s.Programs(); gone != nil {
			err = gone
		}
		fault(w, webdriver.Errorf(webdriver.UnknownError, "the driver did not answer: %v", err))
		return
	}
	if s.Deleted() {
		s.end()
	}
	w.Header().Set("Content-Type", got.Media)
	w.WriteHeader(got.Status)
	_, _ = w.Write(got.Body)
}
