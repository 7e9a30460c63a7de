package httpapi_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
)

func (x *yard) stock(t *testing.T, want int, req api.StockRequest) (made api.Stock, why string) {
	t.Helper()
	a := x.do("POST", "/api/v1/stock", x.token, req)
	require.Equal(t, want, a.status, string(a.body))
	if want == 200 {
		require.NoError(t, json.Unmarshal(a.body, &made))
		return made, ""
	}
	return made, a.detail()
}

// A stocked browser reaches the agents that match and no other, comes in pieces, tells
// how far it is, and goes when it is dropped.
func TestBrowsersAreStocked(t *testing.T) {
	dir := t.TempDir()
	x := start(t, dir)
	h := x.mustJoin("quay", 1)
	x.mustJoin("pier", 1)
	packed := bytes.Repeat([]byte("browser "), 1000)
	hash := hashOf(packed)
	archive := api.StockArchive{Name: "browser.tar.gz", Hash: hash}
	_, why := x.stock(t, 422, api.StockRequest{Archives: []api.StockArchive{archive}})
	assert.Contains(t, why, "has not been sent")
	require.Equal(t, 404, x.do("HEAD", "/api/v1/stock/archives/"+hash, x.token, nil).status)
	require.Equal(t, 204, x.do("PUT", "/api/v1/stock/archives/"+hash, x.token, packed).status)
	require.Equal(t, 200, x.do("HEAD", "/api/v1/stock/archives/"+hash, x.token, nil).status)
	for want, bad := range map[string]api.StockRequest{
		"archives: expected 1 to 20":  {},
		"needs: ":                     {Archives: []api.StockArchive{archive}, Needs: []string{"os"}},
		"expected the name of a file": {Archives: []api.StockArchive{{Name: "../x", Hash: hash}}},
	} {
		_, why := x.stock(t, 422, bad)
		assert.Contains(t, why, want)
	}
	made, _ := x.stock(t, 200, api.StockRequest{Archives: []api.StockArchive{archive}, Needs: []string{"agent=quay"}})
	assert.Equal(t, "browser.tar.gz", made.Name)
	require.Len(t, made.On, 1)
	assert.Equal(t, api.StockUnwilling, made.On[0].State, "these agents do not say that they take any")
	_, why = x.stock(t, 409, api.StockRequest{Archives: []api.StockArchive{archive}, Needs: []string{"agent=quay"}})
	assert.Contains(t, why, "is stocked already")

	var mine link.Stock
	require.NoError(t, json.Unmarshal(x.do("GET", "/api/v1/agent/stock", x.tokenOf("quay"), nil).body, &mine))
	require.Len(t, mine.Items, 1)
	assert.Equal(t, []link.StockArchive{{Name: "browser.tar.gz", Hash: hash, Size: int64(len(packed))}}, mine.Items[0].Archives)
	assert.Contains(t, string(x.do("GET", "/api/v1/agent/stock", x.tokenOf("pier"), nil).body), `"items":[]`)
	assert.Equal(t, packed, x.do("GET", "/api/v1/agent/stock/"+hash, x.tokenOf("quay"), nil).body)
	part := x.do("GET", "/api/v1/agent/stock/"+hash, x.tokenOf("quay"), nil, "Range", "bytes=7000-")
	assert.Equal(t, 206, part.status)
	assert.Equal(t, "bytes 7000-7999/8000", part.header.Get("Content-Range"))
	assert.Equal(t, packed[7000:], part.body)
	assert.Equal(t, 416, x.do("GET", "/api/v1/agent/stock/"+hash, x.tokenOf("quay"), nil, "Range", "bytes=9000-").status)
	assert.Equal(t, 404, x.do("GET", "/api/v1/agent/stock/"+hash, x.tokenOf("pier"), nil).status, "it is not for this one")
	assert.Equal(t, 404, x.do("GET", "/api/v1/agent/stock/"+hashOf([]byte("x")), x.tokenOf("quay"), nil).status)

	beat := func(states ...link.StockState) (answer link.BeatAnswer) {
		a := x.do("POST", "/api/v1/agent/beat", x.tokenOf("quay"), link.Beat{Name: "quay", Instance: h.instance, Stock: states})
		require.Equal(t, 200, a.status, string(a.body))
		require.NoError(t, json.Unmarshal(a.body, &answer))
		return answer
	}
	first := beat(link.StockState{ID: made.ID, State: "fetching", Done: 4000})
	assert.Equal(t, mine.Revision, first.Stock)
	var all api.Browsers
	x.get("/browsers", &all)
	assert.Equal(t, []api.StockOn{{Agent: "quay", Online: true, State: api.StockFetching, Done: 4000, Size: 8000}}, all.Stock[0].On)

	// What the machine has now decides at once what it gets.
	m := fleet.Machine{OS: "windows", Browsers: []fleet.Browser{{Name: "osprey", Version: "7.1", Engine: "chromium", Fits: true}}}
	said := link.Machine{Instance: h.instance, Machine: m}
	assert.Equal(t, 409, x.do("POST", "/api/v1/agent/machine", x.tokenOf("quay"), link.Machine{Instance: "other", Machine: m}).status)
	require.Less(t, x.do("POST", "/api/v1/agent/machine", x.tokenOf("quay"), said).status, 300)
	x.get("/browsers", &all)
	require.Len(t, all.Rows, 3)
	assert.Equal(t, "7.1", all.Rows[2].Version)
	assert.Equal(t, "linux", x.svc.Agents()[1].Machine.OS, "nothing else of it changes")
	many := link.Machine{Instance: h.instance, Machine: fleet.Machine{Browsers: make([]fleet.Browser, 501)}}
	assert.Equal(t, 422, x.do("POST", "/api/v1/agent/machine", x.tokenOf("quay"), many).status)

	// It outlives the service, and its archive the sweep.
	_, err := x.svc.Sweep(t.Context(), false)
	require.NoError(t, err)
	x.stop()
	x = start(t, dir)
	x.get("/browsers", &all)
	require.Len(t, all.Stock, 1)
	assert.Equal(t, made.ID, all.Stock[0].ID)
	assert.Equal(t, 404, x.do("DELETE", "/api/v1/stock/"+store.NewID(), x.token, nil).status)
	require.Equal(t, 204, x.do("DELETE", "/api/v1/stock/"+made.ID, x.token, nil).status)
	x.get("/browsers", &all)
	assert.Empty(t, all.Stock)
	var audit []api.AuditEntry
	x.get("/audit?text=browser", &audit)
	assert.NotEmpty(t, audit)
}

// A viewer of one project sees the agents that serve it, and nobody but admins stocks.
func TestWhoMayStock(t *testing.T) {
	x := start(t, t.TempDir())
	x.mustJoin("quay", 1)
	x.pool = "marina"
	x.mustJoin("pier", 1)
	viewer := x.as("tern", in("saltmarsh", api.Viewer))
	keeper := x.as("gull", in(api.Everywhere, api.Keeper))
	var seen api.Browsers
	require.NoError(t, json.Unmarshal(x.do("GET", "/api/v1/browsers", viewer, nil).body, &seen))
	assert.Equal(t, []string{"quay"}, seen.Agents)
	for _, row := range seen.Rows {
		assert.NotContains(t, row.On, "pier")
	}
	packed := []byte("browser")
	for _, who := range []string{viewer, keeper, x.tokenOf("quay")} {
		assert.Equal(t, 403, x.do("PUT", "/api/v1/stock/archives/"+hashOf(packed), who, packed).status)
		assert.Equal(t, 403, x.do("POST", "/api/v1/stock", who, api.StockRequest{}).status)
		assert.Equal(t, 403, x.do("DELETE", "/api/v1/stock/x", who, nil).status)
	}
	assert.Equal(t, 403, x.do("GET", "/api/v1/agent/stock", keeper, nil).status)
}

// A version of a browser that comes into the lab is noted, and starts what waits for it,
// once.
func TestABrowserThatChanges(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 8)
	var p api.Preset
	x.post("/presets", api.PresetRequest{Name: "newest", Request: api.RunRequest{Bundle: x.bundle(), Matrix: "wall"}}, &p)
	x.refused(422, "expected when browser=NAME changes", "POST", "/schedules", api.ScheduleRequest{Name: "s", Preset: "newest",
		Rule: "when os=linux changes"})
	var made api.Schedule
	x.post("/schedules", api.ScheduleRequest{Name: "fresh", Preset: "newest", Rule: "when browser=chromium changes"}, &made)
	assert.Equal(t, "whenever a version of chromium comes into the lab", made.Words)
	assert.Empty(t, made.Next)
	x.post("/schedules", api.ScheduleRequest{Name: "early", Preset: "newest", Rule: "when browser=chromium channel=beta changes"}, &made)
	has := func(browsers ...fleet.Browser) {
		t.Helper()
		for i := range browsers {
			browsers[i].Fits = true
		}
		require.Equal(t, 204, x.do("POST", "/api/v1/agent/machine", x.tokenOf("quay"), link.Machine{Instance: h.instance,
			Machine: fleet.Machine{Browsers: browsers}}).status)
	}
	old, fresh := fleet.Browser{Name: "chromium", Version: "150.0"}, fleet.Browser{Name: "chromium", Version: "156.0"}
	has(old, fleet.Browser{Name: "firefox", Version: "153.7.0", Channel: "esr"})
	runs := func() (all []api.RunSummary) { x.get("/runs", &all); return all }
	require.Eventually(t, func() bool { return len(runs()) == 1 }, 10*time.Second, 10*time.Millisecond)
	has(old, fleet.Browser{Name: "firefox", Version: "153.7.0", Channel: "esr"}) // the same again is no change
	x.do("POST", "/api/v1/runs/1/cancel", x.token, nil)
	x.ended(1)
	has(fresh)
	require.Eventually(t, func() bool { return len(runs()) == 2 }, 10*time.Second, 10*time.Millisecond)
	assert.Equal(t, "schedule fresh", runs()[0].By)
	var all api.Browsers
	x.get("/browsers", &all)
	var told []string
	for _, c := range all.Changes[:3] {
		told = append(told, fmt.Sprint(c.Browser, " ", c.Version, " ", c.Came))
	}
	assert.ElementsMatch(t, []string{"chromium 156.0 true", "chromium 150.0 false", "firefox 153.7.0 false"}, told)
	var schedules []api.Schedule
	x.get("/schedules", &schedules)
	assert.Zero(t, schedules[0].LastRun, "no beta came")
	assert.Equal(t, 2, schedules[1].LastRun)
	assert.Equal(t, 200, x.do("GET", "/api/v1/schedules.ics", x.token, nil).status)
}
