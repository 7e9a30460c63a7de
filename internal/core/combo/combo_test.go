package combo

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func product(m Matrix) ([]Combination, error) {
	plan, err := m.Plan(nil)
	return plan.Combinations, err
}

func TestProductOrderAndLabels(t *testing.T) {
	m := Matrix{Name: "wall", Axes: []Axis{
		{"browser", []string{"chromium", "firefox"}},
		{"device", []string{"desk", "pocket"}},
		{"mode", []string{"headless"}},
	}}
	got, err := product(m)
	require.NoError(t, err)
	labels := make([]string, len(got))
	for i, c := range got {
		labels[i] = c.Label
	}
	assert.Equal(t, []string{"chromium · desk", "chromium · pocket", "firefox · desk", "firefox · pocket"}, labels)
	assert.Equal(t, "browser=chromium;device=desk;mode=headless", got[0].Key)
	assert.Equal(t, []string{"browser", "device", "mode"}, got[0].Names())
}

func TestLabelOfASinglePointNamesEverything(t *testing.T) {
	got, err := product(Matrix{Axes: []Axis{{"browser", []string{"webkitgtk"}}, {"mode", []string{"headless"}}}})
	require.NoError(t, err)
	assert.Equal(t, "webkitgtk · headless", got[0].Label)
}

func TestCheckNamesTheFault(t *testing.T) {
	for name, tc := range map[string]struct {
		axes []Axis
		want string
	}{
		"none":        {nil, "no axes"},
		"unnamed":     {[]Axis{{"", []string{"a"}}}, "without a name"},
		"empty":       {[]Axis{{"os", nil}}, `axis "os" has no values`},
		"twice":       {[]Axis{{"os", []string{"a"}}, {"os", []string{"b"}}}, `axis "os" twice`},
		"value twice": {[]Axis{{"os", []string{"a", "a"}}}, `value "a" twice`},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := product(Matrix{Name: "m", Axes: tc.axes})
			assert.ErrorContains(t, err, tc.want)
		})
	}
}

func TestTooLargeAProductIsRefused(t *testing.T) {
	values := make([]string, 200)
	for i := range values {
		values[i] = string(rune('a' + i))
	}
	m := Matrix{Name: "huge", Axes: []Axis{{"a", values}, {"b", values}, {"c", values}}}
	assert.Equal(t, MaxPoints+1, m.Points())
	_, err := product(m)
	assert.ErrorContains(t, err, "more than 1000000")
}

func TestKeyIsCanonicalAndReversible(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		values := rapid.MapOfN(rapid.StringN(1, 8, -1), rapid.String(), 1, 6).Draw(t, "values")
		back, err := ParseKey(Key(values))
		require.NoError(t, err)
		assert.Equal(t, values, back)
	})
}

func FuzzParseKey(f *testing.F) {
	f.Add("browser=chromium;device=pocket")
	f.Add("a=%zz")
	f.Fuzz(func(t *testing.T, key string) {
		values, err := ParseKey(key)
		if err != nil {
			return
		}
		again, err := ParseKey(Key(values))
		require.NoError(t, err)
		assert.Equal(t, values, again)
	})
}

// A version is told with the browser that it is of, even if that is the only one.
func TestAVersionIsToldWithItsBrowser(t *testing.T) {
	for want, axes := range map[string][]Axis{
		"kestrel · 12":    {{Name: "browser", Values: []string{"kestrel"}}, {Name: "version", Values: []string{"latest"}}},
		"kestrel · 11":    {{Name: "browser", Values: []string{"kestrel"}}, {Name: "version", Values: []string{"latest-1", "latest"}}},
		"desktop · heron": {{Name: "device", Values: []string{"desktop"}}, {Name: "browser", Values: []string{"heron"}}},
	} {
		plan, err := Matrix{Name: "m", Axes: axes}.Plan(testLab{})
		require.NoError(t, err)
		assert.Equal(t, want, plan.Combinations[0].Label)
	}
}
