package cli

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/remote"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/place"
	"parallelpane/internal/project"
	"parallelpane/internal/relay"
	"parallelpane/internal/term"
)

// opened is this machine's end of a relay, until close.
type opened struct {
	api.RelayRequest
	owner relay.Owner
	c     *client.Client
	end   context.CancelFunc
	done  chan struct{}
	lost  error // why it ended by itself; read once done is closed
	ended atomic.Bool
}

// again is how long the owner of a relay whose link is lost waits between tries.
const again = time.Second

// openRelay opens a relay and keeps it open, whatever becomes of its connection. said is
// told in a line of what cannot be reached and of connections that are lost.
func openRelay(ctx context.Context, c *client.Client, q api.RelayRequest, said func(line string)) (*opened, error) {
	places, err := place.All(q.Places)
	if err != nil {
		return nil, usage("%v", err)
	}
	r := &opened{RelayRequest: q, c: c, done: make(chan struct{})}
	r.owner = relay.Owner{Places: places, Closed: r.labs(), Said: func(_ string, _, _ int64, err error) {
		if err != nil {
			said(err.Error())
		}
	}}
	ctx, r.end = context.WithCancel(context.WithoutCancel(ctx))
	l, err := r.dial(ctx, "")
	if err != nil {
		r.end()
		return nil, err
	}
	go r.keep(ctx, l, said)
	return r, nil
}

func (r *opened) keep(ctx context.Context, l net.Listener, said func(line string)) {
	defer close(r.done)
	for {
		stop := context.AfterFunc(ctx, func() { l.Close() })
		_ = r.owner.Serve(l)
		stop()
		l.Close()
		if ctx.Err() != nil || r.ended.Load() {
			return
		}
		said(fmt.Sprintf("the connection of relay %s to the service is lost: trying again", r.Name))
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(again):
			}
			var err error
			if l, err = r.dial(ctx, "yes"); err == nil {
				said(fmt.Sprintf("relay %s is connected again", r.Name))
				break
			}
			if refused, ok := errors.AsType[*link.Refused](err); ok && refused.Status < http.StatusInternalServerError {
				r.lost = refused
				return
			}
		}
	}
}

func (r *opened) dial(ctx context.Context, again string) (net.Listener, error) {
	q := url.Values{"project": {r.Project}, "name": {r.Name}, "places": {strings.Join(r.Places, ",")}, "again": {again}}
	var conf *tls.Config
	if r.c.HTTP != nil {
		if t, ok := r.c.HTTP.Transport.(*http.Transport); ok {
			conf = t.TLSClientConfig
		}
	}
	return link.Dial(ctx, "ws"+strings.TrimPrefix(r.c.Base, "http")+"/api/v1"+relay.Path+"?"+q.Encode(),
		http.Header{"Authorization": {"Bearer " + r.c.Token}}, conf)
}

// labs tells the addresses of the service, to which no relay leads.
func (r *opened) labs() func(netip.AddrPort) bool {
	at, err := place.Of(r.c.Base)
	if err != nil {
		return nil
	}
	host, port, _ := net.SplitHostPort(at)
	ips, _ := net.LookupHost(host)
	return func(to netip.AddrPort) bool {
		return strconv.Itoa(int(to.Port())) == port && slices.Contains(ips, to.Addr().Unmap().String())
	}
}

// close ends the relay, here and at the service.
func (r *opened) close() {
	if r == nil {
		return
	}
	r.ended.Store(true)
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	_ = r.c.Call(ctx, http.MethodDelete, "/relays/"+url.PathEscape(r.Project)+"/"+url.PathEscape(r.Name), nil, nil) // gone with us anyway
	r.end()
	<-r.done
}

func (r *root) relayCmd() *cobra.Command {
	var q api.RelayRequest
	cmd := &cobra.Command{
		Use:   "relay PLACE…",
		Short: "Let the lab's browsers reach an application that only this machine reaches",
		Long: `Keep one connection to the service open, through which the sessions of runs that name this relay
reach the places that are listed, and nothing else: a port of this machine, HOST:PORT, *.DOMAIN or a network such as
10.1.0.0/16:443. It ends with this command.

pane run opens one by itself where it is needed: see its --relay.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, text := range args {
				if port, err := strconv.ParseUint(text, 10, 16); err == nil && port > 0 {
					text = "localhost:" + text
				}
				q.Places = append(q.Places, strings.Split(text, ",")...)
			}
			return r.relay(cmd.Context(), q)
		},
	}
	cmd.Flags().StringVar(&q.Name, "name", "", "by which runs ask for it (default one that is made up)")
	cmd.Flags().StringVar(&q.Project, "project", "", "whose runs and sessions may use it (default that of the pane.yaml here, or unnamed)")
	return cmd
}

// madeUp is a name for a relay that nobody else gives.
func madeUp() string { return "way-" + strings.ToLower(rand.Text()[:8]) }

func (r *root) relay(ctx context.Context, q api.RelayRequest) error {
	if q.Project == "" {
		q.Project = remote.NoProject
		if root, err := project.FindRoot("."); err == nil {
			p, err := project.Load(project.Dir(root))
			if err != nil {
				return usage("%v", err)
			}
			q.Project = p.Name
		}
	}
	if q.Name == "" {
		q.Name = madeUp()
	}
	c, err := r.client()
	if err != nil {
		return err
	}
	var mu sync.Mutex
	o, err := openRelay(ctx, c, q, func(line string) {
		mu.Lock()
		defer mu.Unlock()
		fmt.Fprintln(r.err, term.Tame(line))
	})
	if refused, ok := errors.AsType[*link.Refused](err); ok {
		return usage("%s", refused.Reason)
	}
	if err != nil {
		return err
	}
	began := time.Now()
	if r.json {
		if err := r.writeJSON(q); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(r.out, "Relay %s of project %s leads to %s.\nRuns reach it with --relay %s, sessions with pane:options {\"relay\": %q}. "+
			"It ends with this command.\n", q.Name, q.Project, strings.Join(q.Places, ", "), q.Name, q.Name)
	}
	select {
	case <-ctx.Done():
	case <-o.done:
	}
	o.close()
	in, out, _ := o.owner.Passed()
	if !r.json {
		fmt.Fprintf(r.out, "Relay %s has ended after %s: %s to the application, %s from it.\n", q.Name, term.Took(time.Since(began)),
			humanize.Bytes(uint64(in)), humanize.Bytes(uint64(out)))
	}
	if o.lost != nil {
		return &exitError{verdict.ExitLab, fmt.Errorf("relay %s was ended by the service: %w", q.Name, o.lost)}
	}
	return nil
}

func (r *root) relaysCmd() *cobra.Command {
	var project, text string
	cmd := &cobra.Command{
		Use: "relays", Short: "List the relays that are open, and what passes through them", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var all []api.Relay
			if err := c.Get(cmd.Context(), "/relays?"+url.Values{"project": {project}, "text": {text}}.Encode(), &all); err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(r.out, "No relay is open. pane relay HOST:PORT opens one, on the machine that reaches the application.")
				return nil
			}
			t := term.NewTable("Relay", "Project", "By", "Leads to", "Open", "So far", "To it", "From it")
			for _, x := range all {
				name := x.Name
				if x.Away {
					name += " (away)"
				}
				t.Row(name, x.Project, x.By, strings.Join(x.Places, "\n"), strconv.Itoa(x.Open), strconv.FormatInt(x.Connections, 10),
					humanize.Bytes(uint64(x.In)), humanize.Bytes(uint64(x.Out)))
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	}
	cmd.Flags().StringVar(&project, "project", "", "only this project's")
	cmd.Flags().StringVar(&text, "text", "", "only those with this in their names, owners or places")
	return cmd
}

// Ways in which --relay is given besides a name.
const (
	relayAuto = "auto"
	relayOpen = "open"
	relayNone = "none"
)

// wayIn opens the relay that a run needs, unless it names one: with auto, for an address
// that means this machine, or one in a network of its own, to others. close ends it.
func (r *root) wayIn(ctx context.Context, c *client.Client, o *runOptions) (close func(), err error) {
	nothing := func() {}
	switch o.relay {
	case relayNone:
		return nothing, nil
	case relayAuto, relayOpen:
	default:
		o.req.Relay = o.relay
		return nothing, nil
	}
	name, base, err := settled(o)
	if err != nil {
		return nothing, err
	}
	at, err := place.Of(base)
	if err != nil {
		if o.relay == relayOpen {
			return nothing, usage("--relay open: the run has no base address to lead to; name a relay, or give --base")
		}
		return nothing, nil
	}
	if o.relay == relayAuto && !beyond(at, c.Base) {
		return nothing, nil
	}
	if o.detach {
		if o.relay == relayOpen {
			return nothing, usage("--relay open: the relay would end with this command, before the run: " +
				"leave --detach out, or name one that pane relay holds open")
		}
		return nothing, nil
	}
	way, err := r.heldOpen(ctx, c, api.RelayRequest{Project: name, Name: madeUp(), Places: []string{at}})
	if err != nil {
		return nothing, err
	}
	o.req.Relay = way.Name
	return way.close, nil
}

// heldOpen opens a relay for a run of this command, and says so.
func (r *root) heldOpen(ctx context.Context, c *client.Client, q api.RelayRequest) (*opened, error) {
	way, err := openRelay(ctx, c, q, func(line string) { fmt.Fprintln(r.err, term.Tame("relay: "+line)) })
	if refused, ok := errors.AsType[*link.Refused](err); ok {
		return nil, usage("relay: %s", refused.Reason)
	}
	if err == nil {
		fmt.Fprintf(r.err, "%s is reached through this machine (relay %s).\n", strings.Join(q.Places, ", "), q.Name)
	}
	return way, err
}

// beyond reports whether an address means something else to the lab than here: this
// machine, unless the service is on it as well; a private network's, unless the service is
// in one.
func beyond(at, service string) bool {
	local, private := place.Near(at)
	to, err := place.Of(service)
	if err != nil {
		return false
	}
	theirs, inside := place.Near(to)
	return local && !theirs || private && !theirs && !inside
}

// settled is the project's name and the base address of a run's request.
func settled(o *runOptions) (name, base string, err error) {
	root, err := project.FindRoot(o.dir)
	if err != nil {
		return "", "", usage("%v", err)
	}
	p, err := project.Load(project.Dir(root))
	if err != nil {
		return "", "", usage("%v", err)
	}
	if o.req.Base != "" {
		return p.Name, o.req.Base, nil
	}
	env, err := p.Environment(o.req.Environment)
	if err != nil {
		return "", "", usage("%v", err)
	}
	return p.Name, env.Base, nil
}

// sameWay opens the relay of an ended run once more, if it had one that is not open: it led
// to the site from the machine that its pane run ran on.
func (r *root) sameWay(ctx context.Context, c *client.Client, number int, detach bool) (close func(), err error) {
	nothing := func() {}
	var run api.Run
	var all []api.Relay
	if err := c.Get(ctx, fmt.Sprintf("/runs/%d", number), &run); err != nil {
		return nothing, err
	}
	if run.Request.Relay == "" || detach {
		return nothing, nil
	}
	if err := c.Get(ctx, "/relays?"+url.Values{"project": {run.Project}}.Encode(), &all); err != nil {
		return nothing, err
	}
	at, err := place.Of(run.Base)
	if err != nil || slices.ContainsFunc(all, func(x api.Relay) bool { return x.Name == run.Request.Relay }) {
		return nothing, nil
	}
	way, err := r.heldOpen(ctx, c, api.RelayRequest{Project: run.Project, Name: run.Request.Relay, Places: []string{at}})
	if err != nil {
		return nothing, err
	}
	return way.close, nil
}
