package cli

import (
	"context"
	"os"

	"github.com/spf13/cobra"

	"parallelpane/internal/demo"
	"parallelpane/internal/demo/standins"
)

func (r *root) standinCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "standin", Short: "Run simulated parts of a lab, always labelled as such"}
	var state string
	fleet := &cobra.Command{
		Use:   "fleet FILE",
		Short: "Join many simulated agents, with invented systems and browsers, to the service",
		Long: `Join the agents that FILE describes. They take work like real ones; their browsers load pages over HTTP
and run no scripts. pane standin example prints a file to start from.`,
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
	cmd.AddCommand(fleet, example)
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
	base, token, log, err := r.joining()
	if err != nil {
		return err
	}
	if state == "" {
		if state, err = stateDir("standins"); err != nil {
			return err
		}
	}
	if err := standins.Run(ctx, f.Configs(base, token, r.build.Version, state, log)); err != nil {
		return usage("%v", err)
	}
	return nil
}
