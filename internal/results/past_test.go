package results

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAStripIsOfTheRunsUpToOneOldestFirst(t *testing.T) {
	for _, c := range []struct {
		runs string
		upTo int
		want string
	}{
		{"", 9, ""},
		{"P000003F000002P000001", 9, "pfp"},
		{"P000003F000002P000001", 2, "pf"},
		{"P000001F000003Y000002", 9, "pyf"},
		{"A0000ffL0000feN0000fd", 0x100, "nla"},
		{"P00000", 9, ""},
		{"Pxxxxxx", 9, ""},
	} {
		assert.Equal(t, c.want, strip(c.runs, c.upTo), c.runs)
	}
}
