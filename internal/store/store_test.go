package store

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func open(t *testing.T) *Store {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func token(id string) Token { return Token{ID: id, Name: id, Role: "viewer", Hash: []byte(id)} }

func TestABatchIsAppliedWholeOrNotAtAll(t *testing.T) {
	s := open(t)
	require.NoError(t, s.Write(AddToken(token("a"))))
	err := s.Write(AddToken(token("b")), DropToken("nobody"))
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

func TestRunsAreFilteredAndWhole(t *testing.T) {
	s := open(t)
	for i, suite := range []string{"desk", "gate", "desk"} {
		r := Run{ID: fmt.Sprint("r", i+1), Number: i + 1, Project: "saltmarsh", Suite: suite, Vars: "{}", Request: "{}", Counts: "{}", Plan: "{}", By: "50%_off", CreatedAt: int64(i)}
		require.NoError(t, s.Write(AddRun(r, Whole{Panes: []Pane{{Index: 0, Key: "k", Label: "l", Values: "{}", Needs: "{}"}},
			Tests:   []Test{{Index: 0, Name: "t", Tags: "[]", Locks: "[]"}, {Index: 1, Name: "u", Tags: "[]", Locks: "[]"}},
			Results: []Result{{Test: 0}, {Test: 1}}})...))
	}
	require.NoError(t, s.Write(EndRun("r1", "passed", `{"passed":2}`, 9)))
	require.ErrorIs(t, s.Write(EndRun("r1", "failed", "{}", 10)), ErrGuard, "a run ends once")
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
	a := Attempt{ID: "a", RunID: "r2", Test: 1, Number: 1, Fence: 1, Verdict: "failed", Detail: `{"steps":[]}`}
	require.NoError(t, s.Write(append(AddAttempt(a, []File{{Name: "failure.png", Kind: "screenshots"}}), AddLease(Lease{Fence: 7, RunID: "r2", Tests: "[1]"}))...))
	require.NoError(t, s.Write(Settle("r2", 0, []int{1}, "failed", "")))
	require.ErrorIs(t, s.Write(Settle("r2", 0, []int{0, 1}, "passed", "")), ErrGuard, "a test is settled once")
	w, err := s.WholeRun(t.Context(), "r2")
	require.NoError(t, err)
	assert.Len(t, w.Results, 2)
	assert.Equal(t, "failed", w.Results[1].Verdict)
	assert.Empty(t, w.Attempts[0].Detail)
	assert.Equal(t, int64(7), w.Leases[0].Fence)
	as, err := s.AttemptsOf(t.Context(), "r2", 1)
	require.NoError(t, err)
	assert.JSONEq(t, a.Detail, as[0].Detail)
	fs, err := s.FilesOfRun(t.Context(), "r2", "screenshots")
	require.NoError(t, err)
	assert.Len(t, fs, 1)
	number, fence, err := s.LastNumbers(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 7}, []int64{int64(number), fence})
}
