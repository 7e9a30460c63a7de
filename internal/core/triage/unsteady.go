package triage

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"parallelpane/internal/core/verdict"
)

// Trial is what one test came to in one combination, in one run.
type Trial struct {
	Run      int
	Bundle   string // of its files: a verdict that changes without them is unsteady
	Verdict  verdict.Verdict
	Attempts int
	TookMS   int64 // of the newest attempt
	Agent    string
	Hour     int // of the day at which its run was made, UTC
}

// Unsteady is how steady a test is in one combination.
type Unsteady struct {
	Trials  int     `json:"trials" description:"runs in which it passed, failed or was flaky"`
	Off     int     `json:"off" description:"of these, those in which it was flaky, or failed where it passed with the same files"`
	Rate    float64 `json:"rate" description:"off by trials"`
	Low     float64 `json:"low" description:"of the interval in which the rate is with 95 %, by Wilson"`
	High    float64 `json:"high"`
	WasteMS int64   `json:"waste_ms" description:"slot time of attempts that told nothing"`
	LastRun int     `json:"last_run" description:"in which it was off; 0 for never"`
	Trigger string  `json:"trigger" description:"what sets it off, as far as that is certain; else empty"`
	trials  []Trial
}

// Steadiness judges the trials of one test in one combination, oldest first. A failure is
// unsteady only where the same files passed too: those that always fail are plainly
// broken.
func Steadiness(trials []Trial) Unsteady {
	out := Unsteady{trials: trials}
	passed := map[string]bool{}
	for _, t := range trials {
		if t.Verdict == verdict.Passed || t.Verdict == verdict.Flaky {
			passed[t.Bundle] = true
		}
	}
	for _, t := range trials {
		switch t.Verdict {
		case verdict.Passed:
			out.Trials++
		case verdict.Flaky, verdict.Failed:
			out.Trials++
			if t.off(passed) {
				out.Off++
				out.LastRun = max(out.LastRun, t.Run)
				tries := int64(max(1, t.Attempts))
				if t.Verdict == verdict.Flaky {
					tries = max(1, tries-1)
				}
				out.WasteMS += tries * t.TookMS
			}
		}
	}
	if out.Trials > 0 {
		out.Rate = float64(out.Off) / float64(out.Trials)
	}
	out.Low, out.High = Wilson(out.Off, out.Trials)
	return out
}

func (t Trial) off(passed map[string]bool) bool {
	return t.Verdict == verdict.Flaky || t.Verdict == verdict.Failed && passed[t.Bundle]
}

// Wilson is the interval in which a rate lies with 95 %, of k among n (E. B. Wilson, JASA
// 22, 1927). Of nothing it is everything.
func Wilson(k, n int) (low, high float64) {
	if n == 0 {
		return 0, 1
	}
	const z = 1.959964
	p, m := float64(k)/float64(n), float64(n)
	mid := (p + z*z/(2*m)) / (1 + z*z/m)
	half := z / (1 + z*z/m) * math.Sqrt(p*(1-p)/m+z*z/(4*m*m))
	return math.Max(0, mid-half), math.Min(1, mid+half)
}

// Trigger looks for what sets unsteadiness off: an agent, or a part of the day, over the
// trials of all that are given, which are those of one test. "" where nothing is certain.
func Trigger(of []Unsteady) string {
	type side struct{ k, n int }
	agents, quarters := map[string]*side{}, map[string]*side{}
	all := side{}
	for _, u := range of {
		passed := map[string]bool{}
		for _, t := range u.trials {
			if t.Verdict == verdict.Passed || t.Verdict == verdict.Flaky {
				passed[t.Bundle] = true
			}
		}
		for _, t := range u.trials {
			if t.Verdict != verdict.Passed && t.Verdict != verdict.Flaky && t.Verdict != verdict.Failed {
				continue
			}
			k := 0
			if t.off(passed) {
				k = 1
			}
			all.k, all.n = all.k+k, all.n+1
			for name, in := range map[string]map[string]*side{t.Agent: agents, fmt.Sprintf("%02d:00 to %02d:59 UTC", t.Hour/6*6,
				t.Hour/6*6+5): quarters} {
				if name == "" {
					continue
				}
				if in[name] == nil {
					in[name] = &side{}
				}
				in[name].k, in[name].n = in[name].k+k, in[name].n+1
			}
		}
	}
	type found struct {
		lnP  float64
		text string
	}
	var best []found
	questions := math.Log(float64(max(1, len(agents)+len(quarters))))
	for how, in := range map[string]map[string]*side{"on agent ": agents, "from ": quarters} {
		if len(in) < 2 {
			continue
		}
		for name, s := range in {
			if lnP := lnTail(s.k, s.n, all.k, all.n) + questions; s.k >= 3 && lnP <= math.Log(Alpha) {
				best = append(best, found{lnP, fmt.Sprintf("%s%s: %d of %d, elsewhere %d of %d", how, name, s.k, s.n, all.k-s.k, all.n-s.n)})
			}
		}
	}
	if len(best) == 0 {
		return ""
	}
	slices.SortFunc(best, func(a, b found) int { return cmp.Or(cmp.Compare(a.lnP, b.lnP), cmp.Compare(a.text, b.text)) })
	return best[0].text
}
