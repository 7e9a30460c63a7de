package results

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhomANoteMentions(t *testing.T) {
	for body, want := range map[string][]string{
		"":                                      {},
		"@tern mends it":                        {"tern"},
		"ask @tern, (@kestrel) and @tern again": {"tern", "kestrel"},
		"mail tern@saltmarsh.example":           {},
		"@Ærfugl. @harbour.master-2!":           {"Ærfugl", "harbour.master-2"},
		"@@tern @ @-":                           {},
		"line\n@osprey\n":                       {"osprey"},
	} {
		assert.Equal(t, want, Mentioned(body), body)
	}
}
