package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/triage"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/demo"
	"parallelpane/internal/demo/desk"
	"parallelpane/internal/demo/mailbox"
	"parallelpane/internal/demo/tracker"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/webdriver"
)

func (r *root) demoCmd() *cobra.Command {
	var o demoOptions
	cmd := &cobra.Command{
		Use: "demo", Short: "Start a service, agents and the berth desk on this machine and run its suite", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return r.demo(cmd.Context(), o) },
	}
	cmd.Flags().StringVar(&o.dir, "data", "./demo-data", "directory for everything the demo keeps")
	cmd.Flags().StringVar(&o.listen, "listen", DefaultAddress, "address of the service")
	cmd.Flags().StringVar(&o.site, "site", "127.0.0.1:7480", "address of the berth desk")
	cmd.Flags().StringVar(&o.next, "next", "127.0.0.1:7481", "address of the berth desk's next release, the environment next")
	cmd.Flags().StringVar(&o.mail, "mail", "127.0.0.1:7483", "address of the stand-in for a mail server")
	cmd.Flags().StringVar(&o.mailbox, "mailbox", "127.0.0.1:7482", "address of the page that shows its mails")
	cmd.Flags().StringVar(&o.tracker, "tracker", "127.0.0.1:7484", "address of the stand-in for a tracker")
	cmd.Flags().StringVar(&o.provider, "provider", "127.0.0.1:7485", "address of the stand-in for an OpenID provider")
	cmd.Flags().BoolVar(&o.once, "once", false, "stop when the run has ended, instead of keeping everything up")
	var listen, next string
	site := &cobra.Command{
		Use: "site", Short: "Serve the berth desk alone", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return r.site(cmd.Context(), listen, next) },
	}
	site.Flags().StringVar(&listen, "listen", "127.0.0.1:7480", "address and port to listen on")
	site.Flags().StringVar(&next, "next", "", "address and port at which the desk's next release is served too")
	cmd.AddCommand(site)
	return cmd
}

type demoOptions struct {
	dir, listen, site, next string
	mail, mailbox, tracker  string
	provider                string
	once                    bool
}

// lateAnswer is how long the berth desk's slow answers take.
const lateAnswer = 2500 * time.Millisecond

func (r *root) site(ctx context.Context, listen, next string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ends := make(chan error, 2)
	n := 0
	for _, x := range []struct {
		at   string
		desk *desk.Desk
	}{{listen, desk.New(lateAnswer)}, {next, desk.Next(lateAnswer)}} {
		if x.at == "" {
			continue
		}
		l, err := net.Listen("tcp", x.at)
		if err != nil {
			return usage("cannot listen on %s: %v", x.at, err)
		}
		srv := &http.Server{Handler: x.desk, ReadHeaderTimeout: 10 * time.Second}
		defer context.AfterFunc(ctx, func() { _ = srv.Close() })()
		n++
		go func() { ends <- srv.Serve(l) }()
	}
	err := <-ends
	cancel()
	for range n - 1 {
		<-ends
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// demo starts the parts as programs of their own, as they would run in a lab,
// and runs the suite as a user would.
func (r *root) demo(ctx context.Context, o demoOptions) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	if o.dir, err = filepath.Abs(o.dir); err != nil {
		return usage("--data: %v", err)
	}
	projectDir := filepath.Join(o.dir, "saltmarsh")
	if err := demo.WriteProject(projectDir, "http://"+o.site, "http://"+o.next); err != nil {
		return err
	}
	for _, address := range []string{o.listen, o.site, o.next, o.mail, o.mailbox, o.tracker, o.provider} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			return usage("the demo needs %s: %v; stop whatever uses it, or choose another: pane demo --help lists its addresses", address, err)
		}
		l.Close()
	}
	fleet := filepath.Join(o.dir, "fleet.yaml")
	if err := os.WriteFile(fleet, demo.Fleet, 0o644); err != nil {
		return err
	}
	r.address = "http://" + o.listen
	var parts []*process.Process
	var logs []*os.File
	defer func() {
		for i := len(parts) - 1; i >= 0; i-- {
			parts[i].Stop(5 * time.Second)
		}
		for _, l := range logs {
			l.Close()
		}
	}()
	for _, name := range []string{"PANE_TOKEN", "PANE_TOKEN_FILE", "PANE_PIN"} { // of another service: this one makes its own
		if err := os.Unsetenv(name); err != nil {
			return err
		}
	}
	start := func(name string, args ...string) error {
		log, err := os.OpenFile(filepath.Join(o.dir, name+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		logs = append(logs, log)
		p, err := process.Start(process.Command{Log: log, Env: os.Environ(), Path: exe, Args: args})
		if err != nil {
			return err
		}
		parts = append(parts, p)
		return nil
	}
	if err := errors.Join(
		start("service", "serve", "--data", filepath.Join(o.dir, "service"), "--listen", o.listen,
			"--mail", "smtp+plain://"+o.mail, "--mail-from", "lab@saltmarsh.example", "--hooks-to", "127.0.0.1/32",
			"--sign-in", "http://"+o.provider, "--sign-in-client", "pane", "--sign-in-name", "the harbour office", "--newcomers",
			"viewer:saltmarsh"),
		start("mailbox", "standin", "mail", "--listen", o.mail, "--web", o.mailbox),
		start("tracker", "standin", "tracker", "--listen", o.tracker),
		start("sign-in", "standin", "sign-in", "--listen", o.provider),
		start("desk", "demo", "site", "--listen", o.site, "--next", o.next),
		waitFor(ctx, r.address+"/readyz"), waitFor(ctx, "http://"+o.site+"/"),
		start("agent", "agent", "--service", r.address, "--name", "saltmarsh-1", "--label", "site=quay", "--state",
			filepath.Join(o.dir, "agent")),
		start("standins", "standin", "fleet", fleet, "--service", r.address, "--state", filepath.Join(o.dir, "standins")),
	); err != nil {
		return &exitError{verdict.ExitLab, fmt.Errorf("the demo did not start: %w; its logs are in %s", err, o.dir)}
	}
	if r.tokenFile = filepath.Join(o.dir, "service", "admin.token"); os.Getenv("PANE_TOKEN") != "" {
		_ = os.Unsetenv("PANE_TOKEN") // it belongs to another service
	}
	c, err := r.client()
	if err != nil {
		return err
	}
	fmt.Fprintf(r.err, "Service  %s\nDesk     http://%s\nProject  %s\nAgents   saltmarsh-1 with this machine's browsers, and a dozen "+
		"stand-ins (%s)\nMailbox  http://%s, a stand-in\nTracker  http://%s, a stand-in\n", c.Base, o.site, projectDir, fleet, o.mailbox,
		o.tracker)
	if err := waitForAgent(ctx, c, "saltmarsh-1"); err != nil {
		return &exitError{verdict.ExitLab, fmt.Errorf("the demo did not start: %w; its logs are in %s", err, o.dir)}
	}
	opts := runOptions{dir: projectDir, junit: filepath.Join(o.dir, "junit.xml"), req: demo.Request()}
	if c, err = r.prepare(ctx, &opts); err != nil {
		return err
	}
	if err := errors.Join(demoMail(ctx, c, "http://"+o.mailbox), demoPeople(ctx, c), demoTracker(ctx, c,
		"http://"+o.tracker+tracker.Path)); err != nil {
		return err
	}
	err = r.start(ctx, c, "/runs", opts.req, opts)
	if e, ok := errors.AsType[*exitError](err); ok && e.err == nil {
		err = nil // failing tests are what the demo is there to show
	}
	if err != nil || o.once || ctx.Err() != nil {
		return err
	}
	if err := r.demoDefect(ctx, c); err != nil && ctx.Err() == nil {
		fmt.Fprintln(r.err, "no defect was filed:", err)
	}
	if err := r.demoRunner(ctx, c, "http://"+o.site); err != nil && ctx.Err() == nil {
		fmt.Fprintln(r.err, "the demo's runner stopped:", err)
	}
	if err := r.demoLanguages(ctx, c, projectDir); err != nil && ctx.Err() == nil {
		fmt.Fprintln(r.err, "the suites in other languages were not run:", err)
	}
	link, err := signInLink(ctx, c)
	if err != nil {
		return err
	}
	r.demoStock(ctx, c, filepath.Join(o.dir, "older"))
	fmt.Fprintf(r.out, "\nOpen the console (once, within ten minutes; pane link makes another):\n  %s\n\nRun again from anywhere:\n  "+
		"%s run --dir %s\n\nEverything stays up until you press Ctrl-C.\n", link, exe, projectDir)
	select {
	case <-ctx.Done():
	case <-parts[0].Done():
		return &exitError{verdict.ExitLab, parts[0].Gone()}
	}
	return nil
}

// demoMail has the harbour master hear of what fails, and the harbour's chat of every run,
// unless somebody does already.
func demoMail(ctx context.Context, c *client.Client, page string) error {
	var have []api.Subscription
	if err := c.Get(ctx, "/subscriptions", &have); err != nil || len(have) > 0 {
		return err
	}
	return errors.Join(c.Call(ctx, http.MethodPost, "/subscriptions", api.SubscriptionRequest{Project: "saltmarsh", Kind: api.MailKind,
		Target: "harbourmaster@saltmarsh.example", Of: []string{api.OfFailed, api.OfChanged, api.OfDaily}}, nil),
		c.Call(ctx, http.MethodPost, "/subscriptions", api.SubscriptionRequest{Project: "saltmarsh", Kind: api.HookKind,
			Target: page + mailbox.Hooks, Of: []string{api.OfEnded}}, nil))
}

// demoPeople makes an account for one of the harbour's, unless there is one.
func demoPeople(ctx context.Context, c *client.Client) error {
	var have []api.Account
	if err := c.Get(ctx, "/accounts", &have); err != nil || len(have) > 0 {
		return err
	}
	return c.Call(ctx, http.MethodPost, "/accounts", api.AccountRequest{Name: "tern", Mail: "tern@saltmarsh.example",
		Rights: []api.Right{{Project: "saltmarsh", Role: api.Keeper}}}, nil)
}

// demoTracker has the harbour's defects filed with the stand-in, unless they are filed
// somewhere already.
func demoTracker(ctx context.Context, c *client.Client, address string) error {
	var have []api.Tracker
	if err := c.Get(ctx, "/trackers?project=saltmarsh", &have); err != nil || len(have) > 0 {
		return err
	}
	return c.Call(ctx, http.MethodPost, "/trackers", api.TrackerRequest{Project: "saltmarsh", Name: "harbour", Address: address}, nil)
}

// demoDefect files a defect of the weightiest cause of the newest run, as somebody who reads
// it would, unless there is one already.
func (r *root) demoDefect(ctx context.Context, c *client.Client) error {
	var runs []api.RunSummary
	if err := c.Get(ctx, "/runs?project=saltmarsh&state=ended&limit=1", &runs); err != nil || len(runs) == 0 {
		return err
	}
	var got api.Causes
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d/causes", runs[0].Number), &got); err != nil {
		return err
	}
	if len(got.Causes) == 0 || got.Causes[0].Kind == triage.Lab || got.Causes[0].Defect != nil {
		return nil
	}
	var d api.Defect
	err := c.Call(ctx, http.MethodPost, fmt.Sprintf("/runs/%d/causes/%s/defect", runs[0].Number, got.Causes[0].ID), api.DefectRequest{
		Values: map[string]any{"severity": "some cannot berth"}}, &d)
	if err == nil {
		fmt.Fprintf(r.err, "Defect   %s, filed of a cause of #%d: %s\n", d.Key, runs[0].Number, d.Link)
	}
	return err
}

// demoLanguages starts the suites that are no scripts beside those that are, where what
// they need is here.
func (r *root) demoLanguages(ctx context.Context, c *client.Client, dir string) error {
	for _, program := range []string{"node", "curl"} {
		if _, err := exec.LookPath(program); err != nil {
			return err
		}
	}
	opts := runOptions{dir: dir, req: demo.Languages()}
	if _, err := r.prepare(ctx, &opts); err != nil {
		return err
	}
	var run api.Run
	if err := c.Call(ctx, http.MethodPost, "/runs", opts.req, &run); err != nil {
		return err
	}
	fmt.Fprintf(r.err, "Languages the suite %s runs as #%d: %s/runs/%[2]d\n", opts.req.Suite, run.Number, c.Base)
	return nil
}

// demoStock has the service stock the older browsers that Debian offers, as somebody who
// owns a lab would.
func (r *root) demoStock(ctx context.Context, c *client.Client, dir string) {
	all, err := demo.FetchOlder(ctx, dir, func(s string) { fmt.Fprintln(r.err, "Stock   ", s) })
	if err != nil && ctx.Err() == nil {
		fmt.Fprintln(r.err, "older browsers were not fetched:", err)
	}
	for _, o := range all {
		q := api.StockRequest{Name: o.Name, Needs: []string{"agent=saltmarsh-1"}}
		var made api.Stock
		err := r.stockAs(ctx, c, q, o.Archives, &made)
		if e, ok := errors.AsType[*client.Error](err); ok && e.Status == http.StatusConflict {
			continue // an earlier demo of this directory did
		}
		if err != nil {
			fmt.Fprintln(r.err, "older browsers were not stocked:", err)
			return
		}
		fmt.Fprintf(r.err, "Stock    %s is on its way to saltmarsh-1: pane browsers\n", o.Name)
	}
}

// waitForAgent waits until an agent has joined, for a minute at most: what only
// it can do would otherwise be found impossible.
func waitForAgent(ctx context.Context, c *client.Client, name string) error {
	for end := time.Now().Add(time.Minute); ; {
		var agents []api.Agent
		if err := c.Get(ctx, "/agents", &agents); err != nil {
			return err
		}
		if slices.ContainsFunc(agents, func(a api.Agent) bool { return a.Name == name && a.Online }) {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("agent %s did not join within a minute", name)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// demoRunner has a runner of its own open sessions on this machine's browsers.
func (r *root) demoRunner(ctx context.Context, c *client.Client, site string) error {
	var agents []api.Agent
	if err := c.Get(ctx, "/agents", &agents); err != nil {
		return err
	}
	lab := webdriver.NewClient(c.Base+"/webdriver", &http.Client{Transport: withToken{c.Token, c.HTTP.Transport}})
	for _, a := range agents {
		for _, b := range a.Machine.Browsers {
			if a.Machine.StandIn || !b.Fits {
				continue
			}
			fmt.Fprintf(r.err, "Runner   two sessions on %s, as %s/webdriver serves any runner\n", b.Name, c.Base)
			if err := demo.Runner(ctx, lab, site, b.Name); err != nil {
				return err
			}
		}
	}
	return nil
}

// waitFor waits until an address answers, for 15 s at most.
func waitFor(ctx context.Context, address string) error {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	for {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return err
		}
		if resp, err := http.DefaultClient.Do(req); err == nil {
			resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s did not answer within 15 s", address)
		case <-time.After(20 * time.Millisecond):
		}
	}
}
