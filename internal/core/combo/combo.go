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

// Matrix is a list of axes; its points are the product of their values.
type Matrix struct {
	Name string `json:"name"`
	Axes []Axis `json:"axes"`
}

// Combination is one point of a matrix.
type Combination struct {
	// Key is canonical: the same values give the same key whatever the order of
	// the axes. It is "axis=value" pairs sorted by axis and joined by ";", each
	// part query-escaped.
	Key string `json:"key"`
	// Label names only the axes whose values differ within the matrix.
	Label  string            `json:"label"`
	Values map[string]string `json:"values"`
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

// Product returns every combination, the last axis varying fastest.
func (m Matrix) Product() ([]Combination, error) {
	if err := m.Check(); err != nil {
		return nil, err
	}
	n := m.Points()
	if n > MaxPoints {
		return nil, fmt.Errorf("matrix %q has more than %d combinations: drop an axis or some values", m.Name, MaxPoints)
	}
	out := make([]Combination, 0, n)
	index := make([]int, len(m.Axes))
	for {
		values := make(map[string]string, len(m.Axes))
		for i, a := range m.Axes {
			values[a.Name] = a.Values[index[i]]
		}
		out = append(out, Combination{Key: Key(values), Label: m.label(values), Values: values})
		i := len(index) - 1
		for ; i >= 0; i-- {
			if index[i]++; index[i] < len(m.Axes[i].Values) {
				break
			}
			index[i] = 0
		}
		if i < 0 {
			return out, nil
		}
	}
}

// label joins the values of the axes that have more than one; when none has,
// every value is named, for a label must never be empty.
func (m Matrix) label(values map[string]string) string {
	var parts []string
	for _, a := range m.Axes {
		if len(a.Values) > 1 {
			parts = append(parts, values[a.Name])
		}
	}
	if len(parts) == 0 {
		for _, a := range m.Axes {
			parts = append(parts, values[a.Name])
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
	order := []string{"browser", "version", "os", "device", "mode"}
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
