package service

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/results"
)

// lab is a service without a network: the test plays the agents.
type lab struct {
	*Service
	t   *testing.T
	dir string
	now time.Time

	minFree uint64 // see Config
}

func openLab(t *testing.T, dir string) *lab {
	l := &lab{t: t, dir: dir, now: time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC)}
	l.reopen()
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// reopen opens the service on what is on record.
func (l *lab) reopen() {
	var err error
	l.Service, err = Open(l.t.Context(), Config{Dir: l.dir, Log: slog.New(slog.DiscardHandler), Clock: func() time.Time { return l.now }, Tick: time.Hour, MinFree: l.minFree,
		Dispatch: dispatch.Config{MaxSlice: 4}})
	require.NoError(l.t, err)
}

// bundle sends a project with so many tests.
func (l *lab) bundle(tests int) string { return l.wideBundle(tests, 1) }

// wideBundle sends one whose matrix has so many combinations of each of two
// browsers.
func (l *lab) wideBundle(tests, wide int) string {
	tariffs := make([]string, wide)
	for i := range tariffs {
		tariffs[i] = strconv.Itoa(i)
	}
	files := map[string]string{"pane.yaml": "project: saltmarsh\nsuites: {desk: {scripts: 't/*.pane.yaml'}}\n" +
		"matrices: {wall: {axes: {browser: [chromium, firefox], tariff: [" + strings.Join(tariffs, ", ") + "]}}}\nenvironments: {e: {base: 'http://desk.example'}}\n"}
	for i := range tests {
		files[fmt.Sprintf("t/%03d.pane.yaml", i)] = fmt.Sprintf("name: Berth %03d\nsteps:\n  - visit: /\n", i)
	}
	var buf bytes.Buffer
	zw := gzip.NewWriter(&buf)
	tw := tar.NewWriter(zw)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		require.NoError(l.t, tw.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Size: int64(len(files[name])), Mode: 0o644}))
		_, err := tw.Write([]byte(files[name]))
		require.NoError(l.t, err)
	}
	require.NoError(l.t, tw.Close())
	require.NoError(l.t, zw.Close())
	sum := sha256.Sum256(buf.Bytes())
	hash := hex.EncodeToString(sum[:])
	require.NoError(l.t, l.PutBundle(hash, &buf))
	return hash
}

// join brings an agent online as Join does, but for the link.
func (l *lab) join(name string, held ...int64) { l.joinAs(name, name, held...) }

// joinAs brings an agent's program online that was started as an instance.
func (l *lab) joinAs(name, instance string, held ...int64) {
	l.mu.Lock()
	_, e, err := l.arriveLocked(link.Hello{Name: name, Instance: instance, Held: held, Machine: fleet.Machine{OS: "linux", Slots: 2,
		Browsers: []fleet.Browser{{Name: "chromium", Fits: true}, {Name: "firefox", Fits: true}}}}, nil)
	l.mu.Unlock()
	require.NoError(l.t, err)
	require.NoError(l.t, l.carryOut(e))
}

// granted lists the live leases of an agent.
func (l *lab) granted(agent string) map[int64]grant {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := map[int64]grant{}
	for fence, x := range l.leases {
		if x.Agent == agent {
			out[fence] = x
		}
	}
	return out
}

// hands plays one agent: what it holds, and what of it has reported.
type hands struct {
	name, instance string

	held map[int64]grant
	done map[int64]int // how many tests of a lease have reported
}

// Random histories of runs with retries, over the real records: agents report,
// die, come back; the service is stopped and opened again in the middle. However
// it went, every cell has one verdict, it is what its attempts say, no attempt is
// lost or doubled, and the lab is at fault only where an agent died.
func TestHistoriesOverTheRecords(t *testing.T) {
	for seed := range uint64(12) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { history(t, rand.New(rand.NewPCG(seed, 7))) })
	}
}

func history(t *testing.T, rng *rand.Rand) {
	l := openLab(t, t.TempDir())
	agents := []*hands{{name: "quay", instance: "1"}, {name: "pier", instance: "1"}}
	for _, a := range agents {
		a.held, a.done = map[int64]grant{}, map[int64]int{}
		l.joinAs(a.name, a.instance)
	}
	tests := 6 + rng.IntN(20)
	run, err := l.Submit(t.Context(), api.Who{Name: "ci", Role: api.Runner}, api.RunRequest{Bundle: l.bundle(tests), Matrix: "wall", Retries: 1})
	require.NoError(t, err)
	reported := map[[2]int][]verdict.Verdict{} // by pane and test
	faults := map[[2]int]int{}                 // tests that ran when their agent died
	report := func(a *hands, fence int64) {
		x := a.held[fence]
		i := a.done[fence]
		test := x.Tests[i]
		v := []verdict.Verdict{verdict.Passed, verdict.Passed, verdict.Failed}[rng.IntN(3)]
		r := link.Result{ID: x.ids[i], Fence: fence, Test: test, Attempt: x.Attempt[i], Agent: a.name, Verdict: v, Message: "because", TookMS: 5}
		got, err := l.Result(r)
		require.NoError(t, err)
		require.True(t, got.Accepted, "what an agent did under a lease that it holds counts: %s", got.Why)
		cell := [2]int{x.Pane, test}
		reported[cell] = append(reported[cell], v)
		if rng.IntN(4) == 0 { // the answer got lost
			_, err := l.Result(r)
			require.NoError(t, err)
		}
		if a.done[fence]++; a.done[fence] == len(x.Tests) {
			delete(a.held, fence)
		}
	}
	take := func() {
		for _, a := range agents {
			live := l.granted(a.name)
			maps.DeleteFunc(a.held, func(fence int64, _ grant) bool { _, ok := live[fence]; return !ok })
			for fence, x := range live {
				if _, known := a.held[fence]; !known {
					a.held[fence], a.done[fence] = x, 0
				}
			}
		}
	}
	for step := 0; ; step++ {
		require.Less(t, step, 2000, "the run does not end")
		take()
		a := agents[rng.IntN(len(agents))]
		fences := slices.Sorted(maps.Keys(a.held))
		if now, err := l.Run(t.Context(), run.Number); err == nil && now.State == api.Ended {
			break
		}
		switch what := rng.IntN(14); {
		case what == 0: // the service is killed; agents come back with what they hold
			require.NoError(t, l.Close())
			l.reopen()
			for _, a := range agents {
				l.joinAs(a.name, a.instance, slices.Sorted(maps.Keys(a.held))...)
			}
		case what == 2 && len(fences) > 0: // it is killed before an order reaches its agent
			report(a, fences[rng.IntN(len(fences))])
			require.NoError(t, l.Close())
			l.reopen()
			for _, a := range agents {
				l.joinAs(a.name, a.instance, slices.Sorted(maps.Keys(a.held))...)
			}
		case what == 1 && step < 300: // an agent dies and is started again
			for _, fence := range fences {
				x := a.held[fence]
				faults[[2]int{x.Pane, x.Tests[a.done[fence]]}]++
				require.NoError(t, l.Started(link.Started{Fence: fence, Test: x.Tests[a.done[fence]]}))
			}
			a.held = map[int64]grant{}
			a.instance += "'"
			l.joinAs(a.name, a.instance)
			require.NoError(t, l.WakeAgent(a.name))
		case len(fences) > 0:
			report(a, fences[rng.IntN(len(fences))])
		}
	}
	done, err := l.Run(t.Context(), run.Number)
	require.NoError(t, err)
	for p := range done.Panes {
		for i := range done.Tests {
			cell := [2]int{p, i}
			res, err := l.TestOfRun(t.Context(), run.Number, i)
			require.NoError(t, err)
			var all, counted []verdict.Verdict
			for k, a := range res.Results[p].Attempts {
				require.Equal(t, k+1, a.Number)
				all = append(all, a.Verdict)
				if a.Verdict != verdict.LabFault {
					counted = append(counted, a.Verdict)
				}
			}
			require.Equal(t, reported[cell], counted, "cell %v", cell)
			require.Equal(t, faults[cell], len(res.Results[p].Attempts)-len(counted), "cell %v has a fault of the lab that nobody made", cell)
			require.Equal(t, verdict.OfAttempts(all), done.Cells[p][i].Verdict)
		}
	}
	require.Zero(t, done.Counts[verdict.Pending])

	// A wall that is lost is drawn from the records again, as it was.
	row, err := l.store.RunByNumber(t.Context(), run.Number)
	require.NoError(t, err)
	w, err := l.store.WholeRun(t.Context(), run.Number)
	require.NoError(t, err)
	again, err := results.RunOf(row, w)
	require.NoError(t, err)
	for _, v := range []*api.Run{&done, &again} {
		api.Fill(v)
		for i := range v.Panes {
			slices.Sort(v.Panes[i].Agents)
		}
	}
	require.True(t, assert.ObjectsAreEqual(done, again))
}
