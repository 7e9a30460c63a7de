package combo

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// levels makes a matrix of axes with the given numbers of values: "4^15 3^17".
func levels(t testing.TB, spec string) Matrix {
	m := Matrix{Name: spec, Cover: Cover{Strength: 2}, Seed: 1}
	for _, part := range strings.Fields(spec) {
		v, k := 0, 1
		if n, _ := fmt.Sscanf(part, "%d^%d", &v, &k); n < 1 {
			t.Fatalf("levels %q", spec)
		}
		for range k {
			a := Axis{Name: fmt.Sprintf("a%d", len(m.Axes))}
			for i := range v {
				a.Values = append(a.Values, fmt.Sprintf("v%d", i))
			}
			m.Axes = append(m.Axes, a)
		}
	}
	return m
}

// uncovered counts, by brute force, the tuples of strength t that some allowed
// point has and no combination does.
func uncovered(m Matrix, combos []Combination, allowed func(map[string]string) bool) (left int) {
	have := map[string]bool{}
	subset := func(values map[string]string, pick []int) string {
		part := map[string]string{}
		for _, i := range pick {
			part[m.Axes[i].Name] = values[m.Axes[i].Name]
		}
		return Key(part)
	}
	each := func(f func(pick []int)) {
		eachSubset(len(m.Axes), min(m.Cover.Strength, len(m.Axes)), func(pick []int) bool { f(pick); return true })
	}
	for _, c := range combos {
		each(func(pick []int) { have[subset(c.Values, pick)] = true })
	}
	missing := map[string]bool{}
	m.eachPoint(func(point []int) {
		values := m.values(point)
		if allowed(values) {
			each(func(pick []int) {
				if k := subset(values, pick); !have[k] {
					missing[k] = true
				}
			})
		}
	})
	return len(missing)
}

func TestCoversHoldForAnyRules(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := Matrix{Name: "m", Seed: rapid.Uint64().Draw(t, "seed"), Cover: Cover{Strength: rapid.IntRange(1, 3).Draw(t, "strength")}}
		for i := range rapid.IntRange(1, 5).Draw(t, "axes") {
			a := Axis{Name: string(rune('a' + i))}
			for v := range rapid.IntRange(1, 4).Draw(t, "values") {
				a.Values = append(a.Values, fmt.Sprint(v))
			}
			m.Axes = append(m.Axes, a)
		}
		value := func() (string, string) {
			a := rapid.SampledFrom(m.Axes).Draw(t, "axis")
			return a.Name, rapid.SampledFrom(a.Values).Draw(t, "value")
		}
		for range rapid.IntRange(0, 3).Draw(t, "drops") {
			d := Drop{}
			for range 2 {
				a, v := value()
				d[a] = []string{v}
			}
			m.Drop = append(m.Drop, d)
		}
		if rapid.Bool().Draw(t, "only") {
			a1, v1 := value()
			a2, v2 := value()
			m.Only = append(m.Only, fmt.Sprintf("%s != %q || %s == %q", a1, v1, a2, v2))
		}
		p, err := newProblem(m, nil)
		require.NoError(t, err)
		allowed := func(values map[string]string) bool {
			row, ok := p.point(values)
			return ok && p.broken(row, -1) == nil
		}
		plan, err := m.Plan(nil)
		if err != nil {
			require.ErrorContains(t, err, "nothing satisfies its rules")
			m.eachPoint(func(point []int) { require.False(t, allowed(m.values(point))) })
			return
		}
		keys := map[string]bool{}
		for _, c := range plan.Combinations {
			require.True(t, allowed(c.Values), "%v breaks a rule", c.Values)
			require.False(t, keys[c.Key], "twice")
			keys[c.Key] = true
		}
		require.Zero(t, uncovered(m, plan.Combinations, allowed))
		require.Equal(t, plan.Cover.Tuples, plan.Cover.Covered)
		again, err := m.Plan(nil)
		require.NoError(t, err)
		require.Equal(t, plan, again, "a seed gives the same plan")
	})
}

func TestKnownSizes(t *testing.T) {
	if testing.Short() {
		t.Skip("takes seconds")
	}
	for spec, most := range map[string]int{"3^4": 9, "3^13": 18, "2^100": 12, "10^20": 200, "4^15 3^17 2^29": 34,
		"4 3^39 2^35": 26, "8 5 4^2 3 2": 40} {
		t.Run(spec, func(t *testing.T) {
			m := levels(t, spec)
			plan, err := m.Plan(nil)
			require.NoError(t, err)
			assert.Equal(t, plan.Cover.Tuples, plan.Cover.Covered)
			assert.LessOrEqual(t, len(plan.Combinations), most)
			t.Logf("%s: %d rows for %d tuples", spec, len(plan.Combinations), plan.Cover.Tuples)
			have := map[string]bool{} // counted once more, without the search's own books
			for _, c := range plan.Combinations {
				for i, a := range m.Axes {
					for _, b := range m.Axes[i+1:] {
						have[a.Name+c.Values[a.Name]+b.Name+c.Values[b.Name]] = true
					}
				}
			}
			assert.Len(t, have, plan.Cover.Tuples)
		})
	}
}

func TestAConstructionCoversEveryPair(t *testing.T) {
	for name, rows := range map[string][][]int{"subsets": subsets(35), "orthogonal": orthogonal(6, 5, 5), "fused": orthogonal(8, 6, 7),
		"starter": starter(14, 5, 1)} {
		k, v := len(rows[0]), map[string]int{"subsets": 2, "orthogonal": 5, "fused": 6, "starter": 5}[name]
		have := map[[4]int]bool{}
		for _, r := range rows {
			for i := range k {
				for j := i + 1; j < k; j++ {
					if r[i] != free && r[j] != free {
						have[[4]int{i, j, r[i], r[j]}] = true
					}
				}
			}
		}
		assert.Len(t, have, k*(k-1)/2*v*v, name)
	}
}

func TestPlanSaysWhatIsMissingAndWhy(t *testing.T) {
	m := Matrix{Name: "lab", Axes: []Axis{{"browser", []string{"chromium", "webkitgtk"}}, {"os", []string{"linux", "macos"}},
		{"device", []string{"desktop", "phone"}}},
		Only: []string{`browser != "webkitgtk" || os == "macos"`}, Drop: []Drop{{"os": {"macos"}, "device": {"phone"}}},
		Add: []map[string]string{{"browser": "webkitgtk", "os": "linux", "device": "desktop"}, {"browser": "firefox", "channel": "beta"}}}
	plan, err := m.Plan(nil)
	require.NoError(t, err)
	var labels []string
	for _, c := range plan.Combinations {
		labels = append(labels, c.Label)
	}
	assert.Equal(t, []string{"webkitgtk · linux · desktop", "firefox · beta", "chromium · linux · desktop",
		"chromium · linux · phone", "chromium · macos · desktop", "webkitgtk · macos · desktop"}, labels)
	assert.Equal(t, []Missing{
		{map[string]string{"browser": "chromium", "os": "macos", "device": "phone"}, "drop device=phone os=macos"},
		{map[string]string{"browser": "webkitgtk", "os": "linux", "device": "phone"}, `only browser != "webkitgtk" || os == "macos"`},
		{map[string]string{"browser": "webkitgtk", "os": "macos", "device": "phone"}, "drop device=phone os=macos"},
	}, plan.Missing)

	m.Add, m.Cover = m.Add[:1], Cover{Strength: 2}
	plan, err = m.Plan(nil)
	require.NoError(t, err)
	assert.Equal(t, "webkitgtk · linux · desktop", plan.Combinations[0].Label, "a must-have is kept whatever the rules say")
	reasons := map[string]string{}
	for _, miss := range plan.Missing {
		reasons[Key(miss.Values)] = miss.Reason
	}
	assert.Equal(t, map[string]string{
		"browser=webkitgtk;os=linux": `only browser != "webkitgtk" || os == "macos"`, "device=phone;os=macos": "drop device=phone os=macos",
		"browser=webkitgtk;device=phone": "drop device=phone os=macos", // webkitgtk is on macos only, which has no phone
	}, reasons)
}

func TestNumbersCanBeCompared(t *testing.T) {
	m := Matrix{Axes: []Axis{{"version", []string{"9", "10", "11"}}, {"time-zone", []string{"0", "1"}}}}
	for only, want := range map[string]int{`version >= 10`: 4, `version != "9"`: 4, `$env["time-zone"] == 1`: 3, `true`: 6} {
		m.Only = []string{only}
		plan, err := m.Plan(nil)
		require.NoError(t, err, only)
		assert.Len(t, plan.Combinations, want, only)
	}
}

func TestBadMatrices(t *testing.T) {
	base := Matrix{Name: "m", Axes: []Axis{{"a", []string{"1", "2"}}, {"b", []string{"1", "2"}}}}
	for want, change := range map[string]func(*Matrix){
		`only "c == 1": unknown name c`:                                func(m *Matrix) { m.Only = []string{"c == 1"} },
		`drop c=1: there is no axis "c"; the axes are a, b`:            func(m *Matrix) { m.Drop = []Drop{{"c": {"1"}}} },
		`drop a=3: axis "a" has no value "3"; it has 1, 2`:             func(m *Matrix) { m.Drop = []Drop{{"a": {"3"}}} },
		`nothing satisfies its rules; the last straw is only a == "2"`: func(m *Matrix) { m.Only = []string{`a == "1"`, `a == "2"`} },
		`nothing satisfies its rules; the last straw is drop a=1|2`: func(m *Matrix) {
			m.Drop,
				m.Cover.Strength = []Drop{{"a": {"1", "2"}}}, 2
		},
		`unknown effort "heroic"`:                                         func(m *Matrix) { m.Effort, m.Cover.Strength = "heroic", 2 },
		`cover: there is no axis "z"`:                                     func(m *Matrix) { m.Cover = Cover{Strength: 2, Axes: []string{"z"}} },
		`more than 4000000 tuples: lower the strength or name fewer axes`: func(m *Matrix) { *m = levels(t, "10^20"); m.Cover.Strength = 5 },
		`more than 1000000 combinations: ask for a cover such as pairs`:   func(m *Matrix) { *m = levels(t, "10^20"); m.Cover.Strength = 0 },
	} {
		m := base
		change(&m)
		_, err := m.Plan(nil)
		assert.ErrorContains(t, err, want)
	}
	_, err := ParseCover("some")
	assert.ErrorContains(t, err, `unknown cover "some"`)
	for s, want := range map[string]int{"all": 0, "each": 1, "pairs": 2, "triples": 3, "6": 6} {
		c, err := ParseCover(s)
		require.NoError(t, err)
		assert.Equal(t, want, c.Strength)
	}
}

func TestHugeProductsNeedNotBeBuilt(t *testing.T) {
	m := levels(t, "3^30")
	m.Cover.Strength = 1
	m.Only = []string{`a0 != "v0" || a29 == "v2"`}
	plan, err := m.Plan(nil)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(plan.Combinations), 4)
	m.Cover = Cover{Strength: 3, Axes: []string{"a0", "a1", "a29"}}
	plan, err = m.Plan(nil)
	require.NoError(t, err)
	assert.Equal(t, 21, plan.Cover.Tuples, "27 less those with v0 and not v2")
	assert.Len(t, plan.Combinations, 21)
}

func BenchmarkCover(b *testing.B) {
	for _, spec := range []string{"3^4", "3^13", "4^15 3^17 2^29", "4 3^39 2^35", "2^100", "10^20"} {
		for _, effort := range []Effort{Normal, High} {
			b.Run(strings.ReplaceAll(spec, " ", "_")+"/"+string(effort), func(b *testing.B) {
				for b.Loop() {
					m := levels(b, spec)
					m.Effort = effort
					plan, err := m.Plan(nil)
					if err != nil {
						b.Fatal(err)
					}
					b.ReportMetric(float64(len(plan.Combinations)), "rows")
				}
			})
		}
	}
}

// The matrix of a common lab: its pairs need no more rows than the product of
// its two largest axes, which is the least there can be, rules or not.
func TestATypicalMatrixNeedsItsTwoLargestAxes(t *testing.T) {
	axis := func(name string, n int) Axis {
		a := Axis{Name: name}
		for i := range n {
			a.Values = append(a.Values, fmt.Sprintf("%s%d", name, i))
		}
		return a
	}
	m := Matrix{Name: "lab", Cover: Cover{Strength: 2}, Axes: []Axis{axis("browser", 4), axis("version", 4), axis("os", 5),
		axis("device", 8), axis("mode", 2), axis("locale", 3)},
		Only: []string{`browser != "browser3" || os != "os0"`, `mode == "mode0" || device != "device7"`},
		Drop: []Drop{{"browser": {"browser2"}, "version": {"version3"}}}}
	for seed := range uint64(5) {
		m.Seed = seed
		plan, err := m.Plan(nil)
		require.NoError(t, err)
		assert.Len(t, plan.Combinations, 40, "seed %d", seed)
		assert.Equal(t, plan.Cover.Tuples, plan.Cover.Covered)
	}
}
