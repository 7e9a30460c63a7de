package cli

import (
	"fmt"
	"net/url"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/term"
)

func (r *root) keepCmd() *cobra.Command {
	var reset bool
	cmd := &cobra.Command{
		Use: "keep PROJECT [WHAT=DAYS…]", Short: "Show or settle for how long a project's recordings are kept",
		Long: `Show or settle for how long the recordings of a project are kept. WHAT is all, a kind (video), a verdict
(passed) or both (video:passed); 0 days mean for ever. The most particular rule counts. The rules of the
project "*" hold for every project that has none of its own. Verdicts and steps are always kept.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			path := "/projects/" + url.PathEscape(args[0])
			var now api.ProjectSettings
			if err := c.Get(cmd.Context(), path, &now); err != nil {
				return err
			}
			if len(args) > 1 || reset {
				if reset {
					now.Keep = nil
				}
				for _, a := range args[1:] {
					rule, err := retain.Parse(a)
					if err != nil {
						return usage("%v", err)
					}
					now.Keep = retain.Set(now.Keep, rule)
				}
				if err := c.Call(cmd.Context(), "POST", path, settle(now), nil); err != nil {
					return err
				}
			}
			if r.json {
				return r.writeJSON(now)
			}
			rules, whose := now.Keep, "project "+args[0]
			if len(rules) == 0 {
				var all api.ProjectSettings
				if err := c.Get(cmd.Context(), "/projects/"+url.PathEscape(retain.Everywhere), &all); err != nil {
					return err
				}
				if rules, whose = all.Keep, "every project without rules of its own"; len(rules) == 0 {
					rules, whose = retain.Defaults, "as usual"
				}
			}
			t := term.NewTable("KIND", "VERDICT", "KEPT", "SETTLED FOR")
			for _, x := range rules {
				kind, v, days := string(x.Kind), string(x.Verdict), fmt.Sprintf("%g days", x.Days)
				if kind == "" {
					kind = "every"
				}
				if v == "" {
					v = "every"
				}
				if x.Days == 0 {
					days = "for ever"
				}
				t.Row(kind, v, days, whose)
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	}
	cmd.Flags().BoolVar(&reset, "reset", false, "drop the project's own rules first")
	return cmd
}

func (r *root) sweepCmd() *cobra.Command {
	var dry bool
	cmd := &cobra.Command{
		Use: "sweep", Short: "Remove the recordings whose time is over, now instead of within the hour", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var s api.Sweep
			if err := c.Call(cmd.Context(), "POST", "/sweeps", map[string]bool{"dry": dry}, &s); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(s)
			}
			if s.Count > 0 && dry {
				t := term.NewTable("session", "file", "project", "verdict", "size", "why")
				for _, f := range s.Files {
					t.Row(f.Session, f.Name, f.Project, f.Verdict.Words(), humanize.Bytes(uint64(f.Size)), f.Why)
				}
				fmt.Fprintln(r.out, t)
			}
			verb := "removed"
			if dry {
				verb = "would be removed"
			}
			fmt.Fprintf(r.out, "%d files with %s %s; %d with %s stay\n", s.Count, humanize.Bytes(uint64(s.Bytes)), verb, s.Left,
				humanize.Bytes(uint64(s.Kept)))
			if s.Orphans > 0 {
				fmt.Fprintf(r.out, "%d contents that no record names, with %s, %s\n", s.Orphans, humanize.Bytes(uint64(s.OrphanBytes)), verb)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&dry, "dry-run", false, "only show what would go")
	return cmd
}
