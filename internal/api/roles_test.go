package api_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/api"
)

func TestRoles(t *testing.T) {
	for _, tc := range []struct {
		have, need api.Role
		want       bool
	}{
		{api.Viewer, api.Viewer, true}, {api.Viewer, api.Runner, false}, {api.Runner, api.Viewer, true}, {api.Runner, api.Admin, false},
		{api.Admin, api.Runner, true},
		{api.AgentRole, api.AgentRole, true}, {api.AgentRole, api.Viewer, false}, {api.Runner, api.AgentRole, false},
		{api.Admin, api.AgentRole, false}, {api.Keeper, api.Runner, true}, {api.Keeper, api.Admin, false}, {"", api.Viewer, false},
	} {
		assert.Equal(t, tc.want, tc.have.Allows(tc.need), "%s %s", tc.have, tc.need)
	}
}
