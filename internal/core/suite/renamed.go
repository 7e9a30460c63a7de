package suite

import (
	"slices"
	"strings"
)

// Unit is what tests are named after: a script, or the file of a command.
type Unit struct {
	Title string // that its tests are called, or begin with before Part
	Print string // the same for the same content, whatever it is called and wherever it stands
}

// Rename is another name of a test.
type Rename struct {
	Was string `json:"was"`
	Is  string `json:"is"`
}

// moved puts one title of a name in another's place; false where it is not of that title.
func moved(name, from, to string) (string, bool) {
	if rest, ok := strings.CutPrefix(name, from); ok && (rest == "" || strings.HasPrefix(rest, Part)) {
		return to + rest, true
	}
	return name, false
}

// FormerName is what a test was called before some renames, which may be what it is called.
func FormerName(all []Rename, name string) string {
	for _, r := range all {
		if was, ok := moved(name, r.Is, r.Was); ok {
			return was
		}
	}
	return name
}

// PresentName is what a test that had a name is called after some renames.
func PresentName(all []Rename, name string) string {
	for _, r := range all {
		if is, ok := moved(name, r.Was, r.Is); ok {
			return is
		}
	}
	return name
}

// Renamed lists the units that are called otherwise than before: those of a new title whose
// content was there under another title that is gone. Where several are of one content
// nobody knows which became which, and none is listed.
func Renamed(before, now []Unit) []Rename {
	titles := func(of []Unit) map[string]bool {
		out := map[string]bool{}
		for _, u := range of {
			out[u.Title] = true
		}
		return out
	}
	only := func(of []Unit, others map[string]bool) (byPrint map[string][]string) {
		byPrint = map[string][]string{}
		for _, u := range of {
			if !others[u.Title] && u.Print != "" {
				byPrint[u.Print] = append(byPrint[u.Print], u.Title)
			}
		}
		return byPrint
	}
	gone, fresh := only(before, titles(now)), only(now, titles(before))
	out := []Rename{}
	for print, is := range fresh {
		if was := gone[print]; len(is) == 1 && len(was) == 1 {
			out = append(out, Rename{was[0], is[0]})
		}
	}
	slices.SortFunc(out, func(a, b Rename) int { return strings.Compare(a.Is, b.Is) })
	return out
}
