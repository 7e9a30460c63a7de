// Package plan looks ahead: how long tests will take, which combination a test
// goes to when each runs only once, how early a run could possibly end, and
// when it will. It simulates with the scheduler's own machine in virtual time
// and touches nothing real.
package plan

import (
	"math"
	"slices"
)

// Sample is how long one test took once in one combination.
type Sample struct {
	Test    string
	Combo   string // canonical key
	Browser string
	Seconds float64
}

// Book estimates durations from samples. The zero Book knows nothing.
type Book struct {
	exact     map[[2]string][]float64 // test and combination
	browser   map[[2]string][]float64 // test and browser
	test      map[string][]float64
	all       []float64
	ofBrowser map[string]float64 // how much longer tests take than in general
}

// remembered is how many of the latest samples count.
const remembered = 9

// NewBook reads samples, oldest first.
func NewBook(samples []Sample) *Book {
	b := &Book{exact: map[[2]string][]float64{}, browser: map[[2]string][]float64{}, test: map[string][]float64{}, ofBrowser: map[string]float64{}}
	for _, s := range samples {
		if s.Seconds <= 0 || math.IsNaN(s.Seconds) || math.IsInf(s.Seconds, 0) {
			continue
		}
		for _, into := range []struct {
			book map[[2]string][]float64
			key  [2]string
		}{{b.exact, [2]string{s.Test, s.Combo}}, {b.browser, [2]string{s.Test, s.Browser}}} {
			into.book[into.key] = append(into.book[into.key], s.Seconds)
		}
		b.test[s.Test] = append(b.test[s.Test], s.Seconds)
		b.all = append(b.all, s.Seconds)
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
