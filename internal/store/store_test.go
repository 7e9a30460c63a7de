package store

import (
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func open(t *testing.T) *Store {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func token(id string) Token { return Token{ID: id, Name: id, Rights: "[]", Hash: []byte(id)} }

func TestABatchIsAppliedWholeOrNotAtAll(t *testing.T) {
	s := open(t)
	require.NoError(t, s.Write(AddToken(token("a"))))
	err := s.Write(append(DropToken("nobody"), AddToken(token("b")))...)
	require.ErrorIs(t, err, ErrGuard)
	ts, err := s.Tokens(t.Context())
	require.NoError(t, err)
	require.Len(t, ts, 1, "the first statement of the failed batch is undone")
	_, err = s.TokenByHash(t.Context(), []byte("b"))
	assert.ErrorIs(t, err, ErrNotFound)
}

func TestManyWritersAtOnceLoseNothing(t *testing.T) {
	s := open(t)
	var wg sync.WaitGroup
	for i := range 300 {
		wg.Go(func() {
			err := s.Write(AddToken(token(fmt.Sprintf("t%d", i%250))))
			if i < 250 && err != nil {
				assert.Error(t, err) // one of the two with this id; its twin has won
			}
		})
	}
	wg.Wait()
	ts, err := s.Tokens(t.Context())
	require.NoError(t, err)
	assert.Len(t, ts, 250)
}

func TestClosedStoreRefuses(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	require.NoError(t, err)
	p := s.Enqueue(AddToken(token("last")))
	require.NoError(t, s.Close())
	require.NoError(t, p.Wait(), "what was taken before is written")
	require.ErrorIs(t, s.Write(AddToken(token("late"))), ErrClosed)
	again, err := Open(dir)
	require.NoError(t, err)
	defer again.Close()
	_, err = again.TokenByHash(t.Context(), []byte("last"))
	assert.NoError(t, err)
}

// tried is an attempt that says little.
func tried(id string, run, pane, test, number int, verdict string) Attempt {
	return Attempt{ID: id, Run: run, Pane: pane, Test: test, Number: number, Sessions: 1, Agent: "quay", Verdict: verdict,
		RanOn: `{"browser":"firefox"}`, Detail: Detail{Body: []byte("own")}}
}

func script(number int, suite string) Run {
	return Run{ID: fmt.Sprint("r", number), Number: number, Kind: "script", Project: "saltmarsh", Suite: suite, Matrix: "wall", Vars: "{}",
		Request: "{}", Counts: "{}", Plan: "{}",
		By: "50%_off", CreatedAt: int64(number) * 86_400_000}
}

func onePane() []Pane {
	return []Pane{{Key: "k", Label: "l", Values: `{"browser":"firefox"}`, Needs: "{}"}}
}

func twoTests() []Test {
	return []Test{{Index: 0, Name: "t", Tags: "[]", Locks: "[]"}, {Index: 1, Name: "u", Tags: "[]", Locks: "[]"}}
}

func TestRunsAreFilteredAndWhole(t *testing.T) {
	s := open(t)
	for i, suite := range []string{"desk", "gate", "desk"} {
		require.NoError(t, s.Write(AddRun(script(i+1, suite), onePane(), twoTests())...))
	}
	require.NoError(t, s.Write(EndRun(1, "passed", `{"passed":2}`, `[{"label":"l"}]`, 9)))
	require.ErrorIs(t, s.Write(EndRun(1, "failed", "{}", "[]", 10)), ErrGuard, "a run ends once")
	for want, f := range map[string]RunFilter{
		"[3 2 1]": {}, "[3 1]": {Suite: "desk"}, "[1]": {Verdict: "passed"}, "[3 2]": {State: "open"},
		"[2]": {Text: "gate"}, "[2 1]": {Before: 3}, "[]": {Text: "50_off"},
	} {
		f.Limit = 10
		rs, err := s.Runs(t.Context(), f)
		require.NoError(t, err)
		numbers := []int{}
		for _, r := range rs {
			numbers = append(numbers, r.Number)
		}
		assert.Equal(t, want, fmt.Sprint(numbers), "%+v", f)
	}
	a := tried("a", 2, 0, 1, 1, "failed")
	require.NoError(t, s.Write(append(AddAttempt(a, []File{{Name: "failure.png", Kind: "screenshots", Hash: "0a"}}),
		AddLease(Lease{Fence: 7, Run: 2, Tests: "[1]"}))...))
	settled := Cell{Run: 2, Test: 1, Verdict: "failed", Attempts: 1, TookMS: 5, Agent: "quay", Message: "wet"}
	require.NoError(t, s.Write(Settle(settled)...))
	require.Error(t, s.Write(SettleUntried(2, 0, []int{0, 1}, "skipped", "")...), "a test is settled once")
	require.ErrorIs(t, s.Write(SettleUntried(2, 0, []int{0, 5}, "skipped", "")...), ErrGuard, "a test that there is not is not settled")
	w, err := s.WholeRun(t.Context(), 2)
	require.NoError(t, err)
	assert.Equal(t, []Cell{settled}, w.Cells)
	assert.Empty(t, w.Attempts[0].Body)
	assert.Equal(t, []any{"t", "u", `{"browser":"firefox"}`}, []any{w.Tests[0].Name, w.Tests[1].Name, w.Panes[0].Values})
	assert.Equal(t, int64(7), w.Leases[0].Fence)
	as, err := s.AttemptsOf(t.Context(), 2, 1)
	require.NoError(t, err)
	assert.Equal(t, []Attempt{a}, as)
	fs, err := s.FilesOfRun(t.Context(), 2, "screenshots")
	require.NoError(t, err)
	assert.Len(t, fs, 1)
	require.NoError(t, s.Write(EndLease(7)))
	number, fence, err := s.LastNumbers(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 7}, []int64{int64(number), fence}, "a fence is not used again when its lease is forgotten")
}

func TestAWallIsKeptUntilItsRunIsRevised(t *testing.T) {
	s := open(t)
	require.NoError(t, s.Write(AddRun(script(1, "desk"), onePane(), twoTests())...))
	wall := func() string {
		body, err := s.Wall(t.Context(), 1)
		if err != nil {
			require.ErrorIs(t, err, ErrNotFound)
		}
		return string(body)
	}
	require.NoError(t, s.Write(KeepWall(1, 0, []byte("early"))))
	assert.Empty(t, wall(), "a run that goes on has none")
	require.NoError(t, s.Write(EndRun(1, "passed", "{}", "[]", 9), KeepWall(1, 0, []byte("first"))))
	assert.Equal(t, "first", wall())
	require.NoError(t, s.Write(append(ReviseRun(1, "failed", "{}", "[]"), KeepWall(1, 0, []byte("drawn before")))...))
	assert.Empty(t, wall(), "it is not what the run is now")
	require.NoError(t, s.Write(KeepWall(1, 1, []byte("second"))))
	assert.Equal(t, "second", wall())
	require.NoError(t, s.Write(ReopenRun(1)...))
	assert.Empty(t, wall())
}

// What many attempts say alike is stored once, and each still says all of it.
func TestWhatAttemptsShareIsStoredOnce(t *testing.T) {
	s := open(t)
	require.NoError(t, s.Write(AddRun(script(1, "desk"), onePane(), twoTests())...))
	for i := range 4 {
		a := tried(fmt.Sprint("a", i), 1, 0, i%2, 1+i/2, "passed")
		a.Detail = Detail{Steps: []byte("steps of " + fmt.Sprint(i%2)), Setup: []byte("firefox"), Body: []byte{byte(i)}}
		require.NoError(t, s.Write(AddAttempt(a, nil)...))
		got, err := s.AttemptByID(t.Context(), a.ID)
		require.NoError(t, err)
		require.Equal(t, a, got)
	}
	var n int
	require.NoError(t, s.read.Get(&n, `SELECT COUNT(*) FROM shared`))
	assert.Equal(t, 3, n)
	changed := Detail{Setup: []byte("chromium"), Body: []byte("other")}
	require.NoError(t, s.Write(Amend("a3", changed)...))
	got, err := s.AttemptByID(t.Context(), "a3")
	require.NoError(t, err)
	assert.Equal(t, changed, got.Detail)
}

// Whatever comes of cells, in whatever order and however often it changes, the
// counts by day are those of the cells as they stand.
func TestDailyCountsAreThoseOfTheCells(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		s, err := Open(dir)
		require.NoError(rt, err)
		defer s.Close()
		for number := range 3 {
			r := script(number+1, "desk")
			r.Kind, r.CreatedAt = "remote", int64(number/2)*86_400_000
			batch := AddRun(r, onePane(), twoTests())
			for test := range 2 {
				batch = append(batch, AddCell(r, nil, nil, 0, test)...)
			}
			require.NoError(rt, s.Write(batch...))
		}
		now := map[[2]int]Cell{} // by run and test
		for range rapid.IntRange(1, 12).Draw(rt, "changes") {
			c := Cell{Run: rapid.IntRange(1, 3).Draw(rt, "run"), Test: rapid.IntRange(0, 1).Draw(rt, "test"), Attempts: 1,
				Verdict: rapid.SampledFrom([]string{"", "passed", "failed", "flaky", "ended"}).Draw(rt, "verdict")}
			now[[2]int{c.Run, c.Test}] = c
			require.NoError(rt, s.Write(Regard(c)...))
		}
		wanted := map[string]int{}
		for at, c := range now {
			if c.Verdict != "" {
				wanted[fmt.Sprint(at[1], (at[0]-1)/2, c.Verdict)]++
				wanted[fmt.Sprint("all", (at[0]-1)/2, c.Verdict)]++
			}
		}
		got := map[string]int{}
		for i, name := range []string{"t", "u"} {
			days, err := s.DaysOfTest(t.Context(), "saltmarsh", "", name)
			require.NoError(rt, err)
			for _, d := range days {
				got[fmt.Sprint(i, d.Day, d.Verdict)] += d.Count
			}
		}
		days, err := s.DaysOfCombination(t.Context(), "saltmarsh", "k")
		require.NoError(rt, err)
		for _, d := range days {
			got[fmt.Sprint("all", d.Day, d.Verdict)] += d.Count
		}
		require.Equal(rt, wanted, got)
		last := map[int]map[string]bool{} // by test, what each run came to
		for at, c := range now {
			if c.Verdict != "" {
				if last[at[1]] == nil {
					last[at[1]] = map[string]bool{}
				}
				letter := map[string]string{"passed": "P", "failed": "F", "flaky": "Y", "ended": "N"}[c.Verdict]
				last[at[1]][fmt.Sprintf("%s%06x", letter, at[0])] = true
			}
		}
		past, err := s.PastOf(t.Context(), 1)
		require.NoError(rt, err)
		kept := map[int]map[string]bool{}
		for _, p := range past {
			for i := 0; i < len(p.Runs); i += 7 {
				if kept[p.Test] == nil {
					kept[p.Test] = map[string]bool{}
				}
				kept[p.Test][p.Runs[i:i+7]] = true
			}
		}
		require.Equal(rt, last, kept)
	})
}

func TestThePastIsOfTheLastTwentyRuns(t *testing.T) {
	s := open(t)
	for i := range 30 {
		require.NoError(t, s.Write(append(AddRun(script(i+1, "desk"), onePane(), twoTests()),
			append(Settle(Cell{Run: i + 1, Verdict: []string{"passed", "failed", "aside"}[i%3], Attempts: i % 2}),
				Settle(Cell{Run: i + 1, Test: 1, Verdict: "lab-fault", Attempts: 1})...)...)...))
	}
	past, err := s.PastOf(t.Context(), 30)
	require.NoError(t, err)
	require.Len(t, past, 2)
	assert.Equal(t, "A00001eP00001c", past[0].Runs[:14], "what nobody tried is not told")
	assert.Len(t, past[0].Runs, 15*7)
	assert.Len(t, past[1].Runs, 20*7)
	assert.Equal(t, "L00001eL00001d", past[1].Runs[:14])
}

func TestEstimatesRememberTheLatest(t *testing.T) {
	s := open(t)
	for i := range 12 {
		a := tried(fmt.Sprint("a", i), i+1, 0, 0, 1, []string{"passed", "lab-fault"}[i%2])
		a.TookMS = int64(16 + i)
		require.NoError(t, s.Write(append(append(AddRun(script(i+1, "desk"), onePane(), twoTests()), AddAttempt(a, nil)...),
			Settle(Cell{Run: i + 1, Verdict: a.Verdict, Attempts: 1})...)...))
	}
	for range 2 {
		es, err := s.Estimates(t.Context(), "saltmarsh", "desk")
		require.NoError(t, err)
		require.Len(t, es, 1)
		assert.Equal(t, Estimate{"t", "k", "firefox", "00001a" + "000018" + "000016" + "000014" + "000012" + "000010", 11}, es[0],
			"what the lab failed says nothing")
	}
	for i := range 9 {
		a := tried(fmt.Sprint("b", i), 12, 0, 0, 2+i, "failed")
		a.TookMS = 1 << 40
		require.NoError(t, s.Write(AddAttempt(a, nil)...))
	}
	es, err := s.Estimates(t.Context(), "saltmarsh", "desk")
	require.NoError(t, err)
	assert.Equal(t, strings.Repeat("ffffff", 9), es[0].Recent)
	ms, err := s.LatestDurations(t.Context(), 100)
	require.NoError(t, err)
	assert.Len(t, ms, 15)
	first, err := s.RunBefore(t.Context(), "saltmarsh", "desk", "wall", 3)
	require.NoError(t, err)
	assert.Equal(t, 10, first)
}

// A run of a thousand tests is settled by a look at each, not at each for each: the
// list is read once, and the tables are searched.
func TestWhatNobodyTriedIsSettledByOneLookAtEach(t *testing.T) {
	s := open(t)
	require.NoError(t, s.Write(AddRun(script(1, "desk"), onePane(), twoTests())...))
	for _, st := range SettleUntried(1, 0, []int{0, 1}, "skipped", "") {
		if st.Want < 0 {
			continue
		}
		var steps []struct {
			ID, Parent, NotUsed int
			Detail              string
		}
		require.NoError(t, s.read.Select(&steps, "EXPLAIN QUERY PLAN "+st.SQL, st.Args...))
		assert.Contains(t, steps[0].Detail, "SCAN x")
		for _, step := range steps[1:] {
			assert.NotContains(t, step.Detail, "SCAN", step.Detail)
		}
	}
}

// While the disk is full nothing is lost and nothing fails: what was taken is written
// when there is room again, in its order, and meanwhile the store says why it waits.
func TestADiskThatIsFullIsWaitedOut(t *testing.T) {
	s := open(t)
	var pages int
	require.NoError(t, s.read.Get(&pages, "PRAGMA page_count"))
	full := func(pages int) {
		_, err := s.write.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages))
		require.NoError(t, err)
	}
	full(pages)
	var all []*Pending
	for i := range 300 {
		x := token(fmt.Sprintf("t%03d", i))
		x.Name = strings.Repeat("n", 1000)
		all = append(all, s.Enqueue(AddToken(x)))
	}
	require.Eventually(t, func() bool { return s.Trouble() != nil }, 5*time.Second, time.Millisecond)
	assert.ErrorContains(t, s.Trouble(), "nothing can be put on record since")
	assert.Error(t, s.Sync(), "nobody is told that what was taken is on disk")
	assert.Error(t, s.Ping(t.Context()))
	_, err := s.Tokens(t.Context())
	require.NoError(t, err, "what there is can be read")
	full(1 << 20)
	for _, p := range all {
		require.NoError(t, p.Wait())
	}
	require.NoError(t, s.Trouble())
	ts, err := s.Tokens(t.Context())
	require.NoError(t, err)
	assert.Len(t, ts, 300)

	full(1)
	p := s.Enqueue(AddToken(token("last")), Do(`UPDATE tokens SET name = ?`, strings.Repeat("x", 1<<20)))
	require.Eventually(t, func() bool { return s.Trouble() != nil }, 5*time.Second, time.Millisecond)
	s.GiveUp()
	assert.ErrorContains(t, p.Wait(), "full", "a store that is closed waits no longer")
}

// A batch that breaks a rule of the records says which statement did.
func TestARefusalNamesItsStatement(t *testing.T) {
	s := open(t)
	require.NoError(t, s.Write(AddToken(token("a"))))
	err := s.Write(AddToken(token("a")))
	require.ErrorIs(t, err, ErrGuard)
	assert.ErrorContains(t, err, "INSERT INTO tokens")
	assert.ErrorContains(t, err, "UNIQUE constraint failed: tokens.")
	require.NoError(t, s.Write(AddToken(token("b"))), "and the next is written")
}

// An agent that says something else of its browsers again and again fills no disk.
func TestChangesOfBrowsersAreBounded(t *testing.T) {
	s := open(t)
	var batch []Stmt
	for i := range maxBrowserChanges + 10 {
		batch = append(batch, AddBrowserChange(BrowserChange{At: int64(i + 1), Agent: "quay", Browser: "chromium", Version: "1.0"}, 0)...)
	}
	require.NoError(t, s.Write(batch...))
	all, err := s.BrowserChanges(t.Context(), 2*maxBrowserChanges)
	require.NoError(t, err)
	assert.Len(t, all, maxBrowserChanges)
	assert.EqualValues(t, maxBrowserChanges+10, all[0].At)
	require.NoError(t, s.Write(AddBrowserChange(BrowserChange{At: 9000, Agent: "quay"}, 9000)...))
	all, err = s.BrowserChanges(t.Context(), 10)
	require.NoError(t, err)
	assert.Len(t, all, 1, "old ones are forgotten")
}
