package device

import (
	"fmt"
	"slices"
)

// Preference is one of what people set in their systems and pages can ask for (Media
// Queries Level 5).
type Preference struct {
	Axis    string // of a matrix
	Feature string // of a media query
	Values  map[string]string
}

// Preferences are those that can be axes of a matrix, each value with the one of the
// media query.
var Preferences = []Preference{
	{"scheme", "prefers-color-scheme", map[string]string{"light": "light", "dark": "dark"}},
	{"motion", "prefers-reduced-motion", map[string]string{"full": "no-preference", "reduced": "reduce"}},
	{"contrast", "prefers-contrast", map[string]string{"usual": "no-preference", "more": "more", "less": "less"}},
	{"colours", "forced-colors", map[string]string{"own": "none", "forced": "active"}},
}

// Wish is a preference that a profile has.
type Wish struct{ Axis, Value, Feature, Query string }

func (w Wish) String() string { return w.Axis + " " + w.Value }

// Wishes lists the preferences of a profile.
func (p Profile) Wishes() (out []Wish) {
	for _, f := range Preferences {
		if v := p.Prefer[f.Axis]; v != "" {
			out = append(out, Wish{f.Axis, v, f.Feature, f.Values[v]})
		}
	}
	return out
}

// prefer takes the preferences among the values of a combination.
func (p *Profile) prefer(values map[string]string) error {
	for _, f := range Preferences {
		v, asked := values[f.Axis]
		if !asked {
			continue
		}
		if _, known := f.Values[v]; !known {
			var all []string
			for v := range f.Values {
				all = append(all, v)
			}
			slices.Sort(all)
			return fmt.Errorf("%s: expected one of %v, found %q", f.Axis, all, v)
		}
		mine := map[string]string{f.Axis: v}
		for axis, had := range p.Prefer {
			if axis != f.Axis {
				mine[axis] = had
			}
		}
		p.Prefer = mine
	}
	return nil
}
