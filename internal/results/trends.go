package results

import (
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

const dayMS = 86_400_000

// maxGroups bounds the groups of a trend: those that ran most.
const maxGroups = 500

// Trends counts what cells came to, by day and by what is asked for.
func (r *Results) Trends(ctx context.Context, f api.TrendFilter, now time.Time) (api.Trends, error) {
	f.By = cmp.Or(f.By, "browser")
	if f.Days <= 0 {
		f.Days = 30
	}
	f.Days = min(f.Days, 400)
	byTest := f.By == "test" || f.By == "suite"
	only, err := axesOf(f.Only)
	switch {
	case err != nil:
		return api.Trends{}, err
	case byTest && len(only) > 0:
		return api.Trends{}, api.Errorf(api.Invalid, "only: counts by %s do not tell combinations apart: leave it out", f.By)
	case !byTest && f.Suite != "":
		return api.Trends{}, api.Errorf(api.Invalid, "suite: counts by %s do not tell suites apart: take by=test or suite", f.By)
	}
	to := now.UnixMilli() / dayMS
	from := to - int64(f.Days) + 1
	var rows []store.DayOf
	if byTest {
		rows, err = r.store.DaysOfTests(ctx, f.Project, f.Suite, from)
	} else {
		rows, err = r.store.DaysOfCombos(ctx, f.Project, from)
	}
	if err != nil {
		return api.Trends{}, err
	}
	out := api.Trends{From: dayName(from), To: dayName(to), By: f.By, Groups: []api.TrendGroup{}}
	days, groups := map[int64]verdict.Counts{}, map[string]map[int64]verdict.Counts{}
	count := func(in map[int64]verdict.Counts, d store.DayOf) {
		if in[d.Day] == nil {
			in[d.Day] = verdict.Counts{}
		}
		in[d.Day][verdict.Verdict(d.Verdict)] += d.Count
	}
	read := map[string]map[string]string{}
	for _, d := range rows {
		if f.Among != nil && !slices.Contains(f.Among, d.Project) {
			continue
		}
		values := read[d.Values]
		if values == nil && d.Values != "" {
			if err := json.Unmarshal([]byte(d.Values), &values); err != nil {
				return out, err
			}
			read[d.Values] = values
		}
		if !holds(values, only) {
			continue
		}
		group, has := groupOf(f.By, d, values)
		if !has {
			continue
		}
		count(days, d)
		if groups[group] == nil {
			groups[group] = map[int64]verdict.Counts{}
		}
		count(groups[group], d)
	}
	out.Days = daysOf(days)
	for value, in := range groups {
		g := api.TrendGroup{Value: value, Counts: verdict.Counts{}, Days: daysOf(in)}
		for _, c := range in {
			for v, n := range c {
				g.Counts[v] += n
			}
		}
		failed := g.Counts[verdict.Failed] + g.Counts[verdict.Aside]
		told := g.Counts[verdict.Passed] + failed + g.Counts[verdict.Flaky]
		if told > 0 {
			g.Rate = float64(failed) / float64(told)
		}
		g.Low, g.High = triage.Wilson(failed, told)
		out.Groups = append(out.Groups, g)
	}
	if len(out.Groups) > maxGroups {
		slices.SortFunc(out.Groups, func(a, b api.TrendGroup) int {
			return cmp.Or(cmp.Compare(b.Counts.Total(), a.Counts.Total()), cmp.Compare(a.Value, b.Value))
		})
		out.Groups = out.Groups[:maxGroups]
	}
	slices.SortFunc(out.Groups, func(a, b api.TrendGroup) int {
		return cmp.Or(cmp.Compare(b.Low, a.Low), cmp.Compare(b.Rate, a.Rate), cmp.Compare(a.Value, b.Value))
	})
	return out, nil
}

// axesOf reads values of axes: browser=firefox device=phone.
func axesOf(only string) (map[string]string, error) {
	out := map[string]string{}
	for _, word := range strings.Fields(only) {
		axis, value, ok := strings.Cut(word, "=")
		if !ok || axis == "" || value == "" {
			return nil, api.Errorf(api.Invalid, "only: expected AXIS=VALUE such as browser=firefox, found %.60q", word)
		}
		out[axis] = value
	}
	return out, nil
}

func holds(values, only map[string]string) bool {
	for axis, v := range only {
		if values[axis] != v {
			return false
		}
	}
	return true
}

// groupOf is the group of a count; false where it has no such axis.
func groupOf(by string, d store.DayOf, values map[string]string) (string, bool) {
	switch by {
	case "test":
		return d.Test, true
	case "suite":
		return d.Project + " " + d.Suite, true
	case "project":
		return d.Project, true
	case "combination":
		var words []string
		for _, a := range triage.Axes(values) {
			words = append(words, values[a])
		}
		return strings.Join(words, " · "), true
	case "version":
		v, has := values["version"]
		return strings.TrimSpace(values["browser"] + " " + combo.Release(v)), has
	}
	v, has := values[by]
	return v, has
}

func dayName(day int64) string { return time.UnixMilli(day * dayMS).UTC().Format(time.DateOnly) }

func daysOf(in map[int64]verdict.Counts) []api.TrendDay {
	out := []api.TrendDay{}
	for _, day := range slices.Sorted(maps.Keys(in)) {
		out = append(out, api.TrendDay{Day: dayName(day), Counts: in[day]})
	}
	return out
}
