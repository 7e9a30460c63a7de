package sessions

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/recording"
	"parallelpane/internal/webdriver"
)

// driver answers every command, one at a time or it takes note, and can be held
// in the middle of one.
type driver struct {
	*httptest.Server
	at      atomic.Int32 // commands that are with it now
	crowded atomic.Bool  // two were, once
	mu      sync.Mutex
	seen    []string
	hold    chan struct{}
	says    map[string]string // answers other than null, by path
	status  map[string]int
	gone    atomic.Bool // a request was taken back, once
	first   []string    // said before all else, each with status 400
}

func newDriver(t testing.TB) *driver {
	d := &driver{says: map[string]string{}, status: map[string]int{}}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if d.at.Add(1) > 1 {
			d.crowded.Store(true)
		}
		defer d.at.Add(-1)
		path := afterSession(r.URL.EscapedPath())
		d.mu.Lock()
		d.seen = append(d.seen, r.Method+" "+path)
		hold, says, status := d.hold, d.says[path], d.status[path]
		if len(d.first) > 0 {
			says, status = d.first[0], http.StatusBadRequest
			d.first = d.first[1:]
		}
		d.mu.Unlock()
		if hold != nil {
			select {
			case <-hold:
			case <-r.Context().Done():
				d.gone.Store(true)
			}
		}
		w.Header().Set("Content-Type", "application/json; charset=utf-8")
		if status != 0 {
			w.WriteHeader(status)
		}
		if says == "" {
			says = `{"value":null}`
		}
		_, _ = io.WriteString(w, says)
	}))
	t.Cleanup(d.Close)
	return d
}

func (d *driver) set(f func()) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f()
}

func (d *driver) commands() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string{}, d.seen...)
}

// session is one on the driver, without a browser.
func (d *driver) session(t testing.TB) *Session {
	s := &Session{inst: &engine.Instance{URL: d.URL}, tap: newTap(&engine.Instance{URL: d.URL})}
	s.Client = webdriver.NewClient(d.URL, &http.Client{Transport: s.tap})
	d.set(func() { d.says["/session"] = `{"value":{"sessionId":"s","capabilities":{}}}` })
	var err error
	s.Session, err = s.Client.New(t.Context(), nil)
	require.NoError(t, err)
	d.set(func() { d.seen = nil })
	return s
}

// Whoever gives commands, reaches in and lets go, in whatever order: the
// driver has one command at a time, nobody's reaches it while somebody else has
// the session, and none is lost.
func TestTheDriverHasOneCommandAtATime(t *testing.T) {
	d := newDriver(t)
	rapid.Check(t, func(rt *rapid.T) {
		s := d.session(t)
		defer s.tap.close()
		var all sync.WaitGroup
		var answered atomic.Int32
		asked, reaching := 0, ""
		rt.Repeat(map[string]func(*rapid.T){
			"the client asks": func(*rapid.T) {
				asked++
				n := asked
				all.Go(func() {
					if _, err := s.Forward(t.Context(), "GET", fmt.Sprintf("/client/%d", n), nil); err == nil {
						answered.Add(1)
					}
				})
			},
			"the lab looks": func(rt *rapid.T) {
				require.NoError(rt, s.Do(Quiet(t.Context()), "GET", "/quiet", nil, nil))
			},
			"somebody reaches in": func(rt *rapid.T) {
				who := rapid.SampledFrom([]string{"tern", "gull"}).Draw(rt, "who")
				holder, err := s.ReachIn(who)
				if reaching == "" || reaching == who {
					require.NoError(rt, err)
					reaching = who
				} else {
					require.ErrorIs(rt, err, ErrReached)
				}
				require.Equal(rt, reaching, holder)
				require.Equal(rt, reaching, s.Reaching())
				require.Zero(rt, s.Idle())
			},
			"who reaches in acts": func(rt *rapid.T) {
				if reaching != "" {
					require.NoError(rt, s.Do(By(t.Context(), reaching), "GET", "/hand", nil, nil))
				}
			},
			"it is let go": func(*rapid.T) {
				s.LetGo()
				reaching = ""
			},
		})
		s.LetGo()
		all.Wait()
		require.EqualValues(rt, asked, answered.Load())
		require.False(rt, s.Busy())
	})
	assert.False(t, d.crowded.Load())
}

func TestNobodysCommandPassesWhileSomebodyElseHasTheSession(t *testing.T) {
	d := newDriver(t)
	s := d.session(t)
	defer s.tap.close()
	_, err := s.ReachIn("tern")
	require.NoError(t, err)
	done := make(chan error, 1)
	go func() { _, err := s.Forward(context.Background(), "GET", "/client", nil); done <- err }()
	for range 20 {
		require.NoError(t, s.Do(By(t.Context(), "tern"), "GET", "/hand", nil, nil))
	}
	assert.NotContains(t, d.commands(), "GET /client")
	s.LetGo()
	require.NoError(t, <-done)
	assert.Contains(t, d.commands(), "GET /client")
}

func TestASessionIsIdleOnlyWhenNothingIsUnderWay(t *testing.T) {
	d := newDriver(t)
	s := d.session(t)
	defer s.tap.close()
	hold := make(chan struct{})
	d.set(func() { d.hold = hold })
	done := make(chan error, 1)
	go func() { _, err := s.Forward(context.Background(), "POST", "/url", []byte(`{"url":"x"}`)); done <- err }()
	require.Eventually(t, s.Busy, 5*time.Second, time.Millisecond)
	assert.Zero(t, s.Idle())
	s.Left()
	require.Eventually(t, func() bool { return s.Idle() > 0 }, 5*time.Second, time.Millisecond, "a command whose client has gone away "+
		"keeps nobody waiting")
	close(hold)
	require.NoError(t, <-done)
	d.set(func() { d.hold = nil })
	_, err := s.Forward(t.Context(), "GET", "/title", nil)
	require.NoError(t, err)
	s.Left()
	before := s.Idle()
	require.Eventually(t, func() bool { return s.Idle() > before }, 5*time.Second, time.Millisecond)
	touched := time.Now()
	s.Touch()
	idle := s.Idle()
	assert.LessOrEqual(t, idle, time.Since(touched))
}

// A command that the driver never answered is in the log: it is what one looks for.
func TestACommandThatHangsIsInTheLog(t *testing.T) {
	d := newDriver(t)
	s := d.session(t)
	defer s.tap.close()
	rec, err := s.Record(t.Context(), record.Policy{record.Commands: record.Always}, nil, t.TempDir(), time.Now())
	require.NoError(t, err)
	_, err = s.Forward(t.Context(), "GET", "/title", nil)
	require.NoError(t, err)
	hold := make(chan struct{})
	d.set(func() { d.hold = hold })
	done := make(chan error, 1)
	go func() {
		_, err := s.Forward(context.Background(), "POST", "/url", []byte(`{"url":"http://desk.example/"}`))
		done <- err
	}()
	require.Eventually(t, func() bool { return len(d.commands()) == 2 }, 5*time.Second, time.Millisecond)
	made := rec.End(verdict.Ended)
	require.Len(t, made, 1)
	commands := read[recording.Command](t, made[0].Path)
	require.Len(t, commands, 2)
	assert.Equal(t, []string{"Navigate To", "no answer", "the driver had not answered when the recording ended"},
		[]string{commands[1].Name, commands[1].Error, commands[1].Message})
	assert.JSONEq(t, `{"url":"http://desk.example/"}`, string(commands[1].Arguments))
	close(hold)
	require.NoError(t, <-done, "what comes after the end is nobody's")
}

// Section 11.2 "Close Window": with its last window a session ends, as it does by
// being deleted.
func TestHowASessionEnds(t *testing.T) {
	for name, c := range map[string]struct {
		method, path, says string
		status             int
		ended              bool
	}{
		"deleted":                 {"DELETE", "", `{"value":null}`, 200, true},
		"its last window closed":  {"DELETE", "/window", `{"value":[]}`, 200, true},
		"one of its windows":      {"DELETE", "/window", `{"value":["w2"]}`, 200, false},
		"a window that is none":   {"DELETE", "/window", `{"value":{"error":"no such window","message":"","stacktrace":""}}`, 404, false},
		"deleting that failed":    {"DELETE", "", `{"value":{"error":"unknown error","message":"","stacktrace":""}}`, 500, false},
		"deleting something else": {"DELETE", "/cookie", `{"value":null}`, 200, false},
	} {
		t.Run(name, func(t *testing.T) {
			d := newDriver(t)
			d.set(func() { d.says[c.path], d.status[c.path] = c.says, c.status })
			s := d.session(t)
			defer s.tap.close()
			a, err := s.Forward(t.Context(), c.method, c.path, nil)
			require.NoError(t, err)
			assert.Equal(t, c.says, string(a.Body))
			assert.Equal(t, c.ended, s.Deleted())
		})
	}
}

// Section 11 "User prompts", done in the driver's place while the lab keeps
// dialogs open.
func TestDialogsAreHandledAsTheClientAsked(t *testing.T) {
	const open = `{"value":{"error":"unexpected alert open","message":"","stacktrace":"","data":{"text":"Sail?"}}}`
	for asked, want := range map[any]struct {
		done   []string // what the driver sees
		status int
	}{
		nil:                  {[]string{"GET /title", "POST /alert/dismiss"}, 500},
		"dismiss and notify": {[]string{"GET /title", "POST /alert/dismiss"}, 500},
		"accept and notify":  {[]string{"GET /title", "POST /alert/accept"}, 500},
		"dismiss":            {[]string{"GET /title", "POST /alert/dismiss", "GET /title"}, 200},
		"accept":             {[]string{"GET /title", "POST /alert/accept", "GET /title"}, 200},
		"ignore":             {[]string{"GET /title"}, 500},
	} {
		t.Run(fmt.Sprint(asked), func(t *testing.T) {
			d := newDriver(t)
			s := d.session(t)
			defer s.tap.close()
			caps := webdriver.Capabilities{}
			if asked != nil {
				caps["unhandledPromptBehavior"] = asked
			}
			s.prompts = stillDialogs(caps)
			assert.Equal(t, "ignore", caps["unhandledPromptBehavior"], "the driver is told to leave them alone")
			d.set(func() { d.says["/title"], d.status["/title"] = open, 500 })
			closed := func() { d.set(func() { delete(d.says, "/title"); delete(d.status, "/title") }) }
			d.Config.Handler = closing(d.Config.Handler, closed)
			a, err := s.Forward(t.Context(), "GET", "/title", nil)
			require.NoError(t, err)
			assert.Equal(t, want.status, a.Status)
			assert.Equal(t, want.done, d.commands())
			given := s.Given()["unhandledPromptBehavior"]
			if asked == nil {
				asked = "dismiss and notify"
			}
			assert.Equal(t, asked, given, "the client sees what it asked for")
		})
	}
}

// A page that asks before it is left makes Chromium's driver stumble while the
// question is open: neither a client nor a script is told of that. What a driver
// says on other grounds is passed on, and nothing is done twice for it.
func TestPagesThatAskBeforeTheyAreLeft(t *testing.T) {
	const open = `{"value":{"error":"invalid argument","message":"invalid argument: Unexpected dialog type beforeunload"}}`
	const gone = `{"value":{"error":"aborted by navigation","message":"Inspected target navigated or closed"}}`
	const own = `{"value":{"error":"javascript error","message":"javascript error: Unexpected dialog type beforeunload"}}`
	const other = `{"value":{"error":"invalid argument","message":"invalid argument: no such thing"}}`
	for name, c := range map[string]struct {
		method, path string
		says         []string
		given        int
		fails        bool
	}{
		"the question is open for a while":    {"GET", "/title", []string{open, open, open}, 4, false},
		"the page has gone":                   {"POST", "/url", []string{gone}, 2, false},
		"both":                                {"POST", "/refresh", []string{open, gone, open}, 4, false},
		"the page is left time and again":     {"POST", "/url", []string{gone, gone}, 2, true},
		"what is done has gone with the page": {"POST", "/element/e/click", []string{gone}, 1, true},
		"a page's own error that says so":     {"POST", "/execute/sync", []string{own}, 1, true},
		"another mistake":                     {"POST", "/url", []string{other}, 1, true},
	} {
		t.Run(name, func(t *testing.T) {
			d := newDriver(t)
			s := d.session(t)
			defer s.tap.close()
			body := []byte(nil)
			if c.method == "POST" {
				body = []byte(`{"url":"http://harbour/tides"}`)
			}
			d.set(func() { d.first = c.says })
			a, err := s.Forward(t.Context(), c.method, c.path, body)
			require.NoError(t, err)
			assert.Equal(t, c.fails, a.Status != http.StatusOK)
			assert.Len(t, d.commands(), c.given)

			d.set(func() { d.first, d.seen = c.says, nil })
			err = s.Do(t.Context(), c.method, c.path, json.RawMessage(body), nil)
			assert.Equal(t, c.fails, err != nil, "%v", err)
			assert.Len(t, d.commands(), c.given)
		})
	}
}

// A picture that nobody waits for any more is still with the driver: no request is
// taken back, which some drivers do not survive, and the next command waits for it.
func TestAPictureThatIsLateKeepsTheDriver(t *testing.T) {
	d := newDriver(t)
	s := d.session(t)
	defer s.tap.close()
	hold := make(chan struct{})
	d.set(func() { d.hold = hold })
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, err := s.Picture(ctx)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	answered := make(chan error, 1)
	go func() {
		_, err := s.Forward(t.Context(), "DELETE", "", nil)
		answered <- err
	}()
	require.Eventually(t, s.Busy, 5*time.Second, time.Millisecond)
	assert.Empty(t, answered)
	d.set(func() {
		d.hold = nil
		d.says["/alert/text"], d.status["/alert/text"] = `{"value":{"error":"no such alert","message":""}}`, 404
	})
	close(hold)
	require.NoError(t, <-answered)
	assert.False(t, d.gone.Load(), "a request was taken back")
	assert.False(t, d.crowded.Load(), "two commands were with the driver")
	assert.Equal(t, "DELETE ", d.commands()[len(d.commands())-1])
	s.left.Wait()
}

// closing calls closed when a dialog is handled.
func closing(next http.Handler, closed func()) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if p := afterSession(r.URL.Path); p == "/alert/accept" || p == "/alert/dismiss" {
			closed()
		}
		next.ServeHTTP(w, r)
	})
}

// What is recorded of commands: everything that was answered or not, in order,
// secrets masked, and nothing of the lab's own.
func TestTheLogOfCommands(t *testing.T) {
	d := newDriver(t)
	s := d.session(t)
	defer s.tap.close()
	mask := recording.NewMask("kedge-17")
	rec, err := s.Record(t.Context(), record.Policy{record.Commands: record.Always}, mask, t.TempDir(), time.Now())
	require.NoError(t, err)
	forward := func(method, path, body string) {
		_, err := s.Forward(t.Context(), method, path, []byte(body))
		require.NoError(t, err)
	}
	forward("POST", "/url", `{"url":"http://desk.example/?pin=kedge-17"}`)
	require.NoError(t, s.Do(Quiet(t.Context()), "GET", "/quiet", nil, nil))
	require.NoError(t, s.Do(By(t.Context(), "tern"), "GET", "/title", nil, nil))
	d.set(func() {
		d.says["/element"], d.status["/element"] = `{"value":{"error":"no such element","message":"no kedge-17 here","stacktrace":""}}`, 404
	})
	forward("POST", "/element", `{"using":"css selector","value":"#none"}`)
	d.set(func() { d.says["/source"] = `{"value":"` + fmt.Sprintf("%0*d", recording.MaxResult+5, 0) + `"}` })
	forward("GET", "/source", "")
	forward("POST", "/element", `not JSON, with kedge-17`)
	d.CloseClientConnections()
	d.Close()
	_, err = s.Forward(t.Context(), "GET", "/title", nil)
	require.Error(t, err)
	soFar, err := rec.SoFar(record.Commands, 4)
	require.NoError(t, err)
	assert.Contains(t, string(soFar), "no answer")
	made := rec.End(verdict.Ended)
	require.Len(t, made, 1)
	commands := read[recording.Command](t, made[0].Path)
	require.Len(t, commands, 6)
	for i, c := range commands {
		assert.Equal(t, i+1, c.Number)
		raw := fmt.Sprintf("%+v %s %s", c, c.Arguments, c.Result)
		assert.NotContains(t, raw, "kedge-17")
	}
	assert.Equal(t, []string{"Navigate To", "tern", "no such element", "no answer"}, []string{commands[0].Name, commands[1].By,
		commands[2].Error, commands[5].Error})
	assert.Contains(t, string(commands[3].Result), "bytes, not kept")
}
