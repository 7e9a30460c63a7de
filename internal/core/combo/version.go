package combo

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Selector chooses versions of a browser: by their beginning (153 or 153.7), by
// a range (">=150 <153"), or by their place among what the lab has (latest,
// latest-1).
type Selector struct {
	source string
	prefix []int
	bounds []bound
	back   int // for latest: how many releases back; -1 for the other forms
}

type bound struct {
	op   string
	than []int
}

// ParseSelector reads a selector. Bounds that no version can meet together are
// an error.
func ParseSelector(s string) (Selector, error) {
	sel := Selector{source: s, back: -1}
	form := fmt.Errorf("%q chooses no version: expected the beginning of one such as 153 or 153.7, a range such as \">=150 <153\", "+
		"latest or latest-1", s)
	if s == "latest" {
		sel.back = 0
		return sel, nil
	}
	if n, ok := strings.CutPrefix(s, "latest-"); ok {
		back, err := strconv.Atoi(n)
		if err != nil || back < 1 || back > 100 || n[0] == '0' {
			return sel, form
		}
		sel.back = back
		return sel, nil
	}
	for _, word := range strings.Fields(s) {
		op := word[:len(word)-len(strings.TrimLeft(word, "<>="))]
		than, ok := versionParts(word[len(op):])
		switch {
		case !ok:
			return sel, form
		case op == "" && sel.prefix == nil && len(strings.Fields(s)) == 1:
			sel.prefix = than
		case slices.Contains([]string{"<", "<=", ">", ">="}, op):
			sel.bounds = append(sel.bounds, bound{op, than})
		default:
			return sel, form
		}
	}
	if sel.prefix == nil && len(sel.bounds) == 0 {
		return sel, form
	}
	for _, low := range sel.bounds {
		for _, high := range sel.bounds {
			if low.op[0] != '>' || high.op[0] != '<' {
				continue
			}
			c := slices.Compare(low.than, high.than)
			open := low.op == ">" || high.op == "<"
			within := len(low.than) > len(high.than) && high.op == "<=" && slices.Equal(low.than[:len(high.than)], high.than)
			if (c > 0 && !within) || (c == 0 && open) {
				return sel, fmt.Errorf("%q contradicts itself: no version is both %s%s and %s%s", s, low.op, joinParts(low.than),
					high.op, joinParts(high.than))
			}
		}
	}
	return sel, nil
}

// versionParts splits 153.7.0 into numbers. What follows the digits of a part,
// such as "esr", is left out.
func versionParts(s string) (parts []int, ok bool) {
	for _, part := range strings.Split(s, ".") {
		digits := part[:len(part)-len(strings.TrimLeft(part, "0123456789"))]
		n, err := strconv.Atoi(digits)
		if err != nil || n > 1<<30 {
			return nil, false
		}
		parts = append(parts, n)
	}
	return parts, true
}

func joinParts(parts []int) string {
	words := make([]string, len(parts))
	for i, p := range parts {
		words[i] = strconv.Itoa(p)
	}
	return strings.Join(words, ".")
}

func (s Selector) String() string { return s.source }

// Literal says whether the selector means the same in every lab.
func (s Selector) Literal() bool { return s.prefix != nil }

// Allows reports whether a version is chosen. A bound is compared with as many
// parts of the version as it has: 150.3 is <=150 and not >150. latest allows
// every version, since it needs the others to compare with.
func (s Selector) Allows(version string) bool {
	have, ok := versionParts(version)
	if !ok {
		return false
	}
	if s.prefix != nil {
		return len(have) >= len(s.prefix) && slices.Equal(have[:len(s.prefix)], s.prefix)
	}
	for _, b := range s.bounds {
		part := have[:min(len(have), len(b.than))]
		c := slices.Compare(part, b.than)
		if !map[string]bool{"<": c < 0, "<=": c <= 0, ">": c > 0, ">=": c >= 0}[b.op] {
			return false
		}
	}
	return true
}

// Release names the release that a version belongs to: its beginning up to the
// first part that is 10 or more (153.0.7 belongs to 153, 2.50.1 to 2.50), or its
// first part when none is.
func Release(version string) string {
	parts, ok := versionParts(version)
	if !ok {
		return version
	}
	for i, p := range parts {
		if p >= 10 {
			return joinParts(parts[:i+1])
		}
	}
	return joinParts(parts[:1])
}

// CompareVersions orders versions part by part.
func CompareVersions(a, b string) int {
	pa, _ := versionParts(a)
	pb, _ := versionParts(b)
	return cmp.Or(slices.Compare(pa, pb), strings.Compare(a, b))
}

// Resolve turns a selector into the version to freeze in a run, given the
// versions there are: a beginning stays what it is, latest becomes a release,
// a range its highest version.
func (s Selector) Resolve(versions []string) (string, error) {
	var fit []string
	for _, v := range versions {
		if s.Allows(v) {
			fit = append(fit, v)
		}
	}
	slices.SortFunc(fit, func(a, b string) int { return CompareVersions(b, a) })
	switch {
	case len(fit) == 0 && len(versions) == 0:
		return "", fmt.Errorf("the lab has no version of it")
	case len(fit) == 0:
		return "", fmt.Errorf("the lab has %s", strings.Join(versions, ", "))
	case s.prefix != nil:
		return s.source, nil
	case s.back < 0:
		return fit[0], nil
	}
	releases := make([]string, len(fit))
	for i, v := range fit {
		releases[i] = Release(v)
	}
	if releases = slices.Compact(releases); s.back < len(releases) {
		return releases[s.back], nil
	}
	return "", fmt.Errorf("the lab has only %s", strings.Join(releases, ", "))
}
