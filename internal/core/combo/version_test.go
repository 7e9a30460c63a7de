package combo

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestSelectors(t *testing.T) {
	have := []string{"150.0.3", "151.2", "151.10.1", "153.0"}
	for source, want := range map[string]string{
		"151": "151", "151.2": "151.2", ">=150 <153": "151.10.1", "<=151.2": "151.2", ">151": "153.0",
		"latest": "153", "latest-1": "151", "latest-2": "150",
	} {
		s, err := ParseSelector(source)
		require.NoError(t, err, source)
		got, err := s.Resolve(have)
		require.NoError(t, err, source)
		assert.Equal(t, want, got, source)
	}
	for source, want := range map[string]string{
		"15": "the lab has 150.0.3", "latest-3": "the lab has only 153, 151, 150", ">153": "the lab has 150.0.3",
	} {
		s, err := ParseSelector(source)
		require.NoError(t, err, source)
		_, err = s.Resolve(have)
		assert.ErrorContains(t, err, want, source)
	}
	_, err := Selector{back: 0}.Resolve(nil)
	assert.ErrorContains(t, err, "no version of it")
}

func TestReleasesOfSlowAndFastNumbering(t *testing.T) {
	s, err := ParseSelector("latest-1")
	require.NoError(t, err)
	got, err := s.Resolve([]string{"2.50.1", "2.50.2", "2.48.0"})
	require.NoError(t, err)
	assert.Equal(t, "2.48", got)
	assert.Equal(t, []string{"153", "2.50", "7", "140"}, []string{Release("153.0.7"), Release("2.50.1"),
		Release("7.2"), Release("140.12.0esr")})
}

func TestSelectorsThatCannotBe(t *testing.T) {
	for _, source := range []string{"", "newest", "latest-0", "latest-", "latest-01", "=150", "150 151", ">=", "1..2", "<<5"} {
		_, err := ParseSelector(source)
		assert.ErrorContains(t, err, "chooses no version", source)
	}
	for _, source := range []string{">=150 <140", ">150 <150", ">=150 <150", ">150.2 <=150.1"} {
		_, err := ParseSelector(source)
		assert.ErrorContains(t, err, "contradicts itself", source)
	}
	_, err := ParseSelector(">=150.2 <=150")
	assert.NoError(t, err)
}

func FuzzParseSelector(f *testing.F) {
	for _, s := range []string{"153", ">=150 <153", "latest-1", "<", "1.2.3esr"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, source string) {
		s, err := ParseSelector(source)
		if err == nil {
			s.Allows(source)
			_, _ = s.Resolve([]string{source, "1", "2.3"})
		}
	})
}

// A bound and its opposite split the versions.
func TestBoundsSplit(t *testing.T) {
	version := rapid.StringMatching(`[0-9]{1,3}(\.[0-9]{1,2}){0,3}`)
	rapid.Check(t, func(t *rapid.T) {
		than, v := version.Draw(t, "than"), version.Draw(t, "version")
		for op, opposite := range map[string]string{"<": ">=", ">": "<="} {
			a, err := ParseSelector(op + than)
			require.NoError(t, err)
			b, err := ParseSelector(opposite + than)
			require.NoError(t, err)
			assert.NotEqual(t, a.Allows(v), b.Allows(v), "%s and %s%s", v, op, than)
		}
	})
}

type testLab struct{}

func (testLab) Versions(values map[string]string) []string {
	return map[string][]string{"kestrel": {"12.1", "11.4"}, "osprey": {"7.2"}}[values["browser"]]
}

func (testLab) Lacks(values map[string]string) string {
	if values["browser"] == "osprey" && values["os"] == "tern" {
		return "no agent has osprey on tern"
	}
	return ""
}

func TestPlanInALab(t *testing.T) {
	m := Matrix{Name: "m", Axes: []Axis{
		{"browser", []string{"kestrel", "osprey"}}, {"version", []string{"latest", "latest-1", "12"}}, {"os", []string{"tern", "gull"}},
	}}
	plan, err := m.Plan(testLab{})
	require.NoError(t, err)
	labels, reasons := map[string]string{}, map[string]string{}
	for _, c := range plan.Combinations {
		labels[c.Label] = c.Impossible
	}
	for _, x := range plan.Missing {
		reasons[Key(x.Values)] = x.Reason
	}
	assert.Equal(t, map[string]string{"kestrel · 12 · tern": "", "kestrel · 12 · gull": "",
		"kestrel · 11 · tern": "", "kestrel · 11 · gull": "",
		"osprey · 7 · tern": "no agent has osprey on tern", "osprey · 7 · gull": ""}, labels)
	assert.Equal(t, "the same as kestrel · 12 · tern", reasons["browser=kestrel;os=tern;version=12"])
	assert.Equal(t, "osprey latest-1 is unresolved: the lab has only 7", reasons["browser=osprey;os=tern;version=latest-1"])

	m.Cover = Cover{Strength: 2}
	plan, err = m.Plan(testLab{})
	require.NoError(t, err)
	for _, c := range plan.Combinations {
		assert.Empty(t, c.Impossible, "a cover keeps to what the lab can do")
	}
	reasons = map[string]string{}
	for _, x := range plan.Missing {
		reasons[Key(x.Values)] = x.Reason
	}
	assert.Equal(t, "no agent has osprey on tern", reasons["browser=osprey;os=tern"])
	assert.Equal(t, plan.Cover.Tuples, plan.Cover.Covered)

	_, err = Matrix{Name: "m", Axes: []Axis{{"browser", []string{"ibis"}}, {"version", []string{"latest"}}}}.Plan(testLab{})
	assert.ErrorContains(t, err, "ibis latest is unresolved: the lab has no version of it")
}

// Channels and the oldest of a range, among versions of which some are to be tried out.
func TestPlacesAmongChannels(t *testing.T) {
	there := []string{"140.12.0 esr", "153.7.0 esr", "156.0.1", "157.0 beta", "158.0 nightly"}
	for text, want := range map[string]string{
		"latest": "156", "latest-1": "153", "latest-2": "140", "oldest": "140", "oldest >=150": "153", "oldest >=157": "157",
		"esr": "153.7.0", "beta": "157.0", "nightly": "158.0", "stable": "156.0.1", ">=157": "158.0", "153": "153",
	} {
		sel, err := ParseSelector(text)
		require.NoError(t, err, text)
		got, err := sel.Resolve(there)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"oldest 150", "oldest latest", "esr beta", "oldest >=150 <=140"} {
		_, err := ParseSelector(text)
		assert.Error(t, err, text)
	}
	for _, text := range []string{"canary", "oldest >=200"} {
		sel, err := ParseSelector(text)
		require.NoError(t, err)
		_, err = sel.Resolve(there)
		assert.ErrorContains(t, err, "the lab has", text)
	}
	sel, _ := ParseSelector("latest")
	only, err := sel.Resolve([]string{"157.0 beta"})
	require.NoError(t, err)
	assert.Equal(t, "157", only, "where there is nothing else")
}
