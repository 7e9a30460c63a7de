package triage

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// titles makes one title of messages of one kind: what differs is a gap.
type titles struct {
	parts parts
	seen  int
}

// maxCompared bounds how many messages a title is made of.
const maxCompared = 20

func (t *titles) add(message string) {
	if t.seen++; t.seen > maxCompared {
		return
	}
	lines := linesOf(message)
	if len(lines) == 0 {
		return
	}
	head, _ := split(lines)
	ps := scan(head)
	if t.parts == nil {
		t.parts = ps
		return
	}
	if len(ps) != len(t.parts) {
		for i := range t.parts { // lists of different lengths: what changes is a gap
			if t.parts[i].kind != 0 {
				t.parts[i].text, t.parts[i].kind = Gap, 'q'
			}
		}
		return
	}
	for i := range ps {
		if ps[i].text != t.parts[i].text && t.parts[i].kind != 0 {
			t.parts[i].text = Gap
		}
	}
}

func (t *titles) text() string {
	if t.parts == nil {
		return "no message"
	}
	return t.parts.title()
}

// counted says in how many cells with a pattern it fails, and in how many others. What a
// test does behind another one is known from the runs before as well.
func (f *finding) counted(c Cause, pattern []Values) string {
	if f.after >= 0 && f.in[1]+f.out[1] > c.Of+c.ElseOf {
		return fmt.Sprintf("fails in %d of %d %s, in %d of %d others, with the runs before", f.in[0], f.in[1], with(pattern), f.out[0], f.out[1])
	}
	return fmt.Sprintf("fails in %d of %d %s, in %d of %d others", c.Failed, c.Of, with(pattern), c.Else, c.ElseOf)
}

// sentence says a cause.
func (s *search) sentence(f *finding, c Cause) string {
	what := c.Title
	if f.several {
		what = "failures that say different things"
	}
	where := ""
	if len(c.Tests) == 1 {
		where = fmt.Sprintf(" in %q", c.Tests[0])
	} else if len(c.Tests) > 1 {
		where = fmt.Sprintf(" in %d tests", len(c.Tests))
	}
	how := ""
	switch {
	case len(c.Pattern) == 1 && c.Pattern[0].Axis == TestAxis && len(c.Tests) == 1:
		how = fmt.Sprintf("fails in %d of %d combinations%s", c.Failed, c.Of, whatever(c))
	case len(c.Pattern) == 1 && c.Pattern[0].Axis == TestAxis:
		how = fmt.Sprintf("fails in %d of %d cells of these tests%s", c.Failed, c.Of, whatever(c))
	case len(c.Pattern) > 0:
		how = f.counted(c, c.Pattern)
	case len(c.Hint) > 0:
		how = f.counted(c, c.Hint) + "; too few cells to be sure"
	case c.Failed == c.Of && c.Failed > 1:
		how = fmt.Sprintf("fails in all %d cells", c.Failed)
	case c.Failed == 1:
		how = "fails in one cell, " + c.Panes[0]
	default:
		how = fmt.Sprintf("fails in %d of %d cells, with no pattern", c.Failed, c.Of)
	}
	if c.Flaky == c.Failed {
		how += "; it passed when run again"
	} else if c.Flaky > 0 {
		how += fmt.Sprintf("; %d passed when run again", c.Flaky)
	}
	return strings.TrimSuffix(what, ".") + where + ": " + how
}

// whatever says that the combination does not matter, where nearly all of them fail.
func whatever(c Cause) string {
	if 5*c.Failed < 4*c.Of {
		return ", with no pattern among them"
	}
	return ", whatever the combination"
}

// with says a pattern within a sentence.
func with(pattern []Values) string {
	var out []string
	on := "with "
	for _, v := range pattern {
		if v.Axis == AgentAxis {
			on = "on "
			out = append(out, "agent "+strings.Join(v.Values, ", "))
			continue
		}
		if v.Axis == AfterAxis {
			on = "after "
			out = append(out, fmt.Sprintf("%q in the same slice", v.Values[0]))
			continue
		}
		out = append(out, v.String())
	}
	return on + strings.Join(out, " and ")
}

// Chance writes a probability as people read it.
func Chance(p float64) string {
	switch {
	case p < 1e-6:
		return "< 0.000001"
	case p < 0.001:
		return "< " + strconv.FormatFloat(math.Pow(10, math.Ceil(math.Log10(p))), 'f', -1, 64)
	}
	return strconv.FormatFloat(p, 'g', 2, 64)
}
