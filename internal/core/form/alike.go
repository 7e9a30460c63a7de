package form

import (
	"strings"
	"unicode"
)

// Alike is how much two titles say the same, from 0 to 1: twice the words that they share by
// those that they have together (Dice's coefficient).
func Alike(a, b string) float64 {
	x, y := words(a), words(b)
	if len(x) == 0 || len(y) == 0 {
		return 0
	}
	both := 0
	for w := range x {
		if y[w] {
			both++
		}
	}
	return 2 * float64(both) / float64(len(x)+len(y))
}

func words(s string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.FieldsFunc(strings.ToLower(s), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		out[w] = true
	}
	return out
}
