package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
)

// Forms of exports, and those that go to a file unless it is said otherwise.
var (
	runForms   = []string{"text", "markdown", "summary", "html", "junit", "tap", "csv", "xlsx", "pdf"}
	tableForms = []string{"csv", "xlsx"}
	fileForms  = []string{"html", "xlsx", "pdf"}
)

// exported is where an export goes, and in which form.
type exported struct{ form, out string }

func (e *exported) flags(cmd *cobra.Command, forms []string, usual string) {
	cmd.Flags().StringVar(&e.form, "as", usual, "the form: "+strings.Join(forms, ", "))
	cmd.Flags().StringVarP(&e.out, "out", "o", "", "write to this file; - is the standard output")
	_ = cmd.RegisterFlagCompletionFunc("as", cobra.FixedCompletions(forms, cobra.ShellCompDirectiveNoFileComp))
}

func (r *root) exportCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "export", Short: "Write a run, its causes, a comparison or trends for others: spreadsheet, page, PDF, JUnit, TAP, …",
		Long: "Write a run, its causes, a comparison or trends in a form for others. Pages (html), workbooks (xlsx) and PDF go to a file of a\n" +
			"name of their own in this directory, everything else to the standard output; --out names another file.\n\n" +
			"A page needs nothing else: it opens without a network, with pictures and filters. PDF is printed by the Chromium of an agent\n" +
			"that has a slot free. In workbooks and CSV no text is taken for a formula.",
	}
	cmd.AddCommand(r.exportRunCmd(), r.exportCausesCmd(), r.exportCompareCmd(), r.exportTrendsCmd(), r.exportLabCmd())
	return cmd
}

func (r *root) exportRunCmd() *cobra.Command {
	var e exported
	pictures := 20
	cmd := &cobra.Command{
		Use: "run [RUN]", Short: "Write a run", Args: cobra.MaximumNArgs(1),
		Example: "  pane export run 812 --as xlsx\n  pane export run 812 --as html --pictures 100 -o friday.html",
		RunE: func(cmd *cobra.Command, args []string) error {
			if pictures < 0 || pictures > 100 {
				return usage("--pictures: expected 0 to 100, found %d", pictures)
			}
			c, n, err := r.newestOr(cmd.Context(), args)
			if err != nil {
				return err
			}
			if pictures == 0 {
				pictures = -1
			}
			return r.export(cmd.Context(), c, e, runForms, fmt.Sprintf("/runs/%d/as/", n), url.Values{"pictures": {strconv.Itoa(pictures)}},
				fmt.Sprintf("run-%d", n))
		},
	}
	e.flags(cmd, runForms, "html")
	cmd.Flags().IntVar(&pictures, "pictures", pictures, "how many pictures of what did not pass html and pdf have at most, 0 to 100")
	return cmd
}

func (r *root) exportCausesCmd() *cobra.Command {
	var e exported
	cmd := &cobra.Command{
		Use: "causes [RUN]", Short: "Write what the failures of a run come from", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, n, err := r.newestOr(cmd.Context(), args)
			if err != nil {
				return err
			}
			return r.export(cmd.Context(), c, e, tableForms, fmt.Sprintf("/runs/%d/causes/as/", n), nil, fmt.Sprintf("run-%d-causes", n))
		},
	}
	e.flags(cmd, tableForms, "csv")
	return cmd
}

func (r *root) exportCompareCmd() *cobra.Command {
	var e exported
	f := api.CompareFilter{}
	cmd := &cobra.Command{
		Use: "compare WAS [IS]", Short: "Write what is different in a run against another: sides as pane compare takes them",
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			q := url.Values{"was": {args[0]}, "is": {strings.Join(args[1:], "")}, "project": {f.Project}, "suite": {f.Suite}}
			return r.exportOf(cmd.Context(), e, "/compare/as/", q, "comparison")
		},
	}
	e.flags(cmd, tableForms, "csv")
	cmd.Flags().StringVar(&f.Project, "project", "", "of this project, for sides that are no numbers")
	cmd.Flags().StringVar(&f.Suite, "suite", "", "of this suite, likewise")
	return cmd
}

func (r *root) exportTrendsCmd() *cobra.Command {
	var e exported
	f := api.TrendFilter{}
	cmd := &cobra.Command{
		Use: "trends", Short: "Write what failed how often, by day", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			q := url.Values{"project": {f.Project}, "suite": {f.Suite}, "by": {f.By}, "only": {f.Only}, "days": {strconv.Itoa(f.Days)}}
			return r.exportOf(cmd.Context(), e, "/trends/as/", q, "trends-by-"+f.By)
		},
	}
	e.flags(cmd, tableForms, "csv")
	trendFlags(cmd, &f)
	return cmd
}

func (r *root) exportLabCmd() *cobra.Command {
	var e exported
	f := api.LabTrendFilter{}
	cmd := &cobra.Command{
		Use: "lab", Short: "Write how the lab was used, by day", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			q := url.Values{"project": {f.Project}, "agent": {f.Agent}, "days": {strconv.Itoa(f.Days)}}
			return r.exportOf(cmd.Context(), e, "/trends/lab/as/", q, "lab")
		},
	}
	e.flags(cmd, tableForms, "csv")
	labTrendFlags(cmd, &f)
	return cmd
}

func (r *root) exportOf(ctx context.Context, e exported, path string, q url.Values, name string) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	return r.export(ctx, c, e, tableForms, path, q, name)
}

// export writes what the service sends in a form to where it is to go.
func (r *root) export(ctx context.Context, c *client.Client, e exported, forms []string, path string, q url.Values, name string) error {
	if !slices.Contains(forms, e.form) {
		return usage("--as: expected %s, found %q", strings.Join(forms, ", "), e.form)
	}
	path += e.form
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	out := e.out
	if out == "" && slices.Contains(fileForms, e.form) {
		out = name + "." + e.form
	}
	if out == "" || out == "-" {
		resp, err := c.Do(ctx, "GET", path, nil)
		if err != nil {
			return err
		}
		_, err = io.Copy(r.out, resp.Body)
		return errors.Join(err, resp.Body.Close())
	}
	if err := download(ctx, c, path, out); err != nil {
		return err
	}
	info, err := os.Stat(out)
	if err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(map[string]any{"file": out, "bytes": info.Size()})
	}
	fmt.Fprintf(r.err, "%s, %s\n", out, humanize.Bytes(uint64(info.Size())))
	return nil
}
