package fleet

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"parallelpane/internal/core/combo"
)

// Needs is what a piece of work asks for: every named fact must have one of the
// given values. A value that begins with <, <=, > or >= is a bound, compared as
// versions are. The values of "version" are version selectors for the browsers
// named in the same needs.
type Needs map[string][]string

// Shared is the pool that serves every project; any other pool is named after
// the project that owns it.
const Shared = "shared"

// NeedsOf turns the values of a combination into the needs of a project's work.
// Device and the author's own axes ask nothing of an agent.
func NeedsOf(project string, values map[string]string) Needs {
	needs := Needs{"pool": {Shared}}
	if project != "" {
		needs["pool"] = append(needs["pool"], project)
	}
	for _, axis := range []string{"browser", "engine", "channel", "version", "os", "mode"} {
		if v, ok := values[axis]; ok {
			needs[axis] = []string{v}
		}
	}
	return needs
}

// With adds needs to needs, in a copy. A fact that both name must satisfy the
// added values.
func (n Needs) With(more Needs) Needs {
	out := make(Needs, len(n)+len(more))
	for _, from := range []Needs{n, more} {
		for fact, want := range from {
			out[fact] = want
		}
	}
	return out
}

var factName = regexp.MustCompile(`^[a-zA-Z][a-zA-Z0-9_.-]{0,63}$`)

// ParseNeeds reads needs as people type them, one fact in each word:
// browser=firefox|chromium, version=>=140, site=quay.
func ParseNeeds(words []string) (Needs, error) {
	needs := Needs{}
	for _, w := range words {
		fact, value, ok := strings.Cut(w, "=")
		if !ok || !factName.MatchString(fact) || value == "" {
			return nil, fmt.Errorf("%q is not a need: expected FACT=VALUE such as browser=firefox, version=>=140 or site=quay|pier", w)
		}
		if _, twice := needs[fact]; twice {
			return nil, fmt.Errorf("the fact %s is asked for twice: give its values together, as %s=A|B", fact, fact)
		}
		for _, v := range strings.Split(value, "|") {
			if v == "" {
				return nil, fmt.Errorf("%q has an empty value", w)
			}
			if err := CheckWant(fact, v); err != nil {
				return nil, err
			}
			needs[fact] = append(needs[fact], v)
		}
	}
	return needs, nil
}

// CheckWant says what is wrong with one wanted value of a fact.
func CheckWant(fact, value string) error {
	if fact == "version" || strings.HasPrefix(value, "<") || strings.HasPrefix(value, ">") {
		if _, err := combo.ParseSelector(value); err != nil {
			return fmt.Errorf("%s: %w", fact, err)
		}
	}
	return nil
}

// String writes needs in the form a person types: browser=firefox os=linux|macos.
func (n Needs) String() string {
	parts := make([]string, 0, len(n))
	for fact, want := range n {
		parts = append(parts, fact+"="+strings.Join(want, "|"))
	}
	slices.Sort(parts)
	return strings.Join(parts, " ")
}

// Plain is String without the pool that every piece of work has.
func (n Needs) Plain() string {
	rest := Needs{}
	for fact, want := range n {
		if fact != "pool" || !slices.Contains(want, Shared) {
			rest[fact] = want
		}
	}
	return rest.String()
}

// Lab is the members as a matrix's plan asks about them.
type Lab struct {
	Project string
	Members []Member
}

// Versions lists the versions of the browser, of the engine, or of both that the values
// of a combination name, in the agents that the project may use; what is "" may be any. Those on
// phones count where the values ask for their system.
func (l Lab) Versions(values map[string]string) (out []string) {
	browser, engine := values["browser"], values["engine"]
	pool := NeedsOf(l.Project, nil)
	if os := values["os"]; os != "" {
		pool["os"] = []string{os}
	}
	for _, m := range l.Members {
		if Match(pool, m.Facts) != nil {
			continue
		}
		named := ofEngine(m.Facts["engine"], []string{engine})
		for _, have := range m.Facts["version"] {
			name, version, _ := strings.Cut(have, " ")
			if (browser == "" || name == browser) && (engine == "" || slices.Contains(named, name)) && !slices.Contains(out, version) {
				out = append(out, version)
			}
		}
	}
	slices.SortFunc(out, combo.CompareVersions)
	return out
}

// Lacks says why no agent could ever run a combination. While no agent is known
// at all, any could still come.
func (l Lab) Lacks(values map[string]string) string {
	if len(l.Members) == 0 {
		return ""
	}
	needs := NeedsOf(l.Project, values)
	return Ask(needs, l.Members).Explain(needs)
}
