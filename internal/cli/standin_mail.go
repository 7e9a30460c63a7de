package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/demo/mailbox"
)

func (r *root) standinMailCmd() *cobra.Command {
	var listen, web string
	cmd := &cobra.Command{
		Use: "mail", Short: "Take mails and hooks instead of those they are for, and show them on a page", Args: cobra.NoArgs,
		Long: "Take every mail by SMTP, without TLS and for any address, and every CloudEvent that is posted to /hooks of the page, deliver\n" +
			"none, and show the newest on the page.",
		Example: "  pane standin mail\n  pane serve --mail smtp+plain://127.0.0.1:7483",
		RunE:    func(cmd *cobra.Command, _ []string) error { return r.standinMail(cmd.Context(), listen, web) },
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:7483", "address and port that take mail")
	cmd.Flags().StringVar(&web, "web", "127.0.0.1:7482", "address and port of the page")
	return cmd
}

func (r *root) standinMail(ctx context.Context, listen, web string) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return usage("cannot listen on %s: %v; choose another with --listen", listen, err)
	}
	defer l.Close()
	page, err := net.Listen("tcp", web)
	if err != nil {
		return usage("cannot listen on %s: %v; choose another with --web", web, err)
	}
	box := mailbox.New()
	srv := &http.Server{Handler: box, ReadHeaderTimeout: 10 * time.Second}
	ends := make(chan error, 2)
	go func() { ends <- box.Serve(l) }()
	go func() { ends <- srv.Serve(page) }()
	fmt.Fprintf(r.err, "A stand-in takes mail at %s and shows it at http://%s\n", listen, reachable(page.Addr()))
	var failed error
	left := 2
	select {
	case <-ctx.Done():
	case failed = <-ends:
		left--
	}
	err = errors.Join(box.Close(), srv.Close())
	for range left {
		<-ends
	}
	if errors.Is(failed, http.ErrServerClosed) {
		failed = nil
	}
	return errors.Join(failed, err)
}
