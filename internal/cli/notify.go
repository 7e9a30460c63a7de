package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/term"
)

func (r *root) notifyCmd() *cobra.Command {
	project := ""
	cmd := &cobra.Command{
		Use: "notify", Short: "Say who hears of what: mail and addresses of the web", Args: cobra.NoArgs,
		Long: "List who hears of what became of runs. A subscription is of a project, or of one of its suites, and of one or more of:\n\n" +
			"  failed   runs that failed, or that the lab failed\n" +
			"  changed  runs that came to another verdict than the run before, of the same matrix and environment\n" +
			"  ended    every run\n" +
			"  daily    once a day, after 06:00 UTC, what became of the runs of the day before\n\n" +
			"What is to be told is put on record with the end of its run, and is tried again with growing pauses until it is taken.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var got []api.Subscription
			return r.answer(cmd.Context(), "/subscriptions", url.Values{"project": {project}}, &got, func() { term.Subscriptions(r.out, got) })
		},
	}
	cmd.Flags().StringVar(&project, "project", "", "only of this project")
	cmd.AddCommand(r.notifyAddCmd(), r.notifyOne("try", "Send a message about the newest run to a subscription now", "POST", "/try", nil),
		r.notifyOne("pause", "Have a subscription say nothing until it is resumed", "POST", "/pause", map[string]bool{"paused": true}),
		r.notifyOne("resume", "Have a paused subscription speak again", "POST", "/pause", map[string]bool{"paused": false}),
		r.notifyOne("drop", "Forget a subscription, and what it was still to be sent", "DELETE", "", nil),
		r.notifySentCmd(), r.notifyAgainCmd())
	return cmd
}

func (r *root) notifyAddCmd() *cobra.Command {
	q := api.SubscriptionRequest{}
	cmd := &cobra.Command{
		Use: "add mail ADDRESS | add hook ADDRESS", Short: "Have somebody hear of something", Args: cobra.ExactArgs(2),
		Long: "Have somebody hear of something: mail to an address, or a CloudEvent posted to an address of the web. The key with which a\n" +
			"hook's messages are signed (RFC 9421) is shown once.",
		Example: "  pane notify add mail tern@saltmarsh.example --project saltmarsh --of changed,daily\n" +
			"  pane notify add hook https://chat.saltmarsh.example/lab --project saltmarsh --suite desk --of failed",
		ValidArgs: []string{api.MailKind, api.HookKind},
		RunE: func(cmd *cobra.Command, args []string) error {
			q.Kind, q.Target = args[0], args[1]
			if q.Project == "" {
				return usage("--project: say of which project")
			}
			c, err := r.client()
			if err != nil {
				return err
			}
			var made api.NewSubscription
			if err := c.Call(cmd.Context(), "POST", "/subscriptions", q, &made); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(made)
			}
			fmt.Fprintf(r.out, "%s hears of %s of %s. %s\n", term.Tame(made.Target), strings.Join(made.Of, ", "),
				term.Tame(strings.TrimSpace(made.Project+" "+made.Suite)), term.Faint(made.ID))
			if made.Key != "" {
				fmt.Fprintf(r.out, "Its messages are signed with this key, which is shown once:\n%s\n", made.Key)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&q.Project, "project", "", "of this project")
	cmd.Flags().StringVar(&q.Suite, "suite", "", "only of this suite")
	cmd.Flags().StringSliceVar(&q.Of, "of", []string{api.OfChanged}, "of what: failed, changed, ended, daily")
	return cmd
}

// notifyOne does something with one subscription.
func (r *root) notifyOne(use, short, method, path string, body any) *cobra.Command {
	return &cobra.Command{
		Use: use + " SUBSCRIPTION", Short: short, Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, id, err := r.subscription(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			var got map[string]any
			into := any(&got)
			if method == "DELETE" {
				into = nil
			}
			if err := c.Call(cmd.Context(), method, "/subscriptions/"+id+path, body, into); err != nil {
				return err
			}
			if r.json && into != nil {
				return r.writeJSON(got)
			}
			done := map[string]string{"try": "It is on its way: pane notify sent says what became of it.",
				"pause":  "It says nothing until pane notify resume.",
				"resume": "It speaks again.", "drop": "It is forgotten."}[use]
			fmt.Fprintln(r.out, done)
			return nil
		},
	}
}

// subscription finds the one whose id begins so, or that goes to that address.
func (r *root) subscription(ctx context.Context, word string) (*client.Client, string, error) {
	c, err := r.client()
	if err != nil {
		return nil, "", err
	}
	var all []api.Subscription
	if err := c.Get(ctx, "/subscriptions", &all); err != nil {
		return nil, "", err
	}
	var ids []string
	for _, s := range all {
		if word != "" && (strings.HasPrefix(s.ID, word) || s.Target == word) {
			ids = append(ids, s.ID)
		}
	}
	switch len(ids) {
	case 0:
		return nil, "", usage("there is no subscription %q: pane notify lists them, name one by its address or how its id begins", word)
	case 1:
		return c, ids[0], nil
	}
	return nil, "", usage("%q means %d subscriptions: name one by its id, which pane notify --json has", word, len(ids))
}

func (r *root) notifySentCmd() *cobra.Command {
	f := api.DeliveryFilter{}
	cmd := &cobra.Command{
		Use: "sent", Short: "List what was sent, and what is to be, the newest first", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			q := url.Values{"project": {f.Project}, "state": {f.State}, "run": {strconv.Itoa(f.Run)}, "limit": {strconv.Itoa(f.Limit)}}
			var got []api.Delivery
			return r.answer(cmd.Context(), "/deliveries", q, &got, func() { term.Deliveries(r.out, got) })
		},
	}
	cmd.Flags().StringVar(&f.Project, "project", "", "only of this project")
	cmd.Flags().StringVar(&f.State, "state", "", "waiting, sent or given-up")
	cmd.Flags().IntVar(&f.Run, "run", 0, "only about this run")
	cmd.Flags().IntVar(&f.Limit, "limit", 20, "at most this many")
	return cmd
}

func (r *root) notifyAgainCmd() *cobra.Command {
	return &cobra.Command{
		Use: "again DELIVERY", Short: "Send something again that was sent, or given up", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var got api.Delivery
			if err := c.Call(cmd.Context(), "POST", "/deliveries/"+url.PathEscape(args[0])+"/again", nil, &got); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(got)
			}
			fmt.Fprintln(r.out, "It is on its way: pane notify sent says what became of it.")
			return nil
		},
	}
}
