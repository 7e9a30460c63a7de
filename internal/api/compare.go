package api

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/triage"
)

// CompareFilter says what is compared with what: each side in the words of ParseSide.
type CompareFilter struct {
	Project string `query:"project" json:"-" description:"of a side that is no number; if not given, of the other side or the newest run"`
	Suite   string `query:"suite" json:"-" description:"likewise"`
	Was     string `query:"was" json:"-" description:"a run's number, or words such as env=staging browser=firefox version=140 bundle=3fa9"`
	Is      string `query:"is" json:"-" description:"likewise; the suite's newest run if not given"`

	Among []string `json:"-"` // projects, those that the caller may look at; nil means every one
}

// Side is one of two things that are compared: a run, or the newest ended one that is like
// this; and of that all panes, or those with some values.
type Side struct {
	Run         int // 0 for the newest that is like the rest
	Environment string
	Bundle      string // what its SHA-256 begins with
	Matrix      string
	Only        map[string]string // values of axes; that of version is a selector
}

// leastOfBundle is how much of a bundle's SHA-256 names it.
const leastOfBundle = 4

// ParseSide reads a side: a run's number, and words as KEY=VALUE. Keys are env, bundle,
// matrix and the axes of combinations.
func ParseSide(field, words string) (Side, error) {
	s := Side{Only: map[string]string{}}
	if len(words) > maxSide {
		return s, Errorf(Invalid, "%s: at most %d characters, found %d", field, maxSide, len(words))
	}
	for i, word := range strings.Fields(words) {
		if n, err := strconv.Atoi(strings.TrimPrefix(word, "#")); i == 0 && err == nil && n > 0 {
			s.Run = n
			continue
		}
		key, value, ok := strings.Cut(word, "=")
		// a selector may have a bound of its own: version=>=150
		if !ok || key == "" || value == "" {
			return s, Errorf(Invalid, "%s: expected a run's number or KEY=VALUE such as env=staging, bundle=3fa9 or browser=firefox, found %.60q",
				field, word)
		}
		switch key {
		case "env":
			s.Environment = value
		case "matrix":
			s.Matrix = value
		case "bundle":
			if len(value) < leastOfBundle || strings.Trim(value, "0123456789abcdef") != "" {
				return s, Errorf(Invalid, "%s: bundle: expected the beginning of a SHA-256, at least %d digits, found %.80q", field, leastOfBundle,
					value)
			}
			s.Bundle = value
		case "version":
			if _, err := combo.ParseSelector(value); err != nil {
				return s, Errorf(Invalid, "%s: version: %v", field, err)
			}
			s.Only[key] = value
		default:
			s.Only[key] = value
		}
	}
	if s.Run > 0 && (s.Environment != "" || s.Matrix != "" || s.Bundle != "") {
		return s, Errorf(Invalid, "%s: run %d has one environment, matrix and bundle: give its number and axes, or these without a number", field,
			s.Run)
	}
	return s, nil
}

// maxSide bounds the words of a side, in bytes.
const maxSide = 1000

// String is a side in the words that ParseSide reads.
func (s Side) String() string {
	var words []string
	if s.Run > 0 {
		words = append(words, strconv.Itoa(s.Run))
	}
	for _, w := range [][2]string{{"env", s.Environment}, {"matrix", s.Matrix}, {"bundle", s.Bundle}} {
		if w[1] != "" {
			words = append(words, w[0]+"="+w[1])
		}
	}
	for _, axis := range slices.Sorted(maps.Keys(s.Only)) {
		words = append(words, axis+"="+s.Only[axis])
	}
	return strings.Join(words, " ")
}

// Narrow reports whether a side is less than all of a run.
func (s Side) Narrow() bool { return len(s.Only) > 0 }

// Compared says what is different in one run against another.
type Compared struct {
	Was   RunSummary `json:"was"`
	Is    RunSummary `json:"is"`
	WasOf string     `json:"was_of" description:"which panes of it, as they were asked for; empty for all of them"`
	IsOf  string     `json:"is_of" description:"likewise"`
	triage.Comparison
	Causes []Cause `json:"causes" description:"what broke comes from these causes, of the second run; each with all its cells"`
	Words  string  `json:"words" description:"the comparison in a sentence"`
}

// Sides lists what a suite's runs can be compared by.
type Sides struct {
	Project string      `json:"project"`
	Suite   string      `json:"suite"`
	Sides   []KnownSide `json:"sides" description:"environments, browsers and versions, bundles, then runs; of each kind the newest first"`
}

// KnownSide is one of them.
type KnownSide struct {
	Words string     `json:"words" description:"as they are asked for"`
	Run   int        `json:"run" description:"the newest ended run that is like that"`
	At    *time.Time `json:"at" description:"when that run was made"`
	About string     `json:"about" description:"for people"`
}
