package source

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNearest(t *testing.T) {
	assert.Equal(t, "firefox", Nearest("fierfox", []string{"chromium", "firefox"}))
	assert.Empty(t, Nearest("opera", []string{"chromium", "firefox"}))
	assert.Empty(t, Nearest("b", []string{"a"}))
}
