package results

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// Compare says what is different in one run, or in some of its panes, against another.
func (r *Results) Compare(ctx context.Context, f api.CompareFilter) (api.Compared, error) {
	var out api.Compared
	if f.Was == "" {
		return out, api.Errorf(api.Invalid, "was: say what to compare with: a run's number, or words such as env=staging")
	}
	was, err := api.ParseSide("was", f.Was)
	if err != nil {
		return out, err
	}
	is, err := api.ParseSide("is", f.Is)
	if err != nil {
		return out, err
	}
	if err := r.suiteOf(ctx, &f, was, is); err != nil {
		return out, err
	}
	a, b, err := r.bothSides(ctx, f, was, is)
	if err != nil {
		return out, err
	}
	if a.run.Project != b.run.Project {
		return out, api.Errorf(api.NotFound, "the project of run %d has no run %d: only runs of one project are compared", b.run.Number,
			a.run.Number)
	}
	out.Was, out.Is, out.WasOf, out.IsOf, out.Causes = a.run.RunSummary, b.run.RunSummary, a.of, b.of, []api.Cause{}
	by := triage.Pairing{Apart: slices.Sorted(maps.Keys(was.Only))}
	by.Apart = append(by.Apart, slices.Sorted(maps.Keys(is.Only))...)
	if by.Was, err = r.formerNames(ctx, a.run, b.run); err != nil {
		return out, err
	}
	out.Comparison = triage.Compare(a.timed(), b.timed(), by)
	for _, changes := range [][]triage.Change{out.Broke, out.Mended, out.Otherwise, out.Lab} {
		for i := range changes {
			changes[i].At.Pane = b.panes[changes[i].At.Pane]
		}
	}
	if len(out.Broke) > 0 {
		causes, err := r.causesOf(ctx, b.run, b.revised)
		if err != nil {
			return out, err
		}
		broke := map[triage.At]bool{}
		for _, c := range out.Broke {
			broke[c.At] = true
		}
		for _, c := range causes.Causes {
			if slices.ContainsFunc(c.Cells, func(at triage.At) bool { return broke[at] }) {
				out.Causes = append(out.Causes, c)
			}
		}
	}
	out.Words = compareWords(&out)
	return out, nil
}

// formerNames says what tests of a run are called in an earlier one, or a later one, where
// it is otherwise.
func (r *Results) formerNames(ctx context.Context, a, b *api.Run) (map[string]string, error) {
	rows, err := r.store.FormerNames(ctx, b.Project, b.Suite)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	now := map[string]string{} // by a name that a test had
	for _, x := range rows {
		now[x.Was] = x.Name
	}
	present := func(name string) string { return cmp.Or(now[name], name) }
	there := map[string]string{}
	for _, t := range a.Tests {
		there[present(t.Name)] = t.Name
	}
	out := map[string]string{}
	for _, t := range b.Tests {
		if was := there[present(t.Name)]; was != "" && was != t.Name {
			out[t.Name] = was
		}
	}
	return out, nil
}

// suiteOf finds out of which suite sides are that are no numbers: that of the other side,
// or of the newest run, where it is not said.
func (r *Results) suiteOf(ctx context.Context, f *api.CompareFilter, sides ...api.Side) error {
	for _, s := range sides {
		if s.Run == 0 {
			continue
		}
		row, err := r.Row(ctx, s.Run)
		if err != nil {
			return err
		}
		if f.Among != nil && !slices.Contains(f.Among, row.Project) {
			return api.Errorf(api.NotFound, "there is no run %d", s.Run)
		}
		if f.Project == "" || f.Project == row.Project {
			f.Project, f.Suite = row.Project, cmp.Or(f.Suite, row.Suite)
		}
	}
	if f.Project != "" && f.Suite != "" {
		return nil
	}
	newest, err := r.store.Runs(ctx, store.RunFilter{Project: f.Project, Suite: f.Suite, State: "ended", Among: f.Among, Limit: 1})
	if err != nil {
		return err
	}
	if len(newest) == 0 {
		return api.Errorf(api.NotFound, "no run has ended yet that could be compared: start one with pane run")
	}
	f.Project, f.Suite = newest[0].Project, newest[0].Suite
	return nil
}

// bothSides finds what two sides come to. Of runs that are like a side, the newest of the
// same matrix as the other side is taken, so that there is something to compare.
func (r *Results) bothSides(ctx context.Context, f api.CompareFilter, was, is api.Side) (a, b sided, err error) {
	if b, err = r.sided(ctx, f, is, ""); err != nil {
		return
	}
	if a, err = r.sided(ctx, f, was, b.run.Matrix); err != nil {
		return
	}
	if a.run.Matrix != b.run.Matrix {
		b, err = r.sided(ctx, f, is, a.run.Matrix)
	}
	return
}

// sided is what a side comes to: a run and some of its panes.
type sided struct {
	run     *api.Run
	revised int
	panes   []int
	of      string // which panes, in words; "" for all of them
}

// maxSought bounds the runs that are looked through for one that is like a side.
const maxSought = 200

// sided finds the run of a side, and the panes of it that are meant; of several, the newest
// of a matrix if there is one of it.
func (r *Results) sided(ctx context.Context, f api.CompareFilter, s api.Side, matrix string) (out sided, err error) {
	for _, axis := range slices.Sorted(maps.Keys(s.Only)) {
		out.of = strings.TrimSpace(out.of + " " + axis + "=" + s.Only[axis])
	}
	like := store.RunFilter{Project: f.Project, Suite: f.Suite, Matrix: s.Matrix, Environment: s.Environment, Bundle: s.Bundle,
		State: "ended", Among: f.Among, Limit: maxSought}
	if s.Run > 0 {
		if out.run, out.revised, err = r.whole(ctx, s.Run); err != nil {
			return out, err
		}
		if out.panes, err = panesLike(out.run.Panes, s.Only); err == nil && len(out.panes) == 0 {
			err = api.Errorf(api.NotFound, "run %d has no pane with %s", s.Run, out.of)
		}
		return out, err
	}
	if s.Environment == "" && s.Bundle == "" && s.Matrix == "" && !s.Narrow() {
		like.State = "" // the newest, whether it goes on or not
	}
	rows, err := r.store.Runs(ctx, like)
	if err != nil {
		return out, err
	}
	same := func(row store.Run) bool { return row.Matrix == matrix }
	others := slices.DeleteFunc(slices.Clone(rows), same)
	for _, row := range append(slices.DeleteFunc(rows, func(row store.Run) bool { return !same(row) }), others...) {
		if s.Narrow() {
			panes, err := r.panesIn(ctx, row.Number)
			if err != nil {
				return out, err
			}
			if has, err := panesLike(panes, s.Only); err != nil {
				return out, err
			} else if len(has) == 0 {
				continue
			}
		}
		if out.run, out.revised, err = r.whole(ctx, row.Number); err != nil {
			return out, err
		}
		out.panes, err = panesLike(out.run.Panes, s.Only)
		return out, err
	}
	return out, api.Errorf(api.NotFound, "no ended run of %s %s is like %s: pane compare without a side lists what there is", f.Project,
		f.Suite,
		s)
}

// panesIn are the panes of a run, as they were asked for and what they ran on.
func (r *Results) panesIn(ctx context.Context, run int) (out []api.Pane, err error) {
	rows, err := r.store.PanesIn(ctx, run)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		p, err := walls.PaneOf(row)
		if err != nil {
			return nil, fmt.Errorf("records of run %d: %w", run, err)
		}
		out = append(out, p)
	}
	return out, nil
}

// panesLike lists the panes that have these values; a version may be a selector, and is
// what a pane ran on where its matrix names none.
func panesLike(panes []api.Pane, only map[string]string) (out []int, err error) {
	version, err := combo.ParseSelector(cmp.Or(only["version"], "oldest"))
	if err != nil {
		return nil, api.Errorf(api.Invalid, "version: %v", err)
	}
	for i, p := range panes {
		fits := true
		for axis, value := range only {
			switch axis {
			case "version":
				fits = fits && version.Allows(cmp.Or(p.Info.Version, p.Values["version"]))
			default:
				fits = fits && p.Values[axis] == value
			}
		}
		if fits {
			out = append(out, i)
		}
	}
	return out, nil
}

// timed is a side with its own panes only.
func (s sided) timed() triage.Timed {
	all := walls.Timed(s.run)
	out := triage.Timed{Run: triage.Run{Tests: all.Tests}}
	for _, i := range s.panes {
		out.Panes, out.Cells, out.TookMS = append(out.Panes, all.Panes[i]), append(out.Cells, all.Cells[i]), append(out.TookMS, all.TookMS[i])
	}
	return out
}

// maxSides bounds what is listed of each kind.
const maxSides = 30

// Sides lists what a suite's runs can be compared by.
func (r *Results) Sides(ctx context.Context, f api.CompareFilter) (out api.Sides, err error) {
	if err := r.suiteOf(ctx, &f); err != nil {
		return out, err
	}
	out.Project, out.Suite, out.Sides = f.Project, f.Suite, []api.KnownSide{}
	rows, err := r.store.Runs(ctx, store.RunFilter{Project: f.Project, Suite: f.Suite, State: "ended", Among: f.Among, Limit: maxSought})
	if err != nil {
		return out, err
	}
	kinds, seen := make([][]api.KnownSide, 4), map[string]bool{}
	put := func(kind int, row store.Run, words, about string) {
		if !seen[words] && len(kinds[kind]) < maxSides {
			seen[words] = true
			kinds[kind] = append(kinds[kind], api.KnownSide{Words: words, Run: row.Number, At: api.At(row.CreatedAt), About: about})
		}
	}
	for i, row := range rows {
		if row.Environment != "" {
			put(0, row, "env="+row.Environment, "environment "+row.Environment)
		}
		if len(row.Bundle) > 12 {
			put(2, row, "bundle="+row.Bundle[:12], "files "+row.Bundle[:12])
		}
		about := fmt.Sprintf("run %d, %s, %s %s", row.Number, row.Verdict, row.Matrix, row.Environment)
		put(3, row, strconv.Itoa(row.Number), strings.TrimRight(about, " "))
		if i >= maxSides {
			continue
		}
		panes, err := r.panesIn(ctx, row.Number)
		if err != nil {
			return out, err
		}
		for _, p := range panes {
			browser, version := p.Values["browser"], cmp.Or(p.Info.Version, p.Values["version"])
			if browser == "" {
				continue
			}
			put(1, row, "browser="+browser, "every version of "+browser)
			if version != "" {
				put(1, row, "browser="+browser+" version="+version, browser+" "+version)
			}
		}
	}
	for _, kind := range kinds {
		out.Sides = append(out.Sides, kind...)
	}
	return out, nil
}

// compareWords says a comparison in a sentence.
func compareWords(c *api.Compared) string {
	var parts []string
	if n := len(c.Broke); n > 0 {
		of := ""
		if len(c.Causes) > 0 {
			of = fmt.Sprintf(" (%s)", counted(len(c.Causes), "cause"))
		}
		parts = append(parts, fmt.Sprintf("%d broke%s", n, of))
	}
	for _, p := range []struct {
		n    int
		what string
	}{{len(c.Mended), "mended"}, {len(c.Otherwise), "fail of another cause"}, {c.Still, "fail as before"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
		}
	}
	for _, p := range []struct {
		n    int
		of   string
		what string
	}{{len(c.Slower), "test", "slower"}, {len(c.Faster), "test", "faster"}, {len(c.Added), "test", "added"}, {len(c.Gone), "test", "gone"},
		{len(c.Renamed), "test", "renamed"}, {len(c.AddedIn), "combination", "added"}, {len(c.GoneIn), "combination", "gone"}} {
		if p.n > 0 {
			parts = append(parts, counted(p.n, p.of)+" "+p.what)
		}
	}
	of := func(run api.RunSummary, of string) string {
		head := fmt.Sprintf("#%d", run.Number)
		if of != "" {
			head += " " + of
		}
		if c.Was.Environment != c.Is.Environment && run.Environment != "" {
			head += " (" + run.Environment + ")"
		}
		return head
	}
	head := of(c.Is, c.IsOf) + " against " + of(c.Was, c.WasOf)
	switch {
	case c.Cells == 0:
		return head + ": they have no cell in common that ran in both"
	case len(parts) == 0:
		return fmt.Sprintf("%s: nothing is different in %s", head, counted(c.Cells, "cell"))
	}
	return head + ": " + strings.Join(parts, ", ")
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
