package lab

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// A write that the records do not allow costs the run that it is about, and no other:
// it is set aside with the reason, its leases are taken back, and the lab goes on.
func TestWhatTheRecordsRefuseIsSetAside(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	bad := y.submit(2, 1, api.RunRequest{})
	held := y.granted("quay")
	require.NotEmpty(t, held)
	good := y.submit(1, 1, api.RunRequest{})
	var first grant
	for _, first = range held {
	}
	require.NoError(t, y.store.Write(store.Do(`INSERT INTO attempts (run, pane, test, number, id, sessions, fence, agent, verdict,
		started_at, took_ms, opened_ms, ran_on) VALUES (?, ?, ?, 1, 'somebody else', 0, 0, 0, 1, 0, 0, 0, 0)`,
		bad.Number, first.Pane, first.Tests[0])))
	w := y.Watch("")
	defer w.Close()
	_, err := y.Result("quay", link.Result{ID: first.ids[0], Fence: first.Fence, Test: first.Tests[0], Verdict: verdict.Passed,
		StartedAt: y.now.UnixMilli()})
	require.ErrorContains(t, err, "the records did not allow this")
	run, err := y.Run(t.Context(), bad.Number)
	require.NoError(t, err)
	assert.Equal(t, []any{api.Ended, verdict.LabFault}, []any{run.State, run.Verdict})
	assert.Contains(t, run.Why, "set aside: the record is not in the expected state")
	for range 3 {
		for _, g := range y.granted("quay") {
			require.NotEqual(t, bad.ID, g.Run, "its leases are taken back")
			for i, test := range g.Tests {
				got, err := y.Result("quay", link.Result{ID: g.ids[i], Fence: g.Fence, Test: test, Verdict: verdict.Passed,
					StartedAt: y.now.UnixMilli()})
				require.NoError(t, err)
				require.True(t, got.Accepted)
			}
		}
	}
	other, err := y.Run(t.Context(), good.Number)
	require.NoError(t, err)
	assert.Equal(t, verdict.Passed, other.Verdict)
	y.reopen()
	again, err := y.Run(t.Context(), bad.Number)
	require.NoError(t, err)
	assert.Equal(t, run.Counts, again.Counts)
}

// So with a session of a runner: its client is told, and its run ends.
func TestASessionThatTheRecordsRefuse(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	x := y.session("nightly", "Tides")
	require.NoError(t, y.store.Write(store.Do(`INSERT INTO attempts (run, pane, test, number, id, sessions, fence, agent, verdict,
		started_at, took_ms, opened_ms, ran_on) VALUES (?, ?, ?, 1, 'somebody else', 0, 0, 0, 1, 0, 0, 0, 0)`, x.row.Run, x.pane, x.test)))
	res := y.resultOf(x, verdict.Passed)
	y.mu.Lock()
	accepted, e := y.remoteResultLocked(x, res, walls.Pack(res.Detail))
	y.mu.Unlock()
	require.True(t, accepted)
	require.ErrorContains(t, y.carryOut(e), "the records did not allow this")
	run, err := y.Run(t.Context(), x.row.Run)
	require.NoError(t, err)
	assert.Equal(t, api.Ended, run.State)
	s, err := y.Session(t.Context(), x.row.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{endedState, verdict.LabFault}, []any{s.State, s.Verdict})
	assert.True(t, strings.HasPrefix(s.Message, "set aside: "), s.Message)
	next := y.session("nightly", "Ebb")
	res = y.resultOf(next, verdict.Passed)
	y.mu.Lock()
	_, e = y.remoteResultLocked(next, res, walls.Pack(res.Detail))
	y.mu.Unlock()
	require.NoError(t, y.carryOut(e), "the next session is not kept from its end by it")
}

// On start everything is taken up by itself: a record that cannot be read costs what
// it is about.
func TestRecordsThatCannotBeReadAtTheStart(t *testing.T) {
	y := openYard(t, t.TempDir())
	y.join("quay")
	y.join("tern")
	bad, good := y.submit(1, 1, api.RunRequest{}), y.submit(1, 1, api.RunRequest{})
	_, err := y.SetQuota(t.Context(), api.QuotaRequest{Kind: "project", Name: "saltmarsh", Slots: 1})
	require.NoError(t, err)
	require.NoError(t, y.store.Write(store.Do(`UPDATE panes SET needs_json = '{' WHERE run = ?`, bad.Number),
		store.Do(`UPDATE agents SET machine_json = 'x' WHERE name = 'tern'`), store.Do(`UPDATE quotas SET values_json = 'x'`)))
	y.reopen()
	run, err := y.Run(t.Context(), good.Number)
	require.NoError(t, err)
	assert.NotEqual(t, api.Ended, run.State)
	assert.Len(t, y.Agents(), 1)
	y.join("tern")
	assert.Len(t, y.Agents(), 2)
}
