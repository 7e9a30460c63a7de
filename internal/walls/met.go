package walls

import "parallelpane/internal/api"

// MetRuns is how many runs back a wall is looked at.
const MetRuns = 20

// MetOn is a wall of which nothing is met yet; on says whether a pair is on it.
func MetOn(tests, panes map[string]bool) (m api.Met, on func(test, key string) bool) {
	return api.Met{Runs: MetRuns, Pairs: len(tests) * len(panes)}, func(test, key string) bool { return tests[test] && panes[key] }
}

// Names are the names of some things.
func Names[T any](all []T, name func(T) string) map[string]bool {
	out := map[string]bool{}
	for _, x := range all {
		out[name(x)] = true
	}
	return out
}
