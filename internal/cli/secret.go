package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	xterm "golang.org/x/term"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/project"
	"parallelpane/internal/term"
)

// secretOptions say which secrets are meant.
type secretOptions struct{ project, environment, dir string }

func (r *root) secretCmd() *cobra.Command {
	var o secretOptions
	cmd := &cobra.Command{
		Use: "secret", Short: "Values that a project's runs are given and that nobody sees",
		Long: `Secrets are kept by the service, sealed, for a project and one or every environment. A suite that names them
under secrets in pane.yaml gets them as variables (vars.NAME in scripts, PANE_VAR_NAME in commands). They are in no bundle,
log, artifact or page. A runner of the project uses them, a keeper writes them, and only an admin of it reads them.`,
	}
	f := cmd.PersistentFlags()
	f.StringVar(&o.project, "project", "", "whose (default that of the pane.yaml here)")
	f.StringVar(&o.environment, "env", "", "environment that they are for; every one if not given")
	f.StringVar(&o.dir, "dir", ".", "directory of the project")
	var text string
	list := &cobra.Command{
		Use: "list", Short: "List the secrets that are kept, without their values", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return r.listSecrets(cmd.Context(), o, text) },
	}
	list.Flags().StringVar(&text, "text", "", "only those with this in their names")
	cmd.AddCommand(list,
		&cobra.Command{
			Use: "keep NAME", Short: "Keep a secret: it is asked for, or read from the standard input", Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				return r.keepSecret(cmd.Context(), o, args[0], cmd.InOrStdin())
			},
		},
		&cobra.Command{
			Use: "drop NAME", Short: "Forget a secret", Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				c, path, err := r.secretsOf(&o)
				if err != nil {
					return err
				}
				err = c.Call(cmd.Context(), http.MethodDelete, path+"/"+url.PathEscape(args[0])+"?"+
					url.Values{"environment": {o.environment}}.Encode(), nil, nil)
				if err == nil && !r.json {
					fmt.Fprintf(r.out, "Secret %s of project %s is forgotten.\n", args[0], o.project)
				}
				return err
			},
		},
		&cobra.Command{
			Use: "read NAME", Short: "Print a secret, as an admin of the project; it is on record who did", Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				c, path, err := r.secretsOf(&o)
				if err != nil {
					return err
				}
				var v api.SecretValue
				if err := c.Call(cmd.Context(), http.MethodPost, path+"/read", api.SecretName{Name: args[0], Environment: o.environment},
					&v); err != nil {
					return err
				}
				if r.json {
					return r.writeJSON(v)
				}
				fmt.Fprintln(r.out, v.Value)
				return nil
			},
		})
	return cmd
}

// secretsOf is where the secrets of the project are that is meant.
func (r *root) secretsOf(o *secretOptions) (*client.Client, string, error) {
	if o.project == "" {
		root, err := project.FindRoot(o.dir)
		if err != nil {
			return nil, "", usage("%v, or say whose secrets with --project", err)
		}
		p, err := project.Load(project.Dir(root))
		if err != nil {
			return nil, "", usage("%v", err)
		}
		o.project = p.Name
	}
	c, err := r.client()
	return c, "/projects/" + url.PathEscape(o.project) + "/secrets", err
}

func (r *root) listSecrets(ctx context.Context, o secretOptions, text string) error {
	c, path, err := r.secretsOf(&o)
	if err != nil {
		return err
	}
	var all []api.Secret
	if err := c.Get(ctx, path+"?"+url.Values{"environment": {o.environment}, "text": {text}}.Encode(), &all); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(all)
	}
	if len(all) == 0 {
		fmt.Fprintf(r.out, "Project %s keeps no such secret. pane secret keep NAME keeps one.\n", o.project)
		return nil
	}
	t := term.NewTable("Secret", "Environment", "Changed by", "Changed")
	for _, s := range all {
		env := s.Environment
		if env == "" {
			env = "every one"
		}
		t.Row(s.Name, env, s.ChangedBy, humanize.Time(*s.ChangedAt))
	}
	fmt.Fprintln(r.out, t)
	return nil
}

// keepSecret takes the value from a person, unseen, or from a pipe, without the end of its
// last line.
func (r *root) keepSecret(ctx context.Context, o secretOptions, name string, in io.Reader) error {
	c, path, err := r.secretsOf(&o)
	if err != nil {
		return err
	}
	var value []byte
	if f, ok := in.(*os.File); ok && xterm.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(r.err, "Value of %s: ", name)
		value, err = xterm.ReadPassword(int(f.Fd()))
		fmt.Fprintln(r.err)
	} else {
		value, err = io.ReadAll(io.LimitReader(in, api.MaxSecret+2))
	}
	if err != nil {
		return usage("read the value of %s: %v", name, err)
	}
	q := api.SecretRequest{Name: name, Environment: o.environment, Value: strings.TrimRight(string(value), "\r\n")}
	if err := c.Call(ctx, http.MethodPost, path, q, nil); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(api.SecretName{Name: name, Environment: o.environment})
	}
	where := "every environment"
	if o.environment != "" {
		where = "environment " + o.environment
	}
	fmt.Fprintf(r.out, "Secret %s of project %s is kept for %s. A suite gets it that has secrets: [%s].\n", name, o.project, where, name)
	return nil
}
