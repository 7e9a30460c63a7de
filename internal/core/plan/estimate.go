// Package plan looks ahead: how long tests will take, which combination a test
// goes to when each runs only once, how early a run could possibly end, and
// when it will. It simulates with the scheduler's own machine in virtual time
// and touches nothing real.
package plan

import (
	"math"
	"slices"
)

// Past is how long one test took in one combination of late.
type Past struct {
	Test    string
	Combo   string // canonical key
	Browser string
	Seconds []float64 // oldest first
}

// Book estimates durations from the past. The zero Book knows nothing.
type Book struct {
	exact     map[[2]string][]float64 // test and combination
	browser   map[[2]string][]float64 // test and browser
	test      map[string][]float64
	all       []float64
	ofBrowser map[string]float64 // how much longer tests take than in general
}

// remembered is how many of the latest samples count.
const remembered = 9

// NewBook reads pasts, those that are least long ago last.
func NewBook(pasts []Past) *Book {
	b := &Book{exact: make(map[[2]string][]float64, len(pasts)), browser: map[[2]string][]float64{}, test: map[string][]float64{},
		ofBrowser: map[string]float64{}}
	for _, p := range pasts {
		took := slices.DeleteFunc(slices.Clone(p.Seconds), func(s float64) bool { return s <= 0 || math.IsNaN(s) || math.IsInf(s, 0) })
		if len(took) == 0 {
			continue
		}
		b.exact[[2]string{p.Test, p.Combo}] = took
		inBrowser := [2]string{p.Test, p.Browser}
		b.browser[inBrowser] = latest(b.browser[inBrowser], took)
		b.test[p.Test] = latest(b.test[p.Test], took)
		b.all = latest(b.all, took)
	}
	ratios := map[string][]float64{}
	for key, seconds := range b.browser {
		ratios[key[1]] = append(ratios[key[1]], Typical(seconds)/Typical(b.test[key[0]]))
	}
	for browser, r := range ratios {
		b.ofBrowser[browser] = median(r)
	}
	return b
}

// latest adds samples to a list of which only the latest count.
func latest(list, more []float64) []float64 {
	if len(more) >= remembered {
		return append(list[:0], more[len(more)-remembered:]...)
	}
	list = list[max(0, len(list)+len(more)-remembered):]
	return append(list, more...)
}

// Seconds estimates one attempt of a test in a combination: from its own past
// there, else in the same browser, else anywhere, scaled by how slow the
// browser is, else from the other tests. 0 means that nothing is known.
func (b *Book) Seconds(test, combo, browser string) float64 {
	if b == nil {
		return 0
	}
	if s := b.exact[[2]string{test, combo}]; len(s) > 0 {
		return Typical(s)
	}
	if s := b.browser[[2]string{test, browser}]; len(s) > 0 {
		return Typical(s)
	}
	scale := 1.0
	if r, ok := b.ofBrowser[browser]; ok {
		scale = r
	}
	if s := b.test[test]; len(s) > 0 {
		return Typical(s) * scale
	}
	return Typical(b.all) * scale
}

// Typical is the median of the latest samples, so that neither an outlier nor a
// past long gone decides. It is 0 for none.
func Typical(samples []float64) float64 {
	return median(samples[max(0, len(samples)-remembered):])
}

func median(samples []float64) float64 {
	if len(samples) == 0 {
		return 0
	}
	s := slices.Sorted(slices.Values(samples))
	return (s[(len(s)-1)/2] + s[len(s)/2]) / 2
}
