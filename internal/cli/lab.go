package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/charmbracelet/lipgloss"
	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"parallelpane/internal/access"
	"parallelpane/internal/agent"
	"parallelpane/internal/api"
	"parallelpane/internal/client"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/find"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/safari"
	"parallelpane/internal/engine/webkit"
	"parallelpane/internal/place"
	"parallelpane/internal/sessions"
	"parallelpane/internal/term"
)

// families are the engines that agents know. cache is where they may keep what
// makes them start faster; "" does without.
func families(cache string) []engine.Family {
	return []engine.Family{chromium.Family{}, gecko.Family{Cache: cache}, webkit.Family{}, webkit.WPE{}, safari.Family{}}
}

func (r *root) agentCmd() *cobra.Command {
	var c agent.Config
	var labels, only []string
	var isolation, settings, own, phones string
	cmd := &cobra.Command{
		Use: "agent", Short: "Join this machine's browsers to the service", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var err error
			if c.Isolation, err = agent.ParseIsolation(isolation); err != nil {
				return usage("--isolation: %v", err)
			}
			for _, text := range only {
				p, err := place.Parse(text)
				if err != nil {
					return usage("--only: %v", err)
				}
				c.Only = append(c.Only, p)
			}
			return r.agent(cmd.Context(), c, labels, settings, own, phones)
		},
	}
	host, _ := os.Hostname()
	cmd.Flags().StringVar(&c.Name, "name", host, "name of this agent, unique in the lab")
	cmd.Flags().IntVar(&c.Slots, "slots", 0, "sessions at once; 0 takes the advice for this machine")
	cmd.Flags().StringVar(&c.Dir, "state", "", "directory for sessions, bundles and unsent results (default in the user's cache)")
	cmd.Flags().StringVar(&c.Pool, "pool", fleet.Shared, "shared, or the project that this agent serves alone")
	cmd.Flags().StringArrayVar(&labels, "label", nil, "KEY=VALUE that matching can ask for; repeat for more")
	cmd.Flags().StringVar(&isolation, "isolation", "auto",
		"auto: a sandbox for each session where there can be; sandbox: or do not start; none: no sandbox")
	cmd.Flags().BoolVar(&c.Commands, "commands", false, "carry out command suites even where there is no sandbox for them")
	cmd.Flags().StringArrayVar((*[]string)(&c.Allow), "allow", nil,
		"what sessions may ask of browsers besides what they may anyway: --SWITCH, a preference or KEY.FIELD, a star at its end; repeat for more")
	cmd.Flags().StringArrayVar(&only, "only", nil,
		"a place that browsers may reach, and no other: host, *.domain, address or network, with :port; repeat for more")
	cmd.PersistentFlags().StringVar(&settings, "settings", "",
		"the file that says more of this machine's browsers (default agent.yaml in the state directory)")
	cmd.PersistentFlags().StringVar(&own, "browsers", "",
		"the directory of browsers that belong to no package, a folder for each (default in the user's cache)")
	withPhones(cmd, &phones)
	deep := false
	check := &cobra.Command{
		Use: "check", Short: "Show which browsers and drivers are here, what fits and what to install", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := lookFrom(settings, own, "")
			if err != nil {
				return err
			}
			return r.agentCheck(cmd.Context(), m, phones, deep)
		},
	}
	check.Flags().BoolVar(&deep, "deep", false, "open a session on every browser that fits")
	cmd.AddCommand(check)
	return cmd
}

// joining is what every agent needs of the flags.
func (r *root) joining() (base, token string, log *slog.Logger, err error) {
	if log, err = r.logger(); err != nil {
		return
	}
	if base, err = cleanBase(r.address); err != nil {
		return
	}
	token, err = findToken(base, r.tokenFile, access.AgentTokenFile)
	return
}

// stateDir is where agents keep their state unless told otherwise.
func stateDir(parts ...string) (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return "", usage("--state: %v", err)
	}
	return filepath.Join(append([]string{cache, "parallel-pane"}, parts...)...), nil
}

// lookFrom is where this machine's browsers are looked for: besides the usual places in
// its own directory of browsers and where its settings say. state is that of an agent, ""
// of none.
func lookFrom(settings, own, state string) (m find.Machine, err error) {
	m = find.Here()
	if own == "" {
		if own, err = stateDir("browsers"); err != nil {
			return m, err
		}
	}
	if own, err = filepath.Abs(own); err != nil {
		return m, usage("--browsers: %v", err)
	}
	if m.Own = []string{own}; state != "" { // which is for what the service stocks
		if state, err = filepath.Abs(state); err != nil {
			return m, usage("--state: %v", err)
		}
		m.Own = []string{filepath.Join(state, "browsers"), own}
	}
	file := settings
	if file == "" && state != "" {
		file = filepath.Join(state, "agent.yaml")
	}
	if file == "" {
		return m, nil
	}
	m.Settings, err = find.ReadSettings(file)
	switch {
	case errors.Is(err, fs.ErrNotExist) && settings == "":
		return m, nil
	case err != nil:
		return m, usage("%v", err)
	}
	return m, nil
}

func (r *root) agent(ctx context.Context, c agent.Config, labels []string, settings, own, phones string) error {
	base, token, log, err := r.joining()
	if err != nil {
		return err
	}
	if c.Labels, err = pairs("--label", labels); err != nil {
		return err
	}
	if c.Slots < 0 {
		return usage("--slots: expected 0 or more, found %d", c.Slots)
	}
	if c.Dir == "" {
		if c.Dir, err = stateDir("agents", url.PathEscape(c.Name)); err != nil {
			return err
		}
	}
	if c.TLS, err = r.trust(base); err != nil {
		return err
	}
	if c.Look, err = lookFrom(settings, own, c.Dir); err != nil {
		return err
	}
	c.Look.Cache = filepath.Join(c.Dir, "browsers.json")
	c.Service, c.Token, c.Version, c.Log, c.Families = base, token, r.build.Version, log, families(filepath.Join(c.Dir, "warm"))
	server, err := phonesAt(phones, c.Look.Settings)
	if err != nil {
		return err
	}
	a, release, err := agent.New(ctx, c)
	if err != nil {
		return usage("%v", err)
	}
	defer release()
	for _, b := range a.Found().Browsers {
		if !b.Fits {
			log.Warn("browser left out", "browser", b.Name, "problem", b.Problem, "remedy", b.Remedy)
		}
	}
	ctx, cancel := context.WithCancel(ctx)
	var hung sync.WaitGroup
	defer hung.Wait()
	defer cancel()
	if server != "" {
		hung.Go(func() {
			agent.Phones{Server: server, Of: c, Drivers: func() []fleet.Driver { return a.Found().Drivers }}.Run(ctx)
		})
	}
	if err := a.Run(ctx); err != nil {
		return usage("%v", err)
	}
	return nil
}

// pairs reads KEY=VALUE arguments.
func pairs(flag string, args []string) (map[string]string, error) {
	out := map[string]string{}
	for _, a := range args {
		k, v, ok := strings.Cut(a, "=")
		if !ok || k == "" {
			return nil, usage("%s: expected KEY=VALUE, found %q", flag, a)
		}
		out[k] = v
	}
	return out, nil
}

// localHost opens sessions on this machine's browsers without an agent; done
// removes what it kept.
func localHost() (host *sessions.Host, done func(), err error) {
	dir, err := os.MkdirTemp("", "pane-local-")
	if err != nil {
		return nil, nil, err
	}
	done = func() { _ = os.RemoveAll(dir) }
	if host, err = sessions.NewHost(filepath.Join(dir, "sessions"), slog.New(slog.DiscardHandler), families("")...); err != nil {
		done()
	}
	return host, done, err
}

func (r *root) agentCheck(ctx context.Context, look find.Machine, phonesFlag string, deep bool) error {
	server, err := phonesAt(phonesFlag, look.Settings)
	if err != nil {
		return err
	}
	host, done, err := localHost()
	if err != nil {
		return err
	}
	defer done()
	host.Machine = look
	m := agent.Inventory(ctx, host, r.build.Version, "")
	if deep {
		for i := range m.Browsers {
			if b := &m.Browsers[i]; b.Fits {
				fmt.Fprintf(r.err, "Opening %s %s …\n", b.Name, b.Version)
				host.Try(ctx, b)
			}
		}
	}
	m.Slots = agent.Advice(m)
	var hung []hanging
	if server != "" {
		if hung, err = phones(ctx, server, m.Drivers); err != nil {
			return &exitError{verdict.ExitLab, err}
		}
	}
	if r.json {
		return r.writeJSON(struct {
			fleet.Machine
			Phones []hanging `json:"phones,omitempty"`
		}{m, hung})
	}
	fmt.Fprintf(r.out, "%s, %s, %d cores, %s memory. Advice: %d slots.\n", m.OSVersion, m.Arch, m.Cores,
		humanize.IBytes(uint64(m.MemoryMB)<<20), m.Slots)
	if m.Isolation == fleet.Sandbox {
		fmt.Fprintf(r.out, "Sessions: each in a sandbox of its own.\n\n")
	} else {
		fmt.Fprintf(r.out, "Sessions: %s, since %s.\n\n", term.Paint(verdict.Failed, "without a sandbox"), m.Exposed)
	}
	if len(m.Tools) > 0 {
		words := make([]string, 0, len(m.Tools))
		for _, name := range slices.Sorted(maps.Keys(m.Tools)) {
			words = append(words, name+" "+m.Tools[name])
		}
		fmt.Fprintf(r.out, "Tools for command suites: %s.\n\n", strings.Join(words, ", "))
	}
	t := term.NewTable("browser", "version", "channel", "fits", "where, and its driver")
	usable := 0
	for _, b := range m.Browsers {
		fits := term.Paint(verdict.Passed, "yes")
		if !b.Fits {
			fits = term.Paint(verdict.Failed, "no")
		} else {
			usable++
		}
		driver := "no driver"
		switch {
		case b.Driver == fleet.BuiltIn:
			driver = "driver built in"
		case b.Driver != "":
			driver = b.Driver + " " + b.DriverVersion
		}
		t.Row(b.Name, orDash(b.Version), orDash(b.Channel), fits, orDash(b.Path)+"\n"+term.Faint(driver))
	}
	if len(m.Browsers) > 0 {
		fmt.Fprintln(r.out, t)
	}
	for _, b := range m.Browsers {
		if !b.Fits {
			fmt.Fprintf(r.out, "\n%s %s: %s.\n  %s\n", b.Name, b.Version, b.Problem, b.Remedy)
		}
	}
	for _, d := range m.Drivers {
		if len(d.Serves) == 0 {
			fmt.Fprintf(r.out, "\n%s %s at %s serves nothing: %s.\n", d.Name, d.Version, d.Path, d.Problem)
			if d.Remedy != "" {
				fmt.Fprintf(r.out, "  %s\n", d.Remedy)
			}
		}
	}
	for _, p := range find.Products {
		if p.Get != "" && runtime.GOOS == "linux" && !slices.ContainsFunc(m.Browsers, func(b fleet.Browser) bool { return b.Name == p.Name }) {
			fmt.Fprintf(r.out, "\nNo %s here. To have it: %s\n", p.Title, p.Get)
		}
	}
	if server != "" {
		usable += r.writePhones(server, hung)
	}
	if usable == 0 {
		return &exitError{verdict.ExitLab, errors.New("no browser here can be used")}
	}
	return nil
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func (r *root) agentsCmd() *cobra.Command {
	var has []string
	var online bool
	cmd := &cobra.Command{
		Use: "agents", Short: "List the fleet; drain, resume, wake or forget an agent", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			var all, agents []api.Agent
			if err := c.Get(cmd.Context(), "/agents", &all); err != nil {
				return err
			}
			needs, err := fleet.ParseNeeds(has)
			if err != nil {
				return usage("--has: %v", err)
			}
			for _, a := range all {
				if (!online || a.Online) && fleet.Has(needs, a.Machine.Facts(a.Name)) == nil {
					agents = append(agents, a)
				}
			}
			if r.json {
				return r.writeJSON(agents)
			}
			if len(all) == 0 {
				fmt.Fprintln(r.out, "No agent has joined yet. Start one on a machine with browsers: pane agent --service", c.Base)
				return nil
			}
			t := term.NewTable("agent", "state", "slots", "advice", "system", "browsers", "works on")
			for _, a := range agents {
				t.Row(agentRow(a)...)
			}
			fmt.Fprintln(r.out, t)
			return nil
		},
	}
	cmd.Flags().StringArrayVar(&has, "has", nil, "only agents that meet this need, such as browser=firefox; repeat for more")
	cmd.Flags().BoolVar(&online, "online", false, "only agents that are online")
	for _, x := range [][3]string{
		{"drain", "Let an agent finish what it has and take nothing new", "is draining"},
		{"resume", "Let an agent that was drained take work again", "takes work again"},
		{"wake", "End the rest of an agent that had several lab faults", "is awake"},
	} {
		cmd.AddCommand(&cobra.Command{Use: x[0] + " AGENT", Short: x[1], Args: cobra.ExactArgs(1),
			RunE: func(cmd *cobra.Command, args []string) error {
				return r.changeAgent(cmd.Context(), "POST", args[0], "/"+x[0], x[2])
			}})
	}
	cmd.AddCommand(&cobra.Command{Use: "forget AGENT", Short: "Remove an agent that is offline", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return r.changeAgent(cmd.Context(), "DELETE", args[0], "", "is forgotten")
		}})
	return cmd
}

func (r *root) changeAgent(ctx context.Context, method, name, what, done string) error {
	c, err := r.client()
	if err != nil {
		return err
	}
	if err := c.Call(ctx, method, "/agents/"+url.PathEscape(name)+what, nil, nil); err != nil {
		return err
	}
	if r.json {
		return r.writeJSON(map[string]string{"agent": name, "state": done})
	}
	fmt.Fprintf(r.out, "%s %s\n", name, done)
	return nil
}

func agentRow(a api.Agent) []string {
	state := term.Paint(verdict.Passed, "online")
	if a.Away != "" {
		state = a.Away
		if !a.Online && a.LastSeen != nil {
			state += ", seen " + humanize.Time(*a.LastSeen)
		}
		if a.RestEnds != nil {
			state += ", until " + humanize.Time(*a.RestEnds)
		}
		state = lipgloss.NewStyle().Width(32).Render(state)
	}
	name, system := a.Name, a.Machine.OS+" "+a.Machine.Arch
	if a.Machine.OS == fleet.Android {
		name += term.Faint("\nphone")
		system = a.Machine.OSVersion + "\n" + term.Faint(a.Machine.Screen)
	}
	if a.Machine.StandIn {
		name += term.Faint("\nstand-in")
	}
	if !a.Machine.StandIn && a.Machine.Isolation != fleet.Sandbox {
		name += term.Faint("\nno sandbox")
	}
	if a.Machine.Pool != "" && a.Machine.Pool != fleet.Shared {
		name += term.Faint("\nonly " + a.Machine.Pool)
	}
	advice := "–"
	if a.Advice.Slots > 0 {
		advice = fmt.Sprintf("%d slots\n", a.Advice.Slots) + term.Faint(lipgloss.NewStyle().Width(24).Render(a.Advice.Why))
	}
	var browsers, work []string
	for _, b := range a.Machine.Browsers {
		s := b.Name + " " + engine.Major(b.Version)
		if !b.Fits {
			s += " (does not fit)"
		}
		browsers = append(browsers, s)
	}
	for _, w := range a.Work {
		work = append(work, fmt.Sprintf("#%d %s (%d)", w.Run, w.Label, w.Tests))
	}
	return []string{name, state, fmt.Sprintf("%d of %d", a.Used, a.Slots), advice, system,
		strings.Join(browsers, "\n"), orDash(strings.Join(work, "\n"))}
}

func (r *root) linkCmd() *cobra.Command {
	return &cobra.Command{
		Use: "link", Short: "Print a one-time link that signs a browser in to the console", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := r.client()
			if err != nil {
				return err
			}
			link, err := signInLink(cmd.Context(), c)
			if err != nil {
				return err
			}
			if r.json {
				return r.writeJSON(map[string]string{"link": link})
			}
			fmt.Fprintln(r.out, link)
			return nil
		},
	}
}

func signInLink(ctx context.Context, c *client.Client) (string, error) {
	var made struct {
		Path string `json:"path"`
	}
	err := c.Call(ctx, "POST", "/links", nil, &made)
	return c.Base + made.Path, err
}
