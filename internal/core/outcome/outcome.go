// Package outcome reads what test programs write of their tests: JUnit XML as it is
// written in the wild, and TAP 13 and 14. It is exact in what a test came to and tolerant
// in how that is said; what it cannot make sense of it says with line and column, and it
// keeps what stands before.
package outcome

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/core/verdict"
)

// Test is one test as a result file tells it.
type Test struct {
	Suite   string          `json:"suite"` // class, package, or the suites around it, the outermost first
	Name    string          `json:"name"`
	Verdict verdict.Verdict `json:"verdict"` // passed, failed, flaky or skipped
	Seconds float64         `json:"seconds"` // 0 where the file does not say
	Message string          `json:"message"` // of the failure, or why it was skipped; at most MaxMessage bytes

	File   string    `json:"file,omitempty"`   // of the test's source
	Line   int       `json:"line,omitempty"`   // in it
	Began  time.Time `json:"began,omitzero"`   // as far as the file says; the zero time where it does not
	Detail string    `json:"detail,omitempty"` // a stack and the like, at most MaxDetail bytes
	Output string    `json:"output,omitempty"` // of the test alone, at most MaxDetail bytes
	// Attached are paths of files that the test's output names.
	Attached []string `json:"attached,omitempty"`
}

// Bounds of what is kept of one test, in bytes, and of one file.
const (
	MaxMessage  = 4 << 10
	MaxDetail   = 64 << 10
	MaxFile     = 64 << 20
	MaxTests    = 200_000
	maxAttached = 100
	maxName     = 2 << 10
)

// Problem is something that a file says and that makes no sense, or that it leaves out.
type Problem struct {
	Line   int    `json:"line"`   // from 1
	Column int    `json:"column"` // in bytes, from 1; 0 means the whole line
	Text   string `json:"text"`
}

func (p Problem) String() string {
	if p.Column > 0 {
		return fmt.Sprintf("%d:%d: %s", p.Line, p.Column, p.Text)
	}
	return fmt.Sprintf("%d: %s", p.Line, p.Text)
}

// Report is what one file says.
type Report struct {
	Form     string    `json:"form"` // junit or tap
	Tests    []Test    `json:"tests"`
	Problems []Problem `json:"problems"`
	// Cut says that the file ends before its tests do: they stopped half-way.
	Cut bool `json:"cut"`
}

// Counts are the tests by verdict.
func (r Report) Counts() verdict.Counts {
	out := verdict.Counts{}
	for _, t := range r.Tests {
		out[t.Verdict]++
	}
	return out
}

// Read reads a file by what it looks like: JUnit XML begins with a tag, TAP has lines of
// its own. A file that is neither has no tests and one problem. Times without a zone are
// of the one given.
func Read(src []byte, zone *time.Location) Report {
	if len(src) > MaxFile {
		return Report{Tests: []Test{}, Problems: []Problem{{1, 0, fmt.Sprintf("the file has %d bytes; at most %d are read", len(src), MaxFile)}}}
	}
	text, odd := decoded(src)
	var r Report
	switch first := bytes.TrimLeft(text, " \t\r\n"); {
	case len(first) == 0:
		r = Report{Problems: []Problem{{1, 0, "the file is empty"}}}
	case first[0] == '<':
		r = readXML(text, zone)
	case looksLikeTAP(text):
		r = readTAP(text)
	default:
		r = Report{Problems: []Problem{{1, 1, "expected JUnit XML or TAP, found " + fmt.Sprintf("%.40q", firstLine(first))}}}
	}
	if odd != "" {
		r.Problems = append(r.Problems, Problem{1, 0, odd})
	}
	slices.SortStableFunc(r.Problems, func(a, b Problem) int { return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column)) })
	r.Tests = once(r.Tests)
	if r.Problems == nil {
		r.Problems = []Problem{}
	}
	return r
}

func firstLine(b []byte) string {
	line, _, _ := bytes.Cut(b, []byte("\n"))
	return string(bytes.TrimRight(line, "\r"))
}

// once joins what a file says of one test in several places, in the order in which it
// says it. The last word counts: a test that failed and then passed is flaky, one that
// passed and whose tear-down then failed has failed.
func once(tests []Test) []Test {
	type key struct{ suite, name string }
	at := map[key]int{}
	out := make([]Test, 0, len(tests))
	for _, t := range tests {
		k := key{t.Suite, t.Name}
		i, again := at[k]
		if !again {
			at[k] = len(out)
			out = append(out, t)
			continue
		}
		first := &out[i]
		first.Seconds += t.Seconds
		first.Attached = append(first.Attached, t.Attached...)
		first.Output = keep(first.Output+t.Output, MaxDetail)
		switch {
		case t.Verdict == verdict.Failed:
			first.Message, first.Detail = cmp.Or(t.Message, first.Message), cmp.Or(t.Detail, first.Detail)
			first.Verdict = verdict.Failed
		case t.Verdict == verdict.Flaky, t.Verdict == verdict.Passed && first.Verdict == verdict.Failed:
			first.Verdict = verdict.Flaky
		case t.Verdict == verdict.Passed && first.Verdict == verdict.Skipped:
			first.Verdict, first.Message = verdict.Passed, ""
		}
	}
	return out
}

// keep is the beginning of a text, whole characters of it.
func keep(s string, most int) string {
	if len(s) <= most {
		return s
	}
	cut := most - len("…")
	for cut > 0 && s[cut]&0xC0 == 0x80 {
		cut--
	}
	return s[:cut] + "…"
}

// oneLine is a text as a message: without the space around it, with what is more than its
// bound left out.
func oneLine(s string) string { return keep(strings.TrimSpace(s), MaxMessage) }
