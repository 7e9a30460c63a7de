package cli

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/term"
)

func (r *root) accountCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "account", Short: "People with a name and a mail address, who sign in and hear of things", Args: cobra.NoArgs,
		Long: "List accounts. Somebody with an account signs in to the console with the lab's OpenID provider (pane serve --sign-in),\n" +
			"hears of what they choose at their own mail address, and is told of notes that mention them. Tokens whose owner has the account's\n" +
			"name are theirs.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var got []api.Account
			return r.answer(cmd.Context(), "/accounts", nil, &got, func() { term.Accounts(r.out, got) })
		},
	}
	cmd.AddCommand(r.accountAddCmd(), r.accountChangeCmd(), r.accountDropCmd())
	return cmd
}

func (r *root) accountAddCmd() *cobra.Command {
	q := api.AccountRequest{}
	var roles []string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Make an account", Args: cobra.ExactArgs(1),
		Example: "  pane account add tern --mail tern@saltmarsh.example --role runner:saltmarsh",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			q.Name, q.Rights = args[0], rightsOf(roles)
			return r.account(cmd.Context(), c, "/accounts", q)
		},
	}
	cmd.Flags().StringVar(&q.Mail, "mail", "", "mail address, by which the provider knows them as well")
	cmd.Flags().StringArrayVar(&roles, "role", []string{string(api.Viewer)},
		"viewer, runner, keeper or admin; ROLE:PROJECT for one project; repeat for more")
	return cmd
}

func (r *root) account(ctx context.Context, c *client.Client, path string, q api.AccountRequest) error {
	var got api.Account
	if err := c.Call(ctx, "POST", path, q, &got); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(got)
	}
	fmt.Fprintf(r.out, "%s %s: %s\n", term.Tame(got.Name), term.Tame(got.Mail), inWords(got.Rights))
	return nil
}

// accountNamed finds an account.
func (r *root) accountNamed(ctx context.Context, name string) (*client.Client, api.Account, error) {
	c, err := r.client()
	if err != nil {
		return nil, api.Account{}, err
	}
	var all []api.Account
	if err := c.Get(ctx, "/accounts", &all); err != nil {
		return nil, api.Account{}, err
	}
	for _, a := range all {
		if strings.EqualFold(a.Name, name) {
			return c, a, nil
		}
	}
	return nil, api.Account{}, usage("there is no account %q: pane account lists them", name)
}

func (r *root) accountChangeCmd() *cobra.Command {
	q := api.AccountRequest{}
	var roles []string
	cmd := &cobra.Command{
		Use: "change NAME", Short: "Give an account another mail address or other rights", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, a, err := r.accountNamed(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			q.Rights = rightsOf(roles)
			return r.account(cmd.Context(), c, "/accounts/"+a.ID, q)
		},
	}
	cmd.Flags().StringVar(&q.Mail, "mail", "", "another mail address")
	cmd.Flags().StringArrayVar(&roles, "role", nil, "instead of the rights that it has; as with pane account add")
	return cmd
}

func (r *root) accountDropCmd() *cobra.Command {
	return &cobra.Command{
		Use: "drop NAME", Short: "Forget an account, with its tokens and what it was to hear of", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, a, err := r.accountNamed(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := c.Call(cmd.Context(), "DELETE", "/accounts/"+a.ID, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(r.out, "%s is forgotten, with every token of theirs.\n", term.Tame(a.Name))
			return nil
		},
	}
}

func (r *root) meCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "me", Short: "Who I am to the service, and what I hear of", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var got struct {
				Who api.Who `json:"who"`
				api.MyAccount
			}
			if err := c.Get(cmd.Context(), "/me", &got.Who); err != nil {
				return err
			}
			if err := c.Get(cmd.Context(), "/me/account", &got.MyAccount); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(got)
			}
			fmt.Fprintf(r.out, "%s, by the token %q: %s\n", term.Tame(got.Who.Person()), term.Tame(got.Who.Name), inWords(got.Who.Rights))
			term.MyAccount(r.out, got.MyAccount)
			return nil
		},
	}
	cmd.AddCommand(r.meHearCmd(), r.meUnhearCmd(), r.meMentionsCmd())
	return cmd
}

func (r *root) meHearCmd() *cobra.Command {
	q := api.HearRequest{}
	cmd := &cobra.Command{
		Use: "hear PROJECT", Short: "Hear of something at my own mail address", Args: cobra.ExactArgs(1),
		Example: "  pane me hear saltmarsh --suite desk --of changed",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			q.Project = args[0]
			var got api.Subscription
			if err := c.Call(cmd.Context(), "POST", "/me/hears", q, &got); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(got)
			}
			fmt.Fprintf(r.out, "You hear of %s of %s. %s\n", strings.Join(got.Of, ", "), term.Tame(strings.TrimSpace(got.Project+" "+got.Suite)),
				term.Faint(got.ID))
			return nil
		},
	}
	cmd.Flags().StringVar(&q.Suite, "suite", "", "only of this suite")
	cmd.Flags().StringSliceVar(&q.Of, "of", []string{api.OfChanged}, "of what: failed, changed, ended, daily")
	return cmd
}

func (r *root) meUnhearCmd() *cobra.Command {
	return &cobra.Command{
		Use: "unhear ID", Short: "Hear of something no more, by how its id begins", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var got api.MyAccount
			if err := c.Get(cmd.Context(), "/me/account", &got); err != nil {
				return err
			}
			var ids []string
			for _, s := range got.Hears {
				if args[0] != "" && strings.HasPrefix(s.ID, args[0]) {
					ids = append(ids, s.ID)
				}
			}
			if len(ids) != 1 {
				return usage("%d of what you hear of begin with %q: pane me lists them", len(ids), args[0])
			}
			if err := c.Call(cmd.Context(), "DELETE", "/me/hears/"+url.PathEscape(ids[0]), nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(r.out, "You hear of it no more.")
			return nil
		},
	}
}

func (r *root) meMentionsCmd() *cobra.Command {
	return &cobra.Command{
		Use: "mentions on|off", Short: "Say whether I hear by mail of notes that mention me", Args: cobra.ExactArgs(1),
		ValidArgs: []string{"on", "off"},
		RunE: func(cmd *cobra.Command, args []string) error {
			if args[0] != "on" && args[0] != "off" {
				return usage("expected on or off, found %q", args[0])
			}
			c, err := r.client()
			if err != nil {
				return err
			}
			if err := c.Call(cmd.Context(), "POST", "/me/account", api.MyAccountRequest{Mentions: args[0] == "on"}, nil); err != nil {
				return err
			}
			fmt.Fprintln(r.out, map[string]string{"on": "You hear of notes that mention you.", "off": "You hear of no mention."}[args[0]])
			return nil
		},
	}
}
