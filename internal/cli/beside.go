package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/source"
	"parallelpane/internal/term"
)

func (r *root) besideCmd() *cobra.Command {
	return &cobra.Command{
		Use: "beside RUN TEST [PANE [OTHER]]", Short: "Put a test in two combinations beside each other", Args: cobra.RangeArgs(2, 4),
		Long: "Put a test of a run in two of its combinations beside each other: its steps with the first one that differs, what each\n" +
			"locator matched, console, requests, times, and in what the page differs at that step. TEST is a name or a number from 0, PANE\n" +
			"a label, a key or a number. Without PANE it is one in which the test failed, without OTHER the most alike one in which it passed.",
		Example: "  pane beside 812 'Hold a berth' 'webkitgtk · phone'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, number, test, err := r.testIn(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			q := url.Values{}
			for i, name := range []string{"left", "right"} {
				if len(args) > 2+i {
					q.Set(name, args[2+i])
				}
			}
			var got api.Beside
			if err := c.Get(cmd.Context(), fmt.Sprintf("/runs/%d/tests/%d/beside?%s", number, test, q.Encode()), &got); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(got)
			}
			term.Beside(r.out, got)
			return nil
		},
	}
}

// testIn finds a test of a run, and connects to the service.
func (r *root) testIn(ctx context.Context, of, name string) (c *client.Client, number, test int, err error) {
	if c, number, err = r.ofRun(of); err != nil {
		return
	}
	var run api.Run
	if err = c.Get(ctx, fmt.Sprintf("/runs/%d", number), &run); err != nil {
		return
	}
	test, err = testOf(&run, name)
	return
}

// testOf finds a test of a run by name or number.
func testOf(run *api.Run, name string) (int, error) {
	if i := slices.IndexFunc(run.Tests, func(t api.Test) bool { return t.Name == name }); i >= 0 {
		return i, nil
	}
	if n, err := strconv.Atoi(name); err == nil && n >= 0 && n < len(run.Tests) {
		return n, nil
	}
	names := make([]string, len(run.Tests))
	for i, t := range run.Tests {
		names[i] = t.Name
	}
	hint := ""
	if near := source.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("; did you mean %q?", near)
	}
	return 0, usage("run #%d has no test %q%s", run.Number, name, hint)
}
