package agent_test

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine/standin"
	"parallelpane/internal/service"
)

func TestASweepLeavesVerdictsAlone(t *testing.T) {
	o, site := opened(t, t.TempDir(), "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 2)
	r := o.runner("build", api.Runner)
	var ids []string
	for _, v := range []string{"passed", "failed"} {
		id := r.open(`{"project":"saltmarsh","test":"` + v + `"}`)
		r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
		r.do("POST", "/session/"+id+"/pane/verdict", `{"verdict":"`+v+`"}`)
		r.do("DELETE", "/session/"+id, "")
		ids = append(ids, id)
	}
	passed, failed := o.over(ids[0]), o.over(ids[1])
	require.NotEmpty(t, passed.Files)
	require.NoError(t, o.svc.SetProject(api.ProjectSettings{Name: "saltmarsh", Record: record.Policy{},
		Keep: []retain.Rule{{Verdict: verdict.Passed, Days: 1e-9}}}))
	dry, err := o.svc.Sweep(t.Context(), true)
	require.NoError(t, err)
	assert.Equal(t, []int{len(passed.Files), len(failed.Files)}, []int{dry.Count, dry.Left})
	_, f, err := o.svc.OpenFile(t.Context(), attempt.Of(ids[0]), firstFile(passed))
	require.NoError(t, err, "a dry run removes nothing")
	f.Close()
	done, err := o.svc.Sweep(t.Context(), false)
	require.NoError(t, err)
	assert.Equal(t, dry.Files, done.Files)
	s := o.over(ids[0])
	assert.Empty(t, s.Files)
	assert.Equal(t, verdict.Passed, s.Verdict)
	_, _, err = o.svc.OpenFile(t.Context(), attempt.Of(ids[0]), firstFile(passed))
	assert.Error(t, err)
	_, f, err = o.svc.OpenFile(t.Context(), attempt.Of(ids[1]), firstFile(failed))
	require.NoError(t, err, "what others have stays, even with the same contents")
	f.Close()
	again, err := o.svc.Sweep(t.Context(), false)
	require.NoError(t, err)
	assert.Zero(t, again.Count)
	assert.Error(t, o.svc.SetProject(api.ProjectSettings{Name: "saltmarsh", Keep: []retain.Rule{{Kind: "film", Days: 1}}}))
}

func firstFile(s api.Session) string { return s.Files[0].Name }

func TestWithoutRoomVerdictsAreKeptAndRecordingsAreNot(t *testing.T) {
	o, site := openedWith(t, service.Config{Dir: t.TempDir(), Log: slog.New(slog.DiscardHandler), Tick: 50 * time.Millisecond,
		MinFree: 1 << 62}, "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 1)
	r := o.runner("build", api.Runner)
	assert.Contains(t, o.svc.Storage().Full, "The service's disk is nearly full")
	id := r.open(`{"test":"Tides","record":"always"}`)
	r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
	r.do("POST", "/session/"+id+"/pane/verdict", `{"verdict":"failed","message":"the tide was out"}`)
	r.do("DELETE", "/session/"+id, "")
	s := o.over(id)
	assert.Equal(t, []string{"failed", "the tide was out"}, []string{string(s.Verdict), s.Message})
	assert.Empty(t, s.Files)
}
