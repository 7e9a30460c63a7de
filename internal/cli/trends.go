package cli

import (
	"cmp"
	"context"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/report"
	"parallelpane/internal/term"
)

func (r *root) overviewCmd() *cobra.Command {
	return &cobra.Command{
		Use: "overview", Short: "Say what runs, what waits and why, what broke, and how the lab is", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var got api.Overview
			return r.answer(cmd.Context(), "/overview", nil, &got, func() { term.Overview(r.out, got) })
		},
	}
}

// answer gets an answer and writes it, as JSON where that is asked for.
func (r *root) answer(ctx context.Context, path string, q url.Values, into any, write func()) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	if err := c.Get(ctx, path, into); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(into)
	}
	write()
	return nil
}

// answerTable is answer that writes a table as CSV where that is asked for.
func (r *root) answerTable(ctx context.Context, path string, q url.Values, into any, asCSV bool, table func() report.Table,
	write func()) error {
	if asCSV && r.json {
		return usage("--csv and --json: take one of them")
	}
	failed := error(nil)
	err := r.answer(ctx, path, q, into, func() {
		if asCSV {
			failed = report.CSV(r.out, table())
		} else {
			write()
		}
	})
	return cmp.Or(err, failed)
}

func (r *root) trendsCmd() *cobra.Command {
	f, asCSV := api.TrendFilter{}, false
	cmd := &cobra.Command{
		Use: "trends", Short: "Say what fails how often, by day and by browser, device, test or whatever else", Args: cobra.NoArgs,
		Long: "Count what cells came to over some days, by an axis of the combinations (browser, version, os, device, …), by combination,\n" +
			"test, suite or project, with the rate of failures and the interval in which it is with 95 %.",
		Example: "  pane trends --by device --only browser=firefox --days 90\n  pane trends --by test --suite desk --csv > tests.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.Days < 1 || f.Days > 400 {
				return usage("--days: expected 1 to 400, found %d", f.Days)
			}
			var got api.Trends
			q := url.Values{"project": {f.Project}, "suite": {f.Suite}, "by": {f.By}, "only": {f.Only}, "days": {strconv.Itoa(f.Days)}}
			return r.answerTable(cmd.Context(), "/trends", q, &got, asCSV, func() report.Table { return report.TrendRows(got) },
				func() { term.Trends(r.out, got) })
		},
	}
	trendFlags(cmd, &f)
	cmd.Flags().BoolVar(&asCSV, "csv", false, "write a row for each day and value instead")
	cmd.AddCommand(r.labTrendsCmd())
	return cmd
}

func trendFlags(cmd *cobra.Command, f *api.TrendFilter) {
	cmd.Flags().StringVar(&f.By, "by", "browser", "an axis, combination, test, suite or project")
	cmd.Flags().StringVar(&f.Only, "only", "", `only combinations with these values, as "browser=firefox device=phone"`)
	cmd.Flags().IntVar(&f.Days, "days", 30, "how many days back, at most 400")
	cmd.Flags().StringVar(&f.Project, "project", "", "only this project")
	cmd.Flags().StringVar(&f.Suite, "suite", "", "only this suite, with --by test or suite")
}

func labTrendFlags(cmd *cobra.Command, f *api.LabTrendFilter) {
	cmd.Flags().StringVar(&f.Project, "project", "", "only what was done and waited for in this project")
	cmd.Flags().StringVar(&f.Agent, "agent", "", "days of this agent alone")
	cmd.Flags().IntVar(&f.Days, "days", 30, "how many days back, at most 400")
}

func (r *root) labTrendsCmd() *cobra.Command {
	f, asCSV := api.LabTrendFilter{}, false
	cmd := &cobra.Command{
		Use: "lab", Short: "Say how slots were used, how long work waited for them, and which agents fault", Args: cobra.NoArgs,
		Long: "Say by day how much of the slot time that agents offered was used, how long runs and sessions waited for their first slot,\n" +
			"and what was the lab's fault; and the same by agent, those that fault for certain first.",
		Example: "  pane trends lab --days 90\n  pane trends lab --agent quay-2 --csv > quay-2.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.Days < 1 || f.Days > 400 {
				return usage("--days: expected 1 to 400, found %d", f.Days)
			}
			var got api.LabTrends
			q := url.Values{"project": {f.Project}, "agent": {f.Agent}, "days": {strconv.Itoa(f.Days)}}
			return r.answerTable(cmd.Context(), "/trends/lab", q, &got, asCSV, func() report.Table { return report.LabRows(got) },
				func() { term.LabTrends(r.out, got) })
		},
	}
	labTrendFlags(cmd, &f)
	cmd.Flags().BoolVar(&asCSV, "csv", false, "write a row for each day instead")
	return cmd
}

func (r *root) slowCmd() *cobra.Command {
	f := api.SlowFilter{}
	cmd := &cobra.Command{
		Use: "slow", Short: "Say which tests became slower, what takes long, and which combinations are slow", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if f.Runs < 1 || f.Runs > 100 {
				return usage("--runs: expected 1 to 100, found %d", f.Runs)
			}
			var got []api.Slow
			q := url.Values{"project": {f.Project}, "suite": {f.Suite}, "text": {f.Text}, "runs": {strconv.Itoa(f.Runs)}}
			return r.answer(cmd.Context(), "/slow", q, &got, func() { term.Slow(r.out, got) })
		},
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "only tests of this project")
	cmd.Flags().StringVar(&f.Suite, "suite", "", "only tests of this suite")
	cmd.Flags().StringVar(&f.Text, "text", "", "only tests in whose names this is found")
	cmd.Flags().IntVar(&f.Runs, "runs", 30, "how many of a suite's newest runs are looked at, at most 100")
	return cmd
}
