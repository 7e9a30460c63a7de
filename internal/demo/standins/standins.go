// Package standins runs many simulated agents in one process, from a file that
// describes them. They join the service like real ones; every one of them is
// labelled a stand-in.
package standins

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"log/slog"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"

	"parallelpane/internal/agent"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/standin"
)

// File describes a fleet.
type File struct {
	Agents []Group `yaml:"agents"`
}

// Group is one agent, or several alike.
type Group struct {
	Name      string            `yaml:"name"`
	Count     int               `yaml:"count"` // agents NAME-1 to NAME-count; 0 means one, called NAME
	OS        string            `yaml:"os"`
	OSVersion string            `yaml:"os_version"`
	Arch      string            `yaml:"arch"`
	Cores     int               `yaml:"cores"`
	MemoryMB  int               `yaml:"memory_mb"`
	Slots     int               `yaml:"slots"`
	Pool      string            `yaml:"pool"`
	Labels    map[string]string `yaml:"labels"`
	Headed    bool              `yaml:"headed"`
	Browsers  map[string]list   `yaml:"browsers"`   // name and versions
	CommandMS int               `yaml:"command_ms"` // pause before each command
	Faults    struct {
		Start float64 `yaml:"start"` // probability that a browser will not start
		Crash float64 `yaml:"crash"` // probability that it ends in a command
	} `yaml:"faults"`
}

// list is one value or several.
type list []string

// UnmarshalYAML takes a scalar for a list of one.
func (l *list) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		*l = list{n.Value}
		return nil
	}
	var many []string
	if err := n.Decode(&many); err != nil {
		return err
	}
	*l = many
	return nil
}

// Limits of a file.
const (
	MaxBytes  = 1 << 20
	MaxAgents = 5_000
)

var nameForm = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,59}$`)

// Parse reads a fleet file.
func Parse(name string, src []byte) (File, error) {
	var f File
	if len(src) > MaxBytes {
		return f, fmt.Errorf("%s is larger than %d KiB", name, MaxBytes>>10)
	}
	dec := yaml.NewDecoder(bytes.NewReader(src))
	dec.KnownFields(true)
	if err := dec.Decode(&f); err != nil && !errors.Is(err, io.EOF) {
		return f, fmt.Errorf("%s: %w", name, err)
	}
	if len(f.Agents) == 0 {
		return f, fmt.Errorf("%s: expected agents, each with a name and browsers", name)
	}
	seen, total := map[string]bool{}, 0
	for i := range f.Agents {
		g := &f.Agents[i]
		fail := func(format string, args ...any) (File, error) {
			return f, fmt.Errorf("%s: agents[%d] %s: %s", name, i, g.Name, fmt.Sprintf(format, args...))
		}
		switch {
		case !nameForm.MatchString(g.Name) || seen[g.Name]:
			return fail("the name is missing, taken, or not of letters, digits, '.', '-' and '_'")
		case g.Count < 0 || g.Slots < 0 || g.Slots > 1000 || g.CommandMS < 0 || g.CommandMS > 60_000:
			return fail("count, slots (at most 1000) and command_ms (at most 60000) may not be negative")
		case len(g.Browsers) == 0:
			return fail("expected browsers such as {kestrel: 12.1}")
		case !(g.Faults.Start >= 0 && g.Faults.Start <= 1 && g.Faults.Crash >= 0 && g.Faults.Crash <= 1):
			return fail("faults are probabilities from 0 to 1")
		}
		for _, real := range []string{"chromium", "firefox", "webkitgtk"} {
			if _, posing := g.Browsers[real]; posing {
				return fail("%s is a real browser: a stand-in needs an invented name", real)
			}
		}
		for b, versions := range g.Browsers {
			for _, v := range versions {
				if sel, err := combo.ParseSelector(v); err != nil || !sel.Literal() {
					return fail("%s: %q is not a version such as 12.1", b, v)
				}
			}
		}
		seen[g.Name] = true
		total += max(1, g.Count)
	}
	if total > MaxAgents {
		return f, fmt.Errorf("%s: %d agents are more than %d", name, total, MaxAgents)
	}
	return f, nil
}

// Configs are the agents of a file. Their state goes below dir.
// Every agent has a token of its own, which tokens gets for it.
func (f File) Configs(service string, tokens func(agent, pool string) (string, error), version, dir string, log *slog.Logger) (
	out []agent.Config, err error) {
	for _, g := range f.Agents {
		for i := range max(1, g.Count) {
			name := g.Name
			if g.Count > 0 {
				name += "-" + strconv.Itoa(i+1)
			}
			token, err := tokens(name, g.Pool)
			if err != nil {
				return nil, fmt.Errorf("a token for %s: %w", name, err)
			}
			out = append(out, g.config(name, service, token, version, dir, log))
		}
	}
	return out, nil
}

func (g Group) config(name, service, token, version, dir string, log *slog.Logger) agent.Config {
	seed := fnv.New64a()
	_, _ = seed.Write([]byte(name)) // a hash takes everything
	system := strings.TrimSpace(g.OS + " " + g.OSVersion)
	family := &standin.Family{Platform: system, Pause: time.Duration(g.CommandMS) * time.Millisecond,
		Faults: standin.Faults{Start: g.Faults.Start, Crash: g.Faults.Crash}, Seed: seed.Sum64()}
	for b, versions := range g.Browsers {
		for _, v := range versions {
			family.Browsers = append(family.Browsers, fleet.Browser{Name: b, Version: v})
		}
	}
	slices.SortFunc(family.Browsers, func(a, b fleet.Browser) int {
		return strings.Compare(a.Name+" "+a.Version, b.Name+" "+b.Version)
	})
	m := &fleet.Machine{OS: g.OS, OSVersion: system, Arch: g.Arch, Cores: g.Cores, MemoryMB: g.MemoryMB, Headed: g.Headed, StandIn: true,
		Browsers: family.Find(context.Background()), Version: version, Slots: max(1, g.Slots), StartedAt: time.Now().UTC().Format(time.RFC3339)}
	return agent.Config{Service: service, Token: token, Name: name, Slots: max(1, g.Slots), Labels: g.Labels, Pool: g.Pool, Version: version,
		Dir: filepath.Join(dir, name), Log: log.With("agent", name), Families: []engine.Family{family}, Machine: m}
}

// Run runs agents until the context ends. The first that the service refuses
// ends all.
func Run(ctx context.Context, configs []agent.Config) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var tasks sync.WaitGroup
	for _, c := range configs {
		tasks.Go(func() {
			a, release, err := agent.New(ctx, c)
			if err == nil {
				defer release()
				err = a.Run(ctx)
			}
			if err != nil {
				cancel(fmt.Errorf("stand-in %s: %w", c.Name, err))
			}
		})
	}
	tasks.Wait()
	if err := context.Cause(ctx); !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}
