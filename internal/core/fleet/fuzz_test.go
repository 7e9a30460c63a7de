package fleet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Needs in words are understood or refused, and what is understood can be matched and
// explained.
func FuzzNeeds(f *testing.F) {
	f.Add("browser=firefox|chromium version=>=140 site=quay")
	f.Add("a=b=c |=| =x os=")
	f.Fuzz(func(t *testing.T, words string) {
		n, err := ParseNeeds(strings.Fields(words))
		if err != nil {
			return
		}
		members := []Member{{Name: "quay", Facts: Facts{"browser": {"firefox"}, "version": {"140.2"}}}, {Name: "pier"}}
		answer := Ask(n, members)
		if !answer.Possible() {
			assert.NotEmpty(t, answer.Explain(n))
		}
	})
}
