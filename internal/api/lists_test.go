package api

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/core/fleet"
)

// No list that a client meets is null, in maps neither; what is shared stays as it is.
func TestListsInsideMaps(t *testing.T) {
	lacks := map[string][]fleet.Lack{"quay": {{Fact: "site", Want: []string{"pier"}}}, "pier": nil}
	w := Why{Answer: fleet.Answer{Others: lacks}}
	Fill(&w)
	assert.Equal(t, []string{}, w.Others["quay"][0].Have)
	assert.Equal(t, []fleet.Lack{}, w.Others["pier"])
	assert.Nil(t, lacks["pier"], "another may be reading it")
}
