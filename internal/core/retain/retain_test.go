package retain

import (
	"fmt"
	"slices"
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
	return File{Attempt: name, Name: name, Project: project, Kind: kind, Verdict: v, Size: size,
		At: now.Add(-time.Duration(days * 24 * float64(time.Hour)))}
}

// shelf is records in memory.
type shelf struct {
	files  []File
	dry    bool
	doomed []Doomed
}

func (x *shelf) heaps() (out []Heap) {
	for _, f := range x.files {
		i := slices.IndexFunc(out, func(h Heap) bool { return h.has(f) })
		if i < 0 {
			i = len(out)
			out = append(out, Heap{Project: f.Project, Kind: f.Kind, Verdict: f.Verdict})
		}
		out[i].Files, out[i].Bytes = out[i].Files+1, out[i].Bytes+f.Size
	}
	return out
}

func (h Heap) has(f File) bool {
	return h.Project == f.Project && h.Kind == f.Kind && h.Verdict == f.Verdict
}

func (x *shelf) Oldest(h Heap, before time.Time, skip int) (out []File, _ error) {
	for _, f := range x.files {
		if h.has(f) && !f.At.After(before) {
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b File) int {
		if older(a, b) {
			return -1
		}
		return 1
	})
	out = out[min(skip, len(out)):]
	return out[:min(3, len(out))], nil
}

func (x *shelf) Drop(doomed []Doomed) (bool, error) {
	x.doomed = append(x.doomed, doomed...)
	if !x.dry {
		x.files = slices.DeleteFunc(x.files, func(f File) bool { return slices.ContainsFunc(doomed, func(d Doomed) bool { return d.File == f }) })
	}
	return !x.dry, nil
}

// sweep is what a sweep of files takes away; a dry one must say the same.
func sweep(t require.TestingT, p Policy, files []File) []Doomed {
	dry := &shelf{files: slices.Clone(files), dry: true}
	require.NoError(t, p.Sweep(now, dry.heaps(), dry))
	wet := &shelf{files: slices.Clone(files)}
	require.NoError(t, p.Sweep(now, wet.heaps(), wet))
	require.Equal(t, wet.doomed, dry.doomed)
	return wet.doomed
}

// plainly is what a look at every file would take away.
func plainly(p Policy, files []File) (out []Doomed) {
	var left []File
	total := int64(0)
	for _, f := range files {
		if before, why := p.until(now, Heap{Project: f.Project, Kind: f.Kind, Verdict: f.Verdict}); why != "" && !f.At.After(before) {
			out = append(out, Doomed{f, why})
		} else {
			left = append(left, f)
			total += f.Size
		}
	}
	slices.SortFunc(left, func(a, b File) int {
		if rank(a.Verdict) != rank(b.Verdict) {
			return rank(a.Verdict) - rank(b.Verdict)
		}
		if older(a, b) {
			return -1
		}
		return 1
	})
	for _, f := range left {
		if p.Total > 0 && total > p.Total {
			total -= f.Size
			out = append(out, Doomed{f, fmt.Sprintf("all files together may have %d bytes", p.Total)})
		}
	}
	return out
}

func TestTheMostParticularRuleCounts(t *testing.T) {
	p := Policy{Rules: map[string][]Rule{"saltmarsh": {{Days: 10}, {Kind: record.Video, Days: 5}, {Verdict: verdict.Failed, Days: 0},
		{Kind: record.Video, Verdict: verdict.Passed, Days: 1}}, Everywhere: {{Days: 2}}}}
	gone := map[string]string{}
	for _, d := range sweep(t, p, []File{
		file("old log", "saltmarsh", record.Logs, verdict.Passed, 11, 1), file("log", "saltmarsh", record.Logs, verdict.Passed, 9, 1),
		file("film of a failure", "saltmarsh", record.Video, verdict.Failed, 900, 1), file("film of a pass", "saltmarsh",
			record.Video, verdict.Passed, 1.5, 1),
		file("film of a session", "saltmarsh", record.Video, verdict.Ended, 4, 1), file("elsewhere", "other", record.Logs, verdict.Failed, 3, 1),
	}) {
		gone[d.Name] = d.Why
	}
	assert.Equal(t, map[string]string{"old log": "older than the rule all=10 allows", "film of a pass": "older than the rule " +
		"video:passed=1 allows", "elsewhere": "older than the rule all=2 allows"}, gone)
	assert.Len(t, sweep(t, Policy{}, []File{file("a", "x", record.Video, verdict.Passed, 8, 1), file("b", "x", record.Video,
		verdict.Passed, 6, 1)}), 1, "a lab that has settled nothing keeps films of passes for a week")
}

func TestTheTotalTakesPassesFirst(t *testing.T) {
	p := Policy{Total: 100, Rules: map[string][]Rule{Everywhere: {}}}
	var names []string
	for _, d := range sweep(t, p, []File{file("new pass", "x", record.Video, verdict.Passed, 1, 60), file("old failure", "x", record.Video,
		verdict.Failed, 9, 60), file("old pass", "x", record.Video, verdict.Passed, 8, 30)}) {
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
	assert.Equal(t, []Rule{{Days: 5}, {Kind: record.Video, Days: 3}}, Set([]Rule{{Kind: record.Video, Days: 9}, {Days: 5}},
		Rule{Kind: record.Video, Days: 3}))
}

// After a sweep the rest is within the total, and a second sweep finds nothing.
func TestASweepIsDoneOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var files []File
		for i := range rapid.IntRange(0, 40).Draw(t, "n") {
			files = append(files, file(fmt.Sprint(i), rapid.SampledFrom([]string{"a", "b"}).Draw(t, "project"),
				rapid.SampledFrom(record.Kinds).Draw(t, "kind"),
				rapid.SampledFrom(verdict.All).Draw(t, "verdict"), rapid.Float64Range(0, 100).Draw(t, "age"),
				rapid.Int64Range(0, 1000).Draw(t, "size")))
		}
		p := Policy{Total: rapid.Int64Range(0, 5000).Draw(t, "total"),
			Rules: map[string][]Rule{"a": {{Days: rapid.Float64Range(0, 100).Draw(t, "days")}}}}
		doomed := map[string]bool{}
		went := sweep(t, p, files)
		for _, d := range went {
			require.False(t, doomed[d.Name], "named once")
			doomed[d.Name] = true
		}
		require.ElementsMatch(t, plainly(p, files), went)
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
		require.Empty(t, sweep(t, p, left))
	})
}
