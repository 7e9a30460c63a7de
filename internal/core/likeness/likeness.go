// Package likeness tells which element of a page is the one that is remembered, though
// what it was found by has changed, how sure that is, and what finds it now.
package likeness

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Portrait is what is remembered of an element: what a person or a program could know it
// by again. Texts are cut by whoever takes it.
type Portrait struct {
	Tag    string            `json:"tag"`
	Type   string            `json:"type,omitempty"` // of an input
	Role   string            `json:"role,omitempty"`
	Name   string            `json:"name,omitempty"`  // accessible
	Label  string            `json:"label,omitempty"` // of a control
	Text   string            `json:"text,omitempty"`  // "" of what holds many elements
	Attrs  map[string]string `json:"attrs,omitempty"`
	Path   []string          `json:"path,omitempty"`    // tags from the parent up
	Nth    int               `json:"nth"`               // among its parent's elements of its tag, from 1
	Head   string            `json:"heading,omitempty"` // the heading before it
	Before string            `json:"before,omitempty"`  // the text before it
	After  string            `json:"after,omitempty"`   // the text after it
	Place  [4]float64        `json:"place"`             // left, top, width and height on the page, in CSS pixels
	Hidden string            `json:"hidden,omitempty"`  // why it cannot be seen
	Cover  string            `json:"covered,omitempty"` // what lies on top of its middle
}

// Candidate is an element that may be the remembered one.
type Candidate struct {
	Index int     // among those that were looked at
	Sure  float64 // the probability that it is, from 0 to 1
	Same  []string
	Other []string // what is not as it was
}

// Of what is measured, how it compares.
type level int

const (
	apart level = iota
	alike
	equal
	levels
)

// feature is one thing by which elements are compared. same holds how often it is apart,
// alike or equal of an element that was changed by somebody who works on the page: counts
// of plausible changes, not of measured ones, for only their order of size matters. How
// often that is so of other elements is counted on the page itself, and is never taken to
// be less than rare: what stands in the place of something, or has its class, is often
// another thing.
type feature struct {
	called string
	rare   float64
	same   [levels]float64
	has    func(p *Portrait) bool
	of     func(was, is *Portrait) level
}

var features = []feature{
	{"kind", 0.01, [levels]float64{0.01, 0.05, 0.94}, func(*Portrait) bool { return true }, func(a, b *Portrait) level {
		switch {
		case a.Tag == b.Tag && a.Role == b.Role && a.Type == b.Type:
			return equal
		case a.Role != "" && a.Role == b.Role || a.Tag == b.Tag:
			return alike
		}
		return apart
	}},
	{"words", 0.003, [levels]float64{0.10, 0.12, 0.78}, func(p *Portrait) bool { return p.Name+p.Label+p.Text != "" },
		func(a, b *Portrait) level {
			return max(texts(a.Name, b.Name), texts(a.Label, b.Label), texts(a.Text, b.Text))
		}},
	{"id", 0.003, [levels]float64{0.25, 0.05, 0.70}, func(p *Portrait) bool { return p.Attrs["id"] != "" }, func(a, b *Portrait) level {
		return texts(a.Attrs["id"], b.Attrs["id"])
	}},
	{"attributes", 0.005, [levels]float64{0.12, 0.18, 0.70}, func(p *Portrait) bool { return telling(p) > 0 }, attributes},
	{"class", 0.05, [levels]float64{0.20, 0.15, 0.65}, func(p *Portrait) bool { return p.Attrs["class"] != "" }, func(a, b *Portrait) level {
		return shared(strings.Fields(a.Attrs["class"]), strings.Fields(b.Attrs["class"]))
	}},
	{"surroundings", 0.03, [levels]float64{0.15, 0.20, 0.65}, func(p *Portrait) bool { return p.Before+p.After+p.Head != "" }, around},
	{"ancestors", 0.1, [levels]float64{0.10, 0.25, 0.65}, func(p *Portrait) bool { return len(p.Path) > 0 }, func(a, b *Portrait) level {
		switch {
		case slices.Equal(a.Path, b.Path):
			return equal
		case common(a.Path, b.Path) >= min(len(a.Path), len(b.Path))-1:
			return alike
		}
		return apart
	}},
	{"place", 0.08, [levels]float64{0.20, 0.20, 0.60}, func(p *Portrait) bool { return p.Place != [4]float64{} }, func(a, b *Portrait) level {
		d := math.Hypot(a.Place[0]-b.Place[0], a.Place[1]-b.Place[1]) + math.Abs(a.Place[2]-b.Place[2]) + math.Abs(a.Place[3]-b.Place[3])
		switch {
		case d <= 8:
			return equal
		case d <= 120:
			return alike
		}
		return apart
	}},
}

// gone is how often an element that is not found by its locator is not there any more.
const gone = 0.3

// Rank says which elements of a page may be a remembered one, the likeliest first, at
// most n of them. Hidden elements are none. Each feature's level is weighed by how often
// it occurs of one and the same element and how often of the page's others, and what
// is left over is the probability that it is gone. Its cost is that of elements ×
// features.
func Rank(was *Portrait, page []Portrait, n int) []Candidate {
	use := make([]feature, 0, len(features))
	for _, f := range features {
		if f.has(was) {
			use = append(use, f)
		}
	}
	at := make([][]level, len(page))
	count := make([][levels]float64, len(use))
	total := 0.0
	for i := range page {
		if page[i].Hidden != "" {
			continue
		}
		total++
		at[i] = make([]level, len(use))
		for j, f := range use {
			at[i][j] = f.of(was, &page[i])
			count[j][at[i][j]]++
		}
	}
	var all []Candidate
	most := 0.0
	odds := map[int]float64{}
	for i := range page {
		if at[i] == nil {
			continue
		}
		sum := math.Log((1 - gone) / total / gone)
		for j, f := range use {
			l := at[i][j]
			// Of the page's other elements, without this one. Half of one is added to each
			// level: what was not seen on one page is not impossible.
			others := (count[j][l] - 1 + 0.5) / (total - 1 + 0.5*float64(levels))
			sum += math.Log(f.same[l] / max(others, f.rare))
		}
		odds[i] = sum
		most = max(most, sum)
		all = append(all, Candidate{Index: i})
	}
	left := math.Exp(-most)
	for _, o := range odds {
		left += math.Exp(o - most)
	}
	for k := range all {
		all[k].Sure = math.Exp(odds[all[k].Index]-most) / left
	}
	slices.SortStableFunc(all, func(a, b Candidate) int { return cmp.Compare(odds[b.Index], odds[a.Index]) })
	all = all[:min(n, len(all))]
	for k := range all {
		for j, f := range use {
			if at[all[k].Index][j] == equal {
				all[k].Same = append(all[k].Same, f.called)
			} else {
				all[k].Other = append(all[k].Other, f.called)
			}
		}
	}
	return all
}

// Enough is the probability from which a candidate may stand for what is remembered.
const Enough = 0.995

// Certain reports whether the first of some candidates may be taken for the remembered
// element without a person's word: it is next to sure, it reads as it did, or is called
// so by an attribute that authors give, and something besides tells the same.
func Certain(was *Portrait, page []Portrait, ranked []Candidate) bool {
	if len(ranked) == 0 || ranked[0].Sure < Enough {
		return false
	}
	first := ranked[0]
	for i := range page { // what is still called as it was is the element, whatever has become of it
		if id := was.Attrs["id"]; id != "" && i != first.Index && page[i].Attrs["id"] == id {
			return false
		}
	}
	if !slices.Contains(first.Same, "kind") || len(first.Same) < 3 {
		return false
	}
	if slices.Contains(first.Same, "words") || slices.Contains(first.Same, "id") && was.Name+was.Label+was.Text == "" {
		return true
	}
	// What it reads may change while it stays what it is: then an attribute that authors give
	// has to say that it is, of this element alone.
	if !slices.Contains(first.Same, "attributes") || len(first.Same) < 4 {
		return false
	}
	for i := range page {
		if i != first.Index && page[i].Hidden == "" && attributes(was, &page[i]) == equal {
			return false
		}
	}
	return true
}

// texts compares two texts: alike are those that share most of their words.
func texts(a, b string) level {
	switch {
	case a == "" || b == "":
		return apart
	case a == b:
		return equal
	case like(a, b) >= 0.6:
		return alike
	}
	return apart
}

// like is how much of two texts' pairs of neighbouring characters is shared, from 0 to 1
// (Dice's coefficient of bigrams).
func like(a, b string) float64 {
	x, y := pairs(a), pairs(b)
	if len(x) == 0 || len(y) == 0 {
		return 0
	}
	n, in, of := 0, 0, 0
	for k, c := range x {
		n += min(c, y[k])
		in += c
	}
	for _, c := range y {
		of += c
	}
	return 2 * float64(n) / float64(in+of)
}

func pairs(s string) map[[2]rune]int {
	out := map[[2]rune]int{}
	var last rune = ' '
	for _, r := range strings.ToLower(s) {
		out[[2]rune{last, r}]++
		last = r
	}
	return out
}

// shared compares two sets of words.
func shared(a, b []string) level {
	if len(a) == 0 || len(b) == 0 {
		return apart
	}
	n := 0
	for _, w := range a {
		if slices.Contains(b, w) {
			n++
		}
	}
	switch {
	case n == len(a) && n == len(b):
		return equal
	case 2*n >= max(len(a), len(b)):
		return alike
	}
	return apart
}

// tells says whether an attribute is one by which authors tell elements apart.
func tells(name string) bool {
	switch name {
	case "name", "href", "placeholder", "for", "alt", "title", "src", "action", "value", "aria-controls", "headers", "autocomplete":
		return true
	}
	return strings.HasPrefix(name, "data-")
}

func telling(p *Portrait) (n int) {
	for name := range p.Attrs {
		if tells(name) {
			n++
		}
	}
	return n
}

func attributes(a, b *Portrait) level {
	same, all := 0, 0
	for name, v := range a.Attrs {
		if tells(name) {
			if all++; b.Attrs[name] == v {
				same++
			}
		}
	}
	switch {
	case same == all:
		return equal
	case 2*same >= all:
		return alike
	}
	return apart
}

func around(a, b *Portrait) level {
	same, all := 0, 0
	for _, pair := range [][2]string{{a.Before, b.Before}, {a.After, b.After}, {a.Head, b.Head}} {
		if pair[0] != "" {
			if all++; pair[0] == pair[1] {
				same++
			}
		}
	}
	switch {
	case same == all:
		return equal
	case 2*same >= all:
		return alike
	}
	return apart
}

// common is how many elements two paths have in common, in their order (the longest
// common subsequence). Paths are short.
func common(a, b []string) int {
	row := make([]int, len(b)+1)
	for _, x := range a {
		last := 0
		for j, y := range b {
			up := row[j+1]
			if x == y {
				row[j+1] = last + 1
			} else {
				row[j+1] = max(up, row[j])
			}
			last = up
		}
	}
	return row[len(b)]
}

// Key is what a portrait says without where the element was, for telling whether it is
// to be remembered anew.
func (p Portrait) Key() string {
	var b strings.Builder
	for _, s := range []string{p.Tag, p.Type, p.Role, p.Name, p.Label, p.Text, p.Head, p.Before, p.After, strings.Join(p.Path, " ")} {
		b.WriteString(s)
		b.WriteByte(0)
	}
	for _, k := range slices.Sorted(maps.Keys(p.Attrs)) {
		b.WriteString(k + "\x00" + p.Attrs[k] + "\x00")
	}
	return b.String()
}

// MaxPage bounds what is kept of a page, in bytes of JSON.
const MaxPage = 6 << 20

// Page is what a page was made of at a moment.
type Page struct {
	Address  string     `json:"address"`
	Title    string     `json:"title"`
	Width    int        `json:"width"` // of the viewport, in CSS pixels
	Height   int        `json:"height"`
	Left     int        `json:"left"` // how far it was scrolled
	Top      int        `json:"top"`
	Wide     int        `json:"wide"` // of the whole page
	Tall     int        `json:"tall"`
	Elements []Portrait `json:"elements"`         // in document order, those that cannot be seen too
	More     bool       `json:"more,omitempty"`   // it had more of them
	Source   string     `json:"source,omitempty"` // HTML without what it runs and what was typed; an attribute names each element's place
}

// Worth is the probability from which a candidate is worth a person's look.
const Worth = 0.5

// String is the element in a few words.
func (p Portrait) String() string {
	s := "<" + p.Tag
	if id := p.Attrs["id"]; id != "" {
		s += " id=" + id
	}
	s += ">"
	if words := cmp.Or(p.Name, p.Label, p.Text); words != "" {
		s += " " + strconv.Quote(words)
	}
	return s
}
