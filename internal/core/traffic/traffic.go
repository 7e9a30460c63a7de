// Package traffic says how slow a session's way to the site is made: so much each way,
// and so late.
package traffic

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Shape is what a session's traffic is held to. The zero Shape holds it to nothing.
type Shape struct {
	Down  int           // kbit/s towards the browser; 0 means no bound
	Up    int           // kbit/s away from it; 0 means no bound
	Delay time.Duration // there and back
	Off   bool          // nothing gets there at all
}

// ErrOff is why nothing is reached while a way is off.
var ErrOff = errors.New("the network is off, as was asked for")

// named are shapes that have a name, so that the labels of combinations stay short: what
// a phone has at the edge of a town, and in a harbour with one far mast.
var named = map[string]Shape{
	"usual":   {},
	"slow":    {Down: 1500, Up: 750, Delay: 150 * time.Millisecond},
	"poor":    {Down: 400, Up: 200, Delay: 400 * time.Millisecond},
	"offline": {Off: true},
}

// Names are the names that Parse knows.
func Names() []string { return slices.Sorted(maps.Keys(named)) }

// Bounds of a shape.
const (
	maxKbit  = 10_000_000
	maxDelay = 30 * time.Second
	maxText  = 100
)

// Parse reads a shape as people type it: down=1500 up=750 delay=120, in kbit/s and
// milliseconds, any of them, in any order; commas will do for spaces; or one of Names. ""
// is the zero Shape.
func Parse(text string) (s Shape, err error) {
	if len(text) > maxText {
		return s, fmt.Errorf("expected at most %d bytes", maxText)
	}
	if s, known := named[strings.TrimSpace(text)]; known {
		return s, nil
	}
	seen := map[string]bool{}
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' }) {
		name, value, _ := strings.Cut(word, "=")
		n, err := strconv.Atoi(value)
		switch {
		case seen[name]:
			return Shape{}, fmt.Errorf("%s is given twice", name)
		case name != "down" && name != "up" && name != "delay":
			return Shape{}, fmt.Errorf("expected words such as down=1500 up=750 delay=120 (kbit/s and milliseconds), or one of %s, "+
				"found %q", strings.Join(Names(), ", "), word)
		case err != nil || n < 1 || name == "delay" && n > int(maxDelay.Milliseconds()) || n > maxKbit:
			return Shape{}, fmt.Errorf("%s: expected a whole number from 1 to %d, found %q", name, bound(name), value)
		}
		seen[name] = true
		switch name {
		case "down":
			s.Down = n
		case "up":
			s.Up = n
		case "delay":
			s.Delay = time.Duration(n) * time.Millisecond
		}
	}
	return s, nil
}

func bound(name string) int {
	if name == "delay" {
		return int(maxDelay.Milliseconds())
	}
	return maxKbit
}

// String is the inverse of Parse.
func (s Shape) String() string {
	if s.Off {
		return "offline"
	}
	var words []string
	if s.Down > 0 {
		words = append(words, fmt.Sprintf("down=%d", s.Down))
	}
	if s.Up > 0 {
		words = append(words, fmt.Sprintf("up=%d", s.Up))
	}
	if s.Delay > 0 {
		words = append(words, fmt.Sprintf("delay=%d", s.Delay.Milliseconds()))
	}
	return strings.Join(words, " ")
}
