package outcome

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/verdict"
)

var update = flag.Bool("update", false, "write what is read beside the files")

// short is a report in one line for each test.
func short(r Report) string {
	var b strings.Builder
	for _, t := range r.Tests {
		fmt.Fprintf(&b, "%s | %s | %s", t.Suite, t.Name, t.Verdict)
		if t.Seconds > 0 {
			fmt.Fprintf(&b, " %g", t.Seconds)
		}
		if t.Message != "" {
			fmt.Fprintf(&b, " %q", t.Message)
		}
		b.WriteByte('\n')
	}
	for _, p := range r.Problems {
		fmt.Fprintf(&b, "! %s\n", p)
	}
	if r.Cut {
		b.WriteString("! cut\n")
	}
	return b.String()
}

func reads(t *testing.T, src, want string) Report {
	t.Helper()
	r := Read([]byte(src), time.UTC)
	assert.Equal(t, strings.TrimPrefix(want, "\n"), short(r), src)
	return r
}

func TestJUnitAsItIsWritten(t *testing.T) {
	for name, c := range map[string][2]string{
		"nested suites": {`<testsuites><testsuite name="berths"><testsuite name="hold"><testcase name="three nights" time="0.5"/></testsuite>
			<testcase name="list"/></testsuite></testsuites>`, `
berths › hold | three nights | passed 0.5
berths | list | passed
`},
		"a class says more than the suite": {`<testsuite name="pytest"><testcase classname="tests.test_tides.TestTable" name="test_low[nb]"/>
			</testsuite>`, `
tests.test_tides.TestTable | test_low[nb] | passed
`},
		"one plain class for all says nothing": {`<testsuites><testsuite name="berth desk"><testcase name="a" classname="test"/>
			<testcase name="b" classname="test"/></testsuite></testsuites>`, `
berth desk | a | passed
berth desk | b | passed
`},
		"several roots": {`<?xml version="1.0"?><testsuite name="a"><testcase name="x"/></testsuite>
			<?xml version="1.0"?><testsuite name="b"><testcase name="x"/></testsuite>`, `
a | x | passed
b | x | passed
`},
		"failures and errors": {`<testsuite name="s"><testcase name="a"><failure message="low &amp; wet" type="Tide">at tide.js:3</failure>
			</testcase>
			<testcase name="b"><error type="Crash"/></testcase><testcase name="c"><failure><![CDATA[
  expected <1> & found 2
    at x]]></failure></testcase></testsuite>`, `
s | a | failed "low & wet"
s | b | failed "Crash"
s | c | failed "expected <1> & found 2"
`},
		"skipped, disabled, not run": {`<testsuite name="s"><testcase name="a"><skipped message="no crane"/></testcase>
			<testcase name="b" status="notrun" time="0"/><testcase name="c" status="run" result="suppressed"/><testcase name="d"><disabled/>
			</testcase>
			<testcase name="e"><skipped type="xfail">known to fail</skipped></testcase></testsuite>`, `
s | a | skipped "no crane"
s | b | skipped
s | c | skipped
s | d | skipped
s | e | skipped "known to fail"
`},
		"reruns and flaky ones": {`<testsuite name="s"><testcase name="a"><flakyFailure message="first time">x</flakyFailure></testcase>
			<testcase name="b"><failure message="at last"/><rerunFailure message="again"/></testcase></testsuite>`, `
s | a | flaky "first time"
s | b | failed "at last"
`},
		"failed, and then passed": {`<testsuite name="s"><testcase name="a" time="1"><failure message="m"/></testcase>
			<testcase name="a" time="2"/></testsuite>`, `
s | a | flaky 3 "m"
`},
		"passed, and the tear-down failed": {`<testsuite name="s"><testcase name="a"/><testcase name="a">
			<error message="failed on teardown"/></testcase></testsuite>`, `
s | a | failed "failed on teardown"
`},
		"a failing set-up of a suite": {`<testsuite name="s"><error message="no server"/></testsuite>`, `
s | the suite itself | failed "no server"
`},
		"times of many countries": {`<testsuite name="s"><testcase name="a" time="1,234.5"/><testcase name="b" time="1.234,5"/>
			<testcase name="c" time="0,25"/>
			<testcase name="d" time="2s"/><testcase name="e" time="-1"/><testcase name="f" time="NaN"/></testsuite>`, `
s | a | passed 1234.5
s | b | passed 1234.5
s | c | passed 0.25
s | d | passed 2
s | e | passed
s | f | passed
`},
		"without a name": {`<testsuite><testcase/></testsuite>`, `
 | test 1 without a name | passed
! 1:23: a testcase without a name
`},
		"characters that XML may not hold": {"<testsuite name=\"s\"><testcase name=\"a\x08b\">" +
			"<failure message=\"c&#8;d&#x1;&#65;\"/></testcase></testsuite>", `
s | a` + "\uFFFD" + `b | failed "c` + "\uFFFD" + `d` + "\uFFFD" + `A"
! 1: 3 characters that XML may not hold are shown as ` + "\uFFFD" + `
`},
		"Latin 1": {"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><testsuite name=\"h\xf8yvann\"><testcase name=\"\xe5\"/></testsuite>", `
høyvann | å | passed
`},
		"another encoding than it says": {"<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?><testsuite name=\"høyvann\"><testcase name=\"å\"/>" +
			"</testsuite>", `
høyvann | å | passed
`},
		"UTF-16": {"\xff\xfe<\x00t\x00e\x00s\x00t\x00c\x00a\x00s\x00e\x00 \x00n\x00a\x00m\x00e\x00=\x00'\x00\xe5\x00'\x00/\x00>\x00",
			"\n | å | passed\n"},
		"no end": {"<testsuite name=\"s\">\n<testcase name=\"a\"/>\n<testcase name=\"b\"><system-out>half",
			"\ns | a | passed\n! 3:36: the file ends in the middle\n! cut\n"},
		"other XML": {`<html><body/></html>`, "\n! 1:1: expected testsuites, testsuite or testcase, and there is none: this is no JUnit XML\n"},
		"empty": {" \n ",
			"\n! 1: the file is empty\n"},
		"no XML": {"Segmentation fault\n", "\n! 1:1: expected JUnit XML or TAP, found \"Segmentation fault\"\n"},
		"an entity": {`<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]><testsuite name="s"><testcase name="&e;"/>
			</testsuite>`, "\ns | &e; | passed\n"},
		"a long tag": {`<testsuite name="s"><testcase ` + strings.Repeat(`a="b" `, 300_000) + `/></testsuite>`, "\n" +
			"! 1:1048577: a tag of more than 1048576 bytes\n"},
		"deep nesting": {strings.Repeat("<testsuite>", 300), "\n! 1:2212: elements lie more than 200 deep in each other\n"},
	} {
		t.Run(name, func(t *testing.T) { reads(t, c[0], c[1]) })
	}
}

func TestWhatATestSaysBesides(t *testing.T) {
	r := Read([]byte(`<testsuite name="s" timestamp="2026-11-26T21:00:00" file="s.js"><testcase name="a" time="2" line="7"><system-out>
		here: [[ATTACHMENT|/tmp/x/low tide.png]] and [[ATTACHMENT|rel.txt|A file]]</system-out></testcase>
		<testcase name="b" time="1" file="b.js"><system-err>oh</system-err></testcase></testsuite>`), time.FixedZone("", 3600))
	require.Len(t, r.Tests, 2)
	a, b := r.Tests[0], r.Tests[1]
	assert.Equal(t, []string{"/tmp/x/low tide.png", "rel.txt"}, a.Attached)
	assert.Equal(t, "s.js", a.File)
	assert.Equal(t, 7, a.Line)
	assert.Equal(t, "2026-11-26T20:00:00Z", a.Began.UTC().Format(time.RFC3339))
	assert.Equal(t, "2026-11-26T20:00:02Z", b.Began.UTC().Format(time.RFC3339))
	assert.Equal(t, "b.js", b.File)
	assert.Equal(t, "oh", b.Output)
}

func TestTAPAsItIsWritten(t *testing.T) {
	for name, c := range map[string][2]string{
		"plain": {"1..4\nok 1 - high tide\nnot ok 2 low tide\nok 3 # SKIP no crane\nok\n", `
 | high tide | passed
 | low tide | failed
 | test 3 | skipped "no crane"
 | test 4 | passed
`},
		"blocks": {"TAP version 13\nnot ok 1 - berth\n  ---\n  message: 'expected 3'\n  severity: fail\n" +
			"  duration_ms: 12.5\n  at:\n    file: a.js\n    line: 3\n  ...\n1..1\n", `
 | berth | failed 0.0125 "expected 3"
`},
		"to do": {"1..2\nnot ok 1 - fees # TODO not yet\nok 2 - gate # TODO done already\n", `
 | fees | skipped "to do: not yet"
 | gate | passed
`},
		"subtests, told before": {"TAP version 14\n# Subtest: berths\n    # Subtest: hold\n        ok 1 - one\n" +
			"        not ok 2 - two\n        1..2\n    not ok 1 - hold\n    ok 2 - list\n    1..2\n" +
			"not ok 1 - berths\n1..1\n", `
berths › hold | one | passed
berths › hold | two | failed
berths | list | passed
`},
		"subtests, told after": {"    ok 1 - one\n    1..1\nok 1 - berths\n1..1\n",
			`
berths | one | passed
`},
		"a subtest that fails by itself": {"# Subtest: berths\n    ok 1 - one\n    1..1\nnot ok 1 - berths\n  ---\n" +
			"  error: tear-down\n  ...\n1..1\n", `
berths | one | passed
 | berths | failed "tear-down"
`},
		"bail-out": {"1..3\nok 1 - a\nBail out! the harbour is closed\nok 2 - b\n", `
 | a | passed
! 3: the tests bailed out: the harbour is closed
! cut
`},
		"fewer than planned": {"1..3\nok 1 - a\n", "\n | a | passed\n! 3: 3 tests were planned and 1 came\n! cut\n"},
		"no plan":            {"ok 1 - a\n", "\n | a | passed\n! 2: there is no plan: nobody knows whether these are all tests\n! cut\n"},
		"nothing to do":      {"1..0 # skip all closed\n", ""},
		"noise between":      {"starting …\n1..1\n  ok so far\nok 1 - a # time=250ms\nDone in 3 s\n", "\n | a | passed 0.25\n"},
		"escaped":            {"1..1\nok 1 - berth \\#3 # not a directive\n", "\n | berth #3 # not a directive | passed\n"},
		"wrong numbers":      {"1..2\nok 1 - a\nok 1 - b\n", "\n | a | passed\n | b | passed\n! 3: test number 1 comes as number 2\n"},
		"a block without end": {"1..1\nnot ok 1 - a\n  ---\n  message: m\n", `
 | a | failed "m"
! 3: a block that has no end
! cut
`},
	} {
		t.Run(name, func(t *testing.T) { reads(t, c[0], c[1]) })
	}
}

// Files of programs as they wrote them, each with what it says beside it.
func TestFilesOfRealPrograms(t *testing.T) {
	files, err := filepath.Glob("testdata/*.[xt][ma][lp]")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		t.Run(filepath.Base(f), func(t *testing.T) {
			src, err := os.ReadFile(f)
			require.NoError(t, err)
			got := short(Read(src, time.UTC))
			if *update {
				require.NoError(t, os.WriteFile(f+".txt", []byte(got), 0o600))
			}
			want, err := os.ReadFile(f + ".txt")
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
}

// Whatever comes, it is read to its end, and what is kept has bounds.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`<testsuites><testsuite name="a"><testcase name="b"><failure message="c">d</failure></testcase></testsuite></testsuites>`))
	f.Add([]byte("TAP version 14\n# Subtest: a\n    ok 1 - b\n      ---\n      x: 1\n      ...\n    1..1\nok 1 - a\n1..1\n"))
	f.Add([]byte("    ok\n        ok\nok\nnot ok # TODO\n"))
	f.Fuzz(func(t *testing.T, src []byte) {
		r := Read(src, time.UTC)
		seen := map[[2]string]bool{}
		for _, x := range r.Tests {
			assert.Contains(t, []verdict.Verdict{verdict.Passed, verdict.Failed, verdict.Flaky, verdict.Skipped}, x.Verdict)
			assert.LessOrEqual(t, len(x.Message), MaxMessage)
			assert.LessOrEqual(t, len(x.Detail), MaxDetail+1)
			assert.False(t, seen[[2]string{x.Suite, x.Name}], "%q twice", x.Name)
			seen[[2]string{x.Suite, x.Name}] = true
		}
		_, err := json.Marshal(r)
		require.NoError(t, err)
	})
}

func BenchmarkJUnit50000(b *testing.B) {
	var s strings.Builder
	s.WriteString(`<testsuites><testsuite name="berths">`)
	for i := range 50_000 {
		fmt.Fprintf(&s, `<testcase classname="harbour.berths" name="berth %d" time="0.01"><system-out>held</system-out></testcase>`, i)
	}
	s.WriteString(`</testsuite></testsuites>`)
	src := []byte(s.String())
	b.ReportAllocs()
	for b.Loop() {
		if n := len(Read(src, time.UTC).Tests); n != 50_000 {
			b.Fatal(n)
		}
	}
}
