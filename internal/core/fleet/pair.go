package fleet

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Driver is one driver found on an agent.
type Driver struct {
	Name    string   `json:"name"` // of the program, without what differs from system to system: chromedriver, safaridriver …
	Version string   `json:"version"`
	Path    string   `json:"path"`
	Arch    string   `json:"arch"`
	From    Origin   `json:"from"`
	Serves  []string `json:"serves"`  // the browsers that it was chosen for, each with its version
	Problem string   `json:"problem"` // why it serves none
	Remedy  string   `json:"remedy"`
}

// BuiltIn stands for the driver of a browser that serves commands itself.
const BuiltIn = "built in"

// rule says when a driver fits a browser.
type rule int

const (
	own       rule = iota // the browser needs none
	sameMajor             // it is of the same major version; the nearest build is the best
	sameMade              // it is made with the browser and has its version, or says none
)

// driven says which driver serves a browser. A browser that is not named here is made
// from Chromium.
var driven = map[string]struct {
	by   string
	when rule
}{
	"chromium":  {"chromedriver", sameMajor},
	"chrome":    {"chromedriver", sameMajor},
	"edge":      {"msedgedriver", sameMajor},
	"opera":     {"operadriver", sameMajor},
	"firefox":   {BuiltIn, own},
	"webkitgtk": {"WebKitWebDriver", sameMade},
	"wpe":       {"WPEWebDriver", sameMade},
	"safari":    {"safaridriver", sameMade},
}

// DriverOf names the driver program of a browser.
func DriverOf(browser string) string {
	if d, known := driven[browser]; known {
		return d.by
	}
	return "chromedriver"
}

// Pair weighs every driver against every browser and gives each browser the one that
// fits best, or the reason why none does and what to install. A browser that has a
// problem already, or whose driver the settings name, is only looked at with that one.
func Pair(browsers []Browser, drivers []Driver) ([]Browser, []Driver) {
	browsers, drivers = slices.Clone(browsers), slices.Clone(drivers)
	for i := range browsers {
		b := &browsers[i]
		if b.Problem != "" {
			continue
		}
		if DriverOf(b.Name) == BuiltIn && b.Driver == "" {
			b.Driver, b.DriverVersion, b.Fits = BuiltIn, b.Version, true
			continue
		}
		best := -1
		var why string
		for k, d := range drivers {
			if named := b.Driver != ""; named && d.Path != b.Driver || !named && d.Name != DriverOf(b.Name) {
				continue
			}
			if not := unfit(*b, d); not != "" {
				why = cmp.Or(why, not)
				continue
			}
			if best < 0 || nearer(*b, d, drivers[best]) {
				best = k
			}
		}
		if best < 0 {
			b.Problem = cmp.Or(why, "no "+DriverOf(b.Name))
			b.Remedy = remedy(*b)
			continue
		}
		d := &drivers[best]
		b.Driver, b.DriverVersion, b.Fits = d.Path, cmp.Or(d.Version, b.Version), true
		d.Serves = append(slices.Clip(d.Serves), b.Name+" "+b.Version)
	}
	for k := range drivers {
		d := &drivers[k]
		if len(d.Serves) > 0 || d.Problem != "" {
			continue
		}
		why := ""
		for _, b := range browsers {
			if !b.Fits && b.Version != "" && DriverOf(b.Name) == d.Name {
				why = cmp.Or(why, unfit(b, *d))
			}
		}
		d.Problem = cmp.Or(why, "no browser here needs it")
		if major := strings.SplitN(d.Version, ".", 2)[0]; d.Name == "chromedriver" && major != "" {
			d.Remedy = "add a Chromium or Chrome of version " + major + ", or remove the driver"
		}
	}
	return browsers, drivers
}

// unfit says why a driver does not fit a browser; "" when it does.
func unfit(b Browser, d Driver) string {
	has := cmp.Or(b.Base, b.Version)
	name := cmp.Or(d.Name, "the driver")
	switch {
	case d.Problem != "":
		return name + " " + d.Path + ": " + d.Problem
	case b.Arch != "" && d.Arch != "" && b.Arch != d.Arch:
		return fmt.Sprintf("%s %s is for %s, %s for %s", name, d.Version, d.Arch, b.Name, b.Arch)
	}
	when := sameMajor
	if w, known := driven[b.Name]; known {
		when = w.when
	}
	switch when {
	case sameMajor:
		if b.Name == "opera" && b.Base == "" { // its own number says nothing about the Chromium in it
			return ""
		}
		if major(d.Version) != major(has) {
			made := ""
			if b.Base != "" {
				made = " (made from Chromium " + b.Base + ")"
			}
			return fmt.Sprintf("%s %s does not fit %s %s%s", name, d.Version, b.Name, b.Version, made)
		}
	case sameMade:
		if d.Version != "" && d.Version != b.Version {
			return fmt.Sprintf("%s %s does not fit %s %s: they are made together", name, d.Version, b.Name, b.Version)
		}
	}
	return ""
}

// nearer says whether the first of two drivers that fit is the better one: the nearer
// build, then the one beside the browser, then the better place.
func nearer(b Browser, one, other Driver) bool {
	has := cmp.Or(b.Base, b.Version)
	if c := slices.Compare(distance(has, one.Version), distance(has, other.Version)); c != 0 {
		return c < 0
	}
	if c := shared(other.Path, b.Path) - shared(one.Path, b.Path); c != 0 {
		return c < 0
	}
	return one.From.Better(other.From) < 0
}

// distance is how far two versions are apart, number by number.
func distance(a, b string) (out []int) {
	x, y := numbers(a), numbers(b)
	for i := range max(len(x), len(y)) {
		d := 0
		if i < len(x) {
			d = x[i]
		}
		if i < len(y) {
			d -= y[i]
		}
		out = append(out, max(d, -d))
	}
	return out
}

func numbers(version string) (out []int) {
	for part := range strings.SplitSeq(version, ".") {
		n, _ := strconv.Atoi(part)
		out = append(out, n)
	}
	return out
}

// shared counts the characters that two paths begin with alike.
func shared(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

func major(version string) string {
	m, _, _ := strings.Cut(version, ".")
	return m
}

// packages are what Debian calls the drivers of browsers that it packages.
var packages = map[string]string{"chromium": "chromium-driver", "webkitgtk": "webkit2gtk-driver", "wpe": "wpewebkit-driver"}

// remedy says what to do for a browser without a driver.
func remedy(b Browser) string {
	switch {
	case b.Name == "safari":
		return "safaridriver comes with Safari: install Safari anew"
	case packages[b.Name] != "" && b.From != Stocked && b.From != Named:
		return "apt-get install " + packages[b.Name]
	case DriverOf(b.Name) == "chromedriver":
		return "pane browsers add the archive of a chromedriver of version " + major(cmp.Or(b.Base, b.Version))
	case DriverOf(b.Name) == "operadriver":
		return "pane browsers add the archive of an operadriver for Opera " + major(b.Version)
	}
	return "pane browsers add the archive of " + DriverOf(b.Name) + " " + b.Version
}

// Once leaves out installations that are there twice: the same browser in the same
// version, of which the one in the better place stays, and of those the one that fits.
func Once(browsers []Browser) []Browser {
	sorted := slices.Clone(browsers)
	slices.SortStableFunc(sorted, func(a, b Browser) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), a.From.Better(b.From))
	})
	seen := map[[3]string]bool{}
	out := slices.DeleteFunc(sorted, func(b Browser) bool {
		key := [3]string{b.Name, b.Version, b.Arch}
		twice := b.Version != "" && seen[key]
		seen[key] = true
		return twice
	})
	return out
}

// rank puts what fits before what does not.
func rank(b Browser) int {
	if b.Problem == "" {
		return 0
	}
	return 1
}
