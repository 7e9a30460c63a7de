package script

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
)

// Aging says what is done about locators that no longer find what they found when the
// test passed.
type Aging struct {
	Remembers bool // say what the locators of a test that passes have matched
	// Recall gives what a locator matched when the test last passed; nil, or nothing, leaves
	// a locator that finds nothing to fail.
	Recall func(ctx context.Context, place string) (*attempt.Seen, error)
	Accept bool // go on with an element that is certainly the remembered one, and say so
}

// settling is how long a step has for an element that stands in for the one that its
// locator no longer finds.
const settling = 2 * time.Second

// mostBetter is for how many brittle locators of a test a better one is looked for.
const mostBetter = 5

// unfound is the error of a locator that finds nothing.
type unfound struct {
	l *Locator
	error
}

func (u *unfound) Unwrap() error { return u.error }

// memory is what a runner knows of its locators.
type memory struct {
	keys    []stepKeys
	at      int               // the step
	instead map[*Locator]Find // what is looked for in place of a locator, in this step
	asked   map[*Locator]bool // for which something was looked for, in this step
	noticed []attempt.Seen    // in this step
	seen    []attempt.Seen    // in the steps before
	better  map[string]string // locators that would last longer, by the places of brittle ones
	aged    *attempt.Aged     // of this step
}

// stepKeys are the places of a step's locators: what they are called in what is remembered
// of their test. The same locator twice is told apart by its number among its like.
type stepKeys struct{ target, within string }

func keysOf(s *Script) []stepKeys {
	n := map[string]int{}
	key := func(l *Locator, in string) string {
		if l == nil {
			return ""
		}
		k := l.String() + in
		if n[k]++; n[k] > 1 {
			k += " #" + strconv.Itoa(n[k])
		}
		return k
	}
	out := make([]stepKeys, len(s.Steps))
	for i, st := range s.Steps {
		in := ""
		if st.Within != nil {
			in = " within " + st.Within.String()
		}
		out[i] = stepKeys{key(st.target(), in), key(st.Within, " as surroundings")}
	}
	return out
}

// target is the one element that a step or its expectation is about; nil where there is
// none, or where it is expected not to be there, or to be there several times.
func (s *Step) target() *Locator {
	if s.Expect == nil {
		return s.Target
	}
	if s.Expect.Kind == ExpectGone || s.Expect.Kind == ExpectNumber {
		return nil
	}
	return s.Expect.Target
}

func (m *memory) begin(step int) {
	m.at, m.instead, m.asked, m.noticed, m.aged = step, nil, nil, nil, nil
}

// place is what a locator of the step is called in what is remembered; "" for one of which
// nothing is.
func (r *runner) place(l *Locator) string {
	step := &r.script.Steps[r.at]
	switch l {
	case nil:
		return ""
	case step.target():
		return r.keys[r.at].target
	case step.Within:
		return r.keys[r.at].within
	}
	return ""
}

// notice takes down what the locators of a step have matched: the last look counts.
func (r *runner) notice(l *Locator, s Sight) {
	step := r.script.Steps[r.at]
	if !r.set.Aging.Remembers || len(step.Frames) > 0 {
		return
	}
	r.noticed = nil
	note := func(l *Locator, p *likeness.Portrait) {
		_, another := r.instead[l]
		if place := r.place(l); p != nil && place != "" && !another {
			r.noticed = append(r.noticed, attempt.Seen{Place: place, At: l.Position, Portrait: *p})
		}
	}
	note(step.Within, s.Inside)
	if m, err := one(l, s); err == nil {
		note(l, m.Portrait)
	}
}

// improve looks for a locator that would last longer than one that is brittle. It is asked
// while the page is as the step met it.
func (r *runner) improve(ctx context.Context, l *Locator) {
	place := r.place(l)
	if !r.set.Aging.Remembers || place == "" || len(r.better) >= mostBetter || r.better[place] != "" {
		return
	}
	find, err := r.find(l)
	if err != nil || likeness.Brittle(by(find), find.Value) == "" {
		return
	}
	page, err := r.browser.Survey(ctx, Query{Find: find}, false)
	if err != nil || len(page.Found) != 1 {
		return
	}
	if better, ok := likeness.Propose(page.Elements, page.Found[0], r.marker()); ok {
		if r.better == nil {
			r.better = map[string]string{}
		}
		r.better[place] = better.YAML()
	}
}

// keepSeen remembers what a step that passed has matched.
func (r *runner) keepSeen(ctx context.Context, step Step) {
	if l := step.target(); l != nil && (step.Action == Expect || step.Action == Keep) && len(r.noticed) > 0 {
		r.improve(ctx, l)
	}
	for _, s := range r.noticed {
		s.Better = r.better[s.Place]
		r.seen = append(r.seen, s)
	}
}

// by is the way of a locator, or the attribute that it goes by.
func by(f Find) string {
	if f.By == "attribute" {
		return f.Attr
	}
	return f.By
}

func (r *runner) marker() string {
	if r.set.Marker == "" {
		return DefaultMarker
	}
	return r.set.Marker
}

// replace looks on the page for what a locator that finds nothing matched when the test
// passed. It reports whether the step may go on with that.
func (r *runner) replace(ctx context.Context, step Step, err error) bool {
	u, ok := errors.AsType[*unfound](err)
	if !ok || r.set.Aging.Recall == nil || r.asked[u.l] || len(step.Frames) > 0 {
		return false
	}
	place := r.place(u.l)
	if place == "" {
		return false
	}
	if r.asked == nil {
		r.asked, r.instead = map[*Locator]bool{}, map[*Locator]Find{}
	}
	r.asked[u.l] = true
	was, err := r.set.Aging.Recall(ctx, place)
	if err != nil || was == nil {
		return false
	}
	q := Query{}
	if step.Within != nil && u.l != step.Within {
		within, err := r.find(step.Within)
		if err != nil {
			return false
		}
		q.Within = &within
	}
	page, err := r.browser.Survey(ctx, q, false)
	if err != nil {
		return false
	}
	ranked := likeness.Rank(&was.Portrait, page.Elements, 2)
	if len(ranked) == 0 || ranked[0].Sure < likeness.Worth {
		return false
	}
	first := ranked[0]
	aged := &attempt.Aged{Was: u.l.String(), Place: place, At: u.l.Position, Element: page.Elements[first.Index].String(),
		Sure: first.Sure, Same: first.Same, Other: first.Other}
	if len(ranked) > 1 {
		aged.Next = ranked[1].Sure
	}
	if l, ok := likeness.Propose(page.Elements, first.Index, r.marker()); ok {
		aged.Now = l.YAML()
	}
	r.aged = aged
	if !r.set.Aging.Accept || !likeness.Certain(&was.Portrait, page.Elements, ranked) {
		return false
	}
	r.instead[u.l] = Find{By: "surveyed", Value: strconv.Itoa(first.Index)}
	aged.Accepted = true
	return true
}

// accepted says of a test that passed which of its locators no longer find anything.
func accepted(steps []attempt.Step) string {
	var lines []string
	for _, s := range steps {
		if s.Aged != nil && s.Aged.Accepted {
			lines = append(lines, fmt.Sprintf("step %d went on without its locator: %s finds nothing, and %s is certainly what it found before",
				s.Index+1, s.Aged.Was, s.Aged.Element))
		}
	}
	return strings.Join(lines, "\n")
}

// Brittle is a locator that will break before the page changes for those who use it.
type Brittle struct {
	*Locator
	Place string // in its test, by what it says
	Why   string
}

// Brittle lists a script's brittle locators in order.
func (s *Script) Brittle() []Brittle {
	var out []Brittle
	keys := keysOf(s)
	for i := range s.Steps {
		st := &s.Steps[i]
		for _, x := range []struct {
			l     *Locator
			place string
		}{{st.target(), keys[i].target}, {st.Within, keys[i].within}} {
			if x.l == nil {
				continue
			}
			way := x.l.By
			if way == "attribute" {
				way = x.l.Attr
			}
			if why := likeness.Brittle(way, x.l.Value.Source); why != "" {
				out = append(out, Brittle{x.l, x.place, why})
			}
		}
	}
	return out
}
