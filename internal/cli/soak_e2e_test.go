package cli

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/webdriver"
)

// soak is how a soak goes: PANE_SOAK asks for minutes instead of a short one,
// PANE_SEED for other random numbers.
type soak struct {
	rng             *rand.Rand
	until           time.Time
	tests, kills    int
	sessions, every int // sessions, and after about how many the service is killed
}

func newSoak(t *testing.T) soak {
	seed, err := strconv.ParseUint(max(os.Getenv("PANE_SEED"), "1"), 10, 64)
	require.NoError(t, err)
	s := soak{rng: rand.New(rand.NewPCG(seed, 20)), until: time.Now(), tests: 6, kills: 2, sessions: 40, every: 20}
	if m := os.Getenv("PANE_SOAK"); m != "" {
		minutes, err := strconv.ParseFloat(m, 64)
		require.NoError(t, err)
		s.until, s.tests, s.kills, s.sessions, s.every = time.Now().Add(time.Duration(minutes*float64(time.Minute))), 60, 20, 2000, 150
	}
	t.Logf("seed %d", seed)
	return s
}

// crew is a lab of stand-ins with tests of which every fourth fails.
func (s soak) crew(t *testing.T) *bench {
	b := standIns(t)
	raw, err := os.ReadFile(filepath.Join(b.project, "pane.yaml"))
	require.NoError(t, err)
	b.write("pane.yaml", strings.Replace(string(raw), "matrices:\n", "matrices:\n  soak: {axes: {browser: [kestrel, osprey, heron], "+
		"device: [desktop, phone]}}\n", 1))
	old, err := filepath.Glob(filepath.Join(b.project, "*"+".pane.yaml"))
	require.NoError(t, err)
	for _, f := range old {
		require.NoError(t, os.Remove(f))
	}
	for i := range s.tests {
		boat := fmt.Sprintf("Osprey %d", i)
		if i%4 == 3 {
			boat = "Nobody"
		}
		b.write(fmt.Sprintf("hold-%03d.pane.yaml", i), fmt.Sprintf("name: Hold %03d\nwait: 50ms\nsteps:\n  - visit: /\n  - enter: {at: "+
			"{label: Boat}, text: Osprey %d}\n  - click: Hold\n  - expect: %s is held\n", i, i, boat))
	}
	return b
}

// killed kills programs in the middle of a run, and has each started again.
func (s soak) killed(b *bench, number int, programs ...string) api.Run {
	b.t.Helper()
	for range s.kills {
		before := b.show(number)
		if before.State == api.Ended {
			break
		}
		some := 1 + s.rng.IntN(max(1, before.Counts[verdict.Pending]/s.kills))
		require.Eventually(b.t, func() bool {
			now := b.show(number)
			return now.State == api.Ended || now.Counts[verdict.Pending] <= before.Counts[verdict.Pending]-some
		}, 2*time.Minute, 2*time.Millisecond)
		switch p := programs[s.rng.IntN(len(programs))]; p {
		case "serve":
			b.kill(p)
			b.serve()
		default:
			b.kill(p)
			b.crowd()
		}
	}
	var run api.Run
	require.Eventually(b.t, func() bool { run = b.show(number); return run.State == api.Ended }, 10*time.Minute, 100*time.Millisecond)
	return run
}

func (b *bench) detached(args ...string) int {
	b.t.Helper()
	code, out, errs := b.pane(append([]string{"run", "--dir", b.project, "--matrix", "soak", "--detach", "--json"}, args...)...)
	require.Zero(b.t, code, errs)
	var made struct{ Number int }
	require.NoError(b.t, json.Unmarshal([]byte(out), &made))
	return made.Number
}

// The service is killed again and again during runs with retries: no attempt is
// called a lab fault, none is lost or doubled.
func TestSoakServiceKilled(t *testing.T) {
	s := newSoak(t)
	b := s.crew(t)
	for first := true; first || time.Now().Before(s.until); first = false {
		run := s.killed(b, b.detached("--retries", "1"), "serve")
		for i, p := range run.Panes {
			for j, test := range run.Tests {
				want, attempts := verdict.Passed, 1
				if j%4 == 3 {
					want, attempts = verdict.Failed, 2
				}
				c := run.Cells[i][j]
				require.Equal(t, []any{want, attempts}, []any{c.Verdict, c.Attempts}, "%s on %s: %s", test.Name, p.Label, c.Message)
			}
		}
	}
}

// Agents are killed as well: every cell has one verdict, and it is the right one. A
// test whose agent was killed under it three times is the lab's fault, and says so.
func TestSoakAgentsKilled(t *testing.T) {
	s := newSoak(t)
	b := s.crew(t)
	for first := true; first || time.Now().Before(s.until); first = false {
		run := s.killed(b, b.detached("--retries", "1"), "serve", "standin")
		for i, p := range run.Panes {
			for j, test := range run.Tests {
				want := verdict.Passed
				if j%4 == 3 {
					want = verdict.Failed
				}
				c := run.Cells[i][j]
				if c.Verdict == verdict.LabFault && s.kills > 2 {
					require.Equal(t, 3, c.Attempts, "%s on %s: %s", test.Name, p.Label, c.Message)
					require.Regexp(t, "was started again while it held the test|stopped answering", c.Message)
					t.Logf("%s on %s was killed three times", test.Name, p.Label)
					continue
				}
				require.Equal(t, want, c.Verdict, "%s on %s: %s", test.Name, p.Label, c.Message)
			}
		}
	}
}

// Sessions one after another under one run's name, each opened as soon as the last
// is deleted, with a kill in between now and then: the service starts again every
// time, and every session is on the wall.
func TestSoakSessionsUnderOneName(t *testing.T) {
	s := newSoak(t)
	b := standIns(t)
	remote := b.endpoint()
	for i := range s.sessions {
		if s.rng.IntN(s.every) == 0 || i == s.sessions/2 {
			b.kill("serve")
			b.serve()
			require.Eventually(t, func() bool {
				_, out, _ := b.pane("agents", "--online", "--json")
				return strings.Count(out, `"stand_in": true`) == 4
			}, 30*time.Second, 10*time.Millisecond)
		}
		x, err := remote.New(t.Context(), webdriver.Capabilities{"browserName": "kestrel", "pane:options": map[string]any{"run": "soak",
			"test": "Tides", "project": "saltmarsh"}})
		require.NoError(t, err, "session %d", i)
		require.NoError(t, x.Close(t.Context()), "session %d", i)
	}
	run := b.ended(1)
	assert.Equal(t, s.sessions, run.Cells[0][0].Attempts)
	assert.Equal(t, verdict.Ended, run.Verdict)
	b.kill("serve")
	b.serve()
	assert.Equal(t, run.Counts, b.show(1).Counts)
}
