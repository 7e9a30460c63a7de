package suite

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatIsCalledOtherwiseIsKnownByItsContent(t *testing.T) {
	before := []Unit{{"Hold a berth", "1"}, {"Tide table", "2"}, {"Fees", "3"}, {"Copy a", "4"}, {"Copy b", "4"}, {"Stays", "5"},
		{"Unread", ""}}
	for name, c := range map[string]struct {
		now  []Unit
		want []Rename
	}{
		"nothing changed":              {before, []Rename{}},
		"another title":                {[]Unit{{"Take a berth", "1"}, {"Tide table", "2"}}, []Rename{{"Hold a berth", "Take a berth"}}},
		"two, in order":                {[]Unit{{"Z", "1"}, {"B", "2"}}, []Rename{{"Tide table", "B"}, {"Hold a berth", "Z"}}},
		"title and content changed":    {[]Unit{{"Take a berth", "9"}}, []Rename{}},
		"a copy beside it":             {append([]Unit{{"Hold a berth again", "1"}}, before...), []Rename{}},
		"it was there twice":           {[]Unit{{"Copy", "4"}}, []Rename{}},
		"it is there twice":            {[]Unit{{"Fee 1", "3"}, {"Fee 2", "3"}}, []Rename{}},
		"two that changed their names": {[]Unit{{"Hold a berth", "2"}, {"Tide table", "1"}}, []Rename{}},
		"what cannot be read":          {[]Unit{{"Other", ""}}, []Rename{}},
	} {
		assert.Equal(t, c.want, Renamed(before, c.now), name)
	}
}
