package webdriver

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCommandsAreNamedAsTheSpecificationDoes(t *testing.T) {
	for _, c := range []struct {
		method, path, name string
		changes            bool
	}{
		{"POST", "/url", "Navigate To", true},
		{"DELETE", "", "Delete Session", false},
		{"POST", "/element", "Find Element", false},
		{"GET", "/element/active", "Get Active Element", false},
		{"POST", "/element/f.1.d.2.e.7/click", "Element Click", true},
		{"GET", "/element/7/css/background-color", "Get Element CSS Value", false},
		{"GET", "/element/7/attribute/name", "Get Element Attribute", false},
		{"GET", "/cookie/boat", "Get Named Cookie", false},
		{"POST", "/shadow/3/elements", "Find Elements From Shadow Root", false},
		{"POST", "/acme/thing/4", "POST /acme/thing/4", false},
		{"PATCH", "/url", "PATCH /url", false},
	} {
		got := CommandOf(c.method, c.path)
		assert.Equal(t, Command{c.name, c.changes}, got, "%s %s", c.method, c.path)
	}
}
