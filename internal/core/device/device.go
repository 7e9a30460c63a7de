// Package device is the catalogue of emulated device profiles. A profile says
// what a page should see; an engine says what of it was really applied.
package device

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"parallelpane/internal/core/traffic"
)

// Profile is an emulated device.
type Profile struct {
	Name     string  `json:"name"`
	Title    string  `json:"title"`
	Family   Family  `json:"family,omitempty"`
	Size     Size    `json:"size"`    // of the viewport
	Density  float64 `json:"density"` // device pixels for one CSS pixel
	Touch    bool    `json:"touch"`
	Handheld bool    `json:"handheld"`            // user agent of a hand-held device
	Locale   string  `json:"locale,omitempty"`    // BCP 47; "" is the browser's own
	TimeZone string  `json:"time_zone,omitempty"` // of the IANA database; "" is the machine's
	Source   string  `json:"source,omitempty"`    // where the figures come from
	// Network is the way to the site, as traffic.Parse reads it; "" is the agent's own.
	Network string `json:"network,omitempty"`
	// CPU is how many times slower than the agent's processor the device's is; 0 and 1
	// are as fast.
	CPU float64 `json:"cpu,omitempty"`
	// Real is a device in the hand, of which nothing is emulated.
	Real bool `json:"real,omitempty"`
	// Prefer is what the device's owner prefers, by axis, see Preferences.
	Prefer map[string]string `json:"prefer,omitempty"`
}

// Size is the size of a viewport in CSS pixels. Its text is such as 390x844.
type Size struct{ Width, Height int }

// ParseSize reads a size such as 390x844; × may stand for x.
func ParseSize(s string) (size Size, err error) {
	w, h, ok := strings.Cut(strings.ReplaceAll(s, "×", "x"), "x")
	size.Width, err = strconv.Atoi(w)
	var other error
	size.Height, other = strconv.Atoi(h)
	if !ok || err != nil || other != nil {
		return Size{}, fmt.Errorf("expected a size such as 390x844, found %q", s)
	}
	return size, nil
}

func (s Size) String() string { return fmt.Sprintf("%dx%d", s.Width, s.Height) }

// MarshalText writes a size as String does.
func (s Size) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads a size as ParseSize does.
func (s *Size) UnmarshalText(text []byte) (err error) {
	*s, err = ParseSize(string(text))
	return err
}

// Sides of a viewport, in CSS pixels.
const (
	MinSide = 200
	MaxSide = 8192
)

// MaxCPU is how many times slower than its agent's a device's processor can be.
const MaxCPU = 20

// Check says what is wrong with a profile.
func (p Profile) Check() error {
	switch {
	case p.Size.Width < MinSide || p.Size.Width > MaxSide || p.Size.Height < MinSide || p.Size.Height > MaxSide:
		return fmt.Errorf("a viewport is %d to %d pixels wide and high, not %d×%d", MinSide, MaxSide, p.Size.Width, p.Size.Height)
	case !(p.Density >= 0.5 && p.Density <= 8):
		return fmt.Errorf("a density is 0.5 to 8, not %g", p.Density)
	case p.CPU != 0 && !(p.CPU >= 1 && p.CPU <= MaxCPU):
		return fmt.Errorf("cpu: a device is 1 to %d times slower, not %g", MaxCPU, p.CPU)
	}
	if _, err := traffic.Parse(p.Network); err != nil {
		return fmt.Errorf("network: %w", err)
	}
	return nil
}

var (
	localeForm = regexp.MustCompile(`^[a-zA-Z]{2,8}(-[a-zA-Z0-9]{1,8})*$`)
	zoneForm   = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_+/-]{0,63}$`)
)

// With gives a profile what the axes viewport, locale, timezone, network and cpu of a
// combination, and those of Preferences, ask for.
func (p Profile) With(values map[string]string) (Profile, error) {
	if v, ok := values["viewport"]; ok {
		var err error
		if p.Size, err = ParseSize(v); err != nil {
			return p, fmt.Errorf("viewport: %w", err)
		}
		p.Name, p.Title, p.Source = p.Name+" "+v, p.Title+", "+v, ""
	}
	if v, ok := values["locale"]; ok {
		if !localeForm.MatchString(v) {
			return p, fmt.Errorf("locale: expected one such as nb-NO, found %q", v)
		}
		p.Locale = v
	}
	if v, ok := values["timezone"]; ok {
		if !zoneForm.MatchString(v) {
			return p, fmt.Errorf("timezone: expected one such as Europe/Oslo, found %q", v)
		}
		p.TimeZone = v
	}
	if v, ok := values["network"]; ok {
		p.Network = v
	}
	if v, ok := values["cpu"]; ok {
		var err error
		if p.CPU, err = strconv.ParseFloat(v, 64); err != nil || p.CPU == 0 {
			return p, fmt.Errorf("cpu: expected how many times slower, such as 4, found %q", v)
		}
	}
	if err := p.prefer(values); err != nil {
		return p, err
	}
	return p, p.Check()
}

// Orientation is "portrait" or "landscape".
func (p Profile) Orientation() string {
	if p.Size.Width > p.Size.Height {
		return "landscape"
	}
	return "portrait"
}

// Small reports whether pages are expected to show their small-screen layout:
// a viewport narrower than 768 CSS pixels.
func (p Profile) Small() bool { return p.Size.Width < 768 }

// InHand is the profile of a phone of a model with a screen such as 412x915, in CSS
// pixels. One whose screen nobody knows has the size of a small one.
func InHand(model, screen string) Profile {
	size, err := ParseSize(screen)
	if err != nil {
		size = Size{Width: 360, Height: 760}
	}
	return Profile{Name: model, Title: model, Family: Phone, Size: size, Density: 1, Touch: true, Handheld: true, Real: true}
}

// Find returns the profile of a name, of the catalogue or else of further ones;
// the error lists the names there are.
func Find(name string, further ...Profile) (Profile, error) {
	if name == "" {
		name = Default
	}
	all := slices.Concat(Catalogue, further)
	if i := slices.IndexFunc(all, func(p Profile) bool { return p.Name == name }); i >= 0 {
		return all[i], nil
	}
	return Profile{}, fmt.Errorf("unknown device %q: use one of %s", name, strings.Join(Names(further...), ", "))
}

// Names lists the profiles of the catalogue and further ones.
func Names(further ...Profile) []string {
	var names []string
	for _, p := range slices.Concat(Catalogue, further) {
		names = append(names, p.Name)
	}
	return names
}

// UserAgent is what a hand-held device of an engine's family sends, in the
// frozen form those families use; "" keeps the browser's own. version is the
// browser's version; only its major part is used.
func (p Profile) UserAgent(engine, version string) string {
	if !p.Handheld {
		return ""
	}
	major, _, _ := strings.Cut(version, ".")
	mobile := "Mobile "
	if min(p.Size.Width, p.Size.Height) >= 600 {
		mobile = ""
	}
	switch engine {
	case "chromium":
		return "Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/" + major + ".0.0.0 " + mobile + "Safari/537.36"
	case "gecko":
		kind := "Mobile"
		if mobile == "" {
			kind = "Tablet"
		}
		return "Mozilla/5.0 (Android 15; " + kind + "; rv:" + major + ".0) Gecko/" + major + ".0 Firefox/" + major + ".0"
	case "webkit":
		return "Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/" + major + ".0 " + mobile + "Safari/605.1.15"
	}
	return ""
}

// Outcome says what of a profile an engine applied.
type Outcome struct {
	Applied []string  `json:"applied"`
	Missing []Missing `json:"missing"`
}

// Missing is a feature that was asked for and not emulated.
type Missing struct {
	Feature string `json:"feature"`
	Reason  string `json:"reason"`
}

// Apply notes a feature as applied, or as missing when err is not nil.
func (o *Outcome) Apply(feature string, err error) {
	if err != nil {
		o.Missing = append(o.Missing, Missing{feature, err.Error()})
		return
	}
	o.Applied = append(o.Applied, feature)
}
