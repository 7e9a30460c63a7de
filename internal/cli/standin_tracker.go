package cli

import (
	"context"
	"errors"
	"net"

	"github.com/spf13/cobra"

	"parallelpane/internal/demo/tracker"
)

func (r *root) standinTrackerCmd() *cobra.Command {
	listen := ""
	cmd := &cobra.Command{
		Use: "tracker", Short: "Take defects instead of a tracker, and show them on a page", Args: cobra.NoArgs,
		Long: "Give a form, take every defect that is filed, and show them on a page, where they are closed and opened again. They\n" +
			"are kept in memory alone.",
		Example: "  pane standin tracker\n  pane tracker add harbour http://127.0.0.1:7484" + tracker.Path + " --project saltmarsh",
		RunE:    func(cmd *cobra.Command, _ []string) error { return r.standinTracker(cmd.Context(), listen) },
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:7484", "address and port to listen on")
	return cmd
}

func (r *root) standinTracker(ctx context.Context, listen string) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return usage("cannot listen on %s: %v; choose another with --listen", listen, err)
	}
	t, err := tracker.New("http://" + reachable(l.Addr()))
	if err != nil {
		return errors.Join(err, l.Close())
	}
	return r.standIn(ctx, l, t, "takes defects under "+tracker.Path+", and shows them")
}
