package combo

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Eleven axes of ten values that must all differ: nothing satisfies that, and to
// find it out by trying takes longer than anybody waits.
func TestRulesThatAreTooHardAreGivenUp(t *testing.T) {
	m := Matrix{Name: "berths", Cover: Cover{Strength: 2}}
	for a := range 11 {
		axis := Axis{Name: fmt.Sprintf("a%d", a)}
		for v := range 10 {
			axis.Values = append(axis.Values, fmt.Sprintf("v%d", v))
		}
		m.Axes = append(m.Axes, axis)
		for b := range a {
			m.Only = append(m.Only, fmt.Sprintf("a%d != a%d", a, b))
		}
	}
	_, err := m.Plan(nil)
	require.ErrorIs(t, err, ErrTooHard)
	m.Axes, m.Only = m.Axes[:10], m.Only[:45]
	p, err := m.Plan(nil)
	if err == nil {
		assert.NotEmpty(t, p.Combinations)
	} else {
		assert.ErrorIs(t, err, ErrTooHard)
	}
}
