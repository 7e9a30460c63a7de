package triage

import (
	"cmp"
	"math"
	"slices"
)

// StepTook is what a step took where its test passed.
type StepTook struct {
	Test string
	Step string // its title; those of one title in one test are told apart by Nth
	Nth  int
	Pane string // label of the combination
	MS   int64
}

// Lag is a step that takes much longer in some combinations than in the others.
type Lag struct {
	Test        string   `json:"test"`
	Step        string   `json:"step" description:"its title"`
	Nth         int      `json:"nth" description:"which of the steps of this title, from 0"`
	Panes       []string `json:"panes" description:"labels of the combinations in which it lags, the slowest first"`
	MS          int64    `json:"ms" description:"median there"`
	ElsewhereMS int64    `json:"elsewhere_ms" description:"median in the others"`
	Ratio       float64  `json:"ratio" description:"after each combination's own pace is taken out"`
}

// What lags: so many times beyond what its combination is slower anyway, and so much longer.
const (
	lagRatio = 2
	lagMS    = 300
	lagPanes = 3 // in fewer nobody knows which is the odd one
)

// Lags finds the steps that take much longer in less than half of their combinations than
// in the others, those that lose most first. Of a combination the median over its runs
// counts, its own pace is taken out, and what is left has to be beyond the spread of all
// that is left (see Compare). Its cost grows as n log n.
func Lags(all []StepTook) []Lag {
	type step struct {
		test, title string
		nth         int
	}
	times := map[step]map[string][]float64{}
	for _, t := range all {
		k := step{t.Test, t.Step, t.Nth}
		if times[k] == nil {
			times[k] = map[string][]float64{}
		}
		times[k][t.Pane] = append(times[k][t.Pane], float64(t.MS))
	}
	took := map[step]map[string]float64{}
	for k, panes := range times {
		if len(panes) < lagPanes {
			continue
		}
		took[k] = map[string]float64{}
		for p, ms := range panes {
			took[k][p] = median(ms)
		}
	}
	// What a step takes and how fast a combination is are parted by a median polish
	// (J. W. Tukey, Exploratory Data Analysis, 1977, chapter 11).
	mids, own := map[step]float64{}, map[string]float64{}
	for range 3 {
		off := map[string][]float64{}
		for k, panes := range took {
			var logs []float64
			for p, ms := range panes {
				logs = append(logs, logOf(ms)-own[p])
			}
			mids[k] = median(logs)
			for p, ms := range panes {
				off[p] = append(off[p], logOf(ms)-mids[k])
			}
		}
		for p, xs := range off {
			own[p] = median(xs)
		}
	}
	var rest []float64
	for k, panes := range took {
		for p, ms := range panes {
			rest = append(rest, math.Abs(logOf(ms)-mids[k]-own[p]))
		}
	}
	bound := math.Max(math.Log(lagRatio), 5*1.4826*median(rest))
	out := []Lag{}
	for k, panes := range took {
		l := Lag{Test: k.test, Step: k.title, Nth: k.nth, Panes: []string{}}
		var there, others, ratios []float64
		for p, ms := range panes {
			if x := logOf(ms) - mids[k] - own[p]; x > bound && ms-math.Exp(mids[k]+own[p]) >= lagMS {
				l.Panes = append(l.Panes, p)
				there, ratios = append(there, ms), append(ratios, x)
			} else {
				others = append(others, ms)
			}
		}
		if len(there) == 0 || len(there) >= len(others) {
			continue
		}
		slices.SortFunc(l.Panes, func(a, b string) int { return cmp.Or(cmp.Compare(panes[b], panes[a]), cmp.Compare(a, b)) })
		l.MS, l.ElsewhereMS, l.Ratio = int64(median(there)), int64(median(others)), math.Exp(median(ratios))
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b Lag) int {
		return cmp.Or(cmp.Compare(b.MS-b.ElsewhereMS, a.MS-a.ElsewhereMS), cmp.Compare(a.Test, b.Test), cmp.Compare(a.Step, b.Step),
			cmp.Compare(a.Nth, b.Nth))
	})
	return out
}

// logOf is the logarithm of a time; what took no millisecond took one.
func logOf(ms float64) float64 { return math.Log(math.Max(1, ms)) }
