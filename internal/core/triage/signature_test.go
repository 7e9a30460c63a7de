package triage

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

// messages are those of real runners and drivers, a quoted string in each line; ‹n› is a
// number that differs, ‹q› a quoted value, ‹i› an id, ‹t› a time, ‹a› an address, ‹l› a line
// number of a stack.
var messages = func() (out []string) {
	raw, err := os.ReadFile("testdata/messages.txt")
	if err != nil {
		panic(err)
	}
	for line := range strings.Lines(string(raw)) {
		m, err := strconv.Unquote(strings.TrimSpace(line))
		if err != nil {
			panic(err)
		}
		out = append(out, m)
	}
	return out
}()

func shuffled(r *rand.Rand, m string) string {
	words := []string{"Osprey", "not yet known", "asking …", "Marsh Harrier", "B3", "", "12.00 €", "don't", "free for 2 nights", "x y z"}
	for _, mark := range []string{"n", "q", "i", "t", "a", "l"} {
		for strings.Contains(m, "‹"+mark+"›") {
			v := ""
			switch mark {
			case "n", "l":
				v = fmt.Sprint(r.IntN(1 << (1 + r.IntN(14))))
			case "q":
				q := []string{"'", `"`}[r.IntN(2)]
				w := words[r.IntN(len(words))]
				if strings.Contains(w, q) {
					q = `"`
				}
				v = q + w + q
			case "i":
				v = []string{fmt.Sprintf("%08x-%04x-4%03x-a%03x-%012x", r.Uint32(), r.IntN(1<<16), r.IntN(1<<12), r.IntN(1<<12), r.Uint64()>>16),
					fmt.Sprintf("%x", 1<<60|r.Uint64()>>1), fmt.Sprintf("b%d", 1000+r.IntN(1e6))}[r.IntN(2)]
			case "t":
				v = []string{fmt.Sprintf("2026-%02d-%02dT%02d:%02d:%02dZ", 1+r.IntN(12), 1+r.IntN(28), r.IntN(24), r.IntN(60), r.IntN(60)),
					fmt.Sprintf("%02d:%02d", r.IntN(24), r.IntN(60))}[r.IntN(2)]
			case "a":
				v = fmt.Sprintf("http://host-%d.example:%d/berths/%d?day=%d", r.IntN(9), 1024+r.IntN(60000), r.IntN(999), r.IntN(31))
			}
			m = strings.Replace(m, "‹"+mark+"›", v, 1)
		}
	}
	return m
}

// The changing parts do not part failures of one kind, and what stays does not join two kinds.
func TestGroupingOfRealMessages(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	const times = 12
	var keys []string
	for _, m := range messages {
		for range times {
			keys = append(keys, Sign(shuffled(r, m), "a place").Key)
		}
	}
	wrong, pairs, shown := 0, 0, map[string]bool{}
	for i := range keys {
		for j := range i {
			pairs++
			if (i/times == j/times) != (keys[i] == keys[j]) {
				wrong++
				if s := fmt.Sprint(i/times, j/times); !shown[s] {
					shown[s] = true
					t.Logf("%q\n%q\n  %q", messages[i/times], keys[i], keys[j])
				}
			}
		}
	}
	t.Logf("%d of %d pairs wrong", wrong, pairs)
	same := len(messages) * times * (times - 1) / 2
	assert.LessOrEqual(t, float64(wrong), 0.02*float64(same), "even of those that belong together")
}

func TestWhatASignatureKeeps(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{`button "Hold": no element matches`, `button "Pay": no element matches`, false},
		{`button "Hold 12": no element matches`, `button "Hold 7": no element matches`, true},
		{`css "#a": hidden`, `css "#b": hidden`, false},
		{`expected "a" to be shown in the list`, `expected "b" to be shown in the list`, true},
		{"items 1, 2, 3 are missing", "items 4 are missing", true},
		{"ReferenceError: navigation is not defined", "ReferenceError: gate is not defined", false},
		{"it don't work", "it don't work'", false},
		{"x\x1b[31m is red\x1b[0m", "x is red", true},
	} {
		assert.Equal(t, c.same, Sign(c.a, "p").Key == Sign(c.b, "p").Key, "%s | %s: %q %q", c.a, c.b, Sign(c.a, "p").Key, Sign(c.b, "p").Key)
	}
	assert.NotEqual(t, Sign("expected 3, got 4", "a").Key, Sign("expected 3, got 4", "b").Key, "what says nothing is told by its place")
	assert.Equal(t, Sign("", "a"), Sign(" \n", "b"))
	assert.Len(t, Sign("x", "").Hash(), len(Sign("x", "").Hash()))
	long := Sign(strings.Repeat("a very long line ", 1<<16), "p")
	assert.LessOrEqual(t, utf8.RuneCountInString(long.Title), maxTitle)
	assert.Less(t, len(long.Key), 2*maxLine)
}

func FuzzSign(f *testing.F) {
	for _, m := range messages {
		f.Add(m)
	}
	f.Add("\x1b[31m'\"<‘«\xff\xfe: expected: <")
	f.Fuzz(func(t *testing.T, m string) {
		s := Sign(m, "place")
		if !utf8.ValidString(s.Title) || utf8.RuneCountInString(s.Title) > maxTitle || s.Key == "" {
			t.Fatalf("%q: %q", m, s)
		}
		if strings.ContainsFunc(s.Title, func(r rune) bool { return r < ' ' }) {
			t.Fatalf("control characters: %q", s.Title)
		}
	})
}
