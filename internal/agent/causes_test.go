package agent_test

import (
	"fmt"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
)

// What the failures of a run come from is told, and what is new of it, over runs of one
// suite: a cause that is new, known, gone and back again.
func TestCausesOverRuns(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 2)
	run := func(fails ...string) api.Run {
		files := map[string]string{}
		for _, name := range []string{"a", "b", "c", "d"} {
			files["t/"+name+".sh"] = "true"
		}
		for _, name := range fails {
			files["t/"+name+".sh"] = fmt.Sprintf("echo 'the tide table is empty at %d:15'; exit 1", 3+len(fails))
		}
		return o.carry("    command: sh {file}\n    cases: [t/*.sh]\n    results: exit\n", files, nil, 0)
	}
	causes := func(r api.Run, runs int) (got api.Causes) { // earlier runs are on record a moment after their ends
		o.until(func() bool {
			var err error
			got, err = o.svc.Causes(t.Context(), r.Number)
			require.NoError(t, err)
			return len(got.Causes) == 0 || got.Causes[0].Runs == runs
		})
		return got
	}
	green := run()
	assert.Empty(t, causes(green, 0).Causes)
	first := run("a", "b")
	got := causes(first, 1)
	require.Len(t, got.Causes, 1)
	assert.Equal(t, 2, got.Failed)
	c := got.Causes[0]
	assert.Equal(t, "exit code 1: the tide table is empty at …", c.Title)
	assert.Equal(t, []any{api.NewCause, true, 1, first.Number}, []any{c.News, c.SinceGreen, c.Runs, c.First.Run})
	assert.Equal(t, green.Number, got.Green)
	assert.Equal(t, first.Request.Bundle, c.First.Bundle)

	second := run("a", "b", "c")
	c = causes(second, 2).Causes[0]
	assert.Equal(t, []any{api.KnownCause, 2, first.Number, second.Number}, []any{c.News, c.Runs, c.First.Run, c.Last.Run})
	third := run()
	fourth := run("a")
	c = causes(fourth, 3).Causes[0]
	assert.Equal(t, []any{api.BackAgain, 3, false}, []any{c.News, c.Runs, c.SinceGreen}, "it came before the last green run")

	against := func(was, is string) (api.Compared, error) {
		return o.svc.Compare(t.Context(), api.CompareFilter{Was: was, Is: is})
	}
	number := func(r api.Run) string { return strconv.Itoa(r.Number) }
	between, err := against(number(first), number(second))
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("#%d against #%d: 1 broke (1 cause), 2 fail as before", second.Number, first.Number), between.Words)
	assert.Equal(t, "t/c.sh", between.Broke[0].Test)
	between, err = against(number(second), number(third))
	require.NoError(t, err)
	assert.Len(t, between.Mended, 3)
	assert.Empty(t, between.Causes)
	_, err = against("1000", number(third))
	assert.ErrorContains(t, err, "there is no run 1000")

	all, err := o.svc.Unsteady(t.Context(), api.UnsteadyFilter{})
	require.NoError(t, err)
	assert.Empty(t, all, "what fails with its files is broken, not unsteady")
}

// A test that passes only when it is run again is unsteady; one that always fails is not.
func TestUnsteadyOverRuns(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 2)
	files := map[string]string{"t/all.sh": `cat > $1 <<'END'
<testsuite><testcase name="steady"/><testcase name="broken"><failure message="no"/></testcase>
<testcase name="odd"><flakyFailure message="late"/></testcase></testsuite>
END
`}
	for range 3 {
		o.carry("    command: sh {file} {results}\n    cases: [t/*.sh]\n", files, nil, 0)
	}
	var all []api.UnsteadyTest
	o.until(func() bool { // the end of the last run is on record a moment later
		var err error
		all, err = o.svc.Unsteady(t.Context(), api.UnsteadyFilter{Project: "saltmarsh", Suite: "s"})
		require.NoError(t, err)
		return len(all) == 1 && len(all[0].In) == 1 && all[0].In[0].Trials == 3
	})
	u := all[0]
	assert.Equal(t, "t/all.sh › odd", u.Test)
	require.Len(t, u.In, 1)
	assert.Equal(t, []any{3, 3, "yyy"}, []any{u.In[0].Off, u.In[0].Trials, u.In[0].Strip})
	assert.Equal(t, 1.0, u.In[0].High)
	for _, f := range []api.UnsteadyFilter{{Text: "steady"}, {Project: "pier"}, {Among: []string{}}, {Suite: "x"}} {
		none, err := o.svc.Unsteady(t.Context(), f)
		require.NoError(t, err)
		assert.Empty(t, none, "%+v", f)
	}
}
