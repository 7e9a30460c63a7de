package script

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/core/verdict"
)

// Browser is what a test acts on. Look never waits; the runner does. An error
// that is a *LabError says that the lab, not the product, is at fault.
type Browser interface {
	Visit(ctx context.Context, address string) error
	Look(ctx context.Context, q Query) (Sight, error)
	Click(ctx context.Context, m Match) error
	Enter(ctx context.Context, m Match, text string) error
	Choose(ctx context.Context, m Match, option string) error
	Press(ctx context.Context, m *Match, keys []Key) error // nil presses where the focus is
	Hover(ctx context.Context, m Match) error
	Upload(ctx context.Context, m Match, file string) error
	ScrollPage(ctx context.Context, where string) error // top or bottom
	Dialog(ctx context.Context, accept bool, answer *string) error
	Network(ctx context.Context, shape traffic.Shape) error
	Frame(ctx context.Context, m *Match) error                            // nil goes back to the whole page
	Window(ctx context.Context, which, want string) error                 // new, first, close; title or address, which contains what is wanted
	Saved(ctx context.Context) ([]string, error)                          // names of files that the pages had it save, to their ends
	Read(ctx context.Context, m Match, what, attr string) (string, error) // text, value, attribute
	PageText(ctx context.Context) (string, error)
	Address(ctx context.Context) (string, error)
	Title(ctx context.Context) (string, error)
	Screenshot(ctx context.Context) ([]byte, error)
	Survey(ctx context.Context, q Query, source bool) (Survey, error)
}

// Survey is what a page, or what is within an element of it, is made of.
type Survey struct {
	likeness.Page
	Found []int `json:"found"` // elements that Query.Find found
}

// Find is a locator with its texts evaluated.
type Find struct {
	By    string `json:"by"` // role, label, reads, attribute, css, xpath, or surveyed: the element at a place of the last survey
	Value string `json:"value"`
	Attr  string `json:"attr"` // with attribute
	Name  string `json:"name"`
	Named bool   `json:"named"` // a name was asked for
}

// Query asks for the elements of a locator.
type Query struct {
	Within  *Find `json:"within"`
	Find    Find  `json:"find"`
	Reach   bool  `json:"reach"`   // scroll a single visible match into view, see whether it moves or is covered
	Matches int   `json:"matches"` // how many matches to describe at most
	Portray bool  `json:"portray"` // say what the visible ones, and the one within which, are known by
}

// Match is one element that a locator found.
type Match struct {
	Ref     string  `json:"ref"`
	Tag     string  `json:"tag"`
	Type    string  `json:"type"` // of an input
	Text    string  `json:"text"` // at most 80 characters
	Visible bool    `json:"visible"`
	Hidden  string  `json:"hidden"` // why it is not visible
	X       float64 `json:"x"`      // left edge in the viewport, CSS pixels
	Y       float64 `json:"y"`
	W       float64 `json:"w"`
	H       float64 `json:"h"`
	Moving  bool    `json:"moving"`
	Covered string  `json:"covered"` // what lies on top of its middle
	Off     bool    `json:"off"`     // disabled

	Portrait *likeness.Portrait `json:"portrait"` // where Query.Portray asked for it and the browser can
}

// Sight is what Look saw.
type Sight struct {
	Matches []Match `json:"matches"` // in document order, at most Query.Matches
	Total   int     `json:"total"`
	Visible int     `json:"visible"`
	Within  int     `json:"within"` // visible elements the within locator matched; 1 is right

	Inside *likeness.Portrait `json:"inside"` // of the element within which
}

// LabError marks an error as the lab's fault.
type LabError struct {
	Err  error
	Site bool // the site under test does not answer; the browser and its machine are well
}

func (e *LabError) Error() string { return e.Err.Error() }
func (e *LabError) Unwrap() error { return e.Err }

// IsLab reports whether an error is the lab's fault.
func IsLab(err error) bool {
	_, ok := errors.AsType[*LabError](err)
	return ok
}

// Setting is everything a test gets from outside.
type Setting struct {
	Base   string // base address of the environment
	Root   string // directory of the bundle, from which uploads are taken
	Marker string // attribute that marks elements; "" means DefaultMarker
	Scope  Scope
	Aging  Aging
	Watch  func(title string) bool // whether the page is kept after a step that passes; nil: of none
	Clock  func() time.Time        // nil means time.Now
}

// Outcome is what happened in a test.
type Outcome struct {
	Verdict verdict.Verdict
	Message string
	Site    bool // at fault is the lab, because the site under test does not answer
	Steps   []attempt.Step
	Seen    []attempt.Seen // what the locators of a test that passed have matched
}

// Watcher is told of a running test. Its methods are called in order from the
// runner's goroutine.
type Watcher interface {
	StepDone(attempt.Step)
	Shot(name string, png []byte) (kept string)
	Page(name string, page likeness.Page) (kept string)
}

type runner struct {
	script  *Script
	browser Browser
	set     Setting
	start   time.Time
	matched string // the element that the step acts on
	memory
	calls map[*Call]given
}

// given is what the use of a block comes to, worked out before its first step.
type given struct {
	values map[string]string
	skip   bool
	err    error
}

// enter works out what a use of a block gives its steps.
func (r *runner) enter(c *Call) given {
	if c == nil {
		return given{}
	}
	if g, ok := r.calls[c]; ok {
		return g
	}
	outer := r.enter(c.In)
	g := given{values: map[string]string{}, skip: outer.skip, err: outer.err}
	scope := r.set.Scope
	scope.Given = outer.values
	if c.If != nil && !g.skip && g.err == nil {
		var run bool
		run, g.err = c.If.True(scope)
		g.skip = !run
	}
	for name, t := range c.With {
		if g.skip || g.err != nil {
			break
		}
		g.values[name], g.err = t.In(scope)
	}
	r.calls[c] = g
	return g
}

// Run carries a script out. It ends at the first step that does not pass, with
// a screenshot of that moment.
func Run(ctx context.Context, s *Script, b Browser, set Setting, w Watcher) Outcome {
	if set.Clock == nil {
		set.Clock = time.Now
	}
	if set.Scope.Kept == nil {
		set.Scope.Kept = map[string]string{}
	}
	r := &runner{script: s, browser: b, set: set, start: set.Clock(), calls: map[*Call]given{}}
	r.keys = keysOf(s)
	out := Outcome{Verdict: verdict.Passed}
	for i, step := range s.Steps {
		res := attempt.Step{Index: i, Title: step.Title(), Action: string(step.Action), At: step.Position, State: attempt.Unrun}
		if out.Verdict == verdict.Passed {
			r.carryOut(ctx, step, &res, w)
			switch res.State {
			case attempt.Failed:
				out.Verdict, out.Message = verdict.Failed, res.Message
			case attempt.LabFault:
				out.Verdict, out.Message, out.Site = verdict.LabFault, res.Message, res.Site
			}
			w.StepDone(res)
		}
		out.Steps = append(out.Steps, res)
	}
	if out.Verdict == verdict.Passed {
		out.Seen = r.seen
		out.Message = accepted(out.Steps)
	}
	return out
}

func (r *runner) since() int64 { return r.set.Clock().Sub(r.start).Milliseconds() }

func (r *runner) carryOut(ctx context.Context, step Step, res *attempt.Step, w Watcher) {
	res.StartMS, r.matched = r.since(), ""
	r.begin(res.Index)
	call := r.enter(step.In)
	run, err := !call.skip, call.err
	r.set.Scope.Given = call.values
	if step.If != nil && run && err == nil {
		run, err = step.If.True(r.set.Scope)
	}
	if err == nil && run {
		err = r.act(ctx, step, res, w)
	}
	res.TookMS, res.Matched, res.Aged = r.since()-res.StartMS, r.matched, r.aged
	if limit := step.Limit.Milliseconds(); limit > 0 && run && err == nil && res.TookMS > limit {
		if res.OverMS = limit; step.Strict {
			err = fmt.Errorf("it took %d ms; its limit is %d ms", res.TookMS, limit)
		}
	}
	if err == nil && run {
		r.keepSeen(ctx, step)
	}
	switch {
	case err == nil && run:
		res.State = attempt.Passed
		r.watch(ctx, step, res, w)
	case err == nil:
		res.State = attempt.Skipped
	default:
		res.State, res.Message = attempt.Failed, err.Error()
		if ctx.Err() != nil {
			res.Message = fmt.Sprintf("the test's time ran out in this step: %v", err)
		}
		if lab, ok := errors.AsType[*LabError](err); ok {
			res.State, res.Site = attempt.LabFault, lab.Site
		}
		shotCtx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		if res.Aged != nil {
			res.Aged.Accepted = false
		}
		if step.Action != Capture {
			res.Shot = "" // of before
		}
		r.keepPage(shotCtx, res, "failure", w)
	}
	if step.Frames != nil && run && !IsLab(err) {
		_ = r.browser.Frame(ctx, nil) // a page that is gone has no frames
	}
}

// watch keeps the page at a step at which the test failed before.
func (r *runner) watch(ctx context.Context, step Step, res *attempt.Step, w Watcher) {
	if r.set.Watch != nil && step.Frames == nil && res.Page == "" && r.set.Watch(res.Title) {
		r.keepPage(ctx, res, fmt.Sprintf("step-%d", res.Index+1), w)
	}
}

// keepPage keeps how the page looks and what it is made of.
func (r *runner) keepPage(ctx context.Context, res *attempt.Step, name string, w Watcher) {
	if png, err := r.browser.Screenshot(ctx); err == nil && res.Shot == "" {
		res.Shot = w.Shot(name, png)
	}
	if res.State == attempt.LabFault {
		return
	}
	if s, err := r.browser.Survey(ctx, Query{}, true); err == nil {
		res.Page = w.Page(name, s.Page)
	}
}

// reachIn goes into the frames of a step.
func (r *runner) reachIn(ctx context.Context, step Step) error {
	if err := r.browser.Frame(ctx, nil); err != nil {
		return err
	}
	for _, l := range step.Frames {
		find, err := r.find(l)
		if err != nil {
			return err
		}
		s, err := r.browser.Look(ctx, Query{Find: find, Matches: max(describeAtMost, l.Number)})
		if err != nil {
			return err
		}
		m, err := one(l, s)
		if err == nil && m.Tag != "iframe" && m.Tag != "frame" {
			err = Retry(fmt.Errorf("frame %s: %s is no frame", l, m))
		}
		if err == nil {
			err = r.browser.Frame(ctx, &m)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (r *runner) act(ctx context.Context, step Step, res *attempt.Step, w Watcher) error {
	var text string
	if step.Text != nil {
		var err error
		if text, err = step.Text.In(r.set.Scope); err != nil {
			return err
		}
	}
	switch step.Action {
	case Visit:
		address, err := Resolve(r.set.Base, text)
		if err != nil {
			return err
		}
		return r.until(ctx, step, func() error { return r.browser.Visit(ctx, address) })
	case Dialog:
		var answer *string
		if step.Text != nil {
			answer = &text
		}
		return r.until(ctx, step, func() error { return r.browser.Dialog(ctx, step.Read == "accept", answer) })
	case Window:
		return r.until(ctx, step, func() error { return r.browser.Window(ctx, step.Read, text) })
	case Capture:
		return r.until(ctx, step, func() error {
			png, err := r.browser.Screenshot(ctx)
			if err == nil {
				res.Shot = w.Shot(step.Name, png)
			}
			return err
		})
	case Network:
		shape, err := traffic.Parse(text)
		if err != nil {
			return fmt.Errorf("network: %w", err)
		}
		return r.browser.Network(ctx, shape)
	case Expect:
		return r.expect(ctx, step)
	case Keep:
		return r.keep(ctx, step)
	case Scroll:
		if step.Target == nil {
			return r.until(ctx, step, func() error { return r.browser.ScrollPage(ctx, text) })
		}
	case Press:
		keys, err := Keys(text)
		if err != nil {
			return err
		}
		if step.Target == nil {
			return r.until(ctx, step, func() error { return r.browser.Press(ctx, nil, keys) })
		}
		return r.on(ctx, step, res, w, func(m Match) error { return r.browser.Press(ctx, &m, keys) })
	}
	return r.on(ctx, step, res, w, func(m Match) error {
		switch step.Action {
		case Click:
			return r.browser.Click(ctx, m)
		case Hover:
			return r.browser.Hover(ctx, m)
		case Enter:
			return r.browser.Enter(ctx, m, text)
		case Choose:
			return r.browser.Choose(ctx, m, text)
		case Upload:
			if !filepath.IsLocal(text) {
				return fmt.Errorf("upload: %q lies outside the project", text)
			}
			file, err := filepath.Abs(filepath.Join(r.set.Root, text))
			if err != nil {
				return fmt.Errorf("upload: %w", err)
			}
			return r.browser.Upload(ctx, m, file)
		}
		return nil // scroll: looking has brought it into view
	})
}

// Resolve joins an address of a script with the base address.
func Resolve(base, address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", fmt.Errorf("address %q: %w", address, err)
	}
	if u.IsAbs() {
		return address, nil
	}
	if base == "" {
		return "", fmt.Errorf("address %q is relative and the environment has no base address: give one with --env", address)
	}
	b, err := url.Parse(base)
	if err != nil {
		return "", fmt.Errorf("base address %q: %w", base, err)
	}
	return b.ResolveReference(u).String(), nil
}

// retryLater says that a step may still come right if it waits.
type retryLater struct{ error }

// until repeats f until it gives no retryLater, or the step's wait is over.
func (r *runner) until(ctx context.Context, step Step, f func() error) error {
	wait := DefaultWait
	if r.script.Wait > 0 {
		wait = r.script.Wait
	}
	if step.Wait > 0 {
		wait = step.Wait
	}
	deadline := r.set.Clock().Add(wait)
	for pause := 15 * time.Millisecond; ; pause = min(pause*2, 120*time.Millisecond) {
		var err error
		if step.Frames != nil {
			err = r.reachIn(ctx, step)
		}
		if err == nil {
			err = f()
		}
		later, ok := errors.AsType[retryLater](err)
		if !ok {
			return err
		}
		if !r.set.Clock().Before(deadline) {
			if r.replace(ctx, step, later.error) {
				deadline = r.set.Clock().Add(settling)
				continue
			}
			return fmt.Errorf("%w (waited %s)", later.error, wait)
		}
		select {
		case <-ctx.Done():
			return later.error
		case <-time.After(pause):
		}
	}
}

// Retry marks an error of a Browser's method as one that may pass: the step
// tries again while it has time.
func Retry(err error) error { return retryLater{err} }

func (r *runner) find(l *Locator) (Find, error) {
	if in, ok := r.instead[l]; ok {
		return in, nil
	}
	value, err := l.Value.In(r.set.Scope)
	if err != nil {
		return Find{}, err
	}
	f := Find{By: l.By, Value: value, Attr: l.Attr}
	if l.By == "marked" {
		f.By, f.Attr = "attribute", cmp.Or(r.set.Marker, DefaultMarker)
	}
	if l.Name != nil {
		f.Named = true
		f.Name, err = l.Name.In(r.set.Scope)
	}
	return f, err
}

const describeAtMost = 10

// look asks for a locator's elements inside the step's within.
func (r *runner) look(ctx context.Context, step Step, l *Locator, reach bool) (Sight, error) {
	q := Query{Reach: reach, Matches: max(describeAtMost, l.Number), Portray: r.set.Aging.Remembers}
	var err error
	if q.Find, err = r.find(l); err != nil {
		return Sight{}, err
	}
	if step.Within != nil {
		w, err := r.find(step.Within)
		if err != nil {
			return Sight{}, err
		}
		q.Within = &w
	}
	s, err := r.browser.Look(ctx, q)
	if err == nil && step.Within != nil && s.Within != 1 {
		err = fmt.Errorf("within %s: %d visible elements match and 1 is wanted", step.Within, s.Within)
		if s.Within == 0 {
			err = &unfound{step.Within, err}
		}
		err = Retry(err)
	}
	if err == nil {
		r.notice(l, s)
	}
	return s, err
}

// one picks the element a locator means, or explains why there is none.
func one(l *Locator, s Sight) (Match, error) {
	var visible []Match
	for _, m := range s.Matches {
		if m.Visible {
			visible = append(visible, m)
		}
	}
	switch {
	case l.Number > 0 && len(visible) >= l.Number:
		return visible[l.Number-1], nil
	case l.Number > 0:
		return Match{}, Retry(fmt.Errorf("%s: only %d visible elements match%s", l, s.Visible, list(s)))
	case s.Total == 0:
		return Match{}, Retry(&unfound{l, fmt.Errorf("%s: no element matches", l)})
	case s.Visible == 0:
		return Match{}, Retry(fmt.Errorf("%s: %s, none visible%s", l, elements(s.Total), list(s)))
	case s.Visible > 1:
		return Match{}, Retry(fmt.Errorf("%s: %d visible elements match and 1 is wanted; say which with within, name or number%s", l,
			s.Visible, list(s)))
	}
	return visible[0], nil
}

func elements(n int) string {
	if n == 1 {
		return "1 element matches"
	}
	return strconv.Itoa(n) + " elements match"
}

// list describes matches, one a line.
func list(s Sight) string {
	var b strings.Builder
	for i, m := range s.Matches {
		fmt.Fprintf(&b, "\n  %d. %s", i+1, m)
	}
	if more := s.Total - len(s.Matches); more > 0 {
		fmt.Fprintf(&b, "\n  … and %d more", more)
	}
	return b.String()
}

func (m Match) String() string {
	s := "<" + m.Tag + ">"
	if m.Text != "" {
		s += " " + strconv.Quote(m.Text)
	}
	if !m.Visible {
		return s + " hidden: " + m.Hidden
	}
	return fmt.Sprintf("%s visible at %.0f,%.0f, %.0f×%.0f", s, m.X, m.Y, m.W, m.H)
}

// on does something with the step's element once it is visible, at rest, not
// covered and enabled.
func (r *runner) on(ctx context.Context, step Step, res *attempt.Step, w Watcher, do func(Match) error) error {
	l := step.Target
	hover := step.Action == Hover || step.Action == Scroll
	file := step.Action == Upload // file inputs are often hidden behind a styled label, and take a path all the same
	return r.until(ctx, step, func() error {
		s, err := r.look(ctx, step, l, true)
		if err != nil {
			return err
		}
		if file && s.Total == 1 {
			r.matched = s.Matches[0].String()
			return do(s.Matches[0])
		}
		m, err := one(l, s)
		switch {
		case err != nil:
			return err
		case m.Moving:
			return Retry(fmt.Errorf("%s: %s does not come to rest", l, m))
		case m.Covered != "" && step.Action != Scroll && !file:
			return Retry(fmt.Errorf("%s: %s is covered by %s", l, m, m.Covered))
		case m.Off && !hover:
			return Retry(fmt.Errorf("%s: %s is disabled", l, m))
		}
		r.matched = m.String()
		r.improve(ctx, l)
		r.watch(ctx, step, res, w) // as it is before the step has changed it
		return do(m)
	})
}

func (r *runner) keep(ctx context.Context, step Step) error {
	return r.until(ctx, step, func() (err error) {
		var v string
		switch step.Read {
		case "address":
			v, err = r.browser.Address(ctx)
		case "title":
			v, err = r.browser.Title(ctx)
		default:
			var s Sight
			var m Match
			if s, err = r.look(ctx, step, step.Target, false); err != nil {
				return err
			}
			if m, err = one(step.Target, s); err != nil {
				return err
			}
			v, err = r.browser.Read(ctx, m, step.Read, step.Attr)
		}
		if err == nil {
			r.set.Scope.Kept[step.Name] = v
		}
		return err
	})
}

func (r *runner) expect(ctx context.Context, step Step) error {
	e := step.Expect
	var want string
	if e.Want != nil {
		var err error
		if want, err = e.Want.In(r.set.Scope); err != nil {
			return err
		}
	}
	return r.until(ctx, step, func() error {
		switch e.Kind {
		case ExpectShown:
			s, err := r.look(ctx, step, e.Target, false)
			if err == nil && s.Visible == 0 {
				_, err = one(e.Target, s)
			}
			return err
		case ExpectGone:
			s, err := r.look(ctx, step, e.Target, false)
			if err == nil && s.Visible > 0 {
				err = Retry(fmt.Errorf("%s: expected to be gone, %d visible%s", e.Target, s.Visible, list(s)))
			}
			return err
		case ExpectNumber:
			s, err := r.look(ctx, step, e.Target, false)
			if err == nil && s.Visible != e.Number {
				err = Retry(fmt.Errorf("%s: expected %d visible, found %d%s", e.Target, e.Number, s.Visible, list(s)))
			}
			return err
		}
		if e.Kind == ExpectSaved {
			return r.saved(ctx, want)
		}
		what, got, err := r.observe(ctx, step)
		if err != nil {
			return err
		}
		return compare(what, e.How, want, got)
	})
}

// saved looks for a file that the browser has saved to its end.
func (r *runner) saved(ctx context.Context, want string) error {
	names, err := r.browser.Saved(ctx)
	if err != nil {
		return err
	}
	for _, name := range names {
		if ok, err := path.Match(want, name); err != nil {
			return fmt.Errorf("saved %q: %w", want, err)
		} else if ok {
			return nil
		}
	}
	if len(names) == 0 {
		return Retry(fmt.Errorf("saved: no file %q; the browser has saved none", want))
	}
	return Retry(fmt.Errorf("saved: no file %q; the browser has saved %q", want, names))
}

// observe reads what an expectation about a text looks at.
func (r *runner) observe(ctx context.Context, step Step) (what, got string, err error) {
	e := step.Expect
	what = string(e.Kind)
	part := map[ExpectKind]string{ExpectReads: "text", ExpectHolds: "value"}[e.Kind]
	switch {
	case e.Kind == ExpectTitle:
		got, err = r.browser.Title(ctx)
	case e.Kind == ExpectAddress:
		got, err = r.browser.Address(ctx)
		got = relative(r.set.Base, got)
	case e.Target == nil && step.Within == nil:
		what = "the page's text"
		got, err = r.browser.PageText(ctx)
	default:
		target := e.Target
		if target == nil {
			target, step.Within = step.Within, nil
		}
		what = part + " of " + target.String()
		var s Sight
		var m Match
		if s, err = r.look(ctx, step, target, false); err != nil {
			return
		}
		if m, err = one(target, s); err != nil {
			return
		}
		got, err = r.browser.Read(ctx, m, part, "")
	}
	return
}

// relative takes the base off an address, so that scripts can name paths.
func relative(base, address string) string {
	b, err := url.Parse(base)
	if err != nil || b.Host == "" {
		return address
	}
	if rest, ok := strings.CutPrefix(address, b.Scheme+"://"+b.Host); ok && strings.HasPrefix(rest, "/") {
		return rest
	}
	return address
}

func compare(what, how, want, got string) error {
	got = strings.Join(strings.Fields(got), " ")
	ok := false
	switch how {
	case "equals":
		ok = got == want
	case "contains":
		ok = strings.Contains(got, strings.Join(strings.Fields(want), " "))
	case "matches":
		re, err := regexp.Compile(want)
		if err != nil {
			return fmt.Errorf("matches: %w", err)
		}
		ok = re.MatchString(got)
	}
	if ok {
		return nil
	}
	verb := map[string]string{"equals": "is not", "contains": "does not contain", "matches": "does not match"}[how]
	return Retry(fmt.Errorf("%s %s %q; it is %s", what, verb, want, clip(got, 300)))
}

func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return strconv.Quote(string(r[:n])) + "…"
	}
	return strconv.Quote(s)
}
