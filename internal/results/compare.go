package results

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/walls"
)

// Compare says what is different in a run against an earlier one.
func (r *Results) Compare(ctx context.Context, was, is int) (api.Compared, error) {
	var out api.Compared
	a, _, err := r.whole(ctx, was)
	if err != nil {
		return out, err
	}
	b, revised, err := r.whole(ctx, is)
	if err != nil {
		return out, err
	}
	if a.Project != b.Project {
		return out, api.Errorf(api.NotFound, "the project of run %d has no run %d: only runs of one project are compared", is, was)
	}
	out.Was, out.Is, out.Causes = a.RunSummary, b.RunSummary, []api.Cause{}
	out.Comparison = triage.Compare(walls.Timed(a), walls.Timed(b))
	if len(out.Broke) > 0 {
		causes, err := r.causesOf(ctx, b, revised)
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
		what string
	}{{len(c.Slower), "slower"}, {len(c.Faster), "faster"}, {len(c.Added), "added"}, {len(c.Gone), "gone"}} {
		if p.n > 0 {
			parts = append(parts, counted(p.n, "test")+" "+p.what)
		}
	}
	head := fmt.Sprintf("#%d against #%d", c.Is.Number, c.Was.Number)
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
