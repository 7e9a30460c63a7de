package fleet

import (
	"math"
	"slices"
)

// Timing is how long one piece of work took while an agent had so many sessions
// open, on average over its time.
type Timing struct {
	Work    string  `json:"work"` // what was done, so that like is compared with like
	Load    float64 `json:"load"` // sessions open, itself among them; 1 or more
	Seconds float64 `json:"seconds"`
}

// Advice is how many slots an agent should have.
type Advice struct {
	Slots   int       `json:"slots" description:"advised; 0 while too little has been measured"`
	Why     string    `json:"why"`
	Samples int       `json:"samples" description:"timings it rests on"`
	Slower  []float64 `json:"slower" description:"how many times longer work takes with 1, 2, 3 … sessions open, as far as measured"`
}

// What an advice needs: this many timings at a load before it counts, and this
// much more work done by a further slot before it is worth having.
const (
	minTimings = 5
	worthwhile = 1.1
)

// Advise finds the number of slots with which an agent gets most done. Timings
// of the same work at different loads say how much sessions slow each other;
// with n sessions open n/slowdown(n) as much is done as with one.
func Advise(timings []Timing, slots int) Advice {
	a := Advice{Samples: len(timings)}
	byWork := map[string][]Timing{}
	top := 0
	for _, t := range timings {
		byWork[t.Work] = append(byWork[t.Work], t)
		top = max(top, int(math.Round(t.Load)))
	}
	// The ratio of the median at each load to that at the lowest, over all work
	// that was seen at both.
	ratios := make([][]float64, top+1)
	counts := make([]int, top+1)
	for _, ts := range byWork {
		at := make([][]float64, top+1)
		for _, t := range ts {
			n := max(1, int(math.Round(t.Load)))
			at[n] = append(at[n], t.Seconds)
		}
		if len(at[1]) == 0 {
			continue
		}
		alone := middle(at[1])
		for n := 1; n <= top; n++ {
			if len(at[n]) > 0 && alone > 0 {
				ratios[n] = append(ratios[n], middle(at[n])/alone)
				counts[n] += len(at[n])
			}
		}
	}
	for n := 1; n <= top && counts[n] >= minTimings; n++ {
		a.Slower = append(a.Slower, math.Round(100*max(1, middle(ratios[n])))/100)
	}
	if len(a.Slower) < 2 {
		a.Why = "too little was measured yet: the same tests have to run alone and side by side"
		return a
	}
	best, most := 1, 1.0
	for n := 2; n <= len(a.Slower); n++ {
		if done := float64(n) / a.Slower[n-1]; done >= most*worthwhile {
			best, most = n, done
		}
	}
	a.Slots = best
	switch {
	case best < slots && best < len(a.Slower):
		a.Why = "more sessions only slow each other"
	case best == len(a.Slower) && best >= slots:
		a.Why = "a further slot may still help: nothing was measured beyond"
		if best == slots {
			a.Slots = slots + 1
		}
	default:
		a.Why = "this many get most done"
	}
	return a
}

func middle(xs []float64) float64 {
	s := slices.Sorted(slices.Values(xs))
	if len(s) == 0 {
		return 0
	}
	return (s[(len(s)-1)/2] + s[len(s)/2]) / 2
}
