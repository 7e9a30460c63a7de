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
var Defaults = []Rule{{Days: 90}, {Verdict: verdict.Passed, Days: 30}, {Kind: record.Video, Days: 30}, {Kind: record.Video,
	Verdict: verdict.Passed, Days: 7}}

// Parse reads a rule as people type it: video:passed=7, passed=30, video=14 or
// all=90; 0 days mean for ever.
func Parse(s string) (Rule, error) {
	what, days, ok := strings.Cut(s, "=")
	n, err := strconv.ParseFloat(days, 64)
	if !ok || err != nil || n < 0 || n > 36500 {
		return Rule{}, fmt.Errorf("%q is not a rule: expected what=DAYS such as all=90, passed=30, video=14 or video:passed=7; 0 days "+
			"mean for ever", s)
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

func (r Rule) speaksOf(h Heap) bool {
	return (r.Kind == "" || r.Kind == h.Kind) && (r.Verdict == "" || r.Verdict == h.Verdict)
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

// Heap is the files of one project, kind and verdict together.
type Heap struct {
	Project string
	Kind    record.Kind
	Verdict verdict.Verdict
	Files   int
	Bytes   int64
}

// Records is where a sweep finds files and takes them away, a few at a time.
type Records interface {
	// Oldest lists files of a heap whose attempts ended at a time or before, oldest
	// first, after the first skip; at most some hundred, none when there are no
	// more.
	Oldest(h Heap, before time.Time, skip int) ([]File, error)
	// Drop takes files away, and says whether they are gone: where they only
	// would be, Oldest goes on listing them.
	Drop([]Doomed) (gone bool, err error)
}

// dropped is how many files go at once.
const dropped = 30

// Sweep takes away the files that are to go: those whose time is over, and then,
// while the rest is more than the total, those of tests that passed before others
// and older before newer. Its cost is that of the heaps and of the files that go.
func (p Policy) Sweep(now time.Time, heaps []Heap, records Records) error {
	total := int64(0)
	piles := make([]*pile, len(heaps))
	for i, h := range heaps {
		x := &pile{heap: h, records: records, before: now}
		piles[i] = x
		total += h.Bytes
		if before, why := p.until(now, h); why != "" {
			swept, err := x.sweep(before, why)
			if total -= swept; err != nil {
				return err
			}
		}
	}
	if p.Total <= 0 || total <= p.Total {
		return nil
	}
	why := fmt.Sprintf("all files together may have %d bytes", p.Total)
	for _, passes := range []bool{true, false} {
		var some []*pile
		for _, x := range piles {
			if (rank(x.heap.Verdict) == 0) == passes {
				some = append(some, x)
			}
		}
		for total > p.Total {
			x, err := oldest(some)
			if err != nil {
				return err
			}
			if x == nil {
				break
			}
			total -= x.next[0].Size
			if err := x.drop(why); err != nil {
				return err
			}
		}
		for _, x := range some {
			if err := x.flush(); err != nil {
				return err
			}
		}
	}
	return nil
}

// pile is a heap on its way through a sweep.
type pile struct {
	heap    Heap
	records Records
	before  time.Time
	next    []File   // that were listed
	doomed  []Doomed // that are yet to be taken away
	stay    int      // that were taken away and are still listed
	empty   bool
}

// fill makes sure that there is a next file, unless there is none.
func (x *pile) fill() error {
	if len(x.next) > 0 || x.empty {
		return nil
	}
	if err := x.flush(); err != nil {
		return err
	}
	var err error
	x.next, err = x.records.Oldest(x.heap, x.before, x.stay)
	x.empty = len(x.next) == 0
	return err
}

// drop takes the next file away.
func (x *pile) drop(why string) error {
	x.doomed = append(x.doomed, Doomed{x.next[0], why})
	x.next = x.next[1:]
	if len(x.doomed) < dropped {
		return nil
	}
	return x.flush()
}

func (x *pile) flush() error {
	if len(x.doomed) == 0 {
		return nil
	}
	gone, err := x.records.Drop(x.doomed)
	if !gone {
		x.stay += len(x.doomed)
	}
	x.doomed = nil
	return err
}

// sweep takes every file away that ended before a time, and says how many bytes
// these had.
func (x *pile) sweep(before time.Time, why string) (bytes int64, err error) {
	until := x.before
	x.before = before
	for err = x.fill(); err == nil && !x.empty; err = x.fill() {
		bytes += x.next[0].Size
		if err = x.drop(why); err != nil {
			return bytes, err
		}
	}
	x.before, x.empty = until, false
	return bytes, err
}

// oldest is the pile with the oldest file; nil when all are empty.
func oldest(piles []*pile) (best *pile, err error) {
	for _, x := range piles {
		if err := x.fill(); err != nil {
			return nil, err
		}
		if !x.empty && (best == nil || older(x.next[0], best.next[0])) {
			best = x
		}
	}
	return best, nil
}

func older(a, b File) bool {
	return cmp.Or(a.At.Compare(b.At), strings.Compare(a.Attempt, b.Attempt), strings.Compare(a.Name, b.Name)) < 0
}

func rank(v verdict.Verdict) int {
	if v == verdict.Passed || v == verdict.Skipped {
		return 0
	}
	return 1
}

// until says until when the attempts of files ended whose time is over, and by
// which rule; "" when they are kept for ever.
func (p Policy) until(now time.Time, h Heap) (before time.Time, why string) {
	var best *Rule
	for _, r := range p.of(h.Project) {
		if r.speaksOf(h) && (best == nil || r.particular() > best.particular()) {
			best = &r
		}
	}
	if best == nil || best.Days == 0 {
		return time.Time{}, ""
	}
	return now.Add(-time.Duration(best.Days * 24 * float64(time.Hour))), "older than the rule " + best.String() + " allows"
}
