// Package triage says what the failures of a run come from: it groups them by what they
// say, and finds what the combinations that fail have in common which those that pass
// have not. It knows nothing but verdicts, messages and combinations.
package triage

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"parallelpane/internal/core/verdict"
)

// Alpha is the probability with which a pattern may be claimed where there is none, over
// all that is asked of a run.
const Alpha = 0.05

// Pane is one combination of a run.
type Pane struct {
	Label  string
	Values map[string]string // by axis
}

// Test is one test of a run.
type Test struct {
	Name string
	File string
}

// Cell is one test in one pane.
type Cell struct {
	Verdict verdict.Verdict
	Message string
	Agent   string
	Site    bool // a failure is known to be the product's or the test's own: see Kind
}

// Run is what is known of one run. Cells are by pane, then by test; those that are missing
// count as not run.
type Run struct {
	Panes []Pane
	Tests []Test
	Cells [][]Cell
	Past  []Before // the same tests in the same panes, in runs before
	// After are the tests that ran before a cell on the same slot in the same lease, by
	// their places; of cells of which that is known.
	After map[At][]int
}

// Before is a cell of an earlier run.
type Before struct {
	Pane, Test int
	Verdict    verdict.Verdict
	Message    string
	After      []int // as in Run; nil where it is not known
}

// At is a cell by its place in the run.
type At struct {
	Pane int `json:"pane"`
	Test int `json:"test"`
}

// Cause is a group of failures of one kind, and what they have in common.
type Cause struct {
	ID string `json:"id" description:"of the cause, within its run"`
	// Signature is what runs have in common.
	Signature string     `json:"signature" description:"of what the failures say: the same for failures of this kind in every run"`
	Kind      Kind       `json:"kind" enum:"product,test,lab" description:"whose fault it probably is"`
	Reason    string     `json:"reason" description:"why that kind"`
	Title     string     `json:"title" description:"what the failures say, … where they differ"`
	Sentence  string     `json:"sentence"`
	Pattern   []Values   `json:"pattern" description:"what the failing cells have in common; empty when no pattern is certain enough"`
	Hint      []Values   `json:"hint" description:"what they have in common though it may be chance; empty with a pattern"`
	P         float64    `json:"p" description:"probability of so clear a pattern by chance, corrected for all that was asked; 1 without one"`
	Failed    int        `json:"failed" description:"failing cells of the cause"`
	Of        int        `json:"of" description:"cells that ran where the pattern holds, in the tests of the cause"`
	Else      int        `json:"else" description:"cells of these tests that fail like this where the pattern does not hold"`
	ElseOf    int        `json:"else_of" description:"cells of these tests that ran where the pattern does not hold"`
	Flaky     int        `json:"flaky" description:"of the failing cells, those that passed when run again"`
	Tests     []string   `json:"tests"`
	Panes     []string   `json:"panes" description:"labels"`
	Cells     []At       `json:"cells" description:"by pane and test, as in the run"`
	Message   string     `json:"message" description:"of one of them, whole"`
	Evidence  []Evidence `json:"evidence" description:"what was recorded of failing cells and of no passing one; of the first causes only"`

	weight float64
}

// Causes says what a run's failures come from, the weightiest first. Every cell that
// failed, was flaky or a lab fault is in exactly one of them. The time it takes grows with
// the failing cells and with the pairs of values of the panes: 5,000 failures of 500 tests
// in 60 panes take some 100 ms.
func Causes(run Run) []Cause {
	s := newSearch(run)
	if len(s.groups) == 0 {
		return []Cause{}
	}
	var found []*finding
	// What fails wholesale, whatever the messages are, is one cause.
	if f := s.wholesale(); f != nil {
		found = append(found, f)
	}
	var rest []*group
	for _, g := range s.groups {
		for range 8 {
			f := s.best(g)
			if g.chance = f; f == nil || !f.sure {
				break
			}
			found = append(found, f)
			s.take(g, f)
		}
		if g.left() > 0 {
			rest = append(rest, g)
		}
	}
	// Failures that say different things may still have a pattern together.
	for range 4 {
		f := s.together(rest)
		if f == nil {
			break
		}
		found = append(found, f)
	}
	for _, g := range rest {
		if g.left() > 0 {
			found = append(found, s.remainder(g))
		}
	}
	out := make([]Cause, len(found))
	for _, f := range found {
		for _, at := range f.cells {
			s.owner[at] = f
		}
	}
	for i, f := range found {
		out[i] = s.cause(f)
	}
	distinct(out)
	slices.SortStableFunc(out, func(a, b Cause) int {
		return cmp.Or(cmp.Compare(b.weight, a.weight), cmp.Compare(b.Failed, a.Failed), cmp.Compare(a.ID, b.ID))
	})
	return out
}

// distinct gives causes their ids: those that say the same are told apart by their
// patterns.
func distinct(causes []Cause) {
	many := map[string]int{}
	for i := range causes {
		c := &causes[i]
		if many[c.Signature]++; many[c.Signature] > 1 {
			c.ID = c.Signature + "." + strconv.Itoa(many[c.Signature])
		} else {
			c.ID = c.Signature
		}
	}
}

// cause puts a finding into words.
func (s *search) cause(f *finding) Cause {
	first := f.groups[0]
	c := Cause{Signature: first.sign.Hash(), Title: first.titles.text(), Evidence: []Evidence{}, Pattern: []Values{}, Hint: []Values{}, P: 1,
		Tests: []string{}, Panes: []string{}}
	if first.lab {
		c.Signature = "lab-" + c.Signature
	}
	if f.several {
		words := make([]string, 0, len(f.parts))
		for _, p := range f.parts {
			words = append(words, p.String())
		}
		c.Signature = Signature{Key: "several\x00" + strings.Join(words, "\x00")}.Hash()
	}
	if f.sure {
		c.Pattern, c.P = append(c.Pattern, f.parts...), math.Exp(min(0, f.lnP))
		if f.named {
			v := Values{Axis: TestAxis}
			for _, t := range f.tests {
				v.Values = append(v.Values, s.run.Tests[t].Name)
			}
			c.Pattern = append(c.Pattern, v)
		}
	} else if len(f.hint) > 0 {
		c.Hint, c.P = f.hint, math.Exp(f.lnP)
	}
	slices.SortFunc(f.cells, func(a, b At) int { return cmp.Or(cmp.Compare(a.Pane, b.Pane), cmp.Compare(a.Test, b.Test)) })
	c.Cells = f.cells
	tests, panes := map[int]bool{}, map[int]bool{}
	for _, at := range f.cells {
		cell := s.run.Cells[at.Pane][at.Test]
		if c.Message == "" {
			c.Message = cell.Message
		}
		if cell.Verdict == verdict.Flaky {
			c.Flaky++
		}
		if !panes[at.Pane] {
			panes[at.Pane] = true
			c.Panes = append(c.Panes, s.run.Panes[at.Pane].Label)
		}
		tests[at.Test] = true
	}
	alike := map[At]bool{}
	for _, at := range f.cells {
		alike[at] = true
	}
	for t := range s.run.Tests {
		if !tests[t] {
			continue
		}
		c.Tests = append(c.Tests, s.run.Tests[t].Name)
		for p := range s.panes {
			at := At{p, t}
			switch in := s.holds(f, at); {
			case alike[at]:
				c.Failed++
				c.Of++
			case s.now[t][p] > 0 && in:
				c.Of++
			case s.now[t][p] > 0:
				c.ElseOf++
			case !in && slices.Contains(f.groups, s.groupOf[at]) && len(s.owner[at].parts) == 0: // the rest of this kind
				c.Else++
				c.ElseOf++
			}
		}
	}
	rate := float64(c.Failed) / float64(max(1, c.Of))
	c.weight = float64(c.Failed) * rate * rate // what always fails there weighs more than what fails now and then everywhere
	c.Kind, c.Reason = s.kind(f, c)
	c.Sentence = s.sentence(f, c)
	return c
}
