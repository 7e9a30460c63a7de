package combo

import (
	"math"
	"math/rand/v2"
	"slices"
)

// chance is the probability of taking a change for the worse.
func chance(worse int, heat float64) float64 { return math.Exp(-float64(worse) / heat) }

// algebraic returns rows that cover every pair of k axes of v values each, from
// a construction known to be small, or nil when none applies. Cells with
// values an axis does not have are free.
func algebraic(k, v int, seed uint64) [][]int {
	var best [][]int
	take := func(rows [][]int) {
		if rows != nil && (best == nil || len(rows) < len(best)) {
			best = rows
		}
	}
	if v == 2 {
		take(subsets(k))
	}
	if q := nextPrime(max(v, k-1)); q <= 31 {
		take(orthogonal(k, v, q))
	}
	if v >= 4 && v <= 20 && k >= v && k <= 60 {
		take(starter(k, v, seed))
	}
	return best
}

// subsets is the optimal binary array of Kleitman and Spencer and of Katona
// (1973): with N rows, columns are the different sets of ⌈N/2⌉ rows that all
// contain the first one; there are (N-1 choose ⌈N/2⌉-1) of them.
func subsets(k int) [][]int {
	n := 4
	for binomial(n-1, (n+1)/2-1) < k {
		n++
	}
	rows := make([][]int, n)
	for i := range rows {
		rows[i] = make([]int, k)
	}
	column := 0
	eachSubset(n-1, (n+1)/2-1, func(pick []int) bool {
		rows[0][column] = 1
		for _, r := range pick {
			rows[r+1][column] = 1
		}
		column++
		return column < k
	})
	return rows
}

func binomial(n, k int) int {
	out := 1
	for i := range k {
		if out = out * (n - i) / (i + 1); out > 1<<30 {
			return out
		}
	}
	return out
}

func nextPrime(n int) int {
next:
	for q := max(2, n); ; q++ {
		for d := 2; d*d <= q; d++ {
			if q%d == 0 {
				continue next
			}
		}
		return q
	}
}

// orthogonal is Bush's array (1952) over the prime field of q elements: row
// (a, b) has ax+b in column x and a in one more column; q² rows cover q+1
// columns. Values that v does not have become free cells.
func orthogonal(k, v, q int) [][]int {
	if k > q+1 {
		return nil
	}
	var rows [][]int
	for a := range q {
		for b := range q {
			row := make([]int, k)
			for x := range k {
				value := a
				if x < q {
					value = (a*x + b) % q
				}
				if value >= v {
					value = free
				}
				row[x] = value
			}
			rows = append(rows, row)
		}
	}
	return rows
}

// starter builds k(v-1)+1 rows from one vector, after Meagher and Stevens
// (2005): the vector's cyclic shifts, each with every number added to its
// finite values modulo v-1, and a row of the value that stays as it is. The
// vector must have, for every distance, all differences and that value on
// either side; it is looked for by changing single places.
func starter(k, v int, seed uint64) [][]int {
	g := v - 1 // finite values 0 … g-1; g stays
	if k < g+2 {
		return nil
	}
	rng := rand.New(rand.NewPCG(seed, uint64(k)<<32|uint64(v)))
	w := make([]int, k)
	half := k / 2
	seen := make([][]int, half+1) // by distance, how often each kind of pair occurs
	kind := func(a, b int) int {
		switch {
		case a == g && b == g:
			return g + 2 // not needed: the last row has it
		case a == g:
			return g
		case b == g:
			return g + 1
		}
		return (b - a + g) % g
	}
	missing := 0
	book := func(d, kd, by int) {
		if kd > g+1 {
			return
		}
		before := seen[d][kd]
		seen[d][kd] += by
		if before == 0 && by > 0 {
			missing--
		} else if before == 1 && by < 0 {
			missing++
		}
	}
	bookAt := func(i, by int) {
		for d := 1; d <= half; d++ {
			book(d, kind(w[i], w[(i+d)%k]), by)
			book(d, kind(w[(i-d+k)%k], w[i]), by)
		}
	}
	for range 20 {
		for i := range w {
			w[i] = rng.IntN(v)
		}
		missing = 0
		for d := 1; d <= half; d++ {
			seen[d] = make([]int, g+2)
			missing += g + 2
		}
		for i := range w {
			for d := 1; d <= half; d++ {
				book(d, kind(w[i], w[(i+d)%k]), 1)
			}
		}
		for step := 0; missing > 0 && step < 60_000; step++ {
			i := rng.IntN(k)
			old, before := w[i], missing
			bookAt(i, -1)
			w[i] = rng.IntN(v)
			bookAt(i, 1)
			heat := 0.9 - 0.7*float64(step%20_000)/20_000
			if worse := missing - before; worse > 0 && rng.Float64() >= chance(worse, heat) {
				bookAt(i, -1)
				w[i] = old
				bookAt(i, 1)
			}
		}
		if missing == 0 {
			break
		}
	}
	if missing > 0 {
		return nil
	}
	var rows [][]int
	for shift := range k {
		for add := range g {
			row := make([]int, k)
			for i := range row {
				row[i] = w[(i+shift)%k]
				if row[i] != g {
					row[i] = (row[i] + add) % g
				}
			}
			rows = append(rows, row)
		}
	}
	return append(rows, slices.Repeat([]int{g}, k))
}
