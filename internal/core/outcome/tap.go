package outcome

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"parallelpane/internal/core/verdict"
)

// The lines of TAP 13 and 14 (testanything.org), below their indentation.
var (
	tapVersion = regexp.MustCompile(`^TAP [Vv]ersion (\d+)\s*$`)
	tapPlan    = regexp.MustCompile(`^1\.\.(\d+)\s*(?:#\s*(.*))?$`)
	tapPoint   = regexp.MustCompile(`^(not )?ok\b(?:\s+(\d+))?(?:\s*(?:-\s*)?(.*))?$`)
	tapBail    = regexp.MustCompile(`^Bail out!\s*(.*)$`)
	tapName    = regexp.MustCompile(`^#\s*Subtest:\s*(.*)$`)
	tapWord    = regexp.MustCompile(`(?i)^(skip\S*|todo)\b[:\s]*(.*)$`)
	tapTime    = regexp.MustCompile(`(?i)^(?:time|duration)[=:]\s*([0-9.]+)\s*(ms|s)?\s*$`)
)

func looksLikeTAP(src []byte) bool {
	for line := range bytes.Lines(src) {
		l := strings.TrimSpace(string(line[:min(len(line), 4096)]))
		if tapVersion.MatchString(l) || tapPlan.MatchString(l) || tapPoint.MatchString(l) || tapBail.MatchString(l) {
			return true
		}
	}
	return false
}

// maxLevels bounds how deep subtests lie in each other.
const maxLevels = 50

// level is a stream of test points: the file's own, or a subtest's.
type level struct {
	indent  int
	name    string // of the subtest, so far as it is told before it
	points  int
	plan    int // -1 before it is told
	skipped string
	from    int // index of its first test in the report
	failing int
}

// tapReader reads TAP line by line.
type tapReader struct {
	report Report
	levels []*level
	named  string // by the comment that announces a subtest
	stood  int    // indentation of that comment
	last   int    // index of the newest test, for what follows it; -1 when nothing may
	at     int    // of that point's level
}

func readTAP(src []byte) Report {
	r := &tapReader{report: Report{Form: "tap"}, levels: []*level{{plan: -1}}, last: -1}
	lines := strings.Split(string(src), "\n")
	bailed := false
	for n := 0; n < len(lines) && !bailed; n++ {
		line := strings.TrimRight(lines[n], "\r")
		text := strings.TrimLeft(line, " ")
		indent := len(line) - len(text)
		switch {
		case text == "---" && r.last >= 0 && indent > r.at:
			n = r.block(lines, n, indent)
			continue
		case tapBail.MatchString(text):
			why := tapBail.FindStringSubmatch(text)[1]
			r.problem(n, "the tests bailed out%s", prefixed(": ", why))
			r.report.Cut, bailed = true, true
		default:
			if len(r.report.Tests) >= MaxTests {
				r.problem(n, "more than %d tests", MaxTests)
				bailed = true
				break
			}
			r.line(n, indent, text)
		}
	}
	for len(r.levels) > 1 {
		if !bailed {
			r.problem(len(lines)-1, "the subtest %q has no end", r.top().name)
		}
		r.report.Cut = true
		r.levels = r.levels[:len(r.levels)-1]
	}
	if !bailed {
		r.planned(len(lines) - 1)
	}
	return r.report
}

func prefixed(prefix, s string) string {
	if s == "" {
		return ""
	}
	return prefix + s
}

func (r *tapReader) problem(line int, format string, args ...any) {
	if len(r.report.Problems) < 100 {
		r.report.Problems = append(r.report.Problems, Problem{line + 1, 0, fmt.Sprintf(format, args...)})
	}
}

func (r *tapReader) top() *level { return r.levels[len(r.levels)-1] }

// push begins the subtest that was announced last, or one without a name.
func (r *tapReader) push(indent int) {
	r.levels = append(r.levels, &level{indent: indent, name: r.named, plan: -1, from: len(r.report.Tests)})
	r.named = ""
}

// planned holds the innermost stream against its plan.
func (r *tapReader) planned(line int) {
	switch l := r.top(); {
	case l.plan < 0:
		r.problem(line, "there is no plan: nobody knows whether these are all tests")
		r.report.Cut = true
	case l.points != l.plan:
		r.problem(line, "%d tests were planned and %d came", l.plan, l.points)
		r.report.Cut = r.report.Cut || l.points < l.plan
	}
}

// line takes a line that is no block and no bail-out.
func (r *tapReader) line(n, indent int, text string) {
	if found := tapName.FindStringSubmatch(text); found != nil {
		if r.named != "" && indent > r.stood && len(r.levels) <= maxLevels { // the one announced before has begun
			at := indent
			if r.stood > r.top().indent { // it was announced from within
				at = r.stood
			}
			r.push(at)
		}
		r.named, r.stood = strings.TrimSpace(found[1]), indent
		return
	}
	plan, point := tapPlan.FindStringSubmatch(text), tapPoint.FindStringSubmatch(text)
	if plan == nil && point == nil {
		return // a comment, a pragma, or what the tests print
	}
	if indent > r.top().indent {
		if indent-r.top().indent < 4 || len(r.levels) > maxLevels {
			return // what the tests print
		}
		r.push(indent)
	}
	ended := (*level)(nil)
	for len(r.levels) > 1 && indent < r.top().indent {
		r.planned(n - 1)
		ended = r.top()
		r.levels = r.levels[:len(r.levels)-1]
	}
	l := r.top()
	if plan != nil {
		count, err := strconv.Atoi(plan[1])
		switch {
		case err != nil || count > MaxTests:
			r.problem(n, "a plan of %s tests", plan[1])
		case l.plan >= 0:
			r.problem(n, "a second plan")
		default:
			l.plan, l.skipped = count, strings.TrimSpace(plan[2])
		}
		r.last = -1
		return
	}
	l.points++
	if number, err := strconv.Atoi(point[2]); err == nil && number != l.points {
		r.problem(n, "test number %d comes as number %d", number, l.points)
	}
	r.point(n, point[1] != "", point[3], l, ended)
}

// point takes a test point. One that ends a subtest stands for it: its tests are told,
// and the point itself where none of them says why it failed.
func (r *tapReader) point(n int, not bool, rest string, l, ended *level) {
	name, directive := described(rest)
	t := Test{Name: keep(name, maxName), Verdict: verdict.Passed, Suite: r.suite()}
	if t.Name == "" {
		t.Name = fmt.Sprintf("test %d", l.points)
	}
	if not {
		t.Verdict = verdict.Failed
	}
	if found := tapTime.FindStringSubmatch(directive); found != nil {
		t.Seconds = seconds(found[1])
		if found[2] == "ms" {
			t.Seconds /= 1000
		}
	} else if found := tapWord.FindStringSubmatch(directive); found != nil {
		if skip := strings.ToLower(found[1]) != "todo"; skip || not {
			t.Verdict, t.Message = verdict.Skipped, oneLine(found[2])
			if !skip {
				t.Message = oneLine("to do" + prefixed(": ", found[2]))
			}
		}
	}
	if t.Verdict == verdict.Failed {
		for i := len(r.levels) - 1; i >= 0; i-- {
			r.levels[i].failing++
		}
	}
	if ended != nil && len(r.report.Tests) > ended.from {
		if ended.name == "" {
			r.rename(ended, t.Name)
		}
		switch {
		case t.Verdict == verdict.Skipped: // with all that is in it
			for i := ended.from; i < len(r.report.Tests); i++ {
				if in := &r.report.Tests[i]; in.Verdict == verdict.Failed {
					in.Verdict, in.Message = verdict.Skipped, t.Message
				}
			}
		case t.Verdict != verdict.Failed || ended.failing > 0:
			r.last = -1
			return
		}
	}
	r.report.Tests = append(r.report.Tests, t)
	r.last, r.at = len(r.report.Tests)-1, l.indent
}

// rename puts the name of a subtest that was told after it before the suites of its tests.
func (r *tapReader) rename(l *level, name string) {
	depth := len(r.levels) // those around it
	for i := l.from; i < len(r.report.Tests); i++ {
		t := &r.report.Tests[i]
		parts := []string{}
		if t.Suite != "" {
			parts = strings.Split(t.Suite, separator)
		}
		at := min(len(parts), r.namedLevels(depth))
		parts = append(parts[:at], append([]string{name}, parts[at:]...)...)
		t.Suite = strings.Join(parts, separator)
	}
}

const separator = " › "

// namedLevels counts the levels that have a name so far, of the first ones.
func (r *tapReader) namedLevels(depth int) (n int) {
	for _, l := range r.levels[:depth] {
		if l.name != "" {
			n++
		}
	}
	return n
}

func (r *tapReader) suite() string {
	var path []string
	for _, l := range r.levels {
		if l.name != "" {
			path = append(path, l.name)
		}
	}
	return strings.Join(path, separator)
}

// described parts a test point's description from its directive, which begins at the
// first # that is not escaped and has a space before it.
func described(rest string) (name, directive string) {
	var b strings.Builder
	for i := 0; i < len(rest); i++ {
		switch c := rest[i]; {
		case c == '\\' && i+1 < len(rest) && (rest[i+1] == '#' || rest[i+1] == '\\'):
			i++
			b.WriteByte(rest[i])
		case c == '#' && (i == 0 || rest[i-1] == ' '):
			word := strings.TrimSpace(rest[i+1:])
			if tapWord.MatchString(word) || tapTime.MatchString(word) {
				return strings.TrimSpace(b.String()), word
			}
			b.WriteByte(c)
		default:
			b.WriteByte(c)
		}
	}
	return strings.TrimSpace(b.String()), ""
}

// block takes the YAML block that follows a test point, from line n on, and gives its last
// line.
func (r *tapReader) block(lines []string, n, indent int) int {
	end := n + 1
	for ; end < len(lines); end++ {
		if l := strings.TrimRight(lines[end], "\r"); strings.TrimSpace(l) == "..." && len(l)-len(strings.TrimLeft(l, " ")) == indent {
			break
		}
	}
	if end == len(lines) {
		r.problem(n, "a block that has no end")
		r.report.Cut = true
	}
	var raw strings.Builder
	for _, l := range lines[n+1 : end] {
		raw.WriteString(strings.TrimPrefix(strings.TrimRight(l, "\r"), strings.Repeat(" ", indent)) + "\n")
	}
	t := &r.report.Tests[r.last]
	var fields map[string]any
	text := keep(raw.String(), MaxDetail)
	if err := yaml.Unmarshal([]byte(text), &fields); err != nil {
		r.problem(n, "a block that is no YAML: %.200s", err)
	}
	for _, key := range []string{"duration_ms", "time_ms"} {
		if ms, ok := number(fields[key]); ok {
			t.Seconds = ms / 1000
		}
	}
	if t.Verdict == verdict.Failed {
		for _, key := range []string{"message", "error", "name", "failureType"} {
			if s, ok := fields[key].(string); ok && strings.TrimSpace(s) != "" && t.Message == "" {
				t.Message = oneLine(s)
			}
		}
		t.Detail = strings.TrimSpace(text)
	}
	if at, ok := fields["at"].(map[string]any); ok {
		t.File, _ = at["file"].(string)
		line, _ := number(at["line"])
		t.Line = int(line)
	}
	return end
}

func number(v any) (float64, bool) {
	switch n := v.(type) {
	case int:
		return float64(n), true
	case float64:
		return n, n >= 0 && n < 1e12
	}
	return 0, false
}
