package triage

import "math"

// lnFact is ln n!.
func lnFact(n int) float64 {
	v, _ := math.Lgamma(float64(n) + 1)
	return v
}

func lnChoose(n, k int) float64 {
	if k < 0 || k > n {
		return math.Inf(-1)
	}
	return lnFact(n) - lnFact(k) - lnFact(n-k)
}

// lnTail is the logarithm of the probability that of all failures, which are fails among
// cells, at least as many as k lie in a part of the cells of size n, where they fall at
// random: the one-sided exact test of Fisher (R. A. Fisher, The Design of Experiments,
// 1935, ch. II).
func lnTail(k, n, fails, cells int) float64 {
	most := min(n, fails)
	if k > most || cells <= 0 {
		return math.Inf(-1)
	}
	if k <= 0 || k <= n+fails-cells {
		return 0
	}
	whole := lnChoose(cells, fails)
	first := lnChoose(n, k) + lnChoose(cells-n, fails-k) - whole
	sum, term := 1.0, 1.0
	for i := k; i < most; i++ {
		// the ratio of the hypergeometric terms at i+1 and i
		term *= float64(n-i) * float64(fails-i) / (float64(i+1) * float64(cells-n-fails+i+1))
		if sum += term; term < 1e-12*sum {
			break
		}
	}
	return min(0, first+math.Log(sum))
}

// lnLikely is the log-likelihood of k failures among n cells at the rate that fits best.
func lnLikely(k, n int) float64 {
	if k == 0 || k == n {
		return 0
	}
	p := float64(k) / float64(n)
	return float64(k)*math.Log(p) + float64(n-k)*math.Log(1-p)
}

// gain is how much better two rates explain the failures than one: k of n on one side, and
// the rest of fails among cells on the other. It is 0 where the failures are fewer in n
// than elsewhere.
func gain(k, n, fails, cells int) float64 {
	if n == 0 || n == cells || k*(cells-n) <= (fails-k)*n {
		return 0
	}
	return lnLikely(k, n) + lnLikely(fails-k, cells-n) - lnLikely(fails, cells)
}
