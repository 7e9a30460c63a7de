// Package bisect finds from where on something fails, in a list that has an order: the
// versions of a browser, the bundles of a suite. It asks for as few tries as it needs, and
// for more where the answers are unsteady, until it is sure to a stated probability.
//
// It weighs, by Bayes' rule, every place at which the failing could begin: before it a try
// fails with one unknown rate, from it on with another. A rate is steady (hardly ever, or
// nearly always) or it can be any; both are taken to be possible before the first try.
package bisect

import (
	"math"
	"slices"
)

// MaxCandidates bounds a list.
const MaxCandidates = 500

// Outcome is one try of a candidate.
type Outcome struct {
	At     int // of the list
	Failed bool
}

// Kind says how a search stands or how it ended.
type Kind string

// The kinds.
const (
	Open       Kind = "open"       // another try is needed
	Found      Kind = "found"      // it passes before a place and fails from it on
	Mended     Kind = "mended"     // it fails before a place and passes from it on
	Everywhere Kind = "everywhere" // it fails wherever it is tried
	Nowhere    Kind = "nowhere"    // it passes wherever it is tried
	Random     Kind = "random"     // it fails and passes everywhere, without a place where that changes
	Undecided  Kind = "undecided"  // the tries are used up
)

// Answer is what the outcomes say.
type Answer struct {
	Kind Kind
	Next int     // the candidate to try, when open
	At   int     // the first candidate on the other side, when found or mended
	Sure float64 // the probability of what is said, 0 to 1
}

// Weights of what is possible before anything was tried.
const (
	steady   = 0.9  // that a rate is steady
	slip     = 100. // how steady: as if so many tries had gone without a slip
	lean     = 3.   // an unsteady rate still leans to its side, as if of so many tries but one had
	caution  = 3.   // how many times less doubt than asked for is left: who looks after each try stops too early at times
	aimless  = 0.1  // that one rate holds for all, for each candidate
	mendable = 0.1  // that the list goes the other way: it failed first
)

// logBeta is the logarithm of the beta function.
func logBeta(a, b float64) float64 {
	x, _ := math.Lgamma(a)
	y, _ := math.Lgamma(b)
	z, _ := math.Lgamma(a + b)
	return x + y - z
}

// evidence is the probability of outcomes on one side, whose rate is unknown: f tries
// failed and p passed; failing says which of the two is the steady one.
func evidence(f, p int, failing bool) float64 {
	if failing {
		f, p = p, f
	}
	of := func(b float64) float64 { return math.Exp(logBeta(float64(f)+1, float64(p)+b) - logBeta(1, b)) }
	return steady*of(slip) + (1-steady)*of(lean)
}

// model is what outcomes make probable.
type model struct {
	n         int
	fail, all []int              // by candidate
	known     map[[2]int]float64 // evidence of failed and passed tries; of a failing side the first is -1 minus the failed
}

// evidence is that of one side, computed once.
func (m *model) evidence(f, p int, failing bool) float64 {
	key := [2]int{f, p}
	if failing {
		key = [2]int{-1 - f, p}
	}
	e, ok := m.known[key]
	if !ok {
		e = evidence(f, p, failing)
		m.known[key] = e
	}
	return e
}

// copied is a model with outcomes of its own.
func (m *model) copied() *model {
	return &model{n: m.n, fail: slices.Clone(m.fail), all: slices.Clone(m.all), known: m.known}
}

func (m *model) add(o Outcome) {
	m.all[o.At]++
	if o.Failed {
		m.fail[o.At]++
	}
}

func newModel(n int, outcomes []Outcome) *model {
	m := &model{n: n, fail: make([]int, n), all: make([]int, n), known: map[[2]int]float64{}}
	for _, o := range outcomes {
		m.add(o)
	}
	return m
}

// posterior weighs the places where it could begin to fail, 0 (everywhere) to n (nowhere),
// then those where it could begin to pass, 1 to n-1, and last that there is no such place
// and one rate for all. Together they are 1; total is the probability of all outcomes.
func (m *model) posterior() (out []float64, total float64) {
	n := m.n
	out = make([]float64, 2*n+1)
	failed, tried := make([]int, n+1), make([]int, n+1)
	for i := range n {
		failed[i+1], tried[i+1] = failed[i]+m.fail[i], tried[i]+m.all[i]
	}
	for k := range n + 1 {
		fb, ab := failed[k], tried[k]
		fa, aa := failed[n]-fb, tried[n]-ab
		out[k] = (1 - mendable) * m.evidence(fb, ab-fb, false) * m.evidence(fa, aa-fa, true)
		total += out[k]
		if k > 0 && k < n {
			out[n+k] = mendable * m.evidence(fb, ab-fb, true) * m.evidence(fa, aa-fa, false)
			total += out[n+k]
		}
	}
	f, p := float64(failed[n]), float64(tried[n]-failed[n])
	out[2*n] = aimless * float64(n) * math.Exp(logBeta(f+1, p+1)-logBeta(1, 1))
	total += out[2*n]
	for i := range out {
		out[i] /= total
	}
	return out, total
}

// Ask says what outcomes mean for n candidates (1 to MaxCandidates), or which candidate
// to try next. sure is the probability to reach, above 0.5 and below 1; most bounds the
// tries. Its cost grows with n².
func Ask(n int, outcomes []Outcome, sure float64, most int) Answer {
	m := newModel(n, outcomes)
	now, _ := m.posterior()
	best := 0
	for i, p := range now {
		if p > now[best] {
			best = i
		}
	}
	a := Answer{Sure: now[best]}
	failed := 0
	for _, o := range outcomes {
		if o.Failed {
			failed++
		}
	}
	if all := now[0] + now[n] + now[2*n]; failed > 0 && failed < len(outcomes) && all >= now[best] { // three ways to say one thing
		a.Sure, best = all, 2*n
	}
	if best == 0 && failed == len(outcomes) || best == n && failed == 0 { // a rate for all at which nothing else was seen
		a.Sure += now[2*n]
	}
	switch {
	case best == 2*n:
		a.Kind = Random
	case best == 0:
		a.Kind = Everywhere
	case best == n:
		a.Kind = Nowhere
	case best < n:
		a.Kind, a.At = Found, best
	default:
		a.Kind, a.At = Mended, best-n
	}
	if len(outcomes) > 0 && 1-a.Sure <= (1-sure)/caution && m.seen(a, best) {
		return a
	}
	if len(outcomes) >= most {
		a.Kind = Undecided
		return a
	}
	a.Kind, a.Next = Open, m.next()
	return a
}

// seen says whether what is concluded was looked at: both sides of a place, both ends of
// a list.
func (m *model) seen(a Answer, best int) bool {
	switch a.Kind {
	case Found, Mended:
		return m.all[a.At-1] > 0 && m.all[a.At] > 0
	default:
		return m.all[0] > 0 && m.all[m.n-1] > 0
	}
}

// next is the candidate whose try is expected to leave the least doubt; of several that
// leave the same, the one that was tried least, then the newest. Once a candidate has
// answered both ways, each fourth try goes to the one that was tried least: what is true
// of one may be true of all.
func (m *model) next() int {
	tries, rare, unsteady := 0, m.n-1, false
	for i := m.n - 1; i >= 0; i-- {
		tries += m.all[i]
		unsteady = unsteady || m.fail[i] > 0 && m.fail[i] < m.all[i]
		if m.all[i] < m.all[rare] {
			rare = i
		}
	}
	if unsteady && tries%4 == 0 {
		return rare
	}
	best, least := m.n-1, math.Inf(1)
	for i := m.n - 1; i >= 0; i-- {
		var chance, left [2]float64
		for way, failed := range []bool{true, false} {
			then := m.copied()
			then.add(Outcome{i, failed})
			p, total := then.posterior()
			chance[way], left[way] = total, entropy(p)
		}
		doubt := (chance[0]*left[0] + chance[1]*left[1]) / (chance[0] + chance[1])
		if doubt < least-1e-9 || doubt < least+1e-9 && m.all[i] < m.all[best] {
			best, least = i, doubt
		}
	}
	return best
}

// entropy is how much is not known, in nats.
func entropy(p []float64) (h float64) {
	for _, x := range p {
		if x > 0 {
			h -= x * math.Log(x)
		}
	}
	return h
}
