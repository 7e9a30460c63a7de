// Package device is the catalogue of emulated device profiles. A profile says
// what a page should see; an engine says what of it was really applied.
package device

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Profile is an emulated device.
type Profile struct {
	Name       string  `json:"name"`
	Title      string  `json:"title"`
	Width      int     `json:"width"`       // viewport, CSS pixels
	Height     int     `json:"height"`      // viewport, CSS pixels
	PixelRatio float64 `json:"pixel_ratio"` // device pixels for one CSS pixel
	Touch      bool    `json:"touch"`
	Mobile     bool    `json:"mobile"`              // user agent of a hand-held device
	Locale     string  `json:"locale,omitempty"`    // BCP 47; "" is the browser's own
	TimeZone   string  `json:"time_zone,omitempty"` // of the IANA database; "" is the machine's
}

// Sides of a viewport, in CSS pixels.
const (
	MinSide = 200
	MaxSide = 8192
)

// Check says what is wrong with a profile.
func (p Profile) Check() error {
	switch {
	case p.Width < MinSide || p.Width > MaxSide || p.Height < MinSide || p.Height > MaxSide:
		return fmt.Errorf("a viewport is %d to %d pixels wide and high, not %d×%d", MinSide, MaxSide, p.Width, p.Height)
	case !(p.PixelRatio >= 0.5 && p.PixelRatio <= 8):
		return fmt.Errorf("a pixel ratio is 0.5 to 8, not %g", p.PixelRatio)
	}
	return nil
}

var (
	localeForm = regexp.MustCompile(`^[a-zA-Z]{2,8}(-[a-zA-Z0-9]{1,8})*$`)
	zoneForm   = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_+/-]{0,63}$`)
)

// With gives a profile what the axes viewport, locale and timezone of a
// combination ask for.
func (p Profile) With(values map[string]string) (Profile, error) {
	if v, ok := values["viewport"]; ok {
		n, err := fmt.Sscanf(strings.ReplaceAll(v, "×", "x"), "%dx%d", &p.Width, &p.Height)
		if err != nil || n != 2 {
			return p, fmt.Errorf("viewport: expected a size such as 1024x768, found %q", v)
		}
		p.Name, p.Title = p.Name+" "+v, p.Title+", "+v
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
	return p, p.Check()
}

// Orientation is "portrait" or "landscape".
func (p Profile) Orientation() string {
	if p.Width > p.Height {
		return "landscape"
	}
	return "portrait"
}

// Small reports whether pages are expected to show their small-screen layout:
// a viewport narrower than 768 CSS pixels.
func (p Profile) Small() bool { return p.Width < 768 }

// Default is the profile of a combination that names none.
const Default = "desktop"

// Catalogue lists every built-in profile, from large to small.
var Catalogue = []Profile{
	{Name: "wall-display", Title: "wall display, 4K", Width: 3840, Height: 2160, PixelRatio: 1},
	{Name: "desktop-large", Title: "large desktop", Width: 1920, Height: 1080, PixelRatio: 1},
	{Name: "desktop", Title: "desktop", Width: 1280, Height: 800, PixelRatio: 1},
	{Name: "desktop-dense", Title: "desktop, dense display", Width: 1440, Height: 900, PixelRatio: 2},
	{Name: "laptop", Title: "laptop", Width: 1366, Height: 768, PixelRatio: 1},
	{Name: "laptop-touch", Title: "laptop with a touch screen", Width: 1366, Height: 768, PixelRatio: 1.5, Touch: true},
	{Name: "kiosk", Title: "upright kiosk", Width: 1080, Height: 1920, PixelRatio: 1, Touch: true},
	{Name: "tablet-large", Title: "large tablet, upright", Width: 1024, Height: 1366, PixelRatio: 2, Touch: true, Mobile: true},
	{Name: "tablet-large-landscape", Title: "large tablet, on its side", Width: 1366, Height: 1024, PixelRatio: 2, Touch: true, Mobile: true},
	{Name: "tablet", Title: "tablet, upright", Width: 820, Height: 1180, PixelRatio: 2, Touch: true, Mobile: true},
	{Name: "tablet-landscape", Title: "tablet, on its side", Width: 1180, Height: 820, PixelRatio: 2, Touch: true, Mobile: true},
	{Name: "tablet-small", Title: "small tablet, upright", Width: 744, Height: 1133, PixelRatio: 2, Touch: true, Mobile: true},
	{Name: "foldable-open", Title: "foldable, open", Width: 673, Height: 841, PixelRatio: 2.5, Touch: true, Mobile: true},
	{Name: "foldable-open-landscape", Title: "foldable, open, on its side", Width: 841, Height: 673, PixelRatio: 2.5, Touch: true, Mobile: true},
	{Name: "foldable-closed", Title: "foldable, closed", Width: 344, Height: 882, PixelRatio: 2.5, Touch: true, Mobile: true},
	{Name: "phone-large", Title: "large phone, upright", Width: 430, Height: 932, PixelRatio: 3, Touch: true, Mobile: true},
	{Name: "phone-large-landscape", Title: "large phone, on its side", Width: 932, Height: 430, PixelRatio: 3, Touch: true, Mobile: true},
	{Name: "phone", Title: "phone, upright", Width: 390, Height: 844, PixelRatio: 3, Touch: true, Mobile: true},
	{Name: "phone-landscape", Title: "phone, on its side", Width: 844, Height: 390, PixelRatio: 3, Touch: true, Mobile: true},
	{Name: "phone-small", Title: "small phone, upright", Width: 320, Height: 568, PixelRatio: 2, Touch: true, Mobile: true},
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
	if !p.Mobile {
		return ""
	}
	major, _, _ := strings.Cut(version, ".")
	mobile := "Mobile "
	if min(p.Width, p.Height) >= 600 {
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
