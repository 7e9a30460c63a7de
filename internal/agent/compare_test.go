package agent_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/suite"
)

// Environments, files and parts of a run are compared by what they are called.
func TestSidesAreFoundByWhatTheyAreCalled(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 2)
	o.axes = "browser: [chromium], device: [desktop, phone]"
	run := func(env, a string) api.Run {
		o.env = env
		return o.carry("    command: sh {file} {device}\n    cases: [t/*.sh]\n    results: exit\n",
			map[string]string{"t/a.sh": a, "t/b.sh": "true"}, nil, 0)
	}
	local := run("local", "[ $1 = desktop ] || { echo 'the tide table is hidden'; exit 1; }")
	next := run("next", "echo 'no tide table'; exit 1")
	compare := func(was, is string) (api.Compared, error) {
		return o.svc.Compare(t.Context(), api.CompareFilter{Was: was, Is: is})
	}
	head := fmt.Sprintf("#%d (next) against #%d (local)", next.Number, local.Number)
	for _, c := range []struct{ was, is, words string }{
		{"env=local", "env=next", head + ": 1 broke (1 cause), 1 fail of another cause"},
		{"env=local", "", head + ": 1 broke (1 cause), 1 fail of another cause"},
		{"bundle=" + local.Request.Bundle[:8], "bundle=" + next.Request.Bundle, head + ": 1 broke (1 cause), 1 fail of another cause"},
		{fmt.Sprint(local.Number), fmt.Sprintf("#%d device=desktop", local.Number),
			fmt.Sprintf("#%d device=desktop against #%d: 1 combination gone", local.Number, local.Number)},
		{"env=local device=desktop", "env=local device=phone",
			fmt.Sprintf("#%d device=phone against #%d device=desktop: 1 broke (1 cause)", local.Number, local.Number)},
		{"env=local device=phone", "env=local device=desktop",
			fmt.Sprintf("#%d device=desktop against #%d device=phone: 1 mended", local.Number, local.Number)},
	} {
		got, err := compare(c.was, c.is)
		require.NoError(t, err, c.was)
		assert.Equal(t, c.words, got.Words)
		for _, x := range got.Broke {
			assert.Equal(t, x.Pane, o.ended(got.Is.Number).Panes[x.At.Pane].Label, "a cell is that of the whole run")
		}
	}
	for _, c := range []struct{ was, is, want string }{
		{"", "", "was: say what to compare with"},
		{"env", "", `was: expected a run's number or KEY=VALUE such as env=staging, bundle=3fa9 or browser=firefox, found "env"`},
		{"1", "version=new", `is: version: "new" chooses no version`},
		{"1 env=local", "", "was: run 1 has one environment, matrix and bundle"},
		{"bundle=x1", "", "was: bundle: expected the beginning of a SHA-256, at least 4 digits"},
		{"env=production", "", "no ended run of saltmarsh s is like env=production"},
		{"browser=firefox", "", "no ended run of saltmarsh s is like browser=firefox"},
		{"1 device=tablet", "", "run 1 has no pane with device=tablet"},
		{"99", "", "there is no run 99"},
	} {
		_, err := compare(c.was, c.is)
		assert.ErrorContains(t, err, c.want, c.was)
	}
	stranger := api.CompareFilter{Was: fmt.Sprint(local.Number), Among: []string{"elsewhere"}}
	_, err := o.svc.Compare(t.Context(), stranger)
	assert.ErrorContains(t, err, "there is no run", "of a project that is not the caller's")
	_, err = o.svc.Sides(t.Context(), api.CompareFilter{Among: []string{"elsewhere"}})
	assert.ErrorContains(t, err, "no run has ended yet")

	sides, err := o.svc.Sides(t.Context(), api.CompareFilter{})
	require.NoError(t, err)
	var words []string
	for _, s := range sides.Sides {
		words = append(words, s.Words)
		_, err := compare(s.Words, "env=next")
		assert.NoError(t, err, "what is listed can be compared: %s", s.Words)
	}
	assert.Equal(t, []string{"env=next", "env=local"}, words[:2])
	assert.Contains(t, words, "browser=chromium")
	assert.Contains(t, words, "bundle="+local.Request.Bundle[:12])
}

// A test whose file was moved keeps its history, what it is set aside for, and is compared
// with what it was called.
func TestATestThatIsCalledOtherwiseKeepsItsHistory(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 2)
	who := api.Who{Name: "kestrel", Rights: api.InLab(api.Runner)}
	tells := "printf '1..2\\nok 1 - free\\nnot ok 2 - taken\\n'; exit 1"
	run := func(files map[string]string) api.Run {
		return o.carry("    command: sh {file}\n    cases: [t/**/*.sh]\n    results: tap\n", files, nil, 0)
	}
	aside := func(test string) {
		_, err := o.svc.SetAside(t.Context(), who, api.AsideRequest{AsideName: api.AsideName{Project: "saltmarsh", Suite: "s", Test: test},
			Owner: "tern", Reason: "the office is mended", Until: time.Now().Add(time.Hour)})
		require.NoError(t, err)
	}
	tides := "printf '1..1\nok 1 - ebb\n'"
	first := run(map[string]string{"t/berths.sh": tells, "t/tides.sh": tides})
	assert.Empty(t, first.Plan.Renamed)
	second := run(map[string]string{"t/map/holds.sh": tells, "t/tides.sh": "printf '1..2\nok 1 - ebb\nok 2 - flood\n'"})
	assert.Equal(t, []suite.Rename{{Was: "t/berths.sh", Is: "t/map/holds.sh"}}, second.Plan.Renamed)

	past, err := o.svc.Past(t.Context(), second.Number)
	require.NoError(t, err)
	strips := map[string]string{}
	for i, test := range second.Tests {
		strips[test.Name] = past.Strips[0][i]
	}
	assert.Equal(t, "pp", strips["t/map/holds.sh › free"], "its past is that of the name it had")
	assert.Equal(t, "ff", strips["t/map/holds.sh › taken"])
	got, err := o.svc.Compare(t.Context(), api.CompareFilter{Was: fmt.Sprint(first.Number), Is: fmt.Sprint(second.Number)})
	require.NoError(t, err)
	assert.Equal(t, []any{[]string{"t/tides.sh › flood"}, 0, 1}, []any{got.Added, len(got.Gone), got.Still})
	assert.ElementsMatch(t, []suite.Rename{{Was: "t/berths.sh", Is: "t/map/holds.sh"},
		{Was: "t/berths.sh › free", Is: "t/map/holds.sh › free"},
		{Was: "t/berths.sh › taken", Is: "t/map/holds.sh › taken"}}, got.Renamed)
	back, err := o.svc.Compare(t.Context(), api.CompareFilter{Was: fmt.Sprint(second.Number), Is: fmt.Sprint(first.Number)})
	require.NoError(t, err)
	assert.Len(t, back.Renamed, 3, "the other way round too")

	aside("t/map/holds.sh › taken")
	third := run(map[string]string{"t/office.sh": tells})
	assert.Equal(t, map[string]string{"t/office.sh": "passed", "t/office.sh › free": "passed", "t/office.sh › taken": "aside"},
		verdicts(third))
	names := func() (out []string) {
		for _, a := range o.svc.Asides(api.AsideFilter{}) {
			out = append(out, a.Test)
		}
		return
	}
	assert.Equal(t, []string{"t/office.sh › taken"}, names())
	dir, address := o.dir, o.address
	o.stop()
	o = opened(t, dir, address)
	assert.Equal(t, []string{"t/office.sh › taken"}, names(), "on record too")
}

// verdicts are what the tests of a run came to, by name.
func verdicts(run api.Run) map[string]string {
	out := map[string]string{}
	for i, t := range run.Tests {
		out[t.Name] = string(run.Cells[0][i].Verdict)
	}
	return out
}
