package agent_test

import (
	"io"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine/standin"
	"parallelpane/internal/link"
)

func TestManyWatchOneSession(t *testing.T) {
	o, site := opened(t, t.TempDir(), "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 1)
	r := o.runner("build", api.Runner)
	id := r.open(`{"test":"Tides"}`)
	before, err := o.svc.Picture(t.Context(), id, 0)
	require.NoError(t, err)
	assert.Equal(t, []any{1, "image/png"}, []any{before.Number, before.Media})
	assert.NotEmpty(t, before.Image)
	again, err := o.svc.Picture(t.Context(), id, 0)
	require.NoError(t, err)
	assert.Equal(t, before, again, "a picture that is known already is not taken again")

	var all sync.WaitGroup
	numbers := make([]int, 20)
	for i := range numbers {
		all.Go(func() {
			p, err := o.svc.Picture(t.Context(), id, 1)
			if assert.NoError(t, err) {
				numbers[i] = p.Number
			}
		})
	}
	r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
	all.Wait()
	for _, n := range numbers {
		assert.Greater(t, n, 1, "whoever waits gets the picture of the page that came")
	}
	commands, err := o.svc.SoFar(id, "commands", 0)
	require.NoError(t, err)
	assert.NotContains(t, string(commands), "Take Screenshot", "looking is nobody's command")
	assert.Contains(t, string(commands), "Navigate To")
	rest, err := o.svc.SoFar(id, "commands", 1)
	require.NoError(t, err)
	assert.Empty(t, rest)
	_, err = o.svc.SoFar(id, "network", 0)
	assert.ErrorContains(t, err, "not recorded here")
	r.do("DELETE", "/session/"+id, "")
	o.over(id)
	_, err = o.svc.Picture(t.Context(), id, 1000)
	assert.ErrorContains(t, err, "is not open")
}

func TestASessionIsReachedIntoAndLetGo(t *testing.T) {
	o, site := opened(t, t.TempDir(), "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 1)
	r := o.runner("build", api.Runner)
	id := r.open(`{"test":"Tides","idleLimit":30}`)
	r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
	tern, gull := api.Who{Name: "tern"}, api.Who{Name: "gull"}
	hand := func(who api.Who, h link.Hand) (string, error) { return o.svc.ByHand(who, id, h) }
	_, err := hand(tern, link.Hand{Do: "type", Text: "x"})
	assert.ErrorContains(t, err, "reach into the session first")
	_, err = hand(tern, link.Hand{Do: "reach"})
	require.NoError(t, err)
	_, err = hand(gull, link.Hand{Do: "reach"})
	assert.ErrorContains(t, err, "tern has reached into the session")
	held := make(chan answer, 1)
	go func() { a, _ := r.try(t.Context(), "GET", "/session/"+id+"/title", ""); held <- a }()

	source, err := hand(tern, link.Hand{Do: "source"})
	require.NoError(t, err)
	assert.Contains(t, source, "Berths")
	for _, h := range []link.Hand{{Do: "click", X: 0.1, Y: 0.1}, {Do: "scroll", X: 0.5, Y: 0.5, DeltaY: 100},
		{Do: "type", Text: "Osprey"}, {Do: "key", Key: "Tab"}} {
		_, err := hand(tern, h)
		assert.NoError(t, err, "%+v", h)
	}
	for says, h := range map[string]link.Hand{
		"from 0 to 1": {Do: "click", X: 2}, "expected 1 to 2000 characters": {Do: "type"}, "there is no key": {Do: "key", Key: "Hyper"},
		"nothing is called": {Do: "dance"},
	} {
		_, err := hand(tern, h)
		assert.ErrorContains(t, err, says)
	}
	select {
	case a := <-held:
		t.Fatalf("the client's command was not held: %s", a.value)
	default:
	}
	_, err = hand(gull, link.Hand{Do: "let-go"})
	assert.ErrorContains(t, err, "you have not reached into the session", "nobody else lets it go")
	_, err = hand(tern, link.Hand{Do: "let-go"})
	require.NoError(t, err)
	assert.Equal(t, 200, (<-held).status)
	commands, err := o.svc.SoFar(id, "commands", 0)
	require.NoError(t, err)
	assert.Contains(t, string(commands), `"by":"tern"`)
	r.do("DELETE", "/session/"+id, "")
	_, f, err := o.svc.OpenFile(t.Context(), attempt.Of(o.over(id).ID), "agent.log")
	require.NoError(t, err)
	defer f.Close()
	log := make([]byte, 4096)
	n, _ := f.Read(log)
	assert.Contains(t, string(log[:n]), "tern reached into the session")
	_, err = hand(tern, link.Hand{Do: "reach"})
	assert.ErrorContains(t, err, "is not open")
}

// theOpenOne waits until one session is open.
func (o *office) theOpenOne() api.SessionSummary {
	o.t.Helper()
	var open []api.SessionSummary
	o.until(func() bool {
		open, _ = o.svc.Sessions(o.t.Context(), api.SessionFilter{State: "open"})
		return len(open) == 1
	})
	return open[0]
}

func TestAScriptsSessionCanBeWatchedToo(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	hold := make(chan struct{})
	p.set(func() { p.hold = hold })
	o.work(p, "quay", 1)
	number := o.run(1, "  - expect: {title: Harbour}\n")
	open := o.theOpenOne()
	s, err := o.svc.Session(t.Context(), open.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"script", "open", "T0", "quay", "chromium"}, []string{s.Kind, s.State, s.Test, s.Agent, s.Browser})
	for _, tc := range []struct {
		api.SessionFilter
		want int
	}{{api.SessionFilter{Text: "t0"}, 1}, {api.SessionFilter{Browser: "firefox"}, 0}, {api.SessionFilter{Kind: "remote"}, 0},
		{api.SessionFilter{Run: number}, 1}, {api.SessionFilter{Verdict: "failed"}, 0}, {api.SessionFilter{Tag: "none"}, 0},
		{api.SessionFilter{Agent: "quay"}, 1}, {api.SessionFilter{Among: []string{"marina"}}, 0},
		{api.SessionFilter{Among: []string{"saltmarsh"}}, 1}} {
		got, err := o.svc.Sessions(t.Context(), tc.SessionFilter)
		require.NoError(t, err)
		assert.Len(t, got, tc.want, "%+v", tc.SessionFilter)
	}
	assert.ErrorContains(t, o.svc.EndSession(t.Context(), api.Who{}, open.ID), "serves a script: cancel run")
	close(hold)
	run := o.ended(number)
	assert.Equal(t, open.ID, run.Cells[0][0].Session)
	ended := o.over(open.ID)
	assert.Equal(t, "its script ended", ended.End)
	assert.ErrorContains(t, o.svc.EndSession(t.Context(), api.Who{}, ended.ID), "cancel run")
	assert.ErrorContains(t, o.svc.Judge(t.Context(), api.Who{Name: "tern"}, ended.ID, link.SessionVerdict{Verdict: "passed"}),
		"has its verdict from its steps")
	for says, f := range map[string]api.SessionFilter{"unknown verdict": {Verdict: "fine"}, "state: expected": {State: "asleep"},
		"since: expected a day": {Since: "today"}} {
		_, err := o.svc.Sessions(t.Context(), f)
		assert.ErrorContains(t, err, says)
	}
}

func TestAForgottenSessionIsGivenBack(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.taken = 200 * time.Millisecond
	hold := make(chan struct{})
	p.set(func() { p.hold = hold })
	o.work(p, "quay", 1)
	number := o.run(1, "")
	open := o.theOpenOne()
	o.until(func() bool {
		_, err := o.svc.ByHand(api.Who{Name: "tern"}, open.ID, link.Hand{Do: "reach"})
		return err == nil
	})
	close(hold) // the command under way ends, and the next one waits for tern
	assert.Equal(t, verdict.Passed, o.ended(number).Verdict, "the script goes on when nobody holds it")
	_, f, err := o.svc.OpenFile(t.Context(), attempt.Of(open.ID), "agent.log")
	require.NoError(t, err)
	defer f.Close()
	log, err := io.ReadAll(f)
	require.NoError(t, err)
	assert.Contains(t, string(log), "the session was let go: tern did nothing for 200ms")
}

// Whoever begins to look sees what is shown now, not what somebody saw who looked
// before.
func TestAFirstLookIsAFreshOne(t *testing.T) {
	o, site := opened(t, t.TempDir(), "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 1)
	r := o.runner("build", api.Runner)
	id := r.open(`{"test":"Tides"}`)
	before, err := o.svc.Picture(t.Context(), id, 0)
	require.NoError(t, err)
	r.do("POST", "/session/"+id+"/url", `{"url":"`+site.URL+`"}`)
	o.until(func() bool {
		now, err := o.svc.Picture(t.Context(), id, 0)
		return err == nil && now.Number > before.Number
	})
	r.do("DELETE", "/session/"+id, "")
}
