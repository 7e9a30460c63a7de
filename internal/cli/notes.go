package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/term"
)

func (r *root) notesCmd() *cobra.Command {
	f := api.NoteFilter{}
	cmd := &cobra.Command{
		Use: "note [RUN]", Short: "Read and keep notes on runs, tests and causes", Args: cobra.MaximumNArgs(1),
		Long: "List notes, the newest first: those of a run with those of the tests and causes that it has, in whichever run, or\n" +
			"without a run all there are. Notes are Markdown; @name mentions somebody.",
		RunE: func(cmd *cobra.Command, args []string) error {
			path, q := "/notes", url.Values{"project": {f.Project}, "mentions": {f.Mentions}, "text": {f.Text}, "limit": {strconv.Itoa(f.Limit)}}
			if len(args) > 0 {
				_, n, err := r.ofRun(args[0])
				if err != nil {
					return err
				}
				path, q = fmt.Sprintf("/runs/%d/notes", n), nil
			}
			var got []api.Note
			return r.answer(cmd.Context(), path, q, &got, func() { term.Notes(r.out, got) })
		},
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "only of this project")
	cmd.Flags().StringVar(&f.Mentions, "mentions", "", "only those that mention this person")
	cmd.Flags().StringVar(&f.Text, "text", "", "only those in which this is found")
	cmd.Flags().IntVar(&f.Limit, "limit", 20, "at most this many")
	cmd.AddCommand(r.noteAddCmd(), r.noteDropCmd())
	return cmd
}

func (r *root) noteAddCmd() *cobra.Command {
	test, cause := "", ""
	cmd := &cobra.Command{
		Use: "add RUN TEXT", Short: "Keep a note on a run, or on a test or a cause of it", Args: cobra.ExactArgs(2),
		Example: "  pane note add 812 \"the office's line was down\"\n" +
			"  pane note add 812 --test \"Hold a berth\" \"@tern mends it, see the *harbour log*\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, n, err := r.ofRun(args[0])
			if err != nil {
				return err
			}
			q := api.NoteRequest{Kind: api.NoteRun, Body: args[1]}
			switch {
			case test != "" && cause != "":
				return usage("--test and --cause: take one of them")
			case cause != "":
				q.Kind, q.Cause = api.NoteCause, cause
			case test != "":
				q.Kind = api.NoteTest
				if q.Test, err = r.placeOfTest(cmd.Context(), c, n, test); err != nil {
					return err
				}
			}
			var made api.Note
			if err := c.Call(cmd.Context(), "POST", fmt.Sprintf("/runs/%d/notes", n), q, &made); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(made)
			}
			fmt.Fprintf(r.out, "The note on %s is kept. %s\n", term.Tame(made.Title), term.Faint(made.ID))
			return nil
		},
	}
	cmd.Flags().StringVar(&test, "test", "", "on this test, by its name or place: it is shown with the test in every run")
	cmd.Flags().StringVar(&cause, "cause", "", "on this cause, by the id that pane causes --json has: it is shown with the cause in every run")
	return cmd
}

func (r *root) noteDropCmd() *cobra.Command {
	return &cobra.Command{
		Use: "drop NOTE", Short: "Forget a note, by its id", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			if err := c.Call(cmd.Context(), "DELETE", "/notes/"+url.PathEscape(strings.TrimSpace(args[0])), nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(r.out, "It is forgotten.")
			return nil
		},
	}
}
