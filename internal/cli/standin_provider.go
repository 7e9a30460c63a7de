package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/demo/provider"
)

func (r *root) standinProviderCmd() *cobra.Command {
	var listen, client string
	cmd := &cobra.Command{
		Use: "sign-in", Short: "Sign people in instead of an OpenID provider, as whom they say they are", Args: cobra.NoArgs,
		Long:    "Speak OpenID Connect and sign in whoever comes as one of a few made-up people, without a password: for trying alone.",
		Example: "  pane standin sign-in\n  pane serve --sign-in http://127.0.0.1:7485 --sign-in-client pane --newcomers viewer",
		RunE:    func(cmd *cobra.Command, _ []string) error { return r.standinProvider(cmd.Context(), listen, client) },
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:7485", "address and port to listen on")
	cmd.Flags().StringVar(&client, "client", "pane", "what it calls the service")
	return cmd
}

func (r *root) standinProvider(ctx context.Context, listen, client string) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return usage("cannot listen on %s: %v; choose another with --listen", listen, err)
	}
	p, err := provider.New("http://"+reachable(l.Addr()), client)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	return r.standIn(ctx, l, p, "signs in whoever comes")
}

// standIn serves a stand-in until it is to end.
func (r *root) standIn(ctx context.Context, l net.Listener, h http.Handler, does string) error {
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute}
	ended := make(chan error, 1)
	go func() { ended <- srv.Serve(l) }()
	fmt.Fprintf(r.err, "A stand-in %s at http://%s\n", does, reachable(l.Addr()))
	select {
	case <-ctx.Done():
		err := srv.Close()
		<-ended
		return err
	case err := <-ended:
		return err
	}
}
