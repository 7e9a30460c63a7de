package source

import "strings"

// Nearest returns the candidate that a mistyped word most likely meant, or "".
func Nearest(word string, candidates []string) string {
	best, bestDistance := "", 3
	for _, c := range candidates {
		if d := distance(strings.ToLower(word), strings.ToLower(c)); d < bestDistance && d < len(c) {
			best, bestDistance = c, d
		}
	}
	return best
}

// distance is the number of single-letter edits between two words, in
// O(len(a)·len(b)).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
