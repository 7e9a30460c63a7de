package suite

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCasesAreChosenByTagAndName(t *testing.T) {
	all := []Case{{Name: "Read the tides", Tags: []string{"tides", "quick"}}, {Name: "Hold a berth",
		Tags: []string{"berths"}}, {Name: "Pay a fee"}}
	for name, c := range map[string]struct {
		tags, names, want []string
		err               string
	}{
		"everything":     {nil, nil, []string{"Read the tides", "Hold a berth", "Pay a fee"}, ""},
		"either tag":     {[]string{"quick", "berths"}, nil, []string{"Read the tides", "Hold a berth"}, ""},
		"a name":         {nil, []string{"Pay a fee"}, []string{"Pay a fee"}, ""},
		"both must hold": {[]string{"berths"}, []string{"Pay a fee"}, nil, ""},
		"a mistyped tag": {[]string{"births"}, nil, nil, `unknown tag "births" (did you mean "berths"?): the suite has berths, quick, tides`},
		"no such name": {nil, []string{"Sail away for ever"}, nil,
			`unknown test "Sail away for ever": the suite has Hold a berth, Pay a fee, Read the tides`},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Choose(all, c.tags, c.names)
			if c.err != "" {
				require.EqualError(t, err, c.err)
				return
			}
			require.NoError(t, err)
			var names []string
			for _, x := range got {
				names = append(names, x.Name)
			}
			assert.Equal(t, c.want, names)
			assert.Len(t, all, 3, "what was given stays")
		})
	}
}

func TestTestsThatCommandsTellOfAreTheirFiles(t *testing.T) {
	cases := []Case{{Name: "a.js", File: "a.js"}, {Name: "b.js", File: "b.js"}}
	assert.Equal(t, []string{"a.js", "other"}, Files(cases, []string{Told("a.js", "tides", "low"), "a.js", Told("a.js", "", "x"), "other"}))
	assert.Equal(t, []string{"c.js › x"}, Files(cases, []string{"c.js › x"}))
	assert.Equal(t, "a.js › tides › low", Told("a.js", "tides", "low"))
	assert.Equal(t, "a.js › low", Told("a.js", "", "low"))
}
