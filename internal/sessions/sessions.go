// Package sessions is the one place on an agent where a browser session is
// opened. It joins an engine's launch, the New session command, the BiDi
// connection and the emulation of a device, and it makes sure that whatever was
// started is ended.
package sessions

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/bidi"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/box"
	"parallelpane/internal/engine/find"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/sessions/door"
	"parallelpane/internal/webdriver"
)

// Host opens sessions on the engines of this machine.
type Host struct {
	// Bare runs the programs of sessions beside the agent's own even where there are
	// sandboxes.
	Bare bool
	// Allow is what sessions may ask of the engines besides what their lists allow.
	Allow engine.Names
	// Rules say where the doors of sessions lead.
	Rules door.Rules
	// Machine is where browsers are looked for.
	Machine find.Machine

	families map[string]engine.Family
	dir      string
	log      *slog.Logger
	trial    func() error // whether a sandbox can be made here, tried once
	mu       sync.Mutex
	used     map[string]int // sessions by the path of their browser
}

// NewHost returns a host that keeps the sessions' files below dir. What an
// earlier host of that directory left behind, running or on disk, is removed.
func NewHost(dir string, log *slog.Logger, families ...engine.Family) (*Host, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, fmt.Errorf("session directory: %w", err)
	}
	if n := process.Sweep(dir); n > 0 {
		log.Warn("ended processes that an earlier agent left behind", "count", n)
	}
	if err := os.RemoveAll(dir); err != nil {
		return nil, fmt.Errorf("session directory: %w", err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("session directory: %w", err)
	}
	h := &Host{Machine: find.Here(), used: map[string]int{}, families: map[string]engine.Family{}, dir: dir, log: log}
	h.trial = sync.OnceValue(h.try)
	for _, f := range families {
		h.families[f.Name()] = f
	}
	return h, nil
}

// finder is a family that has browsers of its own: a stand-in.
type finder interface {
	Find(ctx context.Context) []fleet.Browser
}

// Found lists the browsers and drivers of this machine that the host's families can
// open, those that do not work included with the reason.
func (h *Host) Found(ctx context.Context) (out find.Found) {
	real := false
	for _, f := range h.families {
		if f, ok := f.(finder); ok {
			out.Browsers = append(out.Browsers, f.Find(ctx)...)
			continue
		}
		real = true
	}
	if real {
		here := h.Machine.Look(ctx)
		for _, b := range here.Browsers {
			if h.familyOf(b) != nil {
				out.Browsers = append(out.Browsers, b)
			}
		}
		out.Drivers = here.Drivers
	}
	return out
}

// enter notes that a session uses a browser, until leave is called.
func (h *Host) enter(path string) (leave func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.used[path]++
	return sync.OnceFunc(func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.used[path]--; h.used[path] == 0 {
			delete(h.used, path)
		}
	})
}

// Uses reports whether a session is open on a browser of a folder.
func (h *Host) Uses(folder string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for path := range h.used {
		if strings.HasPrefix(path, folder+string(filepath.Separator)) {
			return true
		}
	}
	return false
}

// familyOf is the family that opens a browser.
func (h *Host) familyOf(b fleet.Browser) engine.Family {
	if f, ok := h.families[b.Name]; ok {
		return f
	}
	return h.families[b.Engine]
}

// Prepare makes later starts of the browsers faster, where their families know
// how.
func (h *Host) Prepare(ctx context.Context, browsers []fleet.Browser) error {
	for _, b := range browsers {
		p, ok := h.familyOf(b).(engine.Preparer)
		if !ok || !b.Fits {
			continue
		}
		dir, err := os.MkdirTemp(h.dir, "prepare-")
		if err != nil {
			return err
		}
		profile, err := device.Find("")
		if err == nil {
			err = p.Prepare(ctx, engine.Options{Browser: b, Device: profile, Dir: dir})
		}
		if err = errors.Join(err, os.RemoveAll(dir)); err != nil {
			return err
		}
	}
	return nil
}

// Request says what session is wanted.
type Request struct {
	Browser fleet.Browser
	Headed  bool
	Device  device.Profile
	Display string // an existing display for headed sessions; "" starts a virtual one
	// Asked is what somebody else's runner asks of the driver; nil for a session of
	// the lab's own.
	Asked webdriver.Capabilities
	Bare  bool // of somebody else's session: leave the browser as it opens
	Watch bool // of somebody else's session: its network or console will be recorded
	// Pictures says, of somebody else's session, that pictures will be taken often,
	// Film that it is to be filmed.
	Pictures, Film bool
	// Traffic is what the session's way to the site is held to.
	Traffic traffic.Shape
	// Relay is the way to places that this machine does not reach. It may be nil.
	Relay *door.Relay
}

// Session is an open session and everything that serves it.
type Session struct {
	*webdriver.Session
	Client   *webdriver.Client
	BiDi     *bidi.Conn // nil where the engine has none, or nothing needs it
	Outcome  device.Outcome
	Browser  fleet.Browser
	Headed   bool
	leave    func() // tells the host that the browser is used no more
	inst     *engine.Instance
	dir      string
	log      *os.File
	tap      *tap
	prompts  *prompts
	left     sync.WaitGroup // pictures that were given up and end by themselves
	asked    webdriver.Capabilities
	shape    traffic.Shape
	relay    *door.Relay
	reshaped bool           // by a test
	unwatch  []func()       // end those who look at what it takes up
	watchers sync.WaitGroup // them
	// patience is how long the driver may take to answer a script of the lab's.
	patience time.Duration
	box      box.Box
	door     *door.Door // nil for a stand-in, which needs none
}

// StartError means that no session could be opened: the lab's fault, never the
// product's.
type StartError struct {
	Browser fleet.Browser
	Err     error
}

func (e *StartError) Error() string {
	return fmt.Sprintf("%s %s would not start: %v", e.Browser.Name, e.Browser.Version, e.Err)
}
func (e *StartError) Unwrap() error { return e.Err }

const startLimit = 90 * time.Second

// Open launches a browser with a fresh profile and opens a session on it. Every
// error is a *StartError unless the context ended.
func (h *Host) Open(ctx context.Context, r Request) (*Session, error) {
	s, err := h.open(ctx, r)
	if err != nil && ctx.Err() == nil {
		err = &StartError{r.Browser, err}
	}
	return s, err
}

// open makes the session in the order in which its parts need each other: a place of
// its own, the programs, the session itself, the lab's own connection to it, the
// device.
func (h *Host) open(ctx context.Context, r Request) (_ *Session, err error) {
	family := h.familyOf(r.Browser)
	if family == nil {
		return nil, fmt.Errorf("this agent has no engine %q", r.Browser.Engine)
	}
	if !r.Browser.Fits {
		return nil, errors.New(r.Browser.Problem)
	}
	ctx, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	if r.Device.Network != "" {
		if r.Traffic, err = traffic.Parse(r.Device.Network); err != nil {
			return nil, err
		}
	}
	s := &Session{leave: h.enter(r.Browser.Path), Browser: r.Browser, Headed: r.Headed, asked: r.Asked, shape: r.Traffic,
		relay: r.Relay, patience: patience}
	defer func() {
		if err != nil {
			s.discard()
		}
	}()
	if err = s.settle(h.dir); err != nil {
		return nil, err
	}
	o := engine.Options{Browser: r.Browser, Headed: r.Headed, Device: r.Device, Dir: s.home(), Display: r.Display, Log: s.log, Asked: r.Asked,
		Allow: h.Allow}
	switch {
	case r.Browser.Engine != "standin":
		err = h.enclose(ctx, s, &o)
	case r.Relay != nil: // it runs no programs, and reaches sites by itself but for those of a relay
		err = h.leadOut(s, &o)
	}
	if err != nil {
		return nil, err
	}
	if s.inst, err = family.Launch(ctx, o); err != nil {
		return nil, err
	}
	if s.box.Isolated() {
		s.watch(box.Usual, watchEvery)
	}
	if err = s.begin(ctx, s.capabilities(r)); err != nil {
		return nil, err
	}
	if r.untouched() && !s.watched(r) {
		return s, nil
	}
	if err = s.connect(ctx); err != nil {
		return nil, err
	}
	if err = s.emulate(ctx, r); err != nil {
		return nil, err
	}
	return s, nil
}

// untouched says whether a session is to be as its client asked, without a device.
func (r Request) untouched() bool { return r.Asked != nil && r.Bare }

// watched says whether the lab looks at a session itself. Over BiDi a picture does
// not keep the driver from the client's commands.
func (s *Session) watched(r Request) bool { return r.Watch || s.pictured(r) }

// pictured says whether pictures are taken of a session by itself, for which a
// display's film does as well.
func (s *Session) pictured(r Request) bool {
	return r.Pictures || (r.Film && s.inst.Display == nil)
}

// settle gives the session a directory, with its programs' own in it, and a log.
func (s *Session) settle(dir string) (err error) {
	if s.dir, err = os.MkdirTemp(dir, s.Browser.Name+"-"); err != nil {
		return err
	}
	if err = os.Mkdir(s.home(), 0o700); err != nil {
		return err
	}
	s.box = box.Open{Dir: s.home()}
	s.log, err = os.Create(filepath.Join(s.dir, "driver.log"))
	return err
}

// capabilities are those to ask the driver for: what the client asked for and what
// the lab needs for itself.
func (s *Session) capabilities(r Request) webdriver.Capabilities {
	caps := maps.Clone(s.inst.Caps)
	if s.inst.Emulated && !s.inst.BiDi {
		return caps
	}
	if r.Asked != nil && caps["webSocketUrl"] != true {
		connect := s.inst.BiDi && (s.watched(r) || !r.Bare)
		if connect || s.pictured(r) {
			s.prompts = stillDialogs(caps)
		}
		if connect {
			caps["webSocketUrl"] = true
		}
	}
	return caps
}

// begin opens the session on its driver.
func (s *Session) begin(ctx context.Context, caps webdriver.Capabilities) (err error) {
	s.tap = newTap(s.inst)
	s.Client = webdriver.NewClient(s.inst.URL, &http.Client{Transport: s.tap})
	if s.Session, err = s.Client.New(ctx, caps); err != nil && webdriver.SessionLost(err) {
		return s.lost(err)
	}
	return err
}

// connect opens the lab's own BiDi connection, where there is one to be had.
func (s *Session) connect(ctx context.Context) (err error) {
	if address := s.WebSocketURL(); address != "" {
		s.BiDi, err = bidi.Dial(ctx, address, s.inst.Dial)
	}
	return err
}

// emulate makes the session the device that was asked for.
func (s *Session) emulate(ctx context.Context, r Request) error {
	if r.Bare && !s.inst.Emulated {
		return nil
	}
	var emulated device.Outcome
	if !s.inst.Emulated {
		var err error
		if emulated, err = engine.Emulate(ctx, s.Session, s.BiDi, r.Browser, r.Device); err != nil {
			return fmt.Errorf("emulate %s: %w", r.Device.Name, err)
		}
	}
	if r.Device.CPU > 1 {
		slow := errors.New("the engine has no command for it")
		if s.inst.Slow != nil {
			slow = s.inst.Slow(ctx, s.Session, r.Device.CPU)
		}
		emulated.Apply(fmt.Sprintf("processor %g times slower", r.Device.CPU), slow)
	}
	if r.Device.Network != "" {
		var none error
		if s.door == nil {
			none = errors.New("a stand-in reaches the site by itself")
		}
		emulated.Apply("network "+r.Device.Network, none)
	}
	if wishes := r.Device.Wishes(); len(wishes) > 0 && s.inst.Prefer != nil {
		preferred := s.inst.Prefer(ctx, s.Session, wishes)
		emulated.Applied, emulated.Missing = append(emulated.Applied, preferred.Applied...), append(emulated.Missing, preferred.Missing...)
	}
	s.Outcome = device.Outcome{
		Applied: append(s.inst.Outcome.Applied, emulated.Applied...),
		Missing: append(s.inst.Outcome.Missing, emulated.Missing...),
	}
	return nil
}

// Decided are the switches that were asked for and that the agent decides itself.
func (s *Session) Decided() []string { return s.inst.Left }

// Reset puts the session in order for another test: one window with an empty
// page, and no cookies. An engine without BiDi can only drop those of the sites
// that are open; storage that pages keep stays.
func (s *Session) Reset(ctx context.Context) error {
	windows, err := s.Windows(ctx)
	if err != nil {
		return err
	}
	if s.reshaped {
		s.reshaped = false
		s.door.Shape(s.shape)
	}
	if err := s.forgetSaved(); err != nil {
		return err
	}
	if s.BiDi != nil {
		if err := s.BiDi.Send(ctx, "storage.deleteCookies", map[string]any{}, nil); err != nil {
			return err
		}
	}
	for i, w := range windows {
		if err := s.SwitchTo(ctx, w); err != nil {
			return err
		}
		if s.BiDi == nil {
			if err := s.forget(ctx); err != nil {
				return err
			}
		}
		if i < len(windows)-1 {
			if _, err := s.CloseWindow(ctx); err != nil {
				return err
			}
		}
	}
	return s.Navigate(ctx, "about:blank")
}

// forgetLimit is how long cookies may take to go.
const forgetLimit = 3 * time.Second

// forget deletes the cookies of the open page and waits until they are gone: WebKit's
// driver answers before the deed, which would then take those of the next page.
func (s *Session) forget(ctx context.Context) error {
	if err := s.DeleteCookies(ctx); err != nil {
		return err
	}
	for end := time.Now().Add(forgetLimit); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		left, err := s.Cookies(ctx)
		if err != nil || len(left) == 0 {
			return err
		}
	}
	return nil // the page sets them anew
}

// Gone says which program of the session has ended by itself; nil while all
// run and the session answers.
func (s *Session) Gone(ctx context.Context) error {
	if err := s.inst.Gone(); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	if _, err := s.Windows(ctx); err != nil && (webdriver.SessionLost(err) || ctx.Err() != nil) {
		return s.lost(fmt.Errorf("the session stopped answering: %w", err))
	} else if err != nil && webdriver.CodeOf(err) == webdriver.UnknownError {
		return fmt.Errorf("the browser stopped answering: %w", err)
	}
	return nil
}

// Programs says which program of the session has ended by itself; nil while all
// run.
func (s *Session) Programs() error { return s.inst.Gone() }

// goneWait is how long it may take on a busy machine until a program that has ended is known
// to have.
const goneWait = 4 * time.Second

// lost is the best explanation of a session that does not answer: which program
// has ended, or else the error itself.
func (s *Session) lost(err error) error {
	if gone := s.inst.GoneWithin(goneWait); gone != nil {
		return gone
	}
	return err
}

// Log returns the last n bytes of what driver and browser printed.
func (s *Session) Log(n int64) []byte {
	info, err := s.log.Stat()
	if err != nil {
		return nil
	}
	from := max(0, info.Size()-n)
	b := make([]byte, info.Size()-from)
	k, _ := s.log.ReadAt(b, from)
	return b[:k]
}

// Close ends the session and every program of it, and removes its files.
func (s *Session) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if s.inst.Gone() == nil && !s.tap.over() && !s.Busy() {
		_ = s.Session.Close(Quiet(ctx)) // the programs are ended next, whatever this says
	}
	s.discard()
}

func (s *Session) discard() {
	defer s.leave()
	for _, end := range s.unwatch {
		end()
	}
	s.watchers.Wait()
	if s.BiDi != nil {
		_ = s.BiDi.Close()
	}
	if s.inst != nil {
		s.inst.Close()
	}
	s.left.Wait()
	if s.tap != nil {
		s.tap.close()
	}
	if s.box != nil {
		s.box.Close()
	}
	if s.door != nil {
		s.door.Close()
	}
	if s.log != nil {
		process.Sweep(s.dir)
		s.log.Close()
	}
	if s.dir != "" {
		_ = os.RemoveAll(s.dir)
	}
}
