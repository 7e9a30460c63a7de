package results

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

// Unsteady lists tests whose verdict changes without their files, those that waste most
// slot time first.
func (r *Results) Unsteady(ctx context.Context, f api.UnsteadyFilter) ([]api.UnsteadyTest, error) {
	if f.Runs <= 0 {
		f.Runs = 30
	}
	f.Runs = min(f.Runs, 200)
	suites, err := r.store.Suites(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.UnsteadyTest{}
	done := map[string]bool{}
	for _, x := range suites {
		if f.Project != "" && x.Project != f.Project || f.Suite != "" && x.Suite != f.Suite || done[x.Project+"\x00"+x.Suite] ||
			f.Among != nil && !slices.Contains(f.Among, x.Project) {
			continue
		}
		done[x.Project+"\x00"+x.Suite] = true
		some, err := r.unsteadyOf(ctx, x.Project, x.Suite, f.Runs)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	text := strings.ToLower(f.Text)
	out = slices.DeleteFunc(out, func(t api.UnsteadyTest) bool { return !strings.Contains(strings.ToLower(t.Test), text) })
	slices.SortStableFunc(out, func(a, b api.UnsteadyTest) int {
		return cmp.Or(cmp.Compare(b.WasteMS, a.WasteMS), cmp.Compare(a.Test, b.Test))
	})
	return out, nil
}

func (r *Results) unsteadyOf(ctx context.Context, project, suite string, runs int) ([]api.UnsteadyTest, error) {
	const newest = 1 << 31
	from, err := r.store.NthBefore(ctx, project, suite, newest, runs)
	if err != nil {
		return nil, err
	}
	rows, err := r.store.Trials(ctx, project, suite, from)
	if err != nil {
		return nil, err
	}
	type place struct{ test, key string }
	by, tests, seen := map[place][]store.Trial{}, map[string][]place{}, map[int]bool{}
	for _, t := range rows {
		p := place{t.Test, t.Key}
		if len(by[p]) == 0 {
			tests[t.Test] = append(tests[t.Test], p)
		}
		by[p] = append(by[p], t)
		seen[t.Run] = true
	}
	var out []api.UnsteadyTest
	for test, places := range tests {
		x := api.UnsteadyTest{Project: project, Suite: suite, Test: test, Runs: len(seen), In: []api.UnsteadyPane{}}
		var all []triage.Unsteady
		for _, p := range places {
			u := triage.Steadiness(trialsOf(by[p]))
			all = append(all, u)
			if u.Off == 0 {
				x.Steady++
				continue
			}
			x.WasteMS += u.WasteMS
			x.In = append(x.In, paneOf(by[p], u))
		}
		if len(x.In) == 0 {
			continue
		}
		x.Trigger = triage.Trigger(all)
		slices.SortFunc(x.In, func(a, b api.UnsteadyPane) int {
			return cmp.Or(cmp.Compare(b.WasteMS, a.WasteMS), cmp.Compare(a.Label, b.Label))
		})
		out = append(out, x)
	}
	return out, nil
}

func trialsOf(rows []store.Trial) []triage.Trial {
	out := make([]triage.Trial, len(rows))
	for i, t := range rows {
		out[i] = triage.Trial{Run: t.Run, Bundle: t.Bundle, Verdict: was(t.Verdict), Attempts: t.Attempts, TookMS: t.TookMS,
			Agent: t.Agent, Hour: time.UnixMilli(t.At).UTC().Hour()}
	}
	return out
}

// was is a verdict of an earlier run: a test that is set aside has failed.
func was(v string) verdict.Verdict {
	if v == string(verdict.Aside) {
		return verdict.Failed
	}
	return verdict.Verdict(v)
}

// letters are the verdicts of a strip.
var letters = map[verdict.Verdict]byte{verdict.Passed: 'p', verdict.Failed: 'f', verdict.Aside: 'f', verdict.Flaky: 'y',
	verdict.LabFault: 'l'}

// maxStrip bounds a strip, which shows the newest runs.
const maxStrip = 20

func paneOf(rows []store.Trial, u triage.Unsteady) api.UnsteadyPane {
	out := api.UnsteadyPane{Label: rows[len(rows)-1].Label, Key: rows[0].Key, Unsteady: u}
	var strip []byte
	for _, t := range rows {
		if t.Run == u.LastRun {
			out.Pane, out.Place = t.Pane, t.Place
		}
		if b := letters[verdict.Verdict(t.Verdict)]; b != 0 {
			strip = append(strip, b)
		}
	}
	out.Strip = string(strip[max(0, len(strip)-maxStrip):])
	return out
}
