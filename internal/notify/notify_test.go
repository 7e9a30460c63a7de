package notify

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/secrets"
	"parallelpane/internal/store"
)

// shelf are records of runs that all look alike.
type shelf struct{}

func (shelf) Run(_ context.Context, number int) (api.Run, error) {
	if number > 900 {
		return api.Run{}, api.Errorf(api.NotFound, "there is no run %d", number)
	}
	r := api.Run{RunSummary: summary(number), Tests: []api.Test{{Name: "Tides <b>"}}, Panes: []api.Pane{{Label: "chromium"}}}
	r.Cells = [][]api.Cell{{{State: api.Ended, Verdict: verdict.Failed}}}
	return r, nil
}

func (shelf) Causes(context.Context, int) (api.Causes, error) {
	return api.Causes{Causes: []api.Cause{{Cause: triage.Cause{Failed: 1, Sentence: "<b>late</b>"}}}}, nil
}

func (shelf) Runs(_ context.Context, f api.RunFilter) (out []api.RunSummary, err error) {
	for n := 3; n > 0; n-- {
		if f.Before == 0 || n < f.Before {
			if s := summary(n); len(out) < f.Limit || f.Limit == 0 {
				out = append(out, s)
			}
		}
	}
	return
}

func summary(number int) api.RunSummary {
	at := time.Date(2026, 11, 25+number/3, 12, 0, 0, 0, time.UTC)
	v := verdict.Passed
	if number%2 == 0 {
		v = verdict.Failed
	}
	return api.RunSummary{Number: number, Project: "saltmarsh", Suite: "desk", Matrix: "wall", State: api.Ended, Verdict: v, CreatedAt: &at,
		Counts: verdict.Counts{verdict.Failed: 1}}
}

// post is an office with its records, at a time that stands still until it is moved.
type post struct {
	*Office
	t    *testing.T
	dir  string
	mu   sync.Mutex
	now  time.Time
	stop func()
}

func openPost(t *testing.T, m Mail) *post {
	p := &post{t: t, dir: t.TempDir(), now: time.Date(2026, 11, 27, 5, 0, 0, 0, time.UTC)}
	p.open(m)
	t.Cleanup(func() { p.stop() })
	return p
}

func (p *post) open(m Mail) {
	st, err := store.Open(p.dir)
	require.NoError(p.t, err)
	seal, err := secrets.Open(p.dir, "")
	require.NoError(p.t, err)
	p.Office = New(Config{Store: st, Seal: seal, Records: shelf{}, Log: slog.New(slog.DiscardHandler), Clock: p.clock, Mail: m,
		Allow: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}, Address: "https://lab.saltmarsh.example/"})
	stop, done := make(chan struct{}), make(chan struct{})
	go func() { p.Mind(stop); close(done) }()
	p.stop = sync.OnceFunc(func() { close(stop); <-done; assert.NoError(p.t, st.Close()) })
}

func (p *post) clock() time.Time { p.mu.Lock(); defer p.mu.Unlock(); return p.now }
func (p *post) pass(d time.Duration) {
	p.mu.Lock()
	p.now = p.now.Add(d)
	p.mu.Unlock()
	p.Kick()
}

var keeper = api.Who{Name: "tern", Rights: api.InLab(api.Keeper)}

func (p *post) subscribe(kind, target string, of ...string) api.NewSubscription {
	s, err := p.Subscribe(keeper, api.SubscriptionRequest{Project: "saltmarsh", Kind: kind, Target: target, Of: of})
	require.NoError(p.t, err)
	return s
}

// end ends a run of the records, which puts what is told of it into the outbox.
func (p *post) end(number int, v string) {
	row := store.Run{Number: number, ID: store.NewID(), Kind: "script", Project: "saltmarsh", Suite: "desk", Matrix: "wall", Counts: "{}",
		CreatedAt: 1, Vars: "{}", Request: "{}", Plan: "{}"}
	require.NoError(p.t, p.Store.Write(append(store.AddRun(row, nil, nil), store.EndRun(number, v, "{}", "[]", p.clock().UnixMilli()))...))
	p.Kick()
}

func (p *post) deliveries(f api.DeliveryFilter) []api.Delivery {
	ds, err := p.Deliveries(p.t.Context(), f)
	require.NoError(p.t, err)
	return ds
}

func (p *post) until(what func() bool) {
	p.t.Helper()
	require.Eventually(p.t, what, 10*time.Second, 5*time.Millisecond)
}

// ear is an address of the web that takes what it is told.
type ear struct {
	*httptest.Server
	mu     sync.Mutex
	heard  []*http.Request
	bodies [][]byte
	answer func(n int, w http.ResponseWriter)
}

func listen(t *testing.T) *ear {
	e := &ear{}
	e.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		e.mu.Lock()
		e.heard, e.bodies = append(e.heard, r), append(e.bodies, body)
		n, answer := len(e.heard), e.answer
		e.mu.Unlock()
		if answer != nil {
			answer(n, w)
		}
	}))
	t.Cleanup(e.Close)
	return e
}

func (e *ear) count() int { e.mu.Lock(); defer e.mu.Unlock(); return len(e.heard) }

var inputForm = regexp.MustCompile(`^pane=(\(([^)]*)\);created=\d+;keyid="[^"]+";alg="hmac-sha256")$`)

// signed reports whether a request is signed with a key as RFC 9421 has it: read anew
// here, as a receiver would.
func signed(r *http.Request, body []byte, target, key string) bool {
	sum := sha256.Sum256(body)
	if r.Header.Get("Content-Digest") != "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":" {
		return false
	}
	m := inputForm.FindStringSubmatch(r.Header.Get("Signature-Input"))
	if m == nil {
		return false
	}
	var lines []string
	for _, name := range strings.Fields(m[2]) {
		value := map[string]string{`"@method"`: r.Method, `"@target-uri"`: target}[name]
		if value == "" {
			value = r.Header.Get(strings.Trim(name, `"`))
		}
		lines = append(lines, name+": "+value)
	}
	lines = append(lines, `"@signature-params": `+m[1])
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(strings.Join(lines, "\n")))
	return r.Header.Get("Signature") == "pane=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":"
}

func TestAHookIsToldOnceAndSigned(t *testing.T) {
	p, e := openPost(t, Mail{}), listen(t)
	s := p.subscribe(api.HookKind, e.URL+"/lab?chat=secret-token", api.OfFailed)
	assert.Len(t, s.Key, 26)
	assert.NotContains(t, fmt.Sprintf("%+v", s.Subscription), "secret-token", "what is in the address is nobody's to see")
	p.end(1, "passed")
	p.end(2, "failed")
	p.until(func() bool { ds := p.deliveries(api.DeliveryFilter{}); return len(ds) == 1 && ds[0].State == api.Sent })
	require.Equal(t, 1, e.count(), "a run that passed is not what is wanted")
	r, body := e.heard[0], e.bodies[0]
	assert.True(t, signed(r, body, e.URL+"/lab?chat=secret-token", s.Key))
	assert.False(t, signed(r, append(body, ' '), e.URL+"/lab?chat=secret-token", s.Key))
	assert.False(t, signed(r, body, e.URL+"/lab", s.Key))
	assert.Equal(t, "application/cloudevents+json; charset=utf-8", r.Header.Get("Content-Type"))
	var event struct {
		SpecVersion, Type, Source, Subject, ID, Reason, DataContentType string
		Data                                                            api.RunNotice
	}
	require.NoError(t, json.Unmarshal(body, &event))
	assert.Equal(t, []string{"1.0", "parallelpane.run.ended", "/api/v1/projects/saltmarsh", "runs/2", s.ID + ":2:failed", api.OfFailed,
		"application/json"},
		[]string{event.SpecVersion, event.Type, event.Source, event.Subject, event.ID, event.Reason, event.DataContentType})
	assert.Contains(t, event.Data.Words.Text, "https://lab.saltmarsh.example/runs/2")
	assert.Equal(t, "passed", event.Data.Was)

	_, err := p.Redeliver(t.Context(), s.ID+":2:failed")
	require.NoError(t, err)
	p.until(func() bool { return e.count() == 2 })
	p.until(func() bool { return p.deliveries(api.DeliveryFilter{})[0].State == api.Sent })
	_, err = p.TryOut(t.Context(), s.ID)
	require.NoError(t, err)
	p.until(func() bool { return e.count() == 3 })

	// A run that goes on after its end is told again if it comes to something else.
	again := func(v string) {
		require.NoError(t, p.Store.Write(append(store.ReopenRun(1), store.EndRun(1, v, "{}", "[]", p.clock().UnixMilli()))...))
		p.Kick()
	}
	again("failed")
	p.until(func() bool { return e.count() == 4 })
	again("failed")
	assert.Len(t, p.deliveries(api.DeliveryFilter{Run: 1}), 1)
}

func TestAReceiverThatIsDownIsToldLater(t *testing.T) {
	p, e := openPost(t, Mail{}), listen(t)
	e.answer = func(n int, w http.ResponseWriter) {
		switch n {
		case 1:
			w.WriteHeader(http.StatusInternalServerError)
			fmt.Fprint(w, "the boiler is cold\x1b")
		case 2:
			w.Header().Set("Retry-After", "3600")
			w.WriteHeader(http.StatusTooManyRequests)
		}
	}
	s := p.subscribe(api.HookKind, e.URL, api.OfEnded)
	p.end(1, "passed")
	first := func() api.Delivery { return p.deliveries(api.DeliveryFilter{})[0] }
	p.until(func() bool { ds := p.deliveries(api.DeliveryFilter{}); return len(ds) == 1 && ds[0].Tries == 1 })
	assert.Equal(t, api.Awaiting, first().State)
	assert.Contains(t, first().Answer, "status 500 the boiler is cold")
	assert.Equal(t, 10*time.Second, first().NextAt.Sub(p.clock()))
	p.pass(10 * time.Second)
	p.until(func() bool { return first().Tries == 2 })
	assert.Equal(t, time.Hour, first().NextAt.Sub(p.clock()), "as it asked")
	p.pass(time.Hour)
	p.until(func() bool { return first().State == api.Sent })
	assert.Equal(t, 3, e.count())

	// The office ends half-way: it is told after the next start, and what was sent is not sent again.
	e.answer = func(n int, w http.ResponseWriter) { w.WriteHeader(http.StatusServiceUnavailable) }
	p.end(2, "passed")
	p.until(func() bool { return e.count() == 4 })
	p.stop()
	e.answer = nil
	p.open(Mail{})
	p.pass(time.Minute)
	p.until(func() bool { return first().State == api.Sent && e.count() == 5 })

	// What nobody takes is given up, and can be sent again by hand.
	e.answer = func(_ int, w http.ResponseWriter) { w.WriteHeader(http.StatusBadGateway) }
	p.end(3, "passed")
	of3 := func() api.Delivery { return p.deliveries(api.DeliveryFilter{Run: 3})[0] }
	for n := 1; n <= maxTries; n++ {
		p.until(func() bool { ds := p.deliveries(api.DeliveryFilter{Run: 3}); return len(ds) == 1 && ds[0].Tries >= n })
		p.pass(longestPause)
	}
	p.until(func() bool { return of3().State == api.GivenUp })
	require.NoError(t, p.Unsubscribe(t.Context(), s.ID))
	_, err := p.Redeliver(t.Context(), s.ID+":3:passed")
	require.NoError(t, err)
	p.until(func() bool {
		return of3().State == api.GivenUp && of3().Answer == "nobody wants to hear of it any more"
	})
}

func TestWhereHooksMayNotGo(t *testing.T) {
	p := openPost(t, Mail{})
	elsewhere := 0
	target := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { elsewhere++ }))
	defer target.Close()
	for bad, want := range map[string]string{
		"ftp://x.example/": "expected an address", "https://": "expected an address",
		"https://tern:pw@x.example/": "leave the user and password out",
		"http://10.0.0.7/":           "own surroundings", "http://[::1]/": "own surroundings",
		"http://169.254.169.254/latest": "own surroundings",
		"http://[::ffff:192.168.1.1]/":  "own surroundings", "https://0.0.0.0/": "own surroundings",
		"http://[64:ff9b::a00:1]/":                       "own surroundings",
		"https://x.example/" + strings.Repeat("a", 3000): "at most 2000",
	} {
		_, err := p.Subscribe(keeper, api.SubscriptionRequest{Project: "saltmarsh", Kind: api.HookKind, Target: bad, Of: []string{api.OfEnded}})
		assert.ErrorContains(t, err, want, bad)
	}
	for q, want := range map[*api.SubscriptionRequest]string{
		{Project: "saltmarsh", Kind: "pigeon", Of: []string{"ended"}}: "kind: expected mail or hook",
		{Project: "saltmarsh", Kind: "hook", Target: "https://x.example",
			Of: []string{"often"}}: "of: expected failed, changed, ended, daily",
		{Project: "saltmarsh", Kind: "hook", Target: "https://x.example"}:                             "of: say what to hear of",
		{Project: "../x", Kind: "hook", Target: "https://x.example", Of: []string{"ended"}}:           "is no name of a project",
		{Project: "saltmarsh", Kind: "mail", Target: "tern@saltmarsh.example", Of: []string{"ended"}}: "this service sends no mail",
		{Project: "saltmarsh", Kind: "mail", Target: "tern", Of: []string{"ended"}}:                   "expected a mail address",
	} {
		_, err := p.Subscribe(keeper, *q)
		assert.ErrorContains(t, err, want)
	}
	// A name that leads inward is found out when it is connected to; one that sends elsewhere is not followed.
	_, port, err := net.SplitHostPort(strings.TrimPrefix(target.URL, "http://"))
	require.NoError(t, err)
	p.hooks.allow = nil
	p.subscribe(api.HookKind, "http://localhost:"+port+"/", api.OfEnded)
	p.end(1, "passed")
	p.until(func() bool {
		ds := p.deliveries(api.DeliveryFilter{Run: 1})
		return len(ds) == 1 && ds[0].State == api.GivenUp
	})
	assert.Contains(t, p.deliveries(api.DeliveryFilter{})[0].Answer, "own surroundings")
	assert.Zero(t, elsewhere)

	q, e := openPost(t, Mail{}), listen(t)
	e.answer = func(_ int, w http.ResponseWriter) {
		w.Header().Set("Location", target.URL)
		w.WriteHeader(http.StatusTemporaryRedirect)
	}
	q.subscribe(api.HookKind, e.URL, api.OfEnded)
	q.end(1, "passed")
	q.until(func() bool {
		ds := q.deliveries(api.DeliveryFilter{})
		return len(ds) == 1 && ds[0].State == api.GivenUp
	})
	assert.Contains(t, q.deliveries(api.DeliveryFilter{})[0].Answer, "which is not followed")
	assert.Zero(t, elsewhere)
}

func TestASlowReceiverHoldsNobodyUp(t *testing.T) {
	p, slow, quick := openPost(t, Mail{}), listen(t), listen(t)
	free := make(chan struct{})
	slow.answer = func(int, http.ResponseWriter) { <-free }
	p.subscribe(api.HookKind, slow.URL, api.OfEnded)
	p.subscribe(api.HookKind, quick.URL, api.OfEnded)
	for n := range 30 {
		p.end(n+1, "passed")
	}
	p.until(func() bool { return quick.count() == 30 })
	assert.LessOrEqual(t, slow.count(), perHost)
	close(free)
	p.until(func() bool { return len(p.deliveries(api.DeliveryFilter{State: api.Sent, Limit: 100})) == 60 })
	assert.Equal(t, 30, slow.count())
}

// mailbox is a mail server that keeps what it is given.
type mailbox struct {
	mu     sync.Mutex
	mails  []string
	refuse error
}

func (b *mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &mailSession{b}, nil }

type mailSession struct{ b *mailbox }

func (*mailSession) Reset()        {}
func (*mailSession) Logout() error { return nil }
func (*mailSession) Mail(string, *smtp.MailOptions) error {
	return nil
}
func (s *mailSession) Rcpt(string, *smtp.RcptOptions) error {
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	return s.b.refuse
}
func (s *mailSession) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	s.b.mu.Lock()
	defer s.b.mu.Unlock()
	s.b.mails = append(s.b.mails, string(raw))
	return err
}

func serveMail(t *testing.T) (*mailbox, Mail) {
	b := &mailbox{}
	srv := smtp.NewServer(b)
	srv.Domain, srv.ErrorLog = "mail.saltmarsh.example", slogDiscard{}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = srv.Serve(l) }()
	t.Cleanup(func() { _ = srv.Close() })
	m, err := ParseMail("smtp+plain://"+l.Addr().String(), "lab@saltmarsh.example", "")
	require.NoError(t, err)
	return b, m
}

type slogDiscard struct{}

func (slogDiscard) Printf(string, ...any) {}
func (slogDiscard) Println(...any)        {}

func (b *mailbox) all() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string(nil), b.mails...)
}

func TestMailOnChangeAndByDay(t *testing.T) {
	b, m := serveMail(t)
	p := openPost(t, m)
	p.subscribe(api.MailKind, "tern@saltmarsh.example", api.OfChanged, api.OfDaily)
	p.end(1, "passed")
	p.end(2, "passed")
	p.end(3, "failed")
	p.until(func() bool { return len(b.all()) == 1 })
	mail := b.all()[0]
	assert.Contains(t, mail, "To: <tern@saltmarsh.example>")
	assert.Contains(t, mail, "Auto-Submitted: auto-generated")
	assert.Regexp(t, `(?m)^Message-ID: <[0-9a-f-]+\.3\.failed@127\.0\.0\.1>`, mail)
	assert.Contains(t, strings.ReplaceAll(mail, "=\r\n", ""), "&lt;b&gt;late&lt;/b&gt;")
	assert.Contains(t, mail, "Content-Type: image/png")

	p.pass(25 * time.Hour)
	p.until(func() bool { return len(b.all()) == 2 })
	assert.Contains(t, b.all()[1], "saltmarsh on 27 November: nothing ran")
	p.pass(time.Hour)
	p.stop()
	p.open(m)
	p.until(func() bool { return p.told() == "2026-11-28" })
	assert.Len(t, p.deliveries(api.DeliveryFilter{}), 2, "a day is told once")

	b.mu.Lock()
	b.refuse = &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name"}
	b.mu.Unlock()
	p.end(4, "passed")
	p.until(func() bool {
		ds := p.deliveries(api.DeliveryFilter{Run: 4})
		return len(ds) == 1 && ds[0].State == api.GivenUp
	})
	assert.Contains(t, p.deliveries(api.DeliveryFilter{Run: 4})[0].Answer, "nobody of that name")
}

func TestMailServers(t *testing.T) {
	for address, want := range map[string]Mail{
		"smtp://mail.saltmarsh.example":         {Server: "mail.saltmarsh.example", Port: 587, From: "parallel-pane@mail.saltmarsh.example"},
		"smtps://tern@mail.saltmarsh.example":   {Server: "mail.saltmarsh.example", Port: 465, Implicit: true, User: "tern"},
		"smtp+plain://127.0.0.1:2525":           {Server: "127.0.0.1", Port: 2525},
		"smtp://tern@mail.saltmarsh.example:25": {Server: "mail.saltmarsh.example", Port: 25, User: "tern"},
	} {
		got, err := ParseMail(address, want.From, "")
		require.NoError(t, err, address)
		assert.Equal(t, []any{want.Server, want.Port, want.Implicit, want.User}, []any{got.Server, got.Port, got.Implicit, got.User}, address)
	}
	for address, want := range map[string]string{"mail.example": "expected smtp://", "http://x": "expected smtp://",
		"smtp://x:0":       "expected 1 to 65535",
		"smtp://tern:pw@x": "leave the password out"} {
		_, err := ParseMail(address, "", "")
		assert.ErrorContains(t, err, want)
		assert.NotContains(t, err.Error(), "pw")
	}
	_, err := ParseMail("smtp://x", "Tern <tern@x>", "")
	assert.ErrorContains(t, err, "sender: expected a mail address")
	m := Mail{Password: "kedge"}
	assert.Equal(t, "535 … is wrong", m.without(errors.New("535 kedge is wrong")))
}

func BenchmarkOutbox(b *testing.B) {
	dir := b.TempDir()
	st, err := store.Open(dir)
	require.NoError(b, err)
	seal, err := secrets.Open(dir, "")
	require.NoError(b, err)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = io.Copy(io.Discard, r.Body) }))
	defer srv.Close()
	o := New(Config{Store: st, Seal: seal, Records: shelf{}, Log: slog.New(slog.DiscardHandler), Clock: time.Now,
		Allow: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}})
	s, err := o.Subscribe(keeper, api.SubscriptionRequest{Project: "saltmarsh", Kind: api.HookKind, Target: srv.URL,
		Of: []string{api.OfEnded}})
	require.NoError(b, err)
	row, err := st.Subscription(context.Background(), s.ID)
	require.NoError(b, err)
	for b.Loop() {
		const n = 10_000
		var batch []store.Stmt
		for i := range n {
			batch = append(batch, store.Post(store.Delivery{ID: fmt.Sprint(store.NewID(), i), Subscription: s.ID, Of: api.OfEnded,
				Project: "saltmarsh",
				Run:     2, Host: row.Host}))
		}
		require.NoError(b, st.Write(batch...))
		stop, done := make(chan struct{}), make(chan struct{})
		began := time.Now()
		go func() { o.Mind(stop); close(done) }()
		for {
			due, err := st.Due(context.Background(), time.Now().UnixMilli(), []string{}, []string{}, 1)
			require.NoError(b, err)
			if len(due) == 0 {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		b.ReportMetric(n/time.Since(began).Seconds(), "sent/s")
		close(stop)
		<-done
	}
	require.NoError(b, st.Close())
}
