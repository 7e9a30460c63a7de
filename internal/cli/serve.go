package cli

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/gofiber/fiber/v3"
	"github.com/spf13/cobra"

	"parallelpane/internal/access"
	"parallelpane/internal/api"
	"parallelpane/internal/certs"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/httpapi"
	"parallelpane/internal/notify"
	"parallelpane/internal/service"
)

// serving is how the service is reached.
type serving struct {
	data, listen string
	cert, key    string
	selfMade     bool
	names        []string
	proxies      []string
}

func (r *root) serveCmd() *cobra.Command {
	var s serving
	o := service.Config{}
	var total, free, mail, from string
	var hooksTo, newcomers []string
	cmd := &cobra.Command{
		Use: "serve", Short: "Start the service: API, console and scheduler", Args: cobra.NoArgs,
		Long: `Start the service: API, console and scheduler.

It speaks TLS with --certificate and --certificate-key, or with a certificate of its own making: --self-made prints its
pin, which clients and agents of other machines are given with --pin or PANE_PIN. Behind a proxy that speaks TLS for it,
--behind-proxy says from which addresses forwarded headers are believed.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			most, err := humanize.ParseBytes(total)
			if err != nil {
				return usage("--keep-total: %v", err)
			}
			if o.MinFree, err = humanize.ParseBytes(free); err != nil {
				return usage("--min-free: %v", err)
			}
			o.KeepTotal = int64(most)
			if o.Mail, err = notify.ParseMail(mail, from, os.Getenv("PANE_MAIL_PASSWORD")); err != nil {
				return usage("--mail: %v", err)
			}
			for _, text := range hooksTo {
				p, err := netip.ParsePrefix(text)
				if err != nil {
					return usage("--hooks-to: expected a network such as 10.1.0.0/16, found %q", text)
				}
				o.HooksTo = append(o.HooksTo, p)
			}
			if o.SignIn, err = providerOf(o.SignIn, newcomers); err != nil {
				return err
			}
			if o.Address != "" {
				if err := notify.CheckAddress(o.Address); err != nil {
					return usage("--address: %v", err)
				}
			}
			return r.serve(cmd.Context(), s, o)
		},
	}
	f := cmd.Flags()
	f.StringVar(&s.data, "data", "./pane-data", "directory for everything the service keeps")
	f.StringVar(&s.listen, "listen", DefaultAddress, "address and port to listen on")
	f.StringVar(&s.cert, "certificate", "", "PEM file with the certificate for TLS, and those that signed it")
	f.StringVar(&s.key, "certificate-key", "", "PEM file with its key")
	f.BoolVar(&s.selfMade, "self-made", false, "speak TLS with a certificate that the service makes and keeps in its data directory")
	f.StringArrayVar(&s.names, "name", nil, "with --self-made: a name or address by which the service is reached; repeat for more")
	f.StringArrayVar(&s.proxies, "behind-proxy", nil,
		"address or network of a proxy whose forwarded headers are believed; repeat for more")
	f.StringVar(&total, "keep-total", "0", "most that all recordings may take, such as 20GB; 0 means no bound")
	f.StringVar(&free, "min-free", "500MB", "room that must be free on the disk for recordings to be taken")
	f.DurationVar(&o.SessionLife, "session-life", 2*time.Hour, "longest that a session of somebody's own runner may be open")
	f.StringVar(&o.KeyFile, "key-file", os.Getenv("PANE_KEY_FILE"),
		"file with the key under which secrets are sealed, made if need be (PANE_KEY_FILE; default in the data directory)")
	f.StringVar(&o.Address, "address", "", "address under which people reach the service, for links in what it sends")
	f.StringVar(&mail, "mail", "", "mail server: smtp://[USER@]HOST[:PORT], smtps:// or smtp+plain://; the password is in PANE_MAIL_PASSWORD")
	f.StringVar(&from, "mail-from", "", "sender of mails")
	f.StringArrayVar(&hooksTo, "hooks-to", nil,
		"network of the service's own surroundings to which hooks may be sent, such as 10.1.0.0/16; repeat for more")
	f.StringVar(&o.SignIn.Issuer, "sign-in", "", "address of the OpenID provider with which people sign in to the console")
	f.StringVar(&o.SignIn.Client, "sign-in-client", "", "what the provider calls this service; its secret is in PANE_SIGN_IN_SECRET")
	f.StringVar(&o.SignIn.Name, "sign-in-name", "", "what the provider is called on the sign-in page; its host if not given")
	f.StringArrayVar(&newcomers, "newcomers", nil,
		"role that somebody gets who signs in and has no account, as viewer or runner:PROJECT; repeat for more; without it nobody does")
	f.BoolVar(&o.Exposed, "without-sandbox", false, "let runners' sessions on agents that have no sandbox, too")
	return cmd
}

// providerOf reads who signs people in.
func providerOf(p access.Provider, newcomers []string) (access.Provider, error) {
	if p.Issuer == "" {
		if p.Client != "" || len(newcomers) > 0 {
			return p, usage("--sign-in-client and --newcomers are for --sign-in")
		}
		return p, nil
	}
	if err := p.Check(); err != nil {
		return p, usage("--sign-in: %v", err)
	}
	u, err := url.Parse(p.Issuer)
	if err != nil {
		return p, usage("--sign-in: %v", err)
	}
	p.Secret, p.Name = os.Getenv("PANE_SIGN_IN_SECRET"), cmp.Or(p.Name, u.Host)
	p.Newcomers = rightsOf(newcomers)
	for i, r := range p.Newcomers {
		if r.Role == api.AgentRole || !slices.Contains(api.Roles, r.Role) || r.Project != api.Everywhere && !fleet.IsName(r.Project) {
			return p, usage("--newcomers: expected a role such as viewer, or viewer:PROJECT, found %q", newcomers[i])
		}
	}
	return p, nil
}

// certificate is what the service shows; nil when it does not speak TLS.
func (s serving) certificate(host string) (*tls.Certificate, error) {
	switch {
	case s.selfMade && s.cert+s.key != "":
		return nil, usage("--self-made and --certificate exclude each other")
	case (s.cert == "") != (s.key == ""):
		return nil, usage("--certificate and --certificate-key go together")
	case s.cert != "":
		c, err := certs.Files(s.cert, s.key)
		if err != nil {
			return nil, usage("%v", err)
		}
		return &c, nil
	case s.selfMade:
		names := append([]string{"localhost", "127.0.0.1", "::1"}, s.names...)
		if own, err := os.Hostname(); err == nil {
			names = append(names, own)
		}
		if ip := net.ParseIP(host); ip != nil && !ip.IsUnspecified() && !ip.IsLoopback() {
			names = append(names, host)
		}
		c, err := certs.SelfMade(s.data, names, time.Now())
		if err != nil {
			return nil, usage("make a certificate: %v", err)
		}
		return &c, nil
	}
	if len(s.names) > 0 {
		return nil, usage("--name is for --self-made")
	}
	return nil, nil
}

func (r *root) serve(ctx context.Context, s serving, o service.Config) error {
	began := time.Now()
	log, err := r.logger()
	if err != nil {
		return err
	}
	if s.data, err = filepath.Abs(s.data); err != nil {
		return usage("--data: %v", err)
	}
	if err := httpapi.CheckProxies(s.proxies); err != nil {
		return usage("--behind-proxy: %v", err)
	}
	l, err := net.Listen("tcp", s.listen)
	if err != nil {
		return usage("cannot listen on %s: %v; stop whatever uses it, or choose another with --listen", s.listen, err)
	}
	o.Dir, o.Log = s.data, log
	scheme := "http://"
	if s.selfMade || s.cert != "" {
		scheme = "https://"
	}
	o.Address = cmp.Or(o.Address, scheme+reachable(l.Addr()))
	o.SignIn.Back = strings.TrimRight(o.Address, "/") + "/sign-in/back"
	svc, err := service.Open(ctx, o)
	if err != nil {
		l.Close()
		return &exitError{verdict.ExitLab, err}
	}
	host, _, _ := net.SplitHostPort(s.listen)
	cert, err := s.certificate(host)
	if err != nil {
		return errors.Join(err, svc.Close(), l.Close())
	}
	base := scheme + reachable(l.Addr())
	if cert != nil {
		l = tls.NewListener(l, &tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS12,
			NextProtos: []string{"http/1.1"}})
	}
	s.advise(log, cert, host)
	if err := remember(base, s.data); err != nil {
		log.Warn("clients of this machine will not find the token by themselves", "error", err)
	}
	app := httpapi.New(httpapi.Config{Service: svc, Log: log, Version: r.build.Version, Console: r.build.Console, Proxies: s.proxies})
	served := make(chan error, 1)
	go func() { served <- app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true}) }()
	log.Info("ready", "address", base, "data", s.data, "took", time.Since(began).Round(time.Millisecond), "console", r.build.Console != nil)
	var failed error
	select {
	case <-ctx.Done():
		log.Info("stopping")
	case failed = <-served:
	}
	return errors.Join(svc.Close(), app.ShutdownWithTimeout(5*time.Second), failed)
}

// advise says how others are to reach the service, and when they should not.
func (s serving) advise(log *slog.Logger, cert *tls.Certificate, host string) {
	if cert != nil && s.selfMade {
		log.Info("clients and agents of other machines pin this service", "pin", certs.PinOf(*cert))
	}
	ip := net.ParseIP(cmp.Or(host, "0.0.0.0"))
	if cert == nil && len(s.proxies) == 0 && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		log.Warn("tokens travel in the clear: use --certificate, --self-made, or --behind-proxy with a proxy that speaks TLS", "listen", s.listen)
	}
}

// reachable is an address to which a client of this machine can connect.
func reachable(a net.Addr) string {
	t, ok := a.(*net.TCPAddr)
	if !ok || !t.IP.IsUnspecified() {
		return a.String()
	}
	return fmt.Sprintf("127.0.0.1:%d", t.Port)
}
