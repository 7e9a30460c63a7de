package cli

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/bisect"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/term"
)

func (r *root) bisectCmd() *cobra.Command {
	var q api.BisectRequest
	var run int
	var axis string
	var given []string
	cmd := &cobra.Command{
		Use: "bisect TEST --run N", Short: "Find the version or bundle from which on a test fails",
		Long: "Find the browser's version, or the bundle of the suite, from which on a test fails: run it again, in one combination and with\n" +
			"what else was asked for in the run, halving what is left, and again where it is unsteady, until the answer is sure.",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if q.Secrets, err = secrets(given, os.LookupEnv); err != nil {
				return err
			}
			q.Test, q.Axis = args[0], api.BisectAxis(axis)
			return r.bisect(cmd.Context(), run, q)
		},
	}
	cmd.Flags().IntVar(&run, "run", 0, "number of the run in which it failed")
	cmd.Flags().StringVar(&axis, "axis", string(api.ByVersion), "along what to look: version or bundle")
	cmd.Flags().StringVar(&q.Pane, "combination", "", "label or key of the combination (default the first in which it failed)")
	cmd.Flags().Float64Var(&q.Sure, "sure", 0.95, "the probability to reach")
	cmd.Flags().IntVar(&q.Most, "most", 60, "tries at most")
	cmd.Flags().StringArrayVar(&given, "secret", nil, "NAME of an environment variable with a secret that the run had; repeat for more")
	_ = cmd.MarkFlagRequired("run")
	cmd.AddCommand(&cobra.Command{
		Use: "list", Short: "List searches, newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return r.bisects(cmd.Context()) },
	}, &cobra.Command{
		Use: "show ID", Short: "Show a search and its tries", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var b api.Bisect
			if err := c.Get(cmd.Context(), "/bisects/"+args[0], &b); err != nil {
				return err
			}
			return r.tellBisect(c, b)
		},
	}, &cobra.Command{
		Use: "end ID", Short: "End a search before it has its answer", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var b api.Bisect
			if err := c.Call(cmd.Context(), http.MethodPost, "/bisects/"+args[0]+"/end", nil, &b); err != nil {
				return err
			}
			return r.tellBisect(c, b)
		},
	})
	return cmd
}

func (r *root) bisect(ctx context.Context, run int, q api.BisectRequest) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	var b api.Bisect
	if err := c.Call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/bisect", run), q, &b); err != nil {
		return err
	}
	fmt.Fprintf(r.err, "%s on %s, among %d: %s\n", b.Test, b.Label, len(b.Candidates), strings.Join(named(b), ", "))
	told := 0
	for t := time.NewTicker(300 * time.Millisecond); ; {
		for ; told < len(b.Tries) && b.Tries[told].Verdict != ""; told++ {
			fmt.Fprintln(r.err, "  "+tryLine(b, b.Tries[told]))
		}
		if b.EndedAt != nil {
			t.Stop()
			return r.tellBisect(c, b)
		}
		select {
		case <-ctx.Done():
			t.Stop()
			fmt.Fprintf(r.err, "The search goes on: pane bisect show %s; pane bisect end %s ends it.\n", b.ID, b.ID)
			return ctx.Err()
		case <-t.C:
		}
		if err := c.Get(ctx, "/bisects/"+b.ID, &b); err != nil {
			return err
		}
	}
}

// named are the candidates as people read them.
func named(b api.Bisect) []string {
	out := make([]string, len(b.Candidates))
	for i, c := range b.Candidates {
		out[i] = short(b, c)
	}
	return out
}

func short(b api.Bisect, candidate string) string {
	if b.Axis == api.ByBundle {
		return candidate[:min(12, len(candidate))]
	}
	return candidate
}

func tryLine(b api.Bisect, t api.BisectTry) string {
	v := string(t.Verdict)
	if v == "" {
		v = "running"
	}
	return fmt.Sprintf("%-20s %s  #%d", short(b, t.Candidate), term.Paint(t.Verdict, v), t.Run)
}

func (r *root) tellBisect(c *client.Client, b api.Bisect) error {
	if r.json {
		return r.writeJSON(b)
	}
	if b.Answer == nil {
		for _, t := range b.Tries {
			fmt.Fprintln(r.out, tryLine(b, t))
		}
		fmt.Fprintf(r.out, "%s on %s: not known yet, after %d tries\n", b.Test, b.Label, len(b.Tries))
		return nil
	}
	fmt.Fprintf(r.out, "%s on %s %s\n", b.Test, b.Label, b.Answer.Words)
	for _, t := range []*api.BisectTry{b.Answer.LastTry, b.Answer.FirstTry} {
		if t != nil {
			fmt.Fprintf(r.out, "  %s  %s\n", tryLine(b, *t), sessionAddress(c, *t))
		}
	}
	fmt.Fprintf(r.out, "%s/bisects/%s\n", c.Base, b.ID)
	if b.Answer.Kind == bisect.Undecided {
		return &exitError{verdict.ExitLab, nil}
	}
	return nil
}

func sessionAddress(c *client.Client, t api.BisectTry) string {
	if t.Session == "" {
		return c.Base + fmt.Sprintf("/runs/%d", t.Run)
	}
	return c.Base + "/sessions/" + t.Session
}

func (r *root) bisects(ctx context.Context) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	var all []api.Bisect
	if err := c.Get(ctx, "/bisects", &all); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintln(r.out, "Nothing was looked for yet. Begin with pane bisect TEST --run N")
		return nil
	}
	t := term.NewTable("search", "run", "test", "on", "by", "tries", "answer")
	for _, b := range all {
		answer := "goes on"
		if b.Answer != nil {
			answer = b.Answer.Words
		}
		t.Row(b.ID, fmt.Sprintf("#%d", b.Run), b.Test, b.Label, string(b.Axis), fmt.Sprint(len(b.Tries)), answer)
	}
	fmt.Fprintln(r.out, t)
	return nil
}
