package cli

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/term"
)

// madeToken is a token with its secret, which is shown once.
type madeToken struct {
	api.Token
	Secret string `json:"secret"`
}

// rightsOf reads rights, each as ROLE or ROLE:PROJECT.
func rightsOf(roles []string) (out []api.Right) {
	for _, text := range roles {
		role, project, in := strings.Cut(text, ":")
		if !in {
			project = api.Everywhere
		}
		out = append(out, api.Right{Project: project, Role: api.Role(role)})
	}
	return out
}

func (r *root) tokenCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Make, list and drop access tokens"}
	var req api.TokenRequest
	var roles []string
	var expires string
	add := &cobra.Command{
		Use: "add NAME", Short: "Make a token and print it, this one time", Args: cobra.ExactArgs(1),
		Long: `Make a token and print it, this one time. NAME says what it is for.

Roles are viewer, runner, keeper and admin, each of which may do what the one before it may, and agent. Without a
project a role holds in every one and in the lab itself; --role runner:harbour holds in the project harbour alone, and
can be repeated. A token of the role agent belongs to one agent: that named by --agent, or the first that joins with it.`,
		Example: "  pane token add \"CI of the berth desk\" --role runner:saltmarsh --owner ci\n" +
			"  pane token add quay-2 --role agent --agent quay-2",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			req.Name, req.Rights = args[0], rightsOf(roles)
			if req.ExpiresAt, err = expiry(expires, time.Now()); err != nil {
				return err
			}
			var made madeToken
			if err := c.Call(cmd.Context(), "POST", "/tokens", req, &made); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(made)
			}
			fmt.Fprintln(r.out, made.Secret)
			fmt.Fprintf(r.err, "%s, until %s\n", inWords(made.Rights), made.ExpiresAt.Local().Format(time.DateOnly))
			return nil
		},
	}
	f := add.Flags()
	f.StringArrayVar(&roles, "role", []string{string(api.Viewer)},
		"viewer, runner, keeper, admin or agent; ROLE:PROJECT for one project; repeat for more")
	f.StringVar(&req.Owner, "owner", "", "whose it is, as runs and sessions will name them (default NAME)")
	f.StringVar(&req.Agent, "agent", "", "of the role agent: the agent it belongs to")
	f.StringVar(&req.Pool, "pool", "", "of the role agent: shared, or the project that the agent serves alone")
	f.StringVar(&expires, "expires", "", "a day such as 2027-03-31, or days from now such as 90d (default a year)")
	list := &cobra.Command{
		Use: "list", Short: "List tokens, without their secrets: one's own; an admin's list has everyone's", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var tokens []api.Token
			if err := c.Get(cmd.Context(), "/tokens", &tokens); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(tokens)
			}
			t := term.NewTable("id", "name", "owner", "may", "expires", "last used")
			for _, k := range tokens {
				t.Row(k.ID, tokenName(k), k.Owner, mayDo(k), humanize.Time(*k.ExpiresAt), lastUsed(k))
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	}
	drop := &cobra.Command{
		Use: "drop ID", Short: "Make a token invalid, and with it console sessions, links and sessions that came of it", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			return c.Call(cmd.Context(), "DELETE", "/tokens/"+url.PathEscape(args[0]), nil, nil)
		},
	}
	cmd.AddCommand(add, list, drop)
	return cmd
}

// expiry reads when a token ends; nil for "".
func expiry(text string, now time.Time) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n > 0 && n < 10_000 {
			t := now.AddDate(0, 0, n)
			return &t, nil
		}
	}
	t, err := time.ParseInLocation(time.DateOnly, text, now.Location())
	if err != nil {
		return nil, usage("--expires: expected a day such as 2027-03-31 or a number of days such as 90d, found %q", text)
	}
	return &t, nil
}

func tokenName(t api.Token) string {
	if t.Console {
		return t.Name + " (console)"
	}
	return t.Name
}

func mayDo(t api.Token) string {
	if t.Agent != "" {
		return "agent " + t.Agent
	}
	return inWords(t.Rights)
}

func inWords(rights []api.Right) string {
	words := make([]string, len(rights))
	for i, x := range rights {
		words[i] = string(x.Role)
		if x.Project != api.Everywhere {
			words[i] += " in " + x.Project
		}
	}
	return strings.Join(words, ", ")
}

func lastUsed(t api.Token) string {
	if t.UsedAt == nil {
		return "never"
	}
	return humanize.Time(*t.UsedAt) + " from " + t.UsedFrom
}

func (r *root) auditCmd() *cobra.Command {
	var f struct{ text, who, act, project, since, until string }
	var refused, asCSV bool
	var limit int
	cmd := &cobra.Command{
		Use: "audit", Short: "Who did what, from where, and what was refused", Args: cobra.NoArgs,
		Long: `List who did what in the lab, newest first: from which address, to what, what was there before and after,
what was refused and sign-ins that failed. An admin of projects sees what was done in them; one of the lab, everything.`,
		Example: "  pane audit --act \"token drop\" --since 2026-11-01\n  pane audit --refused --csv > refused.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			q := url.Values{}
			for name, v := range map[string]string{"text": f.text, "who": f.who, "act": f.act, "project": f.project, "since": f.since,
				"until": f.until} {
				if v != "" {
					q.Set(name, v)
				}
			}
			if refused {
				q.Set("refused", "yes")
			}
			all := []api.AuditEntry{}
			for len(all) < limit {
				q.Set("limit", strconv.Itoa(min(1000, limit-len(all))))
				var page []api.AuditEntry
				if err := c.Get(cmd.Context(), "/audit?"+q.Encode(), &page); err != nil {
					return err
				}
				if all = append(all, page...); len(page) == 0 {
					break
				}
				q.Set("before", strconv.FormatInt(page[len(page)-1].ID, 10))
			}
			switch {
			case r.json:
				return r.writeJSON(all)
			case asCSV:
				return r.auditCSV(all)
			case len(all) == 0:
				fmt.Fprintln(r.out, "Nothing is on record that this asks for.")
				return nil
			}
			t := term.NewTable("when", "who", "from", "did", "what", "project", "")
			for _, e := range all {
				t.Row(e.At.Local().Format("2006-01-02 15:04:05"), orDash(e.Who), e.From, e.Act, e.Target, orDash(e.Project), refusedWord(e))
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	}
	x := cmd.Flags()
	x.StringVar(&f.text, "text", "", "found anywhere in an entry")
	x.StringVar(&f.who, "who", "", "the owner of the token")
	x.StringVar(&f.act, "act", "", "what was done, such as \"run\", \"session end\" or \"token add\"")
	x.StringVar(&f.project, "project", "", "what belongs to it")
	x.StringVar(&f.since, "since", "", "a day such as 2026-11-23, or a time")
	x.StringVar(&f.until, "until", "", "a day, which is included, or a time")
	x.BoolVar(&refused, "refused", false, "only what was refused")
	x.IntVar(&limit, "limit", 50, "at most this many entries")
	x.BoolVar(&asCSV, "csv", false, "as CSV, to be kept elsewhere")
	return cmd
}

func refusedWord(e api.AuditEntry) string {
	if e.Refused == "" {
		return ""
	}
	return "refused: " + e.Refused
}

func (r *root) auditCSV(all []api.AuditEntry) error {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	_ = w.Write([]string{"id", "at", "who", "token", "from", "act", "target", "project", "before", "after", "refused"})
	for _, e := range all {
		_ = w.Write([]string{strconv.FormatInt(e.ID, 10), e.At.Format(time.RFC3339Nano), e.Who, e.Token, e.From, e.Act, e.Target, e.Project,
			string(e.Before), string(e.After), e.Refused})
	}
	w.Flush()
	_, err := r.out.Write(b.Bytes())
	return err
}
