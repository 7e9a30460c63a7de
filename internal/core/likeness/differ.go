package likeness

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
)

// Difference is one thing in which a page differs from another at the same step of a test.
type Difference struct {
	Kind    string  `json:"kind" enum:"only-here,only-there,hidden,shown,covered,uncovered,beyond,moved"`
	Element string  `json:"element" description:"in a few words"`
	Role    string  `json:"role" description:"of the accessibility tree; empty where it has none"`
	Text    string  `json:"text" description:"what is different, as a sentence"`
	Here    [4]int  `json:"here" description:"left, top, width and height on the page here, CSS pixels; zero where it is not"`
	There   [4]int  `json:"there"`
	About   bool    `json:"about" description:"the step is about this element, by the words of its locator"`
	weight  float64 // the more telling first
}

// maxDifferences bounds how many are told.
const maxDifferences = 60

// moved is from how many CSS pixels on an element has moved, on a page of the same width.
const moved = 12

// Differences compares what a page was made of here, most often where a test failed, with
// what it was made of there: elements that are in one of them only, that cannot be seen, are
// covered, reach beyond the page, or have moved. Elements are known by role and by what they
// are called and read. What the step was about, by its locator's words, comes first. Its cost
// is linear in the elements of both.
func Differences(here, there *Page, about string) []Difference {
	a, b := told(here), told(there)
	keys := make([]string, 0, len(a)+len(b))
	for k := range a {
		keys = append(keys, k)
	}
	for k := range b {
		if _, both := a[k]; !both {
			keys = append(keys, k)
		}
	}
	slices.Sort(keys)
	var out []Difference
	for _, k := range keys {
		x, y := a[k], b[k]
		if d, differs := differ(here, there, x, y); differs {
			p := cmp.Or(x.first, y.first)
			d.Element, d.Role = p.String(), p.Role
			if words := cmp.Or(p.Name, p.Label, p.Text); about != "" && words != "" && strings.Contains(about, words) {
				d.About = true
			} else if id := p.Attrs["id"]; id != "" && strings.Contains(about, id) {
				d.About = true
			}
			if d.About {
				d.weight += 10
			}
			if p.Role != "" {
				d.weight++
			}
			out = append(out, d)
		}
	}
	slices.SortStableFunc(out, func(x, y Difference) int { return cmp.Compare(y.weight, x.weight) })
	return out[:min(len(out), maxDifferences)]
}

// group is the elements of a page that are told alike.
type group struct {
	first          *Portrait // one that can be seen, if there is one
	seen, unseen   int
	covered, wider *Portrait
}

// holders are roles of what holds other elements.
var holders = []string{"article", "banner", "complementary", "contentinfo", "form", "group", "list", "listbox", "listitem", "main",
	"navigation", "region", "row", "rowgroup", "search", "table"}

// told are the elements by what a person or a screen reader is told of them; what says
// nothing by itself is left out.
func told(p *Page) map[string]group {
	out := map[string]group{}
	for i := range p.Elements {
		e := &p.Elements[i]
		words := cmp.Or(e.Name, e.Label, e.Text)
		if slices.Contains(holders, e.Role) {
			words = e.Name // what it holds is told of itself
		}
		if e.Role == "" && (words == "" || e.Tag == "div" || e.Tag == "span") || words == "" && !slices.Contains(rare, e.Role) {
			continue
		}
		k := e.Role + "\x00" + words
		if e.Role == "" {
			k = "<" + e.Tag + k
		}
		g := out[k]
		if g.first == nil || g.first.Hidden != "" && e.Hidden == "" {
			g.first = e
		}
		if e.Hidden != "" {
			g.unseen++
		} else {
			g.seen++
			if e.Cover != "" {
				g.covered = e
			}
			if p.Width > 0 && e.Place[0]+e.Place[2] > float64(p.Width)+1 && e.Place[0] >= 0 && e.Place[2] <= 4*float64(p.Width) {
				g.wider = e
			}
		}
		out[k] = g
	}
	return out
}

func differ(here, there *Page, x, y group) (d Difference, differs bool) {
	if x.first != nil {
		d.Here = rounded(x.first.Place)
	}
	if y.first != nil {
		d.There = rounded(y.first.Place)
	}
	say := func(kind string, weight float64, format string, args ...any) (Difference, bool) {
		d.Kind, d.weight, d.Text = kind, weight, fmt.Sprintf(format, args...)
		return d, true
	}
	switch {
	case x.first == nil && y.seen > 0:
		return say("only-there", 5, "is on the page there only")
	case y.first == nil && x.seen > 0:
		return say("only-here", 5, "is on the page here only")
	case x.first == nil || y.first == nil:
		return d, false // seen in neither
	case x.seen == 0 && y.seen > 0:
		return say("hidden", 6, "cannot be seen here: %s", x.first.Hidden)
	case y.seen == 0 && x.seen > 0:
		return say("shown", 4, "is seen here; there it cannot be: %s", y.first.Hidden)
	case x.covered != nil && y.covered == nil:
		return say("covered", 6, "is covered here by %s", x.covered.Cover)
	case y.covered != nil && x.covered == nil:
		return say("uncovered", 3, "is covered there by %s", y.covered.Cover)
	case x.wider != nil && y.wider == nil:
		return say("beyond", 4, "reaches %.0f pixels beyond the right edge here", x.wider.Place[0]+x.wider.Place[2]-float64(here.Width))
	case x.seen != y.seen:
		return say(map[bool]string{true: "only-here", false: "only-there"}[x.seen > y.seen], 3, "is seen %s here and %s there", times(x.seen),
			times(y.seen))
	case here.Width == there.Width && x.seen == 1 && x.unseen == 0 && y.unseen == 0:
		dx, dy := x.first.Place[0]-y.first.Place[0], x.first.Place[1]-y.first.Place[1]
		if math.Abs(dx) >= moved || math.Abs(dy) >= moved {
			return say("moved", 1, "is %s from where it is there", way(dx, dy))
		}
	}
	return d, false
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// way is how far something is from a place, in words.
func way(dx, dy float64) string {
	var parts []string
	for _, x := range []struct {
		d            float64
		before, then string
	}{{dy, "higher", "lower"}, {dx, "to the left", "to the right"}} {
		if n := math.Round(math.Abs(x.d)); n > 0 {
			parts = append(parts, fmt.Sprintf("%.0f pixels %s", n, map[bool]string{true: x.before, false: x.then}[x.d < 0]))
		}
	}
	return strings.Join(parts, " and ")
}

func rounded(p [4]float64) (out [4]int) {
	for i, v := range p {
		out[i] = int(math.Round(v))
	}
	return out
}
