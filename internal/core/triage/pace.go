package triage

import (
	"cmp"
	"math"
	"slices"
)

// Took is what a passed cell took in one run.
type Took struct {
	Run  int
	Pane string // its combination
	MS   int64
}

// Turn is the run from which on a test takes longer, or less long.
type Turn struct {
	Run   int     `json:"run" description:"the first run of the new pace"`
	WasMS int64   `json:"was_ms" description:"median before it"`
	IsMS  int64   `json:"is_ms" description:"median from it on"`
	Ratio float64 `json:"ratio"`
	P     float64 `json:"p" description:"probability of so large a change at some run by chance"`
}

// leastRuns is how many runs lie on each side of a change at least.
const leastRuns = 3

// TurnOf finds the run in which a test's time changed, by the largest of the two-sample
// statistics over all runs (D. M. Hawkins, JASA 72, 1977), of the runs' times after each
// combination's own pace is taken out; false where the change is not certain, or less than
// a fifth and 150 ms.
func TurnOf(all []Took) (Turn, bool) {
	byPane, byRun := map[string][]float64{}, map[int][]Took{}
	for _, t := range all {
		if t.MS > 0 {
			byPane[t.Pane] = append(byPane[t.Pane], math.Log(float64(t.MS)))
			byRun[t.Run] = append(byRun[t.Run], t)
		}
	}
	own := map[string]float64{}
	for p, logs := range byPane {
		own[p] = median(logs)
	}
	runs := make([]int, 0, len(byRun))
	for r := range byRun {
		runs = append(runs, r)
	}
	slices.Sort(runs)
	n := len(runs)
	if n < 2*leastRuns {
		return Turn{}, false
	}
	series := make([]float64, n)
	for i, r := range runs {
		var off []float64
		for _, t := range byRun[r] {
			off = append(off, math.Log(float64(t.MS))-own[t.Pane])
		}
		series[i] = median(off)
	}
	best, at := 0.0, 0
	for k := leastRuns; k <= n-leastRuns; k++ {
		a, b := series[:k], series[k:]
		ma, mb := mean(a), mean(b)
		s := math.Sqrt((squares(a, ma) + squares(b, mb)) / float64(n-2))
		t := math.Abs(mb-ma) / (math.Max(s, 0.02) * math.Sqrt(1/float64(k)+1/float64(n-k)))
		if t > best {
			best, at = t, k
		}
	}
	p := math.Min(1, float64(n-2*leastRuns+1)*math.Erfc(best/math.Sqrt2*math.Sqrt(float64(n-2)/float64(n))))
	var was, is []float64
	for i, r := range runs {
		for _, t := range byRun[r] {
			if i < at {
				was = append(was, float64(t.MS))
			} else {
				is = append(is, float64(t.MS))
			}
		}
	}
	out := Turn{Run: runs[at], WasMS: int64(median(was)), IsMS: int64(median(is)),
		Ratio: math.Exp(mean(series[at:]) - mean(series[:at])), P: p}
	big := (out.Ratio >= slowerTest || out.Ratio <= 1/slowerTest) && math.Abs(float64(out.IsMS-out.WasMS)) >= leastMS
	return out, big && p <= 0.01
}

func mean(of []float64) float64 {
	sum := 0.0
	for _, x := range of {
		sum += x
	}
	return sum / float64(max(1, len(of)))
}

func squares(of []float64, mid float64) float64 {
	sum := 0.0
	for _, x := range of {
		sum += (x - mid) * (x - mid)
	}
	return sum
}

// Pace is how fast a combination is against the others, over the tests that ran in both.
type Pace struct {
	Pane  string  `json:"pane" description:"label of the combination"`
	Ratio float64 `json:"ratio" description:"median over its tests of their time against the median combination's"`
	Tests int     `json:"tests"`
}

// Paces compares combinations, the slowest first: of each test, each combination's median
// time against that of the median combination.
func Paces(byTest map[string][]Took) []Pace {
	off := map[string][]float64{}
	for _, all := range byTest {
		times := map[string][]float64{}
		for _, t := range all {
			if t.MS > 0 {
				times[t.Pane] = append(times[t.Pane], math.Log(float64(t.MS)))
			}
		}
		if len(times) < 2 {
			continue
		}
		var mids []float64
		own := map[string]float64{}
		for p, logs := range times {
			own[p] = median(logs)
			mids = append(mids, own[p])
		}
		mid := median(mids)
		for p, x := range own {
			off[p] = append(off[p], x-mid)
		}
	}
	out := make([]Pace, 0, len(off))
	for p, xs := range off {
		out = append(out, Pace{Pane: p, Ratio: math.Exp(median(xs)), Tests: len(xs)})
	}
	slices.SortFunc(out, func(a, b Pace) int { return cmp.Or(cmp.Compare(b.Ratio, a.Ratio), cmp.Compare(a.Pane, b.Pane)) })
	return out
}
