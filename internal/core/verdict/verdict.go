// Package verdict says how a test, a pane and a run ended, and how many small
// endings add up to a large one.
package verdict

import (
	"fmt"
	"slices"
	"strings"
)

// Verdict is how a test ended. The zero value means that it has not.
type Verdict string

const (
	Pending     Verdict = ""
	Passed      Verdict = "passed"
	Failed      Verdict = "failed"      // the product or the test is at fault
	Flaky       Verdict = "flaky"       // failed, then passed when run again
	Aside       Verdict = "aside"       // failed, of a test that was set aside: it is shown and turns nothing red
	LabFault    Verdict = "lab-fault"   // the lab is at fault: nothing was learnt about the product
	Skipped     Verdict = "skipped"     // nobody tried: cancelled, or excluded by a condition
	Unsupported Verdict = "unsupported" // no agent could ever run it
	Ended       Verdict = "ended"       // a session of somebody else's runner, which never said how its test went
)

// All lists the verdicts from the worst to the best, the order in which they
// are shown and rolled up.
var All = []Verdict{Failed, LabFault, Flaky, Aside, Ended, Unsupported, Skipped, Passed}

// Words is the verdict as people read it: "lab fault", "set aside", and "open" while
// there is none.
func (v Verdict) Words() string {
	switch v {
	case Pending:
		return "open"
	case Aside:
		return "set aside"
	}
	return strings.ReplaceAll(string(v), "-", " ")
}

// Parse reads a verdict written by a person.
func Parse(s string) (Verdict, error) {
	if v := Verdict(s); slices.Contains(All, v) {
		return v, nil
	}
	return Pending, fmt.Errorf("unknown verdict %q: use one of %v", s, All)
}

// Counts is how many tests ended with each verdict.
type Counts map[Verdict]int

// Total is the number of tests counted, pending ones included.
func (c Counts) Total() int {
	n := 0
	for _, k := range c {
		n += k
	}
	return n
}

// Over rolls verdicts up: the worst one present, or Pending while any test is.
// Skipped and unsupported tests say nothing about the product, and those set aside are
// not to decide, so they do so only when there is nothing else.
func (c Counts) Over() Verdict {
	if c[Pending] > 0 {
		return Pending
	}
	for _, v := range []Verdict{Failed, LabFault, Flaky, Ended, Passed, Aside, Unsupported, Skipped} {
		if c[v] > 0 {
			return v
		}
	}
	return Pending
}

// OfAttempts gives the verdict of a test from its attempts, oldest first. What
// the product did outweighs what the lab did: a lab fault counts only when
// no attempt got as far as a pass or a failure.
func OfAttempts(attempts []Verdict) Verdict {
	failed, last := false, Pending
	for _, v := range attempts {
		switch v {
		case Failed:
			failed, last = true, Failed
		case Passed:
			last = Passed
		case Flaky: // whoever ran it tried it again by itself
			failed, last = true, Passed
		default:
			if last == Pending || last == LabFault {
				last = v
			}
		}
	}
	if failed && last == Passed {
		return Flaky
	}
	return last
}

// Exit codes of the command line.
const (
	ExitPassed      = 0
	ExitFailed      = 1
	ExitUsage       = 2
	ExitLab         = 3
	ExitInterrupted = 130
)

// ExitCode is what a CI job should see for a run with these counts: a failure
// of the product outweighs lab trouble, and a run that tried nothing, or of whose
// tests nobody said how they went, is lab trouble, since green would be a lie.
func (c Counts) ExitCode() int {
	switch {
	case c[Failed] > 0:
		return ExitFailed
	case c[LabFault] > 0 || c[Pending] > 0 || c[Ended] > 0:
		return ExitLab
	case c[Passed]+c[Flaky]+c[Aside] == 0:
		return ExitLab
	}
	return ExitPassed
}
