package lab

import (
	"encoding/json"
	"fmt"
	"slices"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/store"
)

// grant is a lease with the ids of its attempts. The service makes them, so that
// no agent can name an attempt that there is already.
type grant struct {
	dispatch.Lease
	ids []string // by place in Tests
}

func grantOf(l dispatch.Lease) grant {
	g := grant{Lease: l, ids: make([]string, len(l.Tests))}
	for i := range g.ids {
		g.ids[i] = attempt.NewID(store.NewID())
	}
	return g
}

// id is the id of the attempt of a test; a new one for a test that the lease does
// not have.
func (g grant) id(test int) string {
	if i := slices.Index(g.Tests, test); i >= 0 {
		return g.ids[i]
	}
	return attempt.NewID(store.NewID())
}

// leaseTest is one test of a lease as it is on record.
type leaseTest struct {
	Test    int    `json:"test"`
	Attempt int    `json:"attempt"`
	ID      string `json:"id"`
}

func (g grant) tests() []leaseTest {
	out := make([]leaseTest, len(g.Tests))
	for i, t := range g.Tests {
		out[i] = leaseTest{t, g.Attempt[i], g.ids[i]}
	}
	return out
}

// grantFrom is the inverse of tests.
func grantFrom(l dispatch.Lease, recorded string) (grant, error) {
	g := grant{Lease: l}
	var tests []leaseTest
	if err := json.Unmarshal([]byte(recorded), &tests); err != nil {
		return g, fmt.Errorf("records of lease %d: %w", l.Fence, err)
	}
	for _, t := range tests {
		g.Tests, g.Attempt, g.ids = append(g.Tests, t.Test), append(g.Attempt, t.Attempt), append(g.ids, t.ID)
	}
	return g, nil
}
