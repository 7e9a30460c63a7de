package httpapi_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/verdict"
)

// post sends JSON and wants a success.
func (x *yard) post(path string, body, out any) {
	x.t.Helper()
	a := x.do("POST", "/api/v1"+path, x.token, body)
	require.Less(x.t, a.status, 300, string(a.body))
	if out != nil {
		require.NoError(x.t, json.Unmarshal(a.body, out))
	}
}

// refused sends JSON and wants a problem that says something.
func (x *yard) refused(status int, want, method, path string, body any) {
	x.t.Helper()
	a := x.do(method, "/api/v1"+path, x.token, body)
	assert.Equal(x.t, status, a.status, "%s %s: %s", method, path, a.body)
	assert.Contains(x.t, a.detail(), want)
}

func TestWhyAndPlan(t *testing.T) {
	x := start(t, t.TempDir())
	x.mustJoin("quay", 2)
	var why api.Why
	x.get("/why?needs=browser%3Dfirefox+os%3Dlinux", &why)
	assert.Equal(t, []string{"quay"}, why.Idle)
	x.get("/why?needs=browser%3Dwebkitgtk+crane%3Dbig", &why)
	assert.Contains(t, why.Why, "no agent has browser=webkitgtk crane=big; nearest: quay (browser: wants webkitgtk, has chromium, "+
		"firefox; crane: wants big, has none)")
	assert.Contains(t, why.Why, "no agent has a fact called crane")
	x.refused(422, "is not a need", "GET", "/why?needs=firefox", nil)

	var plan api.PlannedMatrix
	m := combo.Matrix{Name: "m", Axes: []combo.Axis{{Name: "browser", Values: []string{"chromium", "webkitgtk"}},
		{Name: "os", Values: []string{"linux", "macos"}}}}
	x.post("/matrix/plan", map[string]any{"matrix": m}, &plan)
	require.Len(t, plan.Combinations, 4)
	assert.Equal(t, []string{"quay"}, plan.Agents[0])
	assert.Contains(t, plan.Combinations[3].Impossible, "no agent has browser=webkitgtk os=macos")
	m.Cover.Strength = 2
	x.post("/matrix/plan", map[string]any{"matrix": m}, &plan)
	assert.Len(t, plan.Combinations, 1, "a cover keeps to what the lab can do")
	x.refused(422, "no axes", "POST", "/matrix/plan", map[string]any{"matrix": combo.Matrix{Name: "m"}})
}

func TestSpreadRunsRotateAndShowWhatTheyMet(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 4)
	met := map[string]bool{}
	for turn := range 2 {
		run := x.run(api.RunRequest{Matrix: "wall", Deal: api.Spread})
		assert.Equal(t, turn, run.Plan.Turn)
		assert.Equal(t, 2, run.Counts[verdict.Pending], "each test once")
		for range 2 {
			s := h.next()
			met[s.Label+s.Tests[0].Name] = true
			h.result(s, 0, verdict.Passed)
		}
		ended := x.ended(run.Number)
		assert.Equal(t, verdict.Passed, ended.Verdict)
		dealt := 0
		for _, row := range ended.Cells {
			for _, c := range row {
				if c.State != api.Undealt {
					dealt++
				}
			}
		}
		assert.Equal(t, 2, dealt)
	}
	assert.Len(t, met, 4, "two runs meet every pair")
	var tl api.Timeline
	x.get("/runs/2/timeline", &tl)
	assert.Equal(t, api.Met{Runs: 20, Pairs: 4, Met: 4}, tl.Met)
	assert.Positive(t, tl.BoundS)
	x.refused(422, "deal: expected every or spread", "POST", "/runs", api.RunRequest{Bundle: x.bundle(), Matrix: "wall", Deal: "some"})
}

func TestRunAgain(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 8)
	run := x.run(api.RunRequest{Matrix: "wall"})
	x.refused(409, "has not ended", "POST", fmt.Sprintf("/runs/%d/again", run.Number), map[string]bool{})
	for range 4 {
		s := h.next()
		v := verdict.Passed
		if s.Label == "firefox" && s.Tests[0].Name == "Tide" {
			v = verdict.Failed
		}
		h.result(s, 0, v)
	}
	x.ended(run.Number)
	var again api.Run
	x.post(fmt.Sprintf("/runs/%d/again", run.Number), map[string]bool{"not_passed": true}, &again)
	assert.Equal(t, run.Number, again.AgainOf)
	require.Len(t, again.Panes, 1)
	s := h.next()
	require.Len(t, s.Tests, 1)
	assert.Equal(t, "Tide", s.Tests[0].Name)
	h.result(s, 0, verdict.Passed)
	x.ended(again.Number)
	x.refused(409, "nothing that did not pass", "POST", fmt.Sprintf("/runs/%d/again", again.Number), map[string]bool{"not_passed": true})
}

func TestEstimatesComeFromHistoryAndTheEndIsExpected(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 8)
	req := api.RunRequest{Bundle: x.bundle(), Matrix: "wall"}
	var p api.Preview
	x.post("/runs/preview", req, &p)
	assert.Equal(t, 4, p.Cases)
	assert.Equal(t, 4, p.Unknown)
	assert.Equal(t, []string{"Tide", "Berth"}, p.Tests)
	run := x.run(req)
	require.Eventually(t, func() bool { return x.runNow(run.Number).ExpectedAt != nil }, 5*time.Second, 10*time.Millisecond)
	for range 4 {
		h.result(h.next(), 0, verdict.Passed)
	}
	assert.Nil(t, x.ended(run.Number).ExpectedAt)
	x.post("/runs/preview", req, &p)
	assert.Zero(t, p.Unknown)
	assert.InDelta(t, 1.2, p.ExpectedS, 0.01, "each took 1.2 s, all at once")
	var f api.ForecastAnswer
	x.post("/forecasts", api.ForecastRequest{Run: run.Number, Limit: 1, More: []int{0, 1}}, &f)
	assert.InDelta(t, 4.8, f.Makespan, 0.01)
	assert.Len(t, f.WhatIf, 2)
	x.refused(422, "either a question or the number", "POST", "/forecasts", map[string]any{})
	x.refused(422, "tests: expected", "POST", "/forecasts", map[string]any{"question": map[string]any{"tests": []string{}}})
}

func (x *yard) runNow(number int) (run api.Run) {
	x.t.Helper()
	x.get(fmt.Sprintf("/runs/%d", number), &run)
	return run
}

func TestQuotasDrainAndLanes(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 8)
	x.refused(422, "only projects have one", "POST", "/quotas", api.QuotaRequest{Kind: "owner", Name: "ada", Weight: 2})
	x.refused(422, "expected values of a combination", "POST", "/quotas", api.QuotaRequest{Kind: "combination", Name: "firefox", Slots: 1})
	x.refused(404, "no quota", "DELETE", "/quotas/none", nil)
	var qs []api.Quota
	x.post("/quotas", api.QuotaRequest{Kind: "project", Name: "saltmarsh", Slots: 1}, &qs)
	require.Len(t, qs, 1)
	x.run(api.RunRequest{Matrix: "wall"})
	s := h.next()
	require.Len(t, x.svc.Agents()[0].Work, 1, "the quota holds the rest back")
	assert.Equal(t, 204, x.do("DELETE", "/api/v1/quotas/"+qs[0].ID, x.token, nil).status)
	h.next()
	require.Eventually(t, func() bool { return len(x.svc.Agents()[0].Work) == 4 }, 5*time.Second, 5*time.Millisecond)

	x.post("/agents/quay/drain", nil, nil)
	assert.Equal(t, "draining", x.svc.Agents()[0].Away)
	x.refused(404, "no agent pier", "POST", "/agents/pier/drain", nil)
	h.result(s, 0, verdict.Passed)
	dir := x.dir
	x.stop()
	again := start(t, dir)
	assert.True(t, again.svc.Agents()[0].Draining, "draining outlives the service")
	again.mustJoin("quay", 8)
	again.post("/agents/quay/resume", nil, nil)
	assert.Empty(t, again.svc.Agents()[0].Away)
}

func TestPresetsAndSchedules(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 8)
	x.refused(404, "no preset", "POST", "/presets/nightly/run", nil)
	x.refused(422, "is not a name", "POST", "/presets", api.PresetRequest{Name: "../x", Request: api.RunRequest{Bundle: x.bundle()}})
	var p api.Preset
	x.post("/presets", api.PresetRequest{Name: "nightly", Request: api.RunRequest{Bundle: x.bundle(), Matrix: "wall",
		Tags: []string{"smoke"}}}, &p)
	assert.Equal(t, "desk", p.Request.Suite)
	var run api.Run
	x.post("/presets/nightly/run", nil, &run)
	for range 2 {
		h.result(h.next(), 0, verdict.Passed)
	}
	x.ended(run.Number)
	var ps []api.Preset
	x.get("/presets", &ps)
	assert.Equal(t, 1, ps[0].Used)
	assert.Equal(t, run.Number, ps[0].LastRun)

	for want, req := range map[string]api.ScheduleRequest{
		"no preset":               {Name: "s", Preset: "x", Rule: "FREQ=DAILY"},
		"is not a time zone":      {Name: "s", Preset: "nightly", Rule: "FREQ=DAILY", Zone: "Mars/Base"},
		"overlap: expected":       {Name: "s", Preset: "nightly", Rule: "FREQ=DAILY", Overlap: "hope"},
		"never occurs":            {Name: "s", Preset: "nightly", Rule: "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"},
		"no occurrence after now": {Name: "s", Preset: "nightly", Rule: "FREQ=DAILY;COUNT=2", Start: "2020-01-01T06:30:00Z"},
		"start: expected a time":  {Name: "s", Preset: "nightly", Rule: "FREQ=DAILY", Start: "tomorrow"},
		"is not a name":           {Name: "", Preset: "nightly", Rule: "FREQ=DAILY"},
		"rule \"FREQ=SOMETIMES\"": {Name: "s", Preset: "nightly", Rule: "FREQ=SOMETIMES"},
	} {
		x.refused(map[bool]int{true: 404, false: 422}[want == "no preset"], want, "POST", "/schedules", req)
	}
	var s api.Schedule
	x.post("/schedules", api.ScheduleRequest{Name: "often", Preset: "nightly", Rule: "FREQ=SECONDLY;COUNT=2", Overlap: api.OverlapSkip}, &s)
	x.refused(409, "there is a schedule often", "POST", "/schedules", api.ScheduleRequest{Name: "often",
		Preset: "nightly", Rule: "FREQ=DAILY"})
	x.refused(409, "is used by the schedule often", "DELETE", "/presets/nightly", nil)
	h.next()
	h.next()
	var list []api.Schedule
	require.Eventually(t, func() bool {
		x.get("/schedules", &list)
		return strings.HasPrefix(list[0].LastNote, "skipped") && len(list[0].Next) == 0
	}, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, 2, list[0].LastRun)
	assert.Contains(t, list[0].LastNote, "run #2 was still going on")
	assert.Equal(t, "schedule often", x.runNow(2).By)

	x.post("/schedules", api.ScheduleRequest{Name: "weekly", Preset: "nightly",
		Rule: "FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=6;BYMINUTE=30;BYSECOND=0", Zone: "Europe/Berlin"}, &s)
	assert.Equal(t, "every Monday and Friday at 06:30, Europe/Berlin time", s.Words)
	assert.Len(t, s.Next, 5)
	feed := x.do("GET", "/api/v1/schedules.ics", "", nil, "Authorization", "Basic "+
		base64.StdEncoding.EncodeToString([]byte("calendar:"+x.token)))
	assert.Equal(t, 200, feed.status)
	assert.Equal(t, "text/calendar; charset=utf-8", feed.header.Get("Content-Type"))
	assert.Equal(t, 60, strings.Count(string(feed.body), "BEGIN:VEVENT"))
	assert.Contains(t, string(feed.body), "DTSTART:"+s.Next[0].UTC().Format("20060102T150405Z"))
	assert.NotContains(t, string(feed.body), x.token)
	denied := x.do("GET", "/api/v1/schedules.ics", "", nil)
	assert.Equal(t, http.StatusUnauthorized, denied.status)
	assert.Contains(t, denied.header.Get("WWW-Authenticate"), "Basic")
	x.post("/schedules/weekly/pause", nil, &s)
	assert.True(t, s.Paused)
	assert.Empty(t, s.Next)
	x.post("/schedules/weekly/resume", nil, &s)
	assert.Len(t, s.Next, 5)
	for _, name := range []string{"weekly", "often"} {
		assert.Equal(t, 204, x.do("DELETE", "/api/v1/schedules/"+name, x.token, nil).status)
	}
	assert.Equal(t, 204, x.do("DELETE", "/api/v1/presets/nightly", x.token, nil).status)
}

// A schedule whose time passed while the service was down runs once, or not at
// all, as it says.
func TestOccurrencesMissedWhileTheServiceWasDown(t *testing.T) {
	x := start(t, t.TempDir())
	x.mustJoin("quay", 8)
	x.post("/presets", api.PresetRequest{Name: "p", Request: api.RunRequest{Bundle: x.bundle(), Matrix: "wall"}}, nil)
	from := time.Now().Add(1200 * time.Millisecond).UTC().Format(time.RFC3339)
	for name, missed := range map[string]api.Missed{"make-up": api.MissedRun, "leave": api.MissedSkip} {
		x.post("/schedules", api.ScheduleRequest{Name: name, Preset: "p", Rule: "FREQ=DAILY;COUNT=2", Start: from, Missed: missed}, nil)
	}
	dir := x.dir
	x.stop()
	at, err := time.Parse(time.RFC3339, from)
	require.NoError(t, err)
	time.Sleep(time.Until(at.Add(50 * time.Millisecond))) // the moment itself has to pass
	again := start(t, dir)
	notes := map[string]string{}
	require.Eventually(t, func() bool {
		var list []api.Schedule
		again.get("/schedules", &list)
		for _, s := range list {
			notes[s.Name] = s.LastNote
		}
		return notes["make-up"] != "" && notes["leave"] != ""
	}, 10*time.Second, 20*time.Millisecond)
	assert.Contains(t, notes["make-up"], "started for")
	assert.Contains(t, notes["leave"], "the service was down")
	var runs []api.RunSummary
	again.get("/runs", &runs)
	assert.Len(t, runs, 1)
}

func TestPrivatePools(t *testing.T) {
	x := start(t, t.TempDir())
	x.pool = "tidal"
	x.mustJoin("office", 2)
	for project, idle := range map[string][]string{"tidal": {"office"}, "saltmarsh": {}, "": {"office"}} {
		var why api.Why
		x.get("/why?needs=browser%3Dfirefox&project="+project, &why)
		assert.Equal(t, idle, why.Idle, project)
	}
	run := x.run(api.RunRequest{Matrix: "wall"})
	assert.Equal(t, verdict.Unsupported, x.ended(run.Number).Verdict)
	assert.Contains(t, x.runNow(run.Number).Cells[0][0].Why, "pool: wants shared or saltmarsh, has tidal")
}

func TestAddedCombinationsAreChecked(t *testing.T) {
	x := start(t, t.TempDir())
	for matrix, want := range map[string]string{"extra": `did you mean "chromium"?`, "bare": "an added combination has no browser"} {
		x.refused(422, want, "POST", "/runs", api.RunRequest{Bundle: x.bundle(), Matrix: matrix})
	}
}

// Browsers send Basic credentials along by themselves once they have been asked
// for them, so a foreign page may not use them to change anything.
func TestBasicAuthorisationFromForeignPages(t *testing.T) {
	x := start(t, t.TempDir())
	basic := "Basic " + base64.StdEncoding.EncodeToString([]byte("any:"+x.token))
	body := api.QuotaRequest{Kind: "project", Name: "saltmarsh", Slots: 1}
	for _, foreign := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Origin", "http://evil.example"}} {
		a := x.do("POST", "/api/v1/quotas", "", body, append(foreign, "Authorization", basic)...)
		assert.Equal(t, http.StatusForbidden, a.status, foreign[0])
	}
	assert.Equal(t, 200, x.do("POST", "/api/v1/quotas", "", body, "Authorization", basic).status, "a program that is no browser may")
}
