package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/term"
	"parallelpane/internal/walls"
)

func (r *root) causesCmd() *cobra.Command {
	file := ""
	cmd := &cobra.Command{
		Use: "causes [RUN]", Short: "Say what the failures of a run come from, and what they have in common", Args: cobra.MaximumNArgs(1),
		Long: "Say what the failures of a run come from: those that say the same are one cause, with what its failing combinations have\n" +
			"in common that the passing ones have not, since when it is there, and whose fault it probably is. RUN is a number;\n" +
			"without one it is the newest run.\n\n" +
			"With --file it reads what pane show RUN --json prints, and needs no service; - is the standard input.\n\n" +
			"Exit code: 0 nothing failed, 1 there are causes, 2 the run cannot be read.",
		Example: "  pane causes 812\n  pane show 812 --json | pane causes --file - --json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if file != "" && len(args) > 0 {
				return usage("a run and --file: give one of them")
			}
			if file != "" {
				return r.causesOfFile(file)
			}
			return r.causes(cmd.Context(), args)
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "read the run from this file, as pane show RUN --json prints it")
	return cmd
}

// maxRunFile bounds a run that is read from a file, in bytes.
const maxRunFile = 256 << 20

func (r *root) causes(ctx context.Context, args []string) error {
	c, number, err := r.newestOr(ctx, args)
	if err != nil {
		return err
	}
	var got api.Causes
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d/causes", number), &got); err != nil {
		return err
	}
	if r.json {
		if err := r.writeJSON(got); err != nil {
			return err
		}
	} else {
		term.Causes(r.out, got)
	}
	return someCauses(len(got.Causes))
}

// newestOr is the run of an argument, or the newest one where there is none.
func (r *root) newestOr(ctx context.Context, args []string) (*client.Client, int, error) {
	if len(args) > 0 {
		return r.ofRun(args[0])
	}
	c, err := r.client()
	if err != nil {
		return nil, 0, err
	}
	var runs []api.RunSummary
	if err := c.Get(ctx, "/runs?limit=1", &runs); err != nil {
		return nil, 0, err
	}
	if len(runs) == 0 {
		return nil, 0, usage("there is no run yet: start one with pane run")
	}
	return c, runs[0].Number, nil
}

func someCauses(n int) error {
	if n > 0 {
		return silent(verdict.ExitFailed)
	}
	return nil
}

func (r *root) causesOfFile(name string) error {
	src, err := readFile(name, maxRunFile)
	if err != nil {
		return usage("%v", err)
	}
	if len(src) > maxRunFile {
		return usage("%s: a run of more than %d MB is not read", name, maxRunFile>>20)
	}
	run, err := parseRun(name, src)
	if err != nil {
		return usage("%v", err)
	}
	got := api.Causes{Run: run.Number, Ended: run.State == api.Ended, Causes: []api.Cause{}}
	for _, c := range triage.Causes(walls.Triaged(run)) {
		got.Causes = append(got.Causes, api.Cause{Cause: c})
		got.Failed += c.Failed
	}
	if r.json {
		if err := r.writeJSON(got); err != nil {
			return err
		}
	} else {
		term.Causes(r.out, got)
	}
	return someCauses(len(got.Causes))
}

// parseRun reads a run as pane show prints it. Tests with names, panes with values and
// cells with verdict and message are enough of it.
func parseRun(name string, src []byte) (*api.Run, error) {
	var run api.Run
	if err := json.Unmarshal(src, &run); err != nil {
		if e, ok := err.(*json.SyntaxError); ok {
			line := 1 + strings.Count(string(src[:min(int64(len(src)), e.Offset)]), "\n")
			return nil, fmt.Errorf("%s:%d: this is no JSON: %w; it should be what pane show RUN --json prints", name, line, err)
		}
		return nil, fmt.Errorf("%s: this is no run: %w; it should be what pane show RUN --json prints", name, err)
	}
	if len(run.Panes) == 0 || len(run.Tests) == 0 {
		return nil, fmt.Errorf("%s: a run has panes and tests, and this has %d and %d; it should be what pane show RUN --json prints", name,
			len(run.Panes), len(run.Tests))
	}
	if len(run.Cells) > len(run.Panes) {
		return nil, fmt.Errorf("%s: cells: %d lists for %d panes", name, len(run.Cells), len(run.Panes))
	}
	for i := range run.Panes {
		p := &run.Panes[i]
		if p.Label == "" {
			p.Label = labelOf(p.Values, i)
		}
	}
	for j := range run.Tests {
		if run.Tests[j].Name == "" {
			return nil, fmt.Errorf("%s: tests[%d]: it has no name", name, j)
		}
	}
	for i, row := range run.Cells {
		if len(row) > len(run.Tests) {
			return nil, fmt.Errorf("%s: cells[%d]: %d cells for %d tests", name, i, len(row), len(run.Tests))
		}
		for j, c := range row {
			if _, err := verdict.Parse(string(c.Verdict)); err != nil && c.Verdict != verdict.Pending {
				return nil, fmt.Errorf("%s: cells[%d][%d]: %w", name, i, j, err)
			}
		}
	}
	return &run, nil
}

// labelOf names a pane that has no name, by its values in the order of their axes.
func labelOf(values map[string]string, at int) string {
	var words []string
	for _, axis := range triage.Axes(values) {
		words = append(words, values[axis])
	}
	if len(words) == 0 {
		return "pane " + strconv.Itoa(at)
	}
	return strings.Join(words, " ")
}

func (r *root) compareCmd() *cobra.Command {
	f := api.CompareFilter{}
	cmd := &cobra.Command{
		Use: "compare [WAS [IS]]", Short: "Say what is different in a run against another, or between environments, versions or files",
		Args: cobra.MaximumNArgs(2),
		Long: "Say what is different in a run against another one of its project: what broke, with its causes, what was mended, what is\n" +
			"slower by more than noise, which tests and combinations were added or are gone. Tests are the same by their names, panes by\n" +
			"their values; a browser's version alone does not part them.\n\n" +
			"A side is the number of a run, or words that say which is meant: env=NAME, bundle=SHA-256, matrix=NAME take the newest ended run\n" +
			"that is like that, of the other side's matrix where there is one; browser=firefox version=140, device=phone and other axes\n" +
			"take those of its panes alone. Without IS it is the suite's newest run. Without any side, what there is to compare is listed.\n\n" +
			"Exit code: 0 nothing broke, 1 something did.",
		Example: "  pane compare 811 812\n  pane compare env=production env=staging\n" +
			"  pane compare \"browser=firefox version=140\" \"browser=firefox version=153\"\n  pane compare bundle=3fa9c1 --suite desk",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return r.sides(cmd.Context(), f)
			}
			f.Was, f.Is = args[0], strings.Join(args[1:], "")
			return r.compare(cmd.Context(), f)
		},
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "of this project; without it that of the other side, or of the newest run")
	cmd.Flags().StringVar(&f.Suite, "suite", "", "of this suite, likewise")
	return cmd
}

func (r *root) sides(ctx context.Context, f api.CompareFilter) error {
	var got api.Sides
	return r.answer(ctx, "/sides", url.Values{"project": {f.Project}, "suite": {f.Suite}}, &got, func() { term.Sides(r.out, got) })
}

func (r *root) compare(ctx context.Context, f api.CompareFilter) error {
	var got api.Compared
	q := url.Values{"was": {f.Was}, "is": {f.Is}, "project": {f.Project}, "suite": {f.Suite}}
	if err := r.answer(ctx, "/compare", q, &got, func() { term.Compared(r.out, got) }); err != nil {
		return err
	}
	if len(got.Broke) > 0 {
		return silent(verdict.ExitFailed)
	}
	return nil
}

func (r *root) unsteadyCmd() *cobra.Command {
	f := api.UnsteadyFilter{}
	cmd := &cobra.Command{
		Use: "unsteady", Short: "List tests whose verdict changes without their files, the most wasteful first", Args: cobra.NoArgs,
		Long: "List tests that passed only when they were run again, or that failed and passed with the same files, with the rate at which\n" +
			"they do, the interval in which it is with 95 %, and the slot time that this took. A test that always fails is not among them.",
		RunE: func(cmd *cobra.Command, _ []string) error { return r.unsteady(cmd.Context(), f) },
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "only tests of this project")
	cmd.Flags().StringVar(&f.Suite, "suite", "", "only tests of this suite")
	cmd.Flags().StringVar(&f.Text, "text", "", "only tests in whose names this is found")
	cmd.Flags().IntVar(&f.Runs, "runs", 30, "how many of a suite's newest runs are looked at, at most 200")
	return cmd
}

func (r *root) unsteady(ctx context.Context, f api.UnsteadyFilter) error {
	if f.Runs < 1 || f.Runs > 200 {
		return usage("--runs: expected 1 to 200, found %d", f.Runs)
	}
	c, err := r.client()
	if err != nil {
		return err
	}
	q := url.Values{"project": {f.Project}, "suite": {f.Suite}, "text": {f.Text}, "runs": {strconv.Itoa(f.Runs)}}
	var got []api.UnsteadyTest
	if err := c.Get(ctx, "/unsteady?"+q.Encode(), &got); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(got)
	}
	term.Unsteady(r.out, got)
	return nil
}
