package retain

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func file(name, project string, kind record.Kind, v verdict.Verdict, days float64, size int64) File {
	return File{Attempt: name, Name: name, Project: project, Kind: kind, Verdict: v, Size: size, At: now.Add(-time.Duration(days * 24 * float64(time.Hour)))}
}

func TestTheMostParticularRuleCounts(t *testing.T) {
	p := Policy{Rules: map[string][]Rule{"saltmarsh": {{Days: 10}, {Kind: record.Video, Days: 5}, {Verdict: verdict.Failed, Days: 0}, {Kind: record.Video, Verdict: verdict.Passed, Days: 1}}, Everywhere: {{Days: 2}}}}
	gone := map[string]string{}
	for _, d := range p.Sweep(now, []File{
		file("old log", "saltmarsh", record.Logs, verdict.Passed, 11, 1), file("log", "saltmarsh", record.Logs, verdict.Passed, 9, 1),
		file("film of a failure", "saltmarsh", record.Video, verdict.Failed, 900, 1), file("film of a pass", "saltmarsh", record.Video, verdict.Passed, 1.5, 1),
		file("film of a session", "saltmarsh", record.Video, verdict.Ended, 4, 1), file("elsewhere", "other", record.Logs, verdict.Failed, 3, 1),
	}) {
		gone[d.Name] = d.Why
	}
	assert.Equal(t, map[string]string{"old log": "older than the rule all=10 allows", "film of a pass": "older than the rule video:passed=1 allows", "elsewhere": "older than the rule all=2 allows"}, gone)
	assert.Len(t, Policy{}.Sweep(now, []File{file("a", "x", record.Video, verdict.Passed, 8, 1), file("b", "x", record.Video, verdict.Passed, 6, 1)}), 1, "a lab that has settled nothing keeps films of passes for a week")
}

func TestTheTotalTakesPassesFirst(t *testing.T) {
	p := Policy{Total: 100, Rules: map[string][]Rule{Everywhere: {}}}
	var names []string
	for _, d := range p.Sweep(now, []File{file("new pass", "x", record.Video, verdict.Passed, 1, 60), file("old failure", "x", record.Video, verdict.Failed, 9, 60), file("old pass", "x", record.Video, verdict.Passed, 8, 30)}) {
		names = append(names, d.Name)
	}
	assert.Equal(t, []string{"old pass", "new pass"}, names)
}

func TestRules(t *testing.T) {
	for _, s := range []string{"all=90", "passed=30", "video=14", "video:passed=7.5", "logs:lab-fault=0"} {
		r, err := Parse(s)
		require.NoError(t, err)
		assert.Equal(t, s, r.String())
		assert.NoError(t, r.Check())
	}
	for _, s := range []string{"", "video", "video=x", "video=-1", "film=3", "video:logs=3", "=3", "all=1e9"} {
		_, err := Parse(s)
		assert.Error(t, err, s)
	}
	assert.Equal(t, []Rule{{Days: 5}, {Kind: record.Video, Days: 3}}, Set([]Rule{{Kind: record.Video, Days: 9}, {Days: 5}}, Rule{Kind: record.Video, Days: 3}))
}

// After a sweep the rest is within the total, and a second sweep finds nothing.
func TestASweepIsDoneOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var files []File
		for i := range rapid.IntRange(0, 40).Draw(t, "n") {
			files = append(files, file(fmt.Sprint(i), rapid.SampledFrom([]string{"a", "b"}).Draw(t, "project"), rapid.SampledFrom(record.Kinds).Draw(t, "kind"),
				rapid.SampledFrom(verdict.All).Draw(t, "verdict"), rapid.Float64Range(0, 100).Draw(t, "age"), rapid.Int64Range(0, 1000).Draw(t, "size")))
		}
		p := Policy{Total: rapid.Int64Range(0, 5000).Draw(t, "total"), Rules: map[string][]Rule{"a": {{Days: rapid.Float64Range(0, 100).Draw(t, "days")}}}}
		doomed := map[string]bool{}
		for _, d := range p.Sweep(now, files) {
			require.False(t, doomed[d.Name], "named once")
			doomed[d.Name] = true
		}
		var left []File
		var size int64
		for _, f := range files {
			if !doomed[f.Name] {
				left = append(left, f)
				size += f.Size
			}
		}
		if p.Total > 0 {
			require.LessOrEqual(t, size, p.Total)
		}
		require.Empty(t, p.Sweep(now, left))
	})
}
