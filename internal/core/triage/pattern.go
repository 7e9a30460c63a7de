package triage

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"strings"

	"parallelpane/internal/core/combo"
)

// Axes of patterns that are none of a matrix.
const (
	AgentAxis = "agent"
	TestAxis  = "test"
	WidthAxis = "width" // of the device, in CSS pixels
	AfterAxis = "after" // a test that ran before it on the same slot
)

// Values is one part of a pattern: an axis with the values on which it fails.
type Values struct {
	Axis   string   `json:"axis"`
	Values []string `json:"values"`
	Range  string   `json:"range" description:"of an ordered axis, in words: up to 149, from 150, 148 to 150; else empty"`
}

func (v Values) String() string {
	if v.Range != "" {
		return v.Axis + " " + v.Range
	}
	return v.Axis + "=" + strings.Join(v.Values, "|")
}

// Kinds of questions, of which each has a share of the error that is allowed: few are
// asked of one value, many of pairs.
const (
	single = iota
	ranged
	pair
	byAgent
	ofSet
	whole // every pane
)

// share of the error, by the kind of question, as the logarithm of its inverse.
var share = [...]float64{single: math.Log(2), ranged: math.Log(8), pair: math.Log(4), byAgent: math.Log(8), ofSet: math.Log(8), whole: 0}

// question is a set of panes that have something in common.
type question struct {
	kind  int
	parts []Values
	panes []int // ascending
}

// questions are all that is asked of a run's panes: the simplest first, each set of panes
// once. penalty is the logarithm of how many are asked in all, by kind.
type questions struct {
	all     []question
	penalty [len(share)]float64
	axes    []manyValued // that have four values or more, and no order
}

// manyValued is an axis with its values, and the panes of each.
type manyValued struct {
	name   string
	values []string
	panes  [][]int
}

// preferred orders axes: of two that part the panes alike, the former is said.
var preferred = []string{"browser", "engine", "device", "os", "version", "mode", "locale"}

// Axes lists the axes of a pane's values in the order in which people say them.
func Axes(values map[string]string) []string {
	return slices.SortedFunc(maps.Keys(values), func(a, b string) int { return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a, b)) })
}

func rank(axis string) int {
	if i := slices.Index(preferred, axis); i >= 0 {
		return i
	}
	return len(preferred)
}

// ordered are the axes of which ranges are asked, with their order.
var ordered = map[string]func(a, b string) int{"version": combo.CompareVersions, WidthAxis: numbers}

func numbers(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b)) }

// maxQuestions bounds what is asked, and maxPairs the pairs that are looked at for it:
// with them the time.
const (
	maxQuestions = 4000
	maxPairs     = 100_000
)

func ask(panes []Pane) *questions {
	q := &questions{}
	values := map[string]map[string][]int{}
	for i, p := range panes {
		for axis, v := range p.Values {
			if values[axis] == nil {
				values[axis] = map[string][]int{}
			}
			values[axis][v] = append(values[axis][v], i)
		}
	}
	axes := slices.SortedFunc(maps.Keys(values), func(a, b string) int { return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a, b)) })
	seen := map[string]bool{}
	add := func(n question) {
		if len(n.panes) == 0 || len(n.panes) == len(panes) || len(q.all) >= maxQuestions {
			return
		}
		key := setKey(n.panes)
		if seen[key] {
			return
		}
		seen[key] = true
		q.all = append(q.all, n)
		q.penalty[n.kind]++
	}
	type literal struct {
		Values
		panes []int
	}
	var singles, ranges []literal
	for _, axis := range axes {
		order := ordered[axis]
		of := values[axis]
		names := slices.Sorted(maps.Keys(of))
		if order != nil {
			slices.SortFunc(names, order)
		}
		if axis != WidthAxis { // the device says it better
			for _, v := range names {
				singles = append(singles, literal{Values{Axis: axis, Values: []string{v}}, of[v]})
			}
		}
		if order == nil && len(names) > 3 {
			x := manyValued{name: axis, values: names}
			for _, v := range names {
				x.panes = append(x.panes, of[v])
			}
			q.axes = append(q.axes, x)
		}
		if order == nil || len(names) < 3 {
			continue
		}
		for i := range names {
			for j := i + 1; j < len(names) && len(ranges) < maxQuestions; j++ {
				if i == 0 && j == len(names)-1 {
					continue
				}
				var in []int
				for _, v := range names[i : j+1] {
					in = append(in, of[v]...)
				}
				slices.Sort(in)
				words := names[i] + " to " + names[j]
				switch {
				case i == 0:
					words = "up to " + names[j]
				case j == len(names)-1:
					words = "from " + names[i]
				}
				ranges = append(ranges, literal{Values{Axis: axis, Values: slices.Clone(names[i : j+1]), Range: words}, in})
			}
		}
	}
	for _, l := range singles {
		add(question{single, []Values{l.Values}, l.panes})
	}
	for _, l := range ranges {
		add(question{ranged, []Values{l.Values}, l.panes})
	}
	all := slices.Concat(singles, ranges)
	tried := 0
	for i, a := range all {
		for _, b := range all[i+1:] {
			if tried++; tried > maxPairs || len(q.all) >= maxQuestions {
				break
			}
			if a.Axis != b.Axis && (a.Range == "" || b.Range == "") {
				kind := pair
				add(question{kind, []Values{a.Values, b.Values}, common(a.panes, b.panes)})
			}
		}
	}
	for i := range q.penalty {
		q.penalty[i] = math.Log(max(1, q.penalty[i])) + share[i]
	}
	return q
}

func setKey(panes []int) string {
	var b strings.Builder
	for _, p := range panes {
		b.WriteRune(rune(p + 1))
	}
	return b.String()
}

// common is what two ascending lists both have.
func common(a, b []int) (out []int) {
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i] < b[j]:
			i++
		case a[i] > b[j]:
			j++
		default:
			out = append(out, a[i])
			i, j = i+1, j+1
		}
	}
	return out
}
