package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/project"
	"parallelpane/internal/term"
)

func (r *root) asideCmd() *cobra.Command {
	var f api.AsideFilter
	cmd := &cobra.Command{
		Use: "aside", Short: "List tests that are set aside, set one aside, or take one back", Args: cobra.NoArgs,
		Long: "A test that is set aside runs and is shown, and its failures turn no run red: until a day, with somebody who looks after it\n" +
			"and a reason. From that day on they count again.",
		RunE: func(cmd *cobra.Command, _ []string) error { return r.asides(cmd.Context(), f) },
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "only this project's")
	cmd.Flags().StringVar(&f.Suite, "suite", "", "only this suite's")
	cmd.Flags().StringVar(&f.Text, "text", "", "only those with this in their names, owners or reasons")
	cmd.Flags().BoolVar(&f.Ended, "ended", false, "those too whose time is over")
	cmd.AddCommand(r.asideAddCmd(), r.asideEndCmd())
	return cmd
}

func (r *root) asides(ctx context.Context, f api.AsideFilter) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	q := url.Values{"project": {f.Project}, "suite": {f.Suite}, "text": {f.Text}}
	if f.Ended {
		q.Set("ended", "true")
	}
	var all []api.Aside
	if err := c.Get(ctx, "/aside?"+q.Encode(), &all); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintln(r.out, "No test is set aside. pane aside add TEST --owner WHO --reason WHY --until DAY sets one aside.")
		return nil
	}
	t := term.NewTable("test", "suite", "until", "owner", "reason", "by")
	for _, a := range all {
		until := a.Until.Format(time.DateOnly)
		if a.Ended {
			until += " (over)"
		}
		t.Row(term.Tame(a.Test), a.Project+" "+a.Suite, until, term.Tame(a.Owner), term.Tame(a.Reason), a.By)
	}
	fmt.Fprintln(r.out, t)
	return nil
}

// ofSuite has a test's name name the suite: that of the pane.yaml here where none is given.
func ofSuite(cmd *cobra.Command, q *api.AsideName) {
	cmd.Flags().StringVar(&q.Project, "project", "", "whose test it is (default that of the pane.yaml here)")
	cmd.Flags().StringVar(&q.Suite, "suite", "", "of which suite (default that of the pane.yaml here)")
}

func (r *root) asideOf(test string, q *api.AsideName) (*client.Client, error) {
	q.Test = test
	if q.Project == "" || q.Suite == "" {
		root, err := project.FindRoot(".")
		if err != nil {
			return nil, usage("say whose test it is with --project and --suite: %v", err)
		}
		p, err := project.Load(project.Dir(root))
		if err != nil {
			return nil, usage("%v", err)
		}
		if q.Project == "" {
			q.Project = p.Name
		}
		if q.Suite == "" {
			s, err := p.Suite("")
			if err != nil {
				return nil, usage("say of which suite it is with --suite: %v", err)
			}
			q.Suite = s.Name
		}
	}
	return r.client()
}

func (r *root) asideAddCmd() *cobra.Command {
	var q api.AsideRequest
	until := ""
	cmd := &cobra.Command{
		Use: "add TEST", Short: "Set a test aside until a day", Args: cobra.ExactArgs(1),
		Example: `  pane aside add "Hold a berth" --owner tern --reason "the office's line is being mended" --until 2026-12-24`,
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := time.Parse(time.DateOnly, until)
			if err != nil {
				if at, err = time.Parse(time.RFC3339, until); err != nil {
					return usage("--until: expected a day such as 2026-12-24 or a time such as 2026-12-24T18:00:00Z, found %q", until)
				}
			}
			q.Until = at
			c, err := r.asideOf(args[0], &q.AsideName)
			if err != nil {
				return err
			}
			var a api.Aside
			if err := c.Call(cmd.Context(), http.MethodPost, "/aside", q, &a); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(a)
			}
			fmt.Fprintf(r.out, "%q of suite %s is set aside until %s: it runs and is shown, and turns no run red.\n", a.Test, a.Suite,
				a.Until.Format(time.RFC3339))
			return nil
		},
	}
	ofSuite(cmd, &q.AsideName)
	cmd.Flags().StringVar(&q.Owner, "owner", "", "who looks after it")
	cmd.Flags().StringVar(&q.Reason, "reason", "", "why")
	cmd.Flags().StringVar(&until, "until", "", "the day from which its failures count again, at its beginning in UTC; or a time")
	for _, name := range []string{"owner", "reason", "until"} {
		_ = cmd.MarkFlagRequired(name)
	}
	return cmd
}

func (r *root) asideEndCmd() *cobra.Command {
	var q api.AsideName
	cmd := &cobra.Command{
		Use: "end TEST", Short: "Have the failures of a test count again", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.asideOf(args[0], &q)
			if err != nil {
				return err
			}
			err = c.Call(cmd.Context(), http.MethodDelete, "/aside?"+url.Values{"project": {q.Project}, "suite": {q.Suite},
				"test": {q.Test}}.Encode(), nil, nil)
			if err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(q)
			}
			fmt.Fprintf(r.out, "Failures of %q of suite %s count again.\n", q.Test, q.Suite)
			return nil
		},
	}
	ofSuite(cmd, &q)
	return cmd
}
