package combo

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Selector chooses versions of a browser: by their beginning (153 or 153.7), by
// a range (">=150 <153"), by their channel (beta, esr), or by their place among what
// the lab has (latest, latest-1, oldest, or the oldest of a range: "oldest >=140").
type Selector struct {
	source  string
	prefix  []int
	bounds  []bound
	channel string
	oldest  bool
	back    int // for latest: how many releases back; -1 for the other forms
}

// Channels are those that browsers are published in, the steady ones first. A version
// whose channel is known is written with it: "153.7.0 esr"; one without is stable.
var Channels = []string{"stable", "esr", "beta", "dev", "canary", "nightly", "preview"}

// Early says how early in a version's life its channel publishes it: 0 for those that
// are done, more for those that are published to be tried out.
func Early(channel string) int { return max(1, slices.Index(Channels, channel)) - 1 }

func early(version string) bool { return Early(channelOf(version)) > 0 }

func channelOf(version string) string {
	if _, channel, ok := strings.Cut(version, " "); ok {
		return channel
	}
	return Channels[0]
}

// InChannel writes a version with its channel.
func InChannel(version, channel string) string {
	if channel == "" || channel == Channels[0] {
		return version
	}
	return version + " " + channel
}

// Number is a version without its channel.
func Number(version string) string {
	number, _, _ := strings.Cut(version, " ")
	return number
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
		"latest, latest-1, oldest, or a channel: %s", s, strings.Join(Channels, ", "))
	if slices.Contains(Channels, s) {
		sel.channel = s
		return sel, nil
	}
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
	words := strings.Fields(s)
	if len(words) > 0 && words[0] == "oldest" {
		sel.oldest, words = true, words[1:]
	}
	for _, word := range words {
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
	if sel.prefix == nil && len(sel.bounds) == 0 && !sel.oldest {
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
// parts of the version as it has: 150.3 is <=150 and not >150. latest and oldest allow
// every version, since they need the others to compare with.
func (s Selector) Allows(version string) bool {
	have, ok := versionParts(version)
	if !ok {
		return false
	}
	if s.channel != "" {
		return channelOf(version) == s.channel
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
// versions there are, each with its channel: a beginning stays what it is, latest and
// oldest become a release, a range or a channel its highest version. Versions that are
// published to be tried out count for latest and oldest only where there are no others.
func (s Selector) Resolve(versions []string) (string, error) {
	var fit []string
	for _, v := range versions {
		if s.Allows(v) {
			fit = append(fit, v)
		}
	}
	if slices.ContainsFunc(fit, func(v string) bool { return !early(v) }) && (s.back >= 0 || s.oldest) {
		fit = slices.DeleteFunc(fit, early)
	}
	slices.SortFunc(fit, func(a, b string) int { return CompareVersions(b, a) })
	switch {
	case len(fit) == 0 && len(versions) == 0:
		return "", fmt.Errorf("the lab has no version of it")
	case len(fit) == 0:
		return "", fmt.Errorf("the lab has %s", strings.Join(versions, ", "))
	case s.prefix != nil:
		return s.source, nil
	case s.oldest:
		return Release(fit[len(fit)-1]), nil
	case s.back < 0:
		return Number(fit[0]), nil
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
