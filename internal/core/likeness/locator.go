package likeness

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// Locator is a way to find an element, in the words of scripts.
type Locator struct {
	By    string `json:"by"` // role, label, reads, attribute, marked, css or xpath
	Value string `json:"value"`
	Attr  string `json:"attr,omitempty"` // with attribute
	Name  string `json:"name,omitempty"` // with role
}

// longest is how long a text may be for a locator that people are to read.
const longest = 60

// Propose is the best locator that finds one of a page's elements and no other that can
// be seen: by the marker of tests, by role and name, by label, by an attribute that authors
// give, by an id that does not look generated, by a role of which pages have few, by what it
// reads. ok is false where none of them does, and of an element that cannot be seen.
func Propose(page []Portrait, index int, marker string) (l Locator, ok bool) {
	p := &page[index]
	if p.Hidden != "" {
		return Locator{}, false // what finds it would find what can be seen in its stead
	}
	for _, l := range ways(p, marker) {
		found := 0
		for i := range page {
			if page[i].Hidden == "" && l.of(marker).Finds(&page[i]) {
				found++
			}
		}
		if found == 1 && l.of(marker).Finds(p) {
			return l, true
		}
	}
	return Locator{}, false
}

func ways(p *Portrait, marker string) []Locator {
	var out []Locator
	short := func(s string) bool { return s != "" && len(s) <= longest }
	if v := p.Attrs[marker]; short(v) {
		out = append(out, Locator{By: "marked", Value: v})
	}
	if p.Role != "" && short(p.Name) {
		out = append(out, Locator{By: "role", Value: p.Role, Name: p.Name})
	}
	if short(p.Label) {
		out = append(out, Locator{By: "label", Value: p.Label})
	}
	for _, name := range []string{"name", "placeholder", "alt", "title", "href", "id"} {
		if v := p.Attrs[name]; short(v) && !Generated(v) {
			out = append(out, Locator{By: "attribute", Attr: name, Value: v})
		}
	}
	if slices.Contains(rare, p.Role) {
		out = append(out, Locator{By: "role", Value: p.Role})
	}
	if short(p.Text) {
		out = append(out, Locator{By: "reads", Value: p.Text})
	}
	return out
}

// rare are roles that say enough by themselves where a page has one element of them.
var rare = []string{"alert", "banner", "combobox", "contentinfo", "dialog", "form", "main", "navigation", "progressbar", "search",
	"searchbox", "status", "table", "textbox"}

// Finds reports whether a locator other than css and xpath finds an element. Of several
// elements within one another that read the same, the innermost is found by reads; a
// portrait tells that by having no text of its own otherwise.
func (l Locator) Finds(p *Portrait) bool {
	switch l.By {
	case "role":
		return p.Role == l.Value && (l.Name == "" || p.Name == l.Name)
	case "label":
		return p.Label == l.Value
	case "reads":
		return p.Text == l.Value
	case "attribute":
		return p.Attrs[l.Attr] == l.Value
	}
	return false
}

// of is the locator without the word for what marks elements for tests.
func (l Locator) of(marker string) Locator {
	if l.By == "marked" {
		return Locator{By: "attribute", Attr: marker, Value: l.Value}
	}
	return l
}

// YAML is the locator as scripts write it, in one line.
func (l Locator) YAML() string {
	switch {
	case l.By == "role" && l.Name != "":
		return "{role: " + scalar(l.Value) + ", name: " + scalar(l.Name) + "}"
	case l.By == "attribute":
		return "{attribute: {" + l.Attr + ": " + scalar(l.Value) + "}}"
	}
	return "{" + l.By + ": " + scalar(l.Value) + "}"
}

var bare = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9 _/.-]*[A-Za-z0-9]$`)

// scalar is a text as YAML has it within a flow mapping; $ starts what is evaluated.
func scalar(s string) string {
	s = strings.ReplaceAll(s, "${", "$${")
	switch strings.ToLower(s) {
	case "yes", "no", "on", "off", "true", "false", "null", "y", "n":
	default:
		if bare.MatchString(s) {
			return s
		}
	}
	return strconv.Quote(s)
}

var runs = regexp.MustCompile(`[0-9]+|[A-Za-z]+`)

// Generated reports whether an id or a class looks as if a program had made it up: it
// has a long number, digits and letters mixed like a hash, or a mark that frameworks use.
func Generated(s string) bool {
	if strings.ContainsAny(s, ":«»") {
		return true
	}
	for _, word := range strings.FieldsFunc(s, func(r rune) bool { return r == '-' || r == '_' || r == '.' }) {
		parts := runs.FindAllString(word, -1)
		if len(parts) >= 3 {
			return true
		}
		for _, p := range parts {
			if len(p) >= 4 && unicode.IsDigit(rune(p[0])) {
				return true
			}
		}
		if len(word) >= 5 && unpronounceable(word) {
			return true
		}
	}
	return false
}

// unpronounceable words have capitals in their middle twice or more and hardly a vowel.
func unpronounceable(word string) bool {
	vowels, turns := 0, 0
	for i, r := range word {
		if strings.ContainsRune("aeiouyAEIOUY", r) {
			vowels++
		}
		if i > 0 && unicode.IsUpper(r) != unicode.IsUpper(rune(word[i-1])) {
			turns++
		}
	}
	return vowels == 0 || turns >= 4 && 4*vowels < len(word)
}

var (
	positional = regexp.MustCompile(`:(nth|first|last|only)-|\[\d+\]|\[(last|position)\(`)
	names      = regexp.MustCompile(`[#.]([A-Za-z_][\w-]*)|\[(?:id|class)[~^$*|]?=["']?([^"'\]]+)|` +
		`@(?:id|class)\s*=\s*["']([^"']+)|contains\(@(?:id|class),\s*["']([^"']+)`)
	steps = regexp.MustCompile(`\s*[>+~]\s*|\s+`)
)

// most is how many steps a selector may have before it is told to be long.
const most = 3

// Brittle says why a locator will break before the page changes for those who use it; ""
// when nothing speaks for that.
func Brittle(by, value string) string {
	var why []string
	switch by {
	case "css", "xpath":
		n := 0
		if by == "css" {
			n = len(steps.Split(strings.TrimSpace(value), -1))
		} else {
			n = len(slices.DeleteFunc(strings.Split(value, "/"), func(s string) bool { return s == "" || s == "." }))
		}
		if n > most {
			why = append(why, fmt.Sprintf("it has %d steps, each of which must stay as it is", n))
		}
		if positional.MatchString(value) {
			why = append(why, "it counts elements, so that one more before it is enough")
		}
		for _, m := range names.FindAllStringSubmatch(value, -1) {
			if name := m[1] + m[2] + m[3] + m[4]; Generated(name) {
				why = append(why, fmt.Sprintf("%q looks made up by a program, anew with each release", name))
				break
			}
		}
	case "id", "class":
		if Generated(value) {
			why = append(why, fmt.Sprintf("%q looks made up by a program, anew with each release", value))
		}
	}
	return strings.Join(why, "; ")
}
