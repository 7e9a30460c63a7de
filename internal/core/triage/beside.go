package triage

import (
	"slices"
	"strings"

	"parallelpane/internal/core/attempt"
)

// Aligned is one step of a test in two combinations; -1 where one of them has it not.
type Aligned struct {
	Title   string   `json:"title"`
	Left    int      `json:"left" description:"index of the step on the left; -1: it has none like it"`
	Right   int      `json:"right"`
	Differs []string `json:"differs" description:"state, element or time"`
}

// Of what takes how much longer it is told: so many times, and so many milliseconds.
const (
	muchLonger = 2
	muchMS     = 300
)

// Align puts the steps of two attempts of a test beside each other, by their titles in
// order (a longest common subsequence), and says in what they differ. first is the first
// row in which one ended otherwise or acted on another element; -1 for none. Its cost is the
// product of both.
func Align(left, right []attempt.Step) (rows []Aligned, first int) {
	n, m := len(left), len(right)
	table := make([][]int, n+1)
	for i := range table {
		table[i] = make([]int, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			if left[i].Title == right[j].Title {
				table[i][j] = table[i+1][j+1] + 1
			} else {
				table[i][j] = max(table[i+1][j], table[i][j+1])
			}
		}
	}
	first = -1
	for i, j := 0, 0; i < n || j < m; {
		switch {
		case i < n && j < m && left[i].Title == right[j].Title:
			r := Aligned{Title: left[i].Title, Left: i, Right: j, Differs: differ(&left[i], &right[j])}
			if first < 0 && (slices.Contains(r.Differs, "state") || slices.Contains(r.Differs, "element")) {
				first = len(rows)
			}
			rows = append(rows, r)
			i, j = i+1, j+1
		case j == m || i < n && table[i+1][j] >= table[i][j+1]:
			rows = append(rows, Aligned{Title: left[i].Title, Left: i, Right: -1, Differs: []string{"state"}})
			i++
		default:
			rows = append(rows, Aligned{Title: right[j].Title, Left: -1, Right: j, Differs: []string{"state"}})
			j++
		}
		if last := &rows[len(rows)-1]; first < 0 && (last.Left < 0 || last.Right < 0) {
			first = len(rows) - 1
		}
	}
	return rows, first
}

func differ(l, r *attempt.Step) []string {
	out := []string{}
	if l.State != r.State {
		out = append(out, "state")
	}
	if l.Matched != "" && r.Matched != "" && element(l.Matched) != element(r.Matched) {
		out = append(out, "element")
	}
	if a, b := max(l.TookMS, r.TookMS), min(l.TookMS, r.TookMS); l.State == r.State && a-b >= muchMS && a >= muchLonger*b {
		out = append(out, "time")
	}
	return out
}

// element is what was acted on without where it was.
func element(matched string) string {
	what, _, _ := strings.Cut(matched, " visible at ")
	return what
}
