package plan

// Spread says which combination runs each test when every test runs once. turn
// counts the runs that were dealt so before: within as many turns as there are
// combinations every test meets each of them. able tells which combinations can
// run at all; the result is -1 for every test when none can.
func Spread(tests int, able []bool, turn int) []int {
	var usable []int
	for i, ok := range able {
		if ok {
			usable = append(usable, i)
		}
	}
	out := make([]int, tests)
	for t := range out {
		out[t] = -1
		if n := len(usable); n > 0 {
			out[t] = usable[((t+turn)%n+n)%n]
		}
	}
	return out
}
