// Package device is the catalogue of emulated device profiles. A profile says
// what a page should see; an engine says what of it was really applied.
package device

import (
	"fmt"
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
	Mobile     bool    `json:"mobile"` // user agent of a hand-held device
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
	{"wall-display", "wall display, 4K", 3840, 2160, 1, false, false},
	{"desktop-large", "large desktop", 1920, 1080, 1, false, false},
	{"desktop", "desktop", 1280, 800, 1, false, false},
	{"desktop-dense", "desktop, dense display", 1440, 900, 2, false, false},
	{"laptop", "laptop", 1366, 768, 1, false, false},
	{"laptop-touch", "laptop with a touch screen", 1366, 768, 1.5, true, false},
	{"kiosk", "upright kiosk", 1080, 1920, 1, true, false},
	{"tablet-large", "large tablet, upright", 1024, 1366, 2, true, true},
	{"tablet-large-landscape", "large tablet, on its side", 1366, 1024, 2, true, true},
	{"tablet", "tablet, upright", 820, 1180, 2, true, true},
	{"tablet-landscape", "tablet, on its side", 1180, 820, 2, true, true},
	{"tablet-small", "small tablet, upright", 744, 1133, 2, true, true},
	{"foldable-open", "foldable, open", 673, 841, 2.5, true, true},
	{"foldable-open-landscape", "foldable, open, on its side", 841, 673, 2.5, true, true},
	{"foldable-closed", "foldable, closed", 344, 882, 2.5, true, true},
	{"phone-large", "large phone, upright", 430, 932, 3, true, true},
	{"phone-large-landscape", "large phone, on its side", 932, 430, 3, true, true},
	{"phone", "phone, upright", 390, 844, 3, true, true},
	{"phone-landscape", "phone, on its side", 844, 390, 3, true, true},
	{"phone-small", "small phone, upright", 320, 568, 2, true, true},
}

// Find returns the profile of a name; the error lists the names there are.
func Find(name string) (Profile, error) {
	if name == "" {
		name = Default
	}
	if i := slices.IndexFunc(Catalogue, func(p Profile) bool { return p.Name == name }); i >= 0 {
		return Catalogue[i], nil
	}
	return Profile{}, fmt.Errorf("unknown device %q: use one of %s", name, strings.Join(Names(), ", "))
}

// Names lists the profiles of the catalogue.
func Names() []string {
	names := make([]string, len(Catalogue))
	for i, p := range Catalogue {
		names[i] = p.Name
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
