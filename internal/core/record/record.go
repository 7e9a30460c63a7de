// Package record says what is recorded of a session and what of it is kept: a
// policy for each kind of recording, set for a project, a run or one session.
package record

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"parallelpane/internal/core/verdict"
)

// Kind is one kind of recording.
type Kind string

// Kinds.
const (
	Commands Kind = "commands" // every command with its arguments, result and time
	// always: after each command that changes the page; unless passed: after commands that fail, and at the end
	Screenshots Kind = "screenshots"
	Video       Kind = "video"   // WebM
	Network     Kind = "network" // HAR 1.2
	Console     Kind = "console" // console messages and page errors
	Logs        Kind = "logs"    // of driver and browser
	// Files that pages had the browser save.
	Downloads Kind = "downloads"
)

// Kinds lists every kind.
var Kinds = []Kind{Commands, Screenshots, Video, Network, Console, Logs, Downloads}

// Keep says when a recording is kept.
type Keep string

// When a recording is kept.
const (
	Never        Keep = "never"
	Always       Keep = "always"
	UnlessPassed Keep = "unless-passed" // unless the session is known to have passed
)

var keeps = []Keep{Never, Always, UnlessPassed}

// Policy is what to record. A kind that is missing is left to the next wider
// policy: the session's, the run's, the project's, then the default.
type Policy map[Kind]Keep

// Default is the policy of sessions whose project says nothing. Network and
// console need a second connection to the browser, which a session that somebody
// else's runner drives gets only when asked for; scripts have it anyway.
func Default(remote bool) Policy {
	p := Policy{Commands: Always, Screenshots: UnlessPassed, Video: Never, Network: UnlessPassed, Console: UnlessPassed, Logs: UnlessPassed,
		Downloads: Always}
	if remote {
		p[Network], p[Console], p[Logs] = Never, Never, Always
	}
	return p
}

// Check says what is wrong with a policy.
func (p Policy) Check() error {
	for _, kind := range slices.Sorted(maps.Keys(p)) {
		if !slices.Contains(Kinds, kind) {
			return fmt.Errorf("there is no recording %q: there are %s", kind, joined(Kinds))
		}
		if !slices.Contains(keeps, p[kind]) {
			return fmt.Errorf("%s: expected %s, found %q", kind, joined(keeps), p[kind])
		}
	}
	return nil
}

func joined[T ~string](words []T) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = string(w)
	}
	return strings.Join(out, ", ")
}

// Parse reads policies as people type them: one word for everything (always), or
// KIND=KEEP for each.
func Parse(words []string) (Policy, error) {
	p := Policy{}
	for _, w := range words {
		kind, keep, ok := strings.Cut(w, "=")
		if !ok {
			for _, k := range Kinds {
				p[k] = Keep(w)
			}
			continue
		}
		p[Kind(kind)] = Keep(keep)
	}
	return p, p.Check()
}

// Over puts a narrower policy over wider ones, the narrowest first.
func Over(policies ...Policy) Policy {
	out := Policy{}
	for _, p := range slices.Backward(policies) {
		maps.Copy(out, p)
	}
	return out
}

// Wants says whether a kind is to be recorded at all.
func (p Policy) Wants(k Kind) bool { return p[k] == Always || p[k] == UnlessPassed }

// Keeps says whether what was recorded of a kind stays after a session ended
// with a verdict. A session of which nobody said how it ended may have failed.
func (p Policy) Keeps(k Kind, v verdict.Verdict) bool {
	return p[k] == Always || (p[k] == UnlessPassed && v != verdict.Passed)
}

// MinSecret is the length, in bytes, from which on a secret can be masked: a
// shorter one would be found everywhere.
const MinSecret = 4
