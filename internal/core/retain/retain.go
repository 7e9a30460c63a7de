// Package retain decides which recorded files are to go: by rules about
// project, kind, verdict and age, and by how much there may be in all. Verdicts
// and steps are never its subject.
package retain

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
)

// Rule says for how long files of a kind are kept. The empty kind and the empty
// verdict stand for all. Of the rules that speak of a file the most particular
// counts: one that names its kind and its verdict, then one that names its
// verdict, then one that names its kind.
type Rule struct {
	Kind    record.Kind     `json:"kind,omitempty"`
	Verdict verdict.Verdict `json:"verdict,omitempty"`
	Days    float64         `json:"days"` // 0 means for ever
}

// Everywhere is the project whose rules hold where a project has none of its
// own.
const Everywhere = "*"

// Defaults are the rules of a lab that has settled nothing: films of tests that
// passed are looked at within days or never.
var Defaults = []Rule{{Days: 90}, {Verdict: verdict.Passed, Days: 30}, {Kind: record.Video, Days: 30}, {Kind: record.Video, Verdict: verdict.Passed, Days: 7}}

// Parse reads a rule as people type it: video:passed=7, passed=30, video=14 or
// all=90; 0 days mean for ever.
func Parse(s string) (Rule, error) {
	what, days, ok := strings.Cut(s, "=")
	n, err := strconv.ParseFloat(days, 64)
	if !ok || err != nil || n < 0 || n > 36500 {
		return Rule{}, fmt.Errorf("%q is not a rule: expected what=DAYS such as all=90, passed=30, video=14 or video:passed=7; 0 days mean for ever", s)
	}
	r := Rule{Days: n}
	for _, word := range strings.Split(what, ":") {
		switch {
		case word == "all":
		case slices.Contains(record.Kinds, record.Kind(word)) && r.Kind == "":
			r.Kind = record.Kind(word)
		case slices.Contains(verdict.All, verdict.Verdict(word)) && r.Verdict == "":
			r.Verdict = verdict.Verdict(word)
		default:
			return Rule{}, fmt.Errorf("%q is neither a kind (%v) nor a verdict (%v), or one of them twice", word, record.Kinds, verdict.All)
		}
	}
	return r, nil
}

func (r Rule) String() string {
	parts := slices.DeleteFunc([]string{string(r.Kind), string(r.Verdict)}, func(s string) bool { return s == "" })
	if len(parts) == 0 {
		parts = []string{"all"}
	}
	return strings.Join(parts, ":") + "=" + strconv.FormatFloat(r.Days, 'g', -1, 64)
}

// Check says what is wrong with a rule.
func (r Rule) Check() error {
	_, err := Parse(r.String())
	return err
}

func (r Rule) speaksOf(f File) bool {
	return (r.Kind == "" || r.Kind == f.Kind) && (r.Verdict == "" || r.Verdict == f.Verdict)
}

// particular orders rules: a verdict says more than a kind.
func (r Rule) particular() int {
	n := 0
	if r.Verdict != "" {
		n += 2
	}
	if r.Kind != "" {
		n++
	}
	return n
}

// Set puts rules in the place of those that speak of the same.
func Set(rules []Rule, more ...Rule) []Rule {
	out := slices.Clone(rules)
	for _, r := range more {
		out = slices.DeleteFunc(out, func(o Rule) bool { return o.Kind == r.Kind && o.Verdict == r.Verdict })
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Rule) int { return cmp.Or(a.particular()-b.particular(), cmp.Compare(a.String(), b.String())) })
	return out
}

// File is a recorded file.
type File struct {
	Attempt string
	Name    string
	Project string
	Kind    record.Kind
	Verdict verdict.Verdict
	Size    int64 // bytes
	At      time.Time
}

// Doomed is a file that is to go, with the reason.
type Doomed struct {
	File
	Why string
}

// Policy is what is kept.
type Policy struct {
	Rules map[string][]Rule // by project
	Total int64             // bytes that all files may have together; 0 means no bound
}

// of finds the rules of a project.
func (p Policy) of(project string) []Rule {
	if own, ok := p.Rules[project]; ok {
		return own
	}
	if all, ok := p.Rules[Everywhere]; ok {
		return all
	}
	return Defaults
}

// Sweep lists the files that are to go, oldest first: those whose time is over,
// and then, while the rest is more than the total, those of tests that passed
// before others and older before newer. Its cost is that of sorting the files.
func (p Policy) Sweep(now time.Time, files []File) (out []Doomed) {
	sorted := slices.Clone(files)
	slices.SortFunc(sorted, func(a, b File) int {
		return cmp.Or(a.At.Compare(b.At), strings.Compare(a.Attempt, b.Attempt), strings.Compare(a.Name, b.Name))
	})
	var left []File
	var total int64
	for _, f := range sorted {
		if why := p.over(now, f); why != "" {
			out = append(out, Doomed{f, why})
			continue
		}
		left = append(left, f)
		total += f.Size
	}
	if p.Total <= 0 || total <= p.Total {
		return out
	}
	slices.SortStableFunc(left, func(a, b File) int { return rank(a) - rank(b) })
	for _, f := range left {
		if total <= p.Total {
			break
		}
		total -= f.Size
		out = append(out, Doomed{f, fmt.Sprintf("all files together may have %d bytes", p.Total)})
	}
	return out
}

func rank(f File) int {
	if f.Verdict == verdict.Passed || f.Verdict == verdict.Skipped {
		return 0
	}
	return 1
}

// over says why a file's time is over; "" when it is not.
func (p Policy) over(now time.Time, f File) string {
	var best *Rule
	for _, r := range p.of(f.Project) {
		if r.speaksOf(f) && (best == nil || r.particular() > best.particular()) {
			best = &r
		}
	}
	if best == nil || best.Days == 0 || now.Sub(f.At) < time.Duration(best.Days*24*float64(time.Hour)) {
		return ""
	}
	return "older than the rule " + best.String() + " allows"
}
