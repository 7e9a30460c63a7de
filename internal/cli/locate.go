package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/term"
)

func (r *root) locateCmd() *cobra.Command {
	pane := ""
	cmd := &cobra.Command{
		Use: "locate RUN TEST LOCATOR", Short: "Try a locator on the page as it was when a test failed", Args: cobra.ExactArgs(3),
		Long: "Try a locator on the page as it was when a script's step failed: what it would have found there, and what finds each of\n" +
			"these elements alone. TEST is a name or a number from 0, LOCATOR is written as in scripts. Without --pane it is the first\n" +
			"combination of which a page was kept.\n\nExit code: 0 it finds just one element that can be seen, 1 it does not.",
		Example: "  pane locate 812 'Hold a berth' '{role: button, name: Hold}'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, number, test, err := r.testIn(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			var res api.TestResult
			if err := c.Get(cmd.Context(), fmt.Sprintf("/runs/%d/tests/%d", number, test), &res); err != nil {
				return err
			}
			a, s, label := keptPage(res, pane)
			if s == nil {
				return usage("no page was kept of %q%s: they are kept where a script's step fails", res.Test.Name, inPane(pane))
			}
			q := url.Values{"locator": {args[2]}, "test": {s.At.File}, "step": {fmt.Sprintf("%d:%d", s.At.Line, s.At.Column)}}
			var got api.Located
			if err := c.Get(cmd.Context(), "/attempts/"+a+"/pages/"+url.PathEscape(s.Page)+"?"+q.Encode(), &got); err != nil {
				return err
			}
			if r.json {
				if err := r.writeJSON(got); err != nil {
					return err
				}
			} else {
				fmt.Fprintln(r.out, term.Faint(fmt.Sprintf("%s at step %d on %s, attempt of %s", got.Address, s.Index+1, label,
					res.Run.CreatedAt.Format(time.DateTime))))
				term.Located(r.out, got)
			}
			if got.Visible != 1 {
				return silent(1)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&pane, "pane", "", "the combination: its label, key or number")
	return cmd
}

func inPane(pane string) string {
	if pane == "" {
		return ""
	}
	return " on " + pane
}

// keptPage finds the step of a test of which a page was kept: where it failed, if it did.
func keptPage(res api.TestResult, pane string) (attemptID string, step *attempt.Step, label string) {
	for _, p := range res.Results {
		if pane != "" && p.Pane.Label != pane && p.Pane.Key != pane && strconv.Itoa(p.Pane.Index) != pane {
			continue
		}
		for _, a := range slices.Backward(p.Attempts) {
			for i := range a.Detail.Steps {
				if s := &a.Detail.Steps[i]; s.Page != "" && (step == nil || s.State == attempt.Failed && step.State != attempt.Failed) {
					attemptID, step, label = a.ID, s, p.Pane.Label
				}
			}
		}
	}
	return attemptID, step, label
}
