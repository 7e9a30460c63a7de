package fleet

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// timings of one test on a machine with so many cores, each session using one.
func timings(cores float64, loads ...int) (out []Timing) {
	for _, n := range loads {
		for i := range 6 {
			for _, work := range []struct {
				name    string
				seconds float64
			}{{"tides", 2}, {"fees", 7}} {
				slower := max(1, float64(n)/cores)
				out = append(out, Timing{work.name, float64(n), work.seconds * slower * (1 + 0.01*float64(i))})
			}
		}
	}
	return out
}

func TestAdviceFindsTheNumberOfCores(t *testing.T) {
	a := Advise(timings(3, 1, 2, 3, 4, 5, 6), 6)
	assert.Equal(t, 3, a.Slots)
	assert.Equal(t, []float64{1, 1, 1, 1.33, 1.67, 2}, a.Slower)
	assert.Equal(t, "more sessions only slow each other", a.Why)

	a = Advise(timings(8, 1, 2), 2)
	assert.Equal(t, 3, a.Slots, "nothing was measured beyond two")
	assert.Contains(t, a.Why, "may still help")
}

func TestNoAdviceWithoutMeasurement(t *testing.T) {
	for _, ts := range [][]Timing{nil, timings(2, 1), timings(2, 2, 3), timings(2, 1)[:4]} {
		a := Advise(ts, 2)
		assert.Zero(t, a.Slots)
		assert.Contains(t, a.Why, "too little")
	}
}
