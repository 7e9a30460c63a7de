package cli

import (
	"context"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/demo"
	"parallelpane/internal/demo/standins"
	"parallelpane/internal/engine/standin"
)

func (r *root) standinCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "standin", Short: "Run simulated parts of a lab, always labelled as such"}
	var state string
	fleet := &cobra.Command{
		Use:   "fleet FILE",
		Short: "Join many simulated agents, with invented systems and browsers, to the service",
		Long: `Join the agents that FILE describes. They take work like real ones; their browsers load pages over HTTP
and run no scripts. Each gets a token of its own while they run,
	for which an admin's token is needed. pane standin example prints a file to start from.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return r.standinFleet(cmd.Context(), args[0], state) },
	}
	fleet.Flags().StringVar(&state, "state", "", "directory for the agents' state (default in the user's cache)")
	example := &cobra.Command{
		Use: "example", Short: "Print a fleet file to start from", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			_, err := r.out.Write(demo.Fleet)
			return err
		},
	}
	cmd.AddCommand(fleet, example, r.standinDriverCmd(), r.standinPhonesCmd(), r.standinMailCmd(), r.standinTrackerCmd(),
		r.standinProviderCmd())
	return cmd
}

func (r *root) standinFleet(ctx context.Context, file, state string) error {
	src, err := os.ReadFile(file)
	if err != nil {
		return usage("%v", err)
	}
	f, err := standins.Parse(file, src)
	if err != nil {
		return usage("%v", err)
	}
	log, err := r.logger()
	if err != nil {
		return err
	}
	c, err := r.client()
	if err != nil {
		return err
	}
	if state == "" {
		if state, err = stateDir("standins"); err != nil {
			return err
		}
	}
	names := lent{c: c}
	defer names.takeBack()
	configs, err := f.Configs(c.Base, func(agent, pool string) (string, error) { return names.lend(ctx, agent, pool) },
		r.build.Version, state, log)
	if err != nil {
		return err
	}
	conf, err := r.trust(c.Base)
	if err != nil {
		return err
	}
	for i := range configs {
		configs[i].TLS = conf
	}
	if err := standins.Run(ctx, configs); err != nil {
		return usage("%v", err)
	}
	return nil
}

// lent are the tokens of stand-ins: each has one of its own, for as long as they run.
type lent struct {
	c   *client.Client
	old map[string]string // ids that stand-ins which were killed left behind, by name
	ids []string
}

// lentFor is how long a stand-in's token is good if nobody takes it back.
const lentFor = 30 * 24 * time.Hour

func (l *lent) lend(ctx context.Context, agent, pool string) (string, error) {
	if l.old == nil {
		l.old = map[string]string{}
		var all []api.Token
		if err := l.c.Get(ctx, "/tokens", &all); err != nil {
			return "", err
		}
		for _, t := range all {
			l.old[t.Name] = t.ID
		}
	}
	name := "stand-in " + agent
	if id := l.old[name]; id != "" {
		if err := l.c.Call(ctx, "DELETE", "/tokens/"+id, nil, nil); err != nil {
			return "", err
		}
	}
	var made madeToken
	until := time.Now().Add(lentFor)
	err := l.c.Call(ctx, "POST", "/tokens", api.TokenRequest{Name: name, Role: api.AgentRole, Agent: agent, Pool: pool, ExpiresAt: &until},
		&made)
	l.ids = append(l.ids, made.ID)
	return made.Secret, err
}

// takeBack drops the tokens, as far as the service is still there.
func (l *lent) takeBack() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	for _, id := range l.ids {
		if l.c.Call(ctx, "DELETE", "/tokens/"+id, nil, nil) != nil {
			return
		}
	}
}

func (r *root) standinDriverCmd() *cobra.Command {
	var d standin.Driver
	cmd := &cobra.Command{
		Use: "driver KIND VERSION -- SWITCH…", Short: "Be a simulated driver of a browser that cannot be installed",
		Long: "Be a simulated driver: take the switches of the real one, print what that prints, and serve a stand-in browser, which\n" +
			"loads pages and runs no scripts. An agent.yaml or a script in its place names it. KIND is one of\n" +
			strings.Join(standin.Kinds(), ", ") + ".",
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			d.Kind, d.Version = args[0], args[1]
			if err := d.Run(cmd.Context(), args[2:], r.out); err != nil {
				return usage("%v", err)
			}
			return nil
		},
	}
	cmd.Flags().DurationVar(&d.Slow, "slow", 0, "how long it takes until it listens")
	cmd.Flags().StringVar(&d.Taken, "taken", "", "a file: while it is not there, make it, say that the port is taken, and end")
	cmd.Flags().StringVar(&d.Opens, "opens", "", "the version that its sessions say the browser has (default VERSION)")
	cmd.Flags().BoolVar(&d.Forbidden, "forbidden", false, "refuse every session, as Safari does that was never allowed to be driven")
	return cmd
}
