// Package changes measures how often an element is found again on a real page that has
// been changed, as releases change pages: ids, classes, words, places, wrappers,
// neighbours, and what is gone.
package changes

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"parallelpane/internal/core/likeness"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/webdriver"
)

//go:embed changes.js
var changesScript string

// Tally is what became of the elements that were looked for.
type Tally struct {
	There    int // elements that were still there
	First    int // of these, those that were the likeliest
	Accepted int // of these, those that a test may go on with
	Gone     int // elements that were taken away
	Wrong    int // elements taken for another, there or gone
	Misses   []string
}

// Add adds another tally.
func (t *Tally) Add(o Tally) {
	t.There, t.First, t.Accepted, t.Gone, t.Wrong = t.There+o.There, t.First+o.First, t.Accepted+o.Accepted, t.Gone+o.Gone, t.Wrong+o.Wrong
	t.Misses = append(t.Misses, o.Misses...)
}

// Trials is of how many elements something was said.
func (t *Tally) Trials() int { return t.There + t.Gone }

// Try changes the page that a session shows so many times, each time from the beginning,
// with seeds from one on.
func Try(ctx context.Context, s *webdriver.Session, seed, trials int) (t Tally, err error) {
	for n := range trials {
		var got struct {
			Was     likeness.Portrait   `json:"was"`
			After   []likeness.Portrait `json:"after"`
			Found   int                 `json:"found"`
			Changes []string            `json:"changes"`
		}
		if err := s.Execute(ctx, webdrive.SurveyScript+changesScript, &got, seed+n); err != nil {
			return t, fmt.Errorf("change %d: %w", seed+n, err)
		}
		gone := slices.Contains(got.Changes, "gone")
		if !gone && (got.Found < 0 || got.After[got.Found].Hidden != "") {
			continue // the change has hidden it from people too
		}
		ranked := likeness.Rank(&got.Was, got.After, 2)
		right := !gone && len(ranked) > 0 && ranked[0].Index == got.Found
		taken := likeness.Certain(&got.Was, got.After, ranked)
		if gone {
			t.Gone++
		} else {
			t.There++
		}
		if right {
			t.First++
		}
		switch {
		case taken && right:
			t.Accepted++
		case taken:
			t.Wrong++
		}
		if taken != right && taken || !gone && !right {
			t.Misses = append(t.Misses, fmt.Sprintf("seed %d, %s: %s; likeliest %s (%.4f), taken: %t", seed+n,
				strings.Join(got.Changes, ", "), got.Was, got.After[ranked[0].Index], ranked[0].Sure, taken))
		}
	}
	return t, nil
}
