package attempt

import (
	"encoding/json"

	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/source"
)

// Seen is what a locator of a test matched when the test passed.
type Seen struct {
	Place    string            `json:"place"` // of the locator in its test, by what it says
	At       source.Position   `json:"at"`
	Portrait likeness.Portrait `json:"portrait"`
	Better   string            `json:"better,omitempty"` // a locator that would last longer, where this one is brittle
}

// Aged is what became of a locator that no longer finds what it found when its test
// passed.
type Aged struct {
	Was      string          `json:"was"` // the locator, as it stands in the script
	Place    string          `json:"place"`
	At       source.Position `json:"at"`
	Now      string          `json:"now,omitempty" description:"a locator that finds the likeliest element alone, as scripts write it"`
	Element  string          `json:"element" description:"the likeliest element in its place"`
	Sure     float64         `json:"sure" description:"how likely it is the same one, from 0 to 1"`
	Next     float64         `json:"next" description:"how likely the next one is"`
	Same     []string        `json:"same" description:"what of it is as it was"`
	Other    []string        `json:"other" description:"what is not"`
	Accepted bool            `json:"accepted" description:"the step went on with it"`
}

// Bounds of what an attempt says of its locators.
const (
	MaxSeen  = 400
	maxSaid  = 8 << 10 // bytes of JSON of one of them
	maxPlace = 1000    // bytes
)

// FitSeen leaves out what is more than is taken, or larger.
func FitSeen(all []Seen) []Seen {
	out := make([]Seen, 0, min(len(all), MaxSeen))
	for _, s := range all {
		if raw, err := json.Marshal(s); err == nil && len(raw) <= maxSaid && s.Place != "" && len(s.Place) <= maxPlace && len(out) < MaxSeen {
			out = append(out, s)
		}
	}
	return out
}
