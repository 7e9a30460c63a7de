package triage

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
)

// Timed is a run with what its cells took, in milliseconds.
type Timed struct {
	Run
	TookMS [][]int64 // by pane, then by test
}

// Change is a cell that came to something else in the second run.
type Change struct {
	Test    string          `json:"test"`
	Pane    string          `json:"pane" description:"its label in the second run"`
	At      At              `json:"at" description:"in the second run"`
	Was     verdict.Verdict `json:"was"`
	Is      verdict.Verdict `json:"is"`
	Message string          `json:"message" description:"of the failure, in the run that has it; of the second where both have"`
}

// Slower is a test that takes longer, or shorter, by more than noise.
type Slower struct {
	Test  string   `json:"test"`
	Panes []string `json:"panes" description:"labels; empty where it is so over all of them"`
	WasMS int64    `json:"was_ms" description:"median"`
	IsMS  int64    `json:"is_ms" description:"median"`
	Ratio float64  `json:"ratio" description:"after what all tests of the second run share is taken out"`
}

// Comparison says what is different in the second of two runs.
type Comparison struct {
	Broke     []Change       `json:"broke" description:"passed, and fails now"`
	Mended    []Change       `json:"mended" description:"failed, and passes now"`
	Otherwise []Change       `json:"otherwise" description:"fails in both, of another cause"`
	Lab       []Change       `json:"lab" description:"a lab fault in one of them: nothing is known"`
	Slower    []Slower       `json:"slower"`
	Faster    []Slower       `json:"faster"`
	Added     []string       `json:"added" description:"tests of the second run alone"`
	Gone      []string       `json:"gone" description:"tests of the first run alone"`
	Renamed   []suite.Rename `json:"renamed" description:"tests that have another name in the second run"`
	AddedIn   []string       `json:"added_in" description:"combinations of the second run alone"`
	GoneIn    []string       `json:"gone_in" description:"combinations of the first run alone"`
	Cells     int            `json:"cells" description:"that both have, and that ran in both"`
	Still     int            `json:"still" description:"of these, those that fail in both of the same cause"`
	Pace      float64        `json:"pace" description:"time of what passed in both, as a multiple of the first run's; 0 where nothing did"`
}

// Pairing says what is the same in two runs beyond what is called so.
type Pairing struct {
	Apart []string          // axes in which panes may differ, the version apart
	Was   map[string]string // names of tests in the first run, by those in the second
}

// Compare says what is different in the second of two runs. Tests are the same by name,
// panes by their values; where a version is all that differs, that does not part them. Of
// 500 tests in 60 panes it takes some 20 ms.
func Compare(a, b Timed, by Pairing) Comparison {
	out := Comparison{Broke: []Change{}, Mended: []Change{}, Otherwise: []Change{}, Lab: []Change{}, Slower: []Slower{},
		Faster: []Slower{},
		Added:  []string{}, Gone: []string{}, Renamed: []suite.Rename{}, AddedIn: []string{}, GoneIn: []string{}}
	panes := match(a.Panes, b.Panes, by.Apart)
	tests := map[string]int{}
	for i, t := range a.Tests {
		tests[t.Name] = i
	}
	both := map[int]bool{}
	for i, p := range b.Panes {
		if panes[i] < 0 {
			out.AddedIn = append(out.AddedIn, p.Label)
		}
	}
	for i, p := range a.Panes {
		if !slices.Contains(panes, i) {
			out.GoneIn = append(out.GoneIn, p.Label)
		}
	}
	var paces []pace
	for tb, t := range b.Tests {
		ta, known := tests[t.Name]
		if was := by.Was[t.Name]; !known && was != "" {
			if ta, known = tests[was]; known {
				out.Renamed = append(out.Renamed, suite.Rename{Was: was, Is: t.Name})
			}
		}
		if !known {
			out.Added = append(out.Added, t.Name)
			continue
		}
		both[ta] = true
		for pb, pa := range panes {
			if pa < 0 {
				continue
			}
			was, is := a.cell(pa, ta), b.cell(pb, tb)
			if !ran(was.Verdict) || !ran(is.Verdict) {
				continue
			}
			out.Cells++
			c := Change{Test: t.Name, Pane: b.Panes[pb].Label, At: At{pb, tb}, Was: was.Verdict, Is: is.Verdict, Message: is.Message}
			switch wasBad, isBad := was.Verdict == verdict.Failed, is.Verdict == verdict.Failed; {
			case was.Verdict == verdict.LabFault || is.Verdict == verdict.LabFault:
				if was.Verdict != is.Verdict {
					c.Message = cmp.Or(is.Message, was.Message)
					out.Lab = append(out.Lab, c)
				}
			case isBad && !wasBad:
				out.Broke = append(out.Broke, c)
			case wasBad && !isBad:
				c.Message = was.Message
				out.Mended = append(out.Mended, c)
			case isBad && Sign(was.Message, a.Tests[ta].Name).Key != Sign(is.Message, t.Name).Key:
				out.Otherwise = append(out.Otherwise, c)
			case isBad:
				out.Still++
			case was.Verdict == verdict.Passed && is.Verdict == verdict.Passed:
				if x, y := a.took(pa, ta), b.took(pb, tb); x > 0 && y > 0 {
					paces = append(paces, pace{tb, pb, x, y, math.Log(float64(y) / float64(x))})
				}
			}
		}
	}
	for i, t := range a.Tests {
		if !both[i] {
			out.Gone = append(out.Gone, t.Name)
		}
	}
	out.paces(b, paces)
	return out
}

func ran(v verdict.Verdict) bool { return v == verdict.Passed || failing(v) }

func (r Run) cell(pane, test int) Cell {
	if pane >= len(r.Cells) || test >= len(r.Cells[pane]) {
		return Cell{}
	}
	return r.Cells[pane][test]
}

func (t Timed) took(pane, test int) int64 {
	if pane >= len(t.TookMS) || test >= len(t.TookMS[pane]) {
		return 0
	}
	return t.TookMS[pane][test]
}

// match finds for each pane of b the one of a that is the same but for some axes; -1 for
// none, and where it could be more than one.
func match(a, b []Pane, apart []string) []int {
	out := slices.Repeat([]int{-1}, len(b))
	used := map[int]bool{}
	for _, without := range [][]string{nil, {"version"}, append([]string{"version"}, apart...)} {
		byKey, there := map[string][]int{}, map[string]int{}
		for i, p := range a {
			if !used[i] {
				byKey[keyWithout(p, without)] = append(byKey[keyWithout(p, without)], i)
			}
		}
		for i, p := range b {
			if out[i] < 0 {
				there[keyWithout(p, without)]++
			}
		}
		for i, p := range b {
			key := keyWithout(p, without)
			if of := byKey[key]; out[i] < 0 && len(of) == 1 && there[key] == 1 {
				out[i], used[of[0]] = of[0], true
			}
		}
	}
	return out
}

func keyWithout(p Pane, axes []string) string {
	var parts []string
	for a, v := range p.Values {
		if !slices.Contains(axes, a) {
			parts = append(parts, a+"\x00"+v)
		}
	}
	slices.Sort(parts)
	return strings.Join(parts, "\x01")
}

// pace is what a cell took in two runs.
type pace struct {
	test, pane int
	was, is    int64
	log        float64 // of is / was
}

// Bounds of what counts as slower: beyond noise, and enough to matter.
const (
	slowerTest = 1.2 // over a test's panes
	slowerCell = 1.5
	leastMS    = 150
)

// paces finds the tests whose time changed by more than noise. Noise is the spread of all
// changes (the median of their distances from the median, P. J. Huber, Robust Statistics,
// 1981, § 5.1), after the pace that all share is taken out.
func (c *Comparison) paces(b Timed, all []pace) {
	if len(all) == 0 {
		return
	}
	logs := make([]float64, len(all))
	for i, p := range all {
		logs[i] = p.log
	}
	mid := median(logs)
	c.Pace = math.Exp(mid)
	off := make([]float64, len(all))
	for i := range all {
		off[i] = math.Abs(all[i].log - mid)
	}
	sigma := math.Max(0.05, 1.4826*median(off))
	byTest := map[int][]pace{}
	for _, p := range all {
		byTest[p.test] = append(byTest[p.test], p)
	}
	for t := range b.Tests {
		of := byTest[t]
		if len(of) == 0 {
			continue
		}
		var ds, was, is []float64
		for _, p := range of {
			ds, was, is = append(ds, p.log-mid), append(was, float64(p.was)), append(is, float64(p.is))
		}
		d := median(ds)
		bound := math.Max(math.Log(slowerTest), 4*sigma/math.Sqrt(float64(len(of))))
		if math.Abs(d) > bound && math.Abs(median(is)-median(was)) >= leastMS {
			c.changed(Slower{Test: b.Tests[t].Name, Panes: []string{}, WasMS: int64(median(was)), IsMS: int64(median(is)), Ratio: math.Exp(d)})
			continue
		}
		s := Slower{Test: b.Tests[t].Name}
		var some []pace
		for _, p := range of {
			if e := p.log - mid; math.Abs(e) > math.Max(math.Log(slowerCell), 5*sigma) && math.Abs(float64(p.is-p.was)) >= leastMS {
				some = append(some, p)
			}
		}
		for _, up := range []bool{true, false} {
			s.Panes, was, is, ds = nil, nil, nil, nil
			for _, p := range some {
				if p.log > mid == up {
					s.Panes = append(s.Panes, b.Panes[p.pane].Label)
					was, is, ds = append(was, float64(p.was)), append(is, float64(p.is)), append(ds, p.log-mid)
				}
			}
			if len(s.Panes) > 0 {
				s.WasMS, s.IsMS, s.Ratio = int64(median(was)), int64(median(is)), math.Exp(median(ds))
				c.changed(s)
			}
		}
	}
	slices.SortStableFunc(c.Slower, func(x, y Slower) int { return cmp.Compare(y.IsMS-y.WasMS, x.IsMS-x.WasMS) })
	slices.SortStableFunc(c.Faster, func(x, y Slower) int { return cmp.Compare(x.IsMS-x.WasMS, y.IsMS-y.WasMS) })
}

func (c *Comparison) changed(s Slower) {
	if s.Ratio > 1 {
		c.Slower = append(c.Slower, s)
	} else {
		c.Faster = append(c.Faster, s)
	}
}

func median(of []float64) float64 {
	s := slices.Sorted(slices.Values(of))
	n := len(s)
	if n == 0 {
		return 0
	}
	return (s[(n-1)/2] + s[n/2]) / 2
}
