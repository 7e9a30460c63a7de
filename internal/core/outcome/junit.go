package outcome

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/core/verdict"
)

// xmlReader reads JUnit XML, of which there is no standard: what it understands is what
// test programs are seen to write.
type xmlReader struct {
	dec    *xml.Decoder
	zone   *time.Location
	report Report
	suites []frame
	tests  []found
	open   []string // elements around the current one, outermost first
	test   *found   // the one whose element is open
	seen   bool     // an element of such a file
}

// frame is a suite whose element is open.
type frame struct {
	name    string
	file    string
	began   time.Time
	elapsed float64 // of its tests so far, in seconds
	failed  string  // what failed of the suite itself
}

// found is a test with what decides how it is called.
type found struct {
	Test
	class, path string
	again       bool // an earlier try failed
	known       bool // to fail, whatever it does
	failed      bool
	skipped     bool
}

// maxDepth bounds how deep elements lie in each other.
const maxDepth = 200

func readXML(src []byte, zone *time.Location) Report {
	c := &cleaner{src: src}
	r := &xmlReader{dec: xml.NewDecoder(c), zone: zone, report: Report{Form: "junit"}}
	r.dec.Strict = false // unknown entities stay as they are; nothing is fetched
	r.dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	err := r.read()
	if !errors.Is(err, io.EOF) {
		line, column := r.dec.InputPos()
		text := err.Error()
		if bad, ok := errors.AsType[*xml.SyntaxError](err); ok {
			text = bad.Msg
			r.report.Cut = strings.Contains(text, "EOF")
		}
		if r.report.Cut {
			text = "the file ends in the middle"
		}
		r.problem(line, column, "%s", text)
		if r.test != nil && !r.test.failed {
			r.test = nil // of which nobody knows how it would have gone on
		}
	}
	r.end()
	for len(r.suites) > 0 {
		r.endSuite()
	}
	if !r.seen {
		r.problem(1, 1, "expected testsuites, testsuite or testcase, and there is none: this is no JUnit XML")
	}
	if c.lost > 0 {
		r.problem(1, 0, "%d characters that XML may not hold are shown as \uFFFD", c.lost)
	}
	r.name()
	return r.report
}

func (r *xmlReader) problem(line, column int, format string, args ...any) {
	if len(r.report.Problems) < 100 {
		r.report.Problems = append(r.report.Problems, Problem{line, column, fmt.Sprintf(format, args...)})
	}
}

func (r *xmlReader) read() error {
	for {
		token, err := r.dec.Token()
		if err != nil {
			return err
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(r.open) >= maxDepth {
				return fmt.Errorf("elements lie more than %d deep in each other", maxDepth)
			}
			name := strings.ToLower(t.Name.Local)
			if err := r.start(name, t.Attr); err != nil {
				return err
			}
			r.open = append(r.open, name)
		case xml.EndElement:
			if len(r.open) > 0 {
				name := r.open[len(r.open)-1]
				r.open = r.open[:len(r.open)-1]
				switch name {
				case "testcase":
					r.end()
				case "testsuite":
					r.endSuite()
				}
			}
		case xml.CharData:
			r.text(string(t))
		}
	}
}

// start takes the beginning of an element.
func (r *xmlReader) start(name string, attrs []xml.Attr) error {
	get := func(names ...string) string {
		for _, n := range names {
			for _, a := range attrs {
				if strings.EqualFold(a.Name.Local, n) && a.Value != "" {
					return a.Value
				}
			}
		}
		return ""
	}
	in := ""
	if len(r.open) > 0 {
		in = r.open[len(r.open)-1]
	}
	switch {
	case name == "testsuites":
		r.seen = true
	case name == "testsuite":
		r.seen = true
		r.end()
		began := r.when(get("timestamp"))
		r.suites = append(r.suites, frame{name: keep(strings.TrimSpace(get("name")), maxName), file: get("file", "filepath"), began: began})
	case name == "testcase":
		r.seen = true
		r.end()
		if len(r.tests) >= MaxTests {
			return fmt.Errorf("more than %d tests", MaxTests)
		}
		r.begin(get)
	case in == "testcase" && r.test != nil:
		r.about(name, get)
	case in == "testsuite" && (name == "failure" || name == "error") && len(r.suites) > 0:
		f := &r.suites[len(r.suites)-1]
		f.failed = oneLine(get("message", "type"))
		if f.failed == "" {
			f.failed = "the suite has an " + name
		}
	}
	return nil
}

func (r *xmlReader) when(text string) time.Time {
	text = strings.TrimSpace(text)
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999", time.RFC1123,
		time.RFC1123Z,
		"2006-01-02T15:04:05.999999999Z0700"} {
		if at, err := time.ParseInLocation(form, text, r.zone); err == nil {
			return at
		}
	}
	return time.Time{}
}

// begin takes a testcase.
func (r *xmlReader) begin(get func(...string) string) {
	t := &found{class: keep(strings.TrimSpace(get("classname", "class")), maxName)}
	t.Name = keep(strings.TrimSpace(get("name")), maxName)
	if t.Name == "" {
		t.Name = fmt.Sprintf("test %d without a name", len(r.tests)+1)
		line, column := r.dec.InputPos()
		r.problem(line, column, "a testcase without a name")
	}
	t.Seconds, t.File = seconds(get("time", "duration")), get("file", "filepath")
	t.Line, _ = strconv.Atoi(get("line", "lineno"))
	var path []string
	for _, s := range r.suites {
		if s.name != "" {
			path = append(path, s.name)
		}
	}
	t.path = strings.Join(path, separator)
	if n := len(r.suites); n > 0 {
		s := &r.suites[n-1]
		if t.File == "" {
			t.File = s.file
		}
		if !s.began.IsZero() {
			t.Began = s.began.Add(time.Duration(s.elapsed * float64(time.Second)))
		}
		s.elapsed += t.Seconds
	}
	if at := r.when(get("timestamp", "started-at")); !at.IsZero() {
		t.Began = at
	}
	switch strings.ToLower(get("status", "result")) {
	case "notrun", "disabled", "skipped", "skip", "ignored", "suppressed", "pending":
		t.skipped = true
	case "failed", "failure", "fail", "error", "broken":
		t.failed = true
	}
	if strings.EqualFold(get("result"), "suppressed") || strings.EqualFold(get("success"), "false") {
		t.skipped, t.failed = strings.EqualFold(get("result"), "suppressed"), strings.EqualFold(get("success"), "false")
	}
	r.test = t
}

// about takes an element of the open testcase.
func (r *xmlReader) about(name string, get func(...string) string) {
	t := r.test
	switch name {
	case "failure", "error":
		if (!t.failed || t.Message == "") && !t.known {
			t.Message = oneLine(get("message"))
			if kind := get("type"); t.Message == "" {
				t.Message = oneLine(kind)
			}
		}
		if t.failed && t.Detail != "" {
			t.Detail += "\n"
		}
		t.failed = true
	case "skipped", "disabled", "ignored":
		t.skipped = true
		if kind := strings.ToLower(get("type")); kind == "todo" || strings.HasSuffix(kind, "xfail") {
			t.known = true
		}
		if !t.failed {
			t.Message = oneLine(get("message"))
		}
	case "rerunfailure", "rerunerror", "flakyfailure", "flakyerror", "rerun":
		t.again = true
		if t.Message == "" && !t.failed {
			t.Message = oneLine(get("message", "type"))
		}
	}
}

// text takes what stands in an element.
func (r *xmlReader) text(s string) {
	n := len(r.open)
	if r.test == nil || n < 2 || r.open[n-2] != "testcase" || strings.TrimSpace(s) == "" {
		return
	}
	t := r.test
	switch r.open[n-1] {
	case "failure", "error":
		t.Detail = keep(t.Detail+s, MaxDetail)
	case "skipped":
		if t.Message == "" {
			first, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
			t.Message = oneLine(first)
		}
	case "system-out", "system-err":
		t.Output = keep(t.Output+s, MaxDetail)
		for _, m := range named.FindAllStringSubmatch(s, -1) {
			if path := strings.TrimSpace(m[1]); len(t.Attached) < maxAttached && !slices.Contains(t.Attached, path) {
				t.Attached = append(t.Attached, path)
			}
		}
	}
}

// named is how test programs name files in a test's output.
var named = regexp.MustCompile(`\[\[ATTACHMENT\|([^\]|]{1,1000})(?:\|[^\]]*)?\]\]`)

// end takes the end of the open testcase.
func (r *xmlReader) end() {
	t := r.test
	if t == nil {
		return
	}
	r.test = nil
	t.Detail = strings.TrimSpace(t.Detail)
	switch {
	case t.failed && !t.known:
		t.Verdict = verdict.Failed
		if t.Message == "" {
			first, _, _ := strings.Cut(t.Detail, "\n")
			t.Message = oneLine(first)
		}
	case t.skipped:
		t.Verdict = verdict.Skipped
	case t.again:
		t.Verdict = verdict.Flaky
	default:
		t.Verdict, t.Message = verdict.Passed, ""
	}
	r.tests = append(r.tests, *t)
}

// endSuite takes the end of a suite. One that failed itself, such as in what sets it up,
// is told as a test.
func (r *xmlReader) endSuite() {
	r.end()
	if len(r.suites) == 0 {
		return
	}
	f := r.suites[len(r.suites)-1]
	r.suites = r.suites[:len(r.suites)-1]
	if len(r.suites) > 0 {
		r.suites[len(r.suites)-1].elapsed += f.elapsed
	}
	if f.failed != "" {
		t := Test{Name: "the suite itself", File: f.file, Verdict: verdict.Failed, Message: f.failed}
		r.tests = append(r.tests, found{path: f.name, Test: t})
	}
}

// name gives each test its suite: its class; or the suites around it where there is no
// class, or where it is the same word for the tests of several suites, or just "test", and tells nothing.
func (r *xmlReader) name() {
	same, several := true, false
	for _, t := range r.tests {
		same = same && t.class == r.tests[0].class
		several = several || t.path != r.tests[0].path
	}
	r.report.Tests = make([]Test, 0, len(r.tests))
	for _, t := range r.tests {
		if t.Suite = t.class; t.class == "" || t.class == "test" || same && several {
			t.Suite = t.path
		}
		r.report.Tests = append(r.report.Tests, t.Test)
	}
}

// seconds reads a time as programs write it: 1.5, 1,234.5, 1.234,5, 0.002s; 0 for what is
// none.
func seconds(text string) float64 {
	text = strings.TrimSuffix(strings.TrimSpace(text), "s")
	dot, comma := strings.LastIndexByte(text, '.'), strings.LastIndexByte(text, ',')
	switch {
	case comma > dot: // a decimal comma
		text = strings.ReplaceAll(text[:comma], ".", "") + "." + text[comma+1:]
	default:
		text = strings.ReplaceAll(text, ",", "")
	}
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || !(n >= 0 && n < 1e9) {
		return 0
	}
	return n
}
