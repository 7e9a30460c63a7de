// Package combo computes combinations: the points of a matrix of axes. It
// knows nothing of agents, runs or files; its callers bring axes and values and
// take combinations with a canonical key and a label a person can read.
package combo

import (
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strings"
)

// Axis is one dimension of a matrix and the values it may take, in the order
// its author wrote them.
type Axis struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}

// Matrix is a list of axes and rules over them. Its points are the product of
// the axes' values, less those that a rule forbids, plus the added ones.
type Matrix struct {
	Name   string              `json:"name"`
	Axes   []Axis              `json:"axes"`
	Only   []string            `json:"only,omitempty"` // expressions over axis names that must hold
	Drop   []Drop              `json:"drop,omitempty"` // values that must not come together
	Add    []map[string]string `json:"add,omitempty"`  // combinations to have in any case, whatever the rules say
	Cover  Cover               `json:"cover"`
	Seed   uint64              `json:"seed,omitempty"`
	Effort Effort              `json:"effort,omitempty"`
}

// Drop names values of some axes; combinations that have one of each are
// dropped.
type Drop map[string][]string

func (d Drop) String() string {
	parts := make([]string, 0, len(d))
	for axis, values := range d {
		parts = append(parts, axis+"="+strings.Join(values, "|"))
	}
	sort.Strings(parts)
	return strings.Join(parts, " ")
}

// Cover says how much of the product is wanted: every combination (strength 0),
// or just enough combinations that every tuple of values of any Strength axes
// is in one of them.
type Cover struct {
	Strength int      `json:"strength"`
	Axes     []string `json:"axes,omitempty"` // the axes whose tuples count; none means all
}

// MaxStrength is the highest strength of a cover.
const MaxStrength = 6

// ParseCover reads all, each, pairs, triples or a number from 1 to MaxStrength.
func ParseCover(s string) (Cover, error) {
	if i := slices.Index([]string{"all", "each", "pairs", "triples"}, s); i >= 0 {
		return Cover{Strength: i}, nil
	}
	if len(s) == 1 && s[0] >= '1' && s[0] <= '0'+MaxStrength {
		return Cover{Strength: int(s[0] - '0')}, nil
	}
	return Cover{}, fmt.Errorf("unknown cover %q: expected all, each, pairs, triples or a strength from 1 to %d", s, MaxStrength)
}

// Effort is how long to look for a smaller cover.
type Effort string

// Efforts. The empty one is Normal.
const (
	Normal Effort = "normal" // a second or two for a hundred axes
	High   Effort = "high"   // up to a minute
)

// Combination is one point of a matrix.
type Combination struct {
	// Key is canonical: the same values give the same key whatever the order of
	// the axes. It is "axis=value" pairs sorted by axis and joined by ";", each
	// part query-escaped.
	Key string `json:"key"`
	// Label names only the axes whose values differ within the matrix.
	Label  string            `json:"label"`
	Values map[string]string `json:"values"`
	// Impossible says why no agent could run it, when a lab was asked.
	Impossible string `json:"impossible,omitempty"`
}

// MaxPoints bounds a full product; a larger one is refused rather than built.
const MaxPoints = 1_000_000

// Check reports the first axis that cannot be used: no name, no value, a value
// given twice, or two axes of one name.
func (m Matrix) Check() error {
	if len(m.Axes) == 0 {
		return fmt.Errorf("matrix %q has no axes: give at least one, such as browser: [chromium]", m.Name)
	}
	seen := map[string]bool{}
	for _, a := range m.Axes {
		switch {
		case a.Name == "":
			return fmt.Errorf("matrix %q has an axis without a name", m.Name)
		case seen[a.Name]:
			return fmt.Errorf("matrix %q has the axis %q twice", m.Name, a.Name)
		case len(a.Values) == 0:
			return fmt.Errorf("matrix %q: axis %q has no values", m.Name, a.Name)
		}
		seen[a.Name] = true
		values := map[string]bool{}
		for _, v := range a.Values {
			if values[v] {
				return fmt.Errorf("matrix %q: axis %q has the value %q twice", m.Name, a.Name, v)
			}
			values[v] = true
		}
	}
	return nil
}

// Points is the size of the full product, or MaxPoints+1 when it is larger.
func (m Matrix) Points() int {
	n := 1
	for _, a := range m.Axes {
		n *= len(a.Values)
		if n > MaxPoints {
			return MaxPoints + 1
		}
	}
	return n
}

// eachPoint calls f with every point of the product in numbers, the last axis
// varying fastest. f must not keep the slice.
func (m Matrix) eachPoint(f func(point []int)) {
	point := make([]int, len(m.Axes))
	for {
		f(point)
		i := len(point) - 1
		for ; i >= 0; i-- {
			if point[i]++; point[i] < len(m.Axes[i].Values) {
				break
			}
			point[i] = 0
		}
		if i < 0 {
			return
		}
	}
}

func (m Matrix) values(point []int) map[string]string {
	values := make(map[string]string, len(point))
	for i, v := range point {
		if v != free {
			values[m.Axes[i].Name] = m.Axes[i].Values[v]
		}
	}
	return values
}

// Of is the combination of some values alone, labelled by all of them.
func Of(values map[string]string) Combination { return Matrix{}.combination(values) }

func (m Matrix) combination(values map[string]string) Combination {
	return Combination{Key: Key(values), Label: m.label(values), Values: values}
}

// label joins the values of the axes that have more than one; when none has,
// every value is named, for a label must never be empty.
func (m Matrix) label(values map[string]string) string {
	var parts []string
	known := map[string]bool{}
	told := func(a Axis) bool {
		v, ok := values[a.Name]
		return ok && (len(a.Values) > 1 || !slices.Contains(a.Values, v))
	}
	of := slices.ContainsFunc(m.Axes, func(a Axis) bool { return a.Name == "version" && told(a) })
	for _, a := range m.Axes {
		known[a.Name] = true
		if v := values[a.Name]; told(a) || v != "" && of && a.Name == "browser" { // whose version it is
			parts = append(parts, v)
		}
	}
	for _, name := range (Combination{Values: values}).Names() { // axes that only an added combination has
		if !known[name] {
			parts = append(parts, values[name])
		}
	}
	if len(parts) == 0 {
		for _, a := range m.Axes {
			if v, ok := values[a.Name]; ok {
				parts = append(parts, v)
			}
		}
	}
	return strings.Join(parts, " · ")
}

// Key returns the canonical key of a set of values.
func Key(values map[string]string) string {
	parts := make([]string, 0, len(values))
	for name, value := range values {
		parts = append(parts, url.QueryEscape(name)+"="+url.QueryEscape(value))
	}
	sort.Strings(parts)
	return strings.Join(parts, ";")
}

// ParseKey is the inverse of Key.
func ParseKey(key string) (map[string]string, error) {
	values := map[string]string{}
	if key == "" {
		return values, nil
	}
	for _, part := range strings.Split(key, ";") {
		rawName, rawValue, ok := strings.Cut(part, "=")
		if !ok {
			return nil, fmt.Errorf("combination key %q: %q is not axis=value", key, part)
		}
		name, err := url.QueryUnescape(rawName)
		if err != nil {
			return nil, fmt.Errorf("combination key %q: %w", key, err)
		}
		value, err := url.QueryUnescape(rawValue)
		if err != nil {
			return nil, fmt.Errorf("combination key %q: %w", key, err)
		}
		if _, twice := values[name]; twice {
			return nil, fmt.Errorf("combination key %q has axis %q twice", key, name)
		}
		values[name] = value
	}
	return values, nil
}

// Names returns the axes of a combination in the order people read them: what
// opens first (browser, version), where (os, device), how (mode), then the
// author's own axes by name.
func (c Combination) Names() []string {
	order := []string{"browser", "engine", "channel", "version", "os", "device", "viewport", "mode", "locale", "timezone", "scheme",
		"motion", "contrast", "colours"}
	names := make([]string, 0, len(c.Values))
	for name := range c.Values {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int {
		ia, ib := slices.Index(order, a), slices.Index(order, b)
		switch {
		case ia >= 0 && ib >= 0:
			return ia - ib
		case ia >= 0:
			return -1
		case ib >= 0:
			return 1
		}
		return strings.Compare(a, b)
	})
	return names
}
