package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine/webkit"
)

// A browser that is here is not said to be missing.
func TestMissingFamilies(t *testing.T) {
	found := []fleet.Browser{{Name: "chromium", Engine: "chromium"}, {Name: "firefox", Engine: "gecko"}, {Name: "webkitgtk",
		Engine: webkit.Family{}.Name()}}
	assert.Empty(t, missingFamilies(found))
	assert.Len(t, missingFamilies(found[:2]), 1)
	assert.Len(t, missingFamilies(nil), 3)
}
