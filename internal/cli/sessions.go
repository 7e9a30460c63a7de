package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/term"
)

func (r *root) sessionsCmd() *cobra.Command {
	values := map[string]*string{}
	var limit, run int
	cmd := &cobra.Command{
		Use: "sessions [TEXT]", Short: "List browser sessions: what waits, what is open, what was", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			q := url.Values{}
			for name, v := range values {
				if *v != "" {
					q.Set(name, *v)
				}
			}
			if len(args) == 1 {
				q.Set("text", args[0])
			}
			if limit > 0 {
				q.Set("limit", strconv.Itoa(limit))
			}
			if run > 0 {
				q.Set("run", strconv.Itoa(run))
			}
			return r.sessions(cmd.Context(), q)
		},
	}
	f := cmd.Flags()
	for _, flag := range [][2]string{
		{"test", "text in the test's name"}, {"tag", "a tag"}, {"browser", "a browser"}, {"device", "a device"}, {"verdict", "how it ended"},
		{"state", "waiting, open or ended"}, {"project", "a project"}, {"kind", "script or remote"}, {"agent", "an agent"},
		{"since", "from this day or time on"}, {"until", "up to this day, which is included, or time"},
		{"before", "older than the session of this id"},
	} {
		values[flag[0]] = f.String(flag[0], "", "only sessions with: "+flag[1])
	}
	f.IntVar(&run, "run", 0, "only sessions of the run with this number")
	f.IntVar(&limit, "limit", 0, "at most this many (default 50)")
	cmd.AddCommand(r.sessionCmd(), r.endCmd(), r.noteCmd())
	return cmd
}

func (r *root) sessions(ctx context.Context, q url.Values) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	var all []api.SessionSummary
	if err := c.Get(ctx, "/sessions?"+q.Encode(), &all); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(all)
	}
	if len(all) == 0 {
		if len(q) > 0 {
			fmt.Fprintln(r.out, "No session is like that. Leave a filter out to see more.")
			return nil
		}
		fmt.Fprintln(r.out, "There are no sessions yet. Run a suite with pane run, or point a runner at "+c.Base+"/webdriver.")
		return nil
	}
	t := term.NewTable("session", "", "name", "combination", "run", "agent", "when", "took")
	for _, s := range all {
		t.Row(s.ID, sessionState(s), s.Name, s.Label, fmt.Sprintf("%d", s.Run), s.Agent, humanize.Time(*s.QueuedAt), sessionTook(s))
	}
	fmt.Fprintln(r.out, t)
	return nil
}

func sessionState(s api.SessionSummary) string {
	switch {
	case s.Verdict != "":
		return term.Paint(s.Verdict, term.Shapes[s.Verdict]+" "+s.Verdict.Words())
	case s.State == "waiting":
		return fmt.Sprintf("waiting (%d ahead)", s.Ahead)
	}
	return s.State
}

func sessionTook(s api.SessionSummary) string {
	if s.OpenedAt == nil {
		return ""
	}
	end := time.Now()
	if s.EndedAt != nil {
		end = *s.EndedAt
	}
	return term.Took(end.Sub(*s.OpenedAt))
}

func (r *root) sessionCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show SESSION", Short: "Show one session: how it went, its commands and files", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var s api.Session
			if err := c.Get(cmd.Context(), "/sessions/"+url.PathEscape(args[0]), &s); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(s)
			}
			return r.showSession(cmd.Context(), c, s)
		},
	}
}

func (r *root) showSession(ctx context.Context, c *client.Client, s api.Session) error {
	fmt.Fprintf(r.out, "%s  %s\n", s.Name, sessionState(s.SessionSummary))
	line := func(what, value string) {
		if value != "" {
			fmt.Fprintf(r.out, "  %-12s %s\n", what, strings.ReplaceAll(value, "\n", "\n               "))
		}
	}
	line("run", fmt.Sprintf("%d, %s", s.Run, s.RunName))
	line("combination", s.Label)
	line("browser", strings.TrimSpace(s.Browser+" "+s.Version))
	line("agent", s.Agent)
	line("said", s.Message)
	line("ended", s.End)
	line("took", sessionTook(s.SessionSummary))
	line("note", s.Note)
	for _, m := range s.Detail.Emulated.Missing {
		line("not emulated", m.Feature+" ("+m.Reason+")")
	}
	for _, m := range s.Detail.Lacking {
		line("not recorded", string(m.Kind)+" ("+m.Reason+")")
	}
	has := false
	for _, f := range s.Files {
		line("file", fmt.Sprintf("%s  %s", f.Name, humanize.Bytes(uint64(f.Size))))
		has = has || f.Name == recording.CommandsFile
	}
	line("page", c.Base+"/sessions/"+s.ID)
	if !has {
		return nil
	}
	resp, err := c.Do(ctx, "GET", "/attempts/"+s.AttemptID+"/files/"+recording.CommandsFile, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	commands, err := recording.Read[recording.Command](resp.Body)
	if err != nil {
		return fmt.Errorf("%s: %w", recording.CommandsFile, err)
	}
	fmt.Fprintln(r.out)
	for _, x := range commands {
		v := verdict.Passed
		if x.Error != "" {
			v = verdict.Failed
		}
		what := string(x.Arguments)
		if len(what) > 90 {
			what = what[:90] + "…"
		}
		fmt.Fprintf(r.out, "  %9s %8s  %s %s\n", term.Millis(int64(x.AtMS)), term.Millis(int64(x.TookMS)),
			term.Paint(v, x.Name), term.Faint(what))
		if x.Error != "" {
			first, _, _ := strings.Cut(x.Message, "\n")
			fmt.Fprintf(r.out, "                       %s\n", term.Paint(v, strings.TrimRight(x.Error+": "+first, ": ")))
		}
	}
	return nil
}

func (r *root) endCmd() *cobra.Command {
	return &cobra.Command{
		Use: "end SESSION", Short: "End a session that waits or is open", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return r.tell(cmd.Context(), "/sessions/"+url.PathEscape(args[0])+"/end", struct{}{}, "The session is ending.")
		},
	}
}

func (r *root) noteCmd() *cobra.Command {
	return &cobra.Command{
		Use: "note SESSION TEXT", Short: "Keep a note on a session", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return r.tell(cmd.Context(), "/sessions/"+url.PathEscape(args[0])+"/note", map[string]string{"note": args[1]}, "The note is kept.")
		},
	}
}

// tell posts something to which the answer is empty.
func (r *root) tell(ctx context.Context, path string, body any, done string) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	if err := c.Call(ctx, "POST", path, body, nil); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(map[string]bool{"done": true})
	}
	fmt.Fprintln(r.out, done)
	return nil
}

func (r *root) verdictCmd() *cobra.Command {
	var message string
	cmd := &cobra.Command{
		Use: "verdict SESSION passed|failed|skipped", Short: "Say how the test of a session went",
		Long: `Say how the test of a session went that your own runner opened, while it is open or after it.
Until somebody says so the session counts as ended, never as passed.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return r.tell(cmd.Context(), "/sessions/"+url.PathEscape(args[0])+"/verdict",
				link.SessionVerdict{Verdict: verdict.Verdict(args[1]), Message: message}, "The session has the verdict "+args[1]+".")
		},
	}
	cmd.Flags().StringVarP(&message, "message", "m", "", "why, for the wall")
	return cmd
}

func (r *root) recordCmd() *cobra.Command {
	return &cobra.Command{
		Use: "record PROJECT [KIND=KEEP…]", Short: "Show or settle what is recorded of a project's sessions",
		Long: `Show or settle what is recorded of a project's sessions, those of scripts and those that runners open.
Kinds are commands, screenshots, video, network, console, logs and downloads; each is kept never, always, or unless-passed.
A single word is for all of them. Sessions that name no project are of the project unnamed.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/projects/" + url.PathEscape(args[0])
			c, err := r.client()
			if err != nil {
				return err
			}
			var now api.ProjectSettings
			if err := c.Get(cmd.Context(), path, &now); err != nil {
				return err
			}
			if len(args) > 1 {
				change, err := record.Parse(args[1:])
				if err != nil {
					return usage("%v", err)
				}
				now.Record = record.Over(change, now.Record)
				if err := c.Call(cmd.Context(), "POST", path, settle(now), nil); err != nil {
					return err
				}
			}
			if r.json {
				return r.writeJSON(now)
			}
			t := term.NewTable("KIND", "SCRIPTS", "RUNNERS' SESSIONS", "SETTLED BY")
			for _, kind := range record.Kinds {
				by := "as usual"
				if _, own := now.Record[kind]; own {
					by = "project " + args[0]
				}
				t.Row(string(kind), string(record.Over(now.Record, record.Default(false))[kind]),
					string(record.Over(now.Record, record.Default(true))[kind]), by)
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	}
}

// settle is what settles a project.
func settle(p api.ProjectSettings) map[string]any {
	return map[string]any{"record": p.Record, "keep": p.Keep}
}

// secrets reads the variables named by --secret out of the environment, so that
// they are in no command line.
func secrets(names []string, lookup func(string) (string, bool)) (map[string]string, error) {
	out := map[string]string{}
	for _, name := range names {
		v, ok := lookup(name)
		if !ok || v == "" {
			return nil, usage("--secret %s: there is no environment variable of that name: set it, so that the value is in no command line", name)
		}
		out[name] = v
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}
