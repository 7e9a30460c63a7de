package triage

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
)

// Noticed is one thing that was recorded of a session: an error of the page's console, a
// request that failed, or something that the page is not made of where the test passed.
type Noticed struct {
	Kind    NoticedKind
	Text    string
	Place   string // file and line of a script; "" where that is not known
	Attempt string
	Session string
	AtMS    float64 // on the session's clock
}

// NoticedKind is what kind of a thing it is.
type NoticedKind string

// The kinds.
const (
	InConsole NoticedKind = "console"
	InNetwork NoticedKind = "request"
	InTime    NoticedKind = "slow" // a request that takes much longer than where it passed
	InPage    NoticedKind = "page" // what the page was made of at the step, against where it passed
)

// Evidence is something that comes with a cause: it was recorded where a cell fails, and
// not where it passes.
type Evidence struct {
	Kind    NoticedKind `json:"kind" enum:"console,request,slow,page"`
	Text    string      `json:"text"`
	Place   string      `json:"place" description:"file and line of the script, if that is known"`
	In      int         `json:"in" description:"failing cells in which it was recorded"`
	Of      int         `json:"of" description:"failing cells whose recordings were looked at"`
	Passed  int         `json:"passed" description:"passing cells whose recordings were looked at: it is in none"`
	Attempt string      `json:"attempt" description:"in which it can be seen"`
	Session string      `json:"session"`
	AtMS    float64     `json:"at_ms" description:"since the session's recording began"`
}

// Telling lists what was recorded of failing cells and of no passing one, what most of
// them have first. Each list is of one cell.
func Telling(failing, passing [][]Noticed) []Evidence {
	elsewhere := map[string]bool{}
	for _, cell := range passing {
		for _, x := range cell {
			elsewhere[x.key()] = true
		}
	}
	byKey, order := map[string]*Evidence{}, []*Evidence{}
	for _, cell := range failing {
		here := map[string]bool{}
		for _, x := range cell {
			key := x.key()
			if elsewhere[key] || here[key] {
				continue
			}
			here[key] = true
			if byKey[key] == nil {
				byKey[key] = &Evidence{Kind: x.Kind, Text: x.Text, Place: x.Place, Of: len(failing), Passed: len(passing), Attempt: x.Attempt,
					Session: x.Session, AtMS: x.AtMS}
				order = append(order, byKey[key])
			}
			byKey[key].In++
		}
	}
	slices.SortStableFunc(order, func(a, b *Evidence) int {
		return cmp.Or(cmp.Compare(b.In, a.In), cmp.Compare(a.Kind, b.Kind))
	})
	out := []Evidence{}
	for _, e := range order {
		out = append(out, *e)
	}
	return out
}

// Timing is how long a request took.
type Timing struct {
	Noticed // its text is the request: method and path
	MS      float64
}

// What is slow: so many times, and so many milliseconds, longer than wherever it passed.
const (
	slowTimes = 2
	slowMS    = 500
)

// Slow lists the requests that took much longer in every failing cell than in any passing one,
// those that lose most first. Each list is of one cell; of a request that it made several
// times the longest counts.
func Slow(failing, passing [][]Timing) []Evidence {
	longest := func(cell []Timing) map[string]Timing {
		out := map[string]Timing{}
		for _, t := range cell {
			if old, seen := out[t.Text]; !seen || t.MS > old.MS {
				out[t.Text] = t
			}
		}
		return out
	}
	out := []Evidence{}
	if len(failing) == 0 || len(passing) == 0 {
		return out
	}
	lost := map[string]float64{}
	for text, first := range longest(failing[0]) {
		least, most, everywhere := first, 0.0, true
		for _, cell := range failing[1:] {
			t, there := longest(cell)[text]
			if everywhere = everywhere && there; t.MS < least.MS {
				least = t
			}
		}
		for _, cell := range passing {
			t, there := longest(cell)[text]
			everywhere, most = everywhere && there, max(most, t.MS)
		}
		if !everywhere || least.MS < slowTimes*most || least.MS-most < slowMS {
			continue
		}
		e := Evidence{Kind: InTime, Text: fmt.Sprintf("%s takes %.1f s and more, %.1f s at most where it passes", text, least.MS/1000, most/1000),
			In: len(failing), Of: len(failing), Passed: len(passing), Attempt: first.Attempt, Session: first.Session, AtMS: first.AtMS}
		lost[e.Text] = least.MS - most
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Evidence) int {
		return cmp.Or(cmp.Compare(lost[b.Text], lost[a.Text]), cmp.Compare(a.Text, b.Text))
	})
	return out
}

func (x Noticed) key() string { return string(x.Kind) + "\x00" + Sign(x.Text, x.Place).Key }

// lacking finds the name of an interface in what engines say of one that they have not.
var lacking = regexp.MustCompile(`^(?:Uncaught )?(?:\w*Error: )?(?:Can't find variable: ([\w$]+)|([\w$]+) is not defined|` +
	`(?:undefined is not (?:a function|an object) \((?:near|evaluating) '(?:[^']*\.)?([\w$]+)[^']*'\))|` +
	`(?:[\w$.]+\.)?([\w$]+) is not a (?:function|constructor))`)

// Explain adds what was noticed to a cause, and what it says of it: an error of a script
// of the page that comes in every failing cell is the product's.
func Explain(c *Cause, all []Evidence) {
	c.Evidence = all
	for _, e := range all {
		if e.In < e.Of || c.Kind == Lab || e.Kind == InPage || e.Kind == InTime {
			continue
		}
		at := ""
		if e.Place != "" {
			at = " (" + e.Place + ")"
		}
		if e.Kind == InNetwork {
			c.Kind, c.Reason = Product, "a request fails: "+e.Text
			c.Sentence += "; there " + e.Text
			return
		}
		c.Kind, c.Reason = Product, "a script of the page fails"
		c.Sentence += "; there a script of the page fails: " + e.Text + at
		if m := lacking.FindStringSubmatch(e.Text); m != nil && ofEngine(c) {
			c.Reason = "the page uses " + cmp.Or(m[1], m[2], m[3], m[4]) + ", which this browser has not"
		}
		return
	}
}

// ofEngine reports whether a cause comes with a browser.
func ofEngine(c *Cause) bool {
	return slices.ContainsFunc(slices.Concat(c.Pattern, c.Hint), func(v Values) bool {
		return v.Axis == "browser" || v.Axis == "engine" || v.Axis == "version"
	})
}
