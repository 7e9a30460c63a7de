package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/source"
	"parallelpane/internal/term"
)

func (r *root) shareCmd() *cobra.Command {
	f := api.ShareFilter{}
	cmd := &cobra.Command{
		Use: "share", Short: "Show a run, a test, a cause or a session to whoever has a link", Args: cobra.NoArgs,
		Long: "List share links, with their ends and last use. Whoever has such a link sees one run, one test or cause of it, or one\n" +
			"session, and what belongs to it, on the same pages as everybody else, and nothing else; nobody needs an account for it.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			q := url.Values{"project": {f.Project}, "run": {strconv.Itoa(f.Run)}}
			var got []api.ShareLink
			return r.answer(cmd.Context(), "/shares", q, &got, func() { term.Shares(r.out, got) })
		},
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "only of this project")
	cmd.Flags().IntVar(&f.Run, "run", 0, "only of this run")
	cmd.AddCommand(r.shareRunCmd(), r.shareTestCmd(), r.shareCauseCmd(), r.shareSessionCmd(), r.shareBadgeCmd(), r.shareEndCmd())
	return cmd
}

// untilFlag reads when a link ends.
func untilFlag(cmd *cobra.Command) func() (time.Time, error) {
	text := cmd.Flags().String("until", "", "the day on which the link ends, as 2026-12-24, or how long it is good for, as 48h; else 14 days")
	return func() (time.Time, error) {
		if *text == "" {
			return time.Now().Add(14 * 24 * time.Hour), nil
		}
		if d, err := time.ParseDuration(*text); err == nil {
			return time.Now().Add(d), nil
		}
		t, err := time.ParseInLocation(time.DateOnly, *text, time.Local)
		if err != nil {
			return t, usage("--until: expected a day such as 2026-12-24 or a time such as 48h, found %q", *text)
		}
		return t, nil
	}
}

func (r *root) shareRunCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "run [RUN]", Short: "Make a link to a run", Args: cobra.MaximumNArgs(1)}
	until := untilFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, n, err := r.newestOr(cmd.Context(), args)
		if err != nil {
			return err
		}
		return r.share(cmd.Context(), c, api.ShareRequest{Kind: api.ShareRun, Run: n}, until)
	}
	return cmd
}

func (r *root) shareCauseCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "cause RUN CAUSE", Short: "Make a link to a cause of a run, by its place in pane causes or its id",
		Args: cobra.ExactArgs(2)}
	until := untilFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, n, cause, err := r.causeOf(cmd.Context(), args[0], args[1])
		if err != nil {
			return err
		}
		return r.share(cmd.Context(), c, api.ShareRequest{Kind: api.ShareCause, Run: n, Cause: cause.ID}, until)
	}
	return cmd
}

func (r *root) shareTestCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "test RUN TEST", Short: "Make a link to a test of a run, by its name or place", Args: cobra.ExactArgs(2)}
	until := untilFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, n, err := r.ofRun(args[0])
		if err != nil {
			return err
		}
		place, err := r.placeOfTest(cmd.Context(), c, n, args[1])
		if err != nil {
			return err
		}
		return r.share(cmd.Context(), c, api.ShareRequest{Kind: api.ShareTest, Run: n, Test: place}, until)
	}
	return cmd
}

// placeOfTest finds a test of a run by its name or place.
func (r *root) placeOfTest(ctx context.Context, c *client.Client, number int, test string) (int, error) {
	var run api.Run
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d", number), &run); err != nil {
		return 0, err
	}
	names := make([]string, len(run.Tests))
	for i, t := range run.Tests {
		if names[i] = t.Name; t.Name == test || strconv.Itoa(i) == test {
			return i, nil
		}
	}
	hint := ""
	if near := source.Nearest(test, names); near != "" {
		hint = fmt.Sprintf(" (did you mean %q?)", near)
	}
	return 0, usage("run #%d has no test %q%s", number, test, hint)
}

func (r *root) shareSessionCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "session SESSION", Short: "Make a link to a session", Args: cobra.ExactArgs(1)}
	until := untilFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		return r.share(cmd.Context(), c, api.ShareRequest{Kind: api.ShareSession, Session: args[0]}, until)
	}
	return cmd
}

func (r *root) share(ctx context.Context, c *client.Client, q api.ShareRequest, until func() (time.Time, error)) (err error) {
	if q.Until, err = until(); err != nil {
		return err
	}
	var made api.NewShare
	if err := c.Call(ctx, "POST", "/shares", q, &made); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(made)
	}
	fmt.Fprintf(r.out, "%s\n", made.Address)
	fmt.Fprintf(r.err, "Whoever has it sees %s until %s; it is shown this once.\n", term.Tame(made.Share.About),
		made.Until.Local().Format("2 January 2006 15:04"))
	return nil
}

func (r *root) shareBadgeCmd() *cobra.Command {
	q := api.ShareRequest{Kind: api.ShareBadge}
	cmd := &cobra.Command{
		Use: "badge PROJECT SUITE", Short: "Make the address of a picture that shows how a suite stands, for pages elsewhere",
		Args: cobra.ExactArgs(2),
	}
	until := untilFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := r.client()
		if err != nil {
			return err
		}
		q.Project, q.Suite = args[0], args[1]
		return r.share(cmd.Context(), c, q, until)
	}
	return cmd
}

func (r *root) shareEndCmd() *cobra.Command {
	return &cobra.Command{
		Use: "end SHARE", Short: "Withdraw a share link, by how its id begins", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var all []api.ShareLink
			if err := c.Get(cmd.Context(), "/shares", &all); err != nil {
				return err
			}
			var ids []string
			for _, s := range all {
				if strings.HasPrefix(s.ID, args[0]) {
					ids = append(ids, s.ID)
				}
			}
			if len(ids) != 1 || args[0] == "" {
				return usage("%q means %d share links: name one by its id, which pane share lists", args[0], len(ids))
			}
			if err := c.Call(cmd.Context(), "DELETE", "/shares/"+ids[0], nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(r.out, "It shows nothing more.")
			return nil
		},
	}
}
