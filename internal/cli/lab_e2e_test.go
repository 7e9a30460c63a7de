package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
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
)

const standInFleet = `agents:
  - {name: gull, count: 2, os: saltos, os_version: "4", slots: 2, cores: 4, memory_mb: 8192, labels: {site: pier},
     browsers: {kestrel: ["12.1", "11.4"]}, command_ms: 20}
  - {name: tern, os: marshos, os_version: "11", slots: 2, browsers: {osprey: "7.2", heron: "31.0"}, command_ms: 20}
  - {name: office, os: saltos, slots: 1, pool: tidal, browsers: {gannet: "3.3"}}
`

// standIns is a lab of simulated agents with a project for them.
func standIns(t *testing.T) *bench {
	b := newBench(t)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<!doctype html><title>Quay</title><p id=lang>%s</p><form action="/held"><label for=b>Boat</label>
<input id=b name=boat><button>Hold</button></form>`, r.Header.Get("Accept-Language"))
	})
	mux.HandleFunc("GET /held", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "<title>Held</title><p>%s is held</p>", r.FormValue("boat"))
	})
	web := httptest.NewServer(mux)
	t.Cleanup(web.Close)
	for _, name := range []string{"good", "bad", "slow"} {
		require.NoError(t, os.Remove(filepath.Join(b.project, name+".pane.yaml")))
	}
	b.write("pane.yaml", `project: saltmarsh
suites: {quay: {scripts: "*.pane.yaml"}}
matrices:
  wide:
    axes: {browser: [kestrel, osprey, heron], os: [saltos, marshos], device: [desktop, phone, tablet, buoy], locale: [en-GB, nb-NO]}
    cover: pairs
  releases: {axes: {browser: [kestrel], version: [latest, latest-1, latest-2], os: [saltos]}}
devices: {buoy: {title: display on a buoy, size: 480x320, touch: true}}
environments: {local: {base: "`+web.URL+`"}}
default: {matrix: wide, environment: local}
`)
	for i := range 6 {
		lock := ""
		if i < 2 {
			lock = "locks: [crane]\n"
		}
		b.write(fmt.Sprintf("hold-%d.pane.yaml", i), fmt.Sprintf("name: Hold %d\n%ssteps:\n  - visit: /\n  - enter: {at: {label: Boat}, "+
			"text: Osprey %d}\n  - click: Hold\n  - expect: Osprey %d is held\n", i, lock, i, i))
	}
	b.write("wrong.pane.yaml", "name: Wrong\nwait: 200ms\ntags: [wrong]\nsteps:\n  - visit: /\n  - expect: {reads: de-DE, at: {css: "+
		"\"#lang\"}}\n")
	b.write("fleet.yaml", standInFleet)
	b.serve()
	b.crowd()
	return b
}

func (b *bench) crowd() {
	b.t.Helper()
	b.spawn("standin", "fleet", filepath.Join(b.project, "fleet.yaml"), "--service", b.listen, "--state", filepath.Join(b.dir, "standins"))
	require.Eventually(b.t, func() bool {
		code, out, _ := b.pane("agents", "--online", "--json")
		return code == 0 && strings.Count(out, `"stand_in": true`) == 4
	}, 30*time.Second, 50*time.Millisecond)
}

// want runs a command that succeeds and prints some texts.
func (b *bench) want(args []string, texts ...string) string {
	b.t.Helper()
	code, out, errs := b.pane(args...)
	require.Zero(b.t, code, "%v: %s%s", args, out, errs)
	for _, s := range texts {
		assert.Contains(b.t, out, s, "%v", args)
	}
	return out
}

func TestALabOfStandIns(t *testing.T) {
	b := standIns(t)
	b.want([]string{"devices", "--dir", b.project, "--text", "buoy"}, "display on a buoy", "480×320")
	b.want([]string{"agents"}, "gull-1", "stand-in", "only tidal")
	b.want([]string{"agents", "--has", "browser=osprey"}, "tern")
	b.want([]string{"why", "browser=osprey"}, "1 agent can do browser=osprey", "tern", "gull-1, gull-2")
	code, out, _ := b.pane("why", "browser=gannet", "--project", "saltmarsh")
	assert.Equal(t, verdict.ExitLab, code)
	assert.Contains(t, out, "pool: wants shared or saltmarsh, has tidal")
	b.want([]string{"matrix", "plan", filepath.Join(b.project, "pane.yaml"), "--name", "releases"}, "12", "11", "kestrel latest-2 is "+
		"unresolved: the lab has only 12, 11")
	b.want([]string{"matrix", "plan", filepath.Join(b.project, "pane.yaml"), "--name", "releases", "--offline"}, "latest-2")
	b.want([]string{"run", "--dir", b.project, "--preview"}, "7 tests of quay on ", "have no past to go by")

	_, run := b.run("--retries", "0", "--lanes", "2")
	assert.Equal(t, verdict.Failed, run.Verdict)
	assert.Equal(t, len(run.Panes), run.Counts[verdict.Failed], "only the wrong test fails, everywhere")
	for _, p := range run.Panes {
		assert.NotEqual(t, p.Values["browser"] == "kestrel", p.Values["os"] == "marshos", "a cover keeps to what the lab can do")
		assert.Contains(t, p.Info.Emulated.Applied, "locale "+p.Values["locale"])
	}
	require.NotEmpty(t, run.Plan.Missing)
	assert.Contains(t, run.Plan.Missing[0].Reason, "no agent has")
	code, again, _ := b.pane("again", strconv.Itoa(run.Number), "--not-passed", "--json")
	assert.Equal(t, verdict.ExitFailed, code)
	var second api.Run
	require.NoError(t, json.Unmarshal([]byte(again), &second))
	assert.Equal(t, len(run.Panes), second.Counts[verdict.Failed])
	assert.Zero(t, second.Counts[verdict.Passed])

	_, spread := b.run("--deal", "spread", "--browser", "kept")
	assert.Equal(t, 6, spread.Counts[verdict.Passed], "each test once")
	_, stopped := b.run("--tag", "wrong", "--stop-after", "1", "--limit", "1")
	assert.Equal(t, 1, stopped.Counts[verdict.Failed])
	assert.Contains(t, stopped.Cells[len(stopped.Cells)-1][0].Why+stopped.Cells[0][0].Why, "stopped after 1 failed")

	b.want([]string{"preset", "save", "nightly", "--dir", b.project, "--matrix", "releases"}, "pane preset run nightly")
	b.want([]string{"schedule", "add", "mornings", "nightly", "FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=6;BYMINUTE=30;BYSECOND=0", "--zone",
		"Europe/Berlin", "--until", "2099-12-31"},
		"every Monday and Friday at 06:30, Europe/Berlin time, until 31 December 2099")
	b.want([]string{"schedule", "list"}, "mornings")
	b.want([]string{"schedule", "pause", "mornings"}, "paused")
	b.want([]string{"schedule", "calendar"}, "BEGIN:VCALENDAR")
	b.want([]string{"quota", "set", "project", "saltmarsh", "--weight", "2", "--slots", "4"}, "saltmarsh")
	b.want([]string{"agents", "drain", "tern"}, "tern is draining")
	b.want([]string{"why", "browser=osprey"}, "draining")
	b.want([]string{"agents", "resume", "tern"}, "takes work again")
	b.want([]string{"forecast", "--run", strconv.Itoa(run.Number), "--more", "0,2"}, "It would end after", "knee")
	b.want([]string{"preset", "list"}, "nightly", "never")
	testPlanningConsole(t, b)
}

// A service that is killed in the middle of a run goes on with it: every test
// ends with one verdict, and no attempt is lost or doubled.
func TestKilledServiceInAWideRun(t *testing.T) {
	b := standIns(t)
	code, out, errs := b.pane("run", "--dir", b.project, "--detach", "--json")
	require.Zero(t, code, errs)
	var made struct{ Number int }
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	for range 2 {
		done := b.show(made.Number).Counts[verdict.Pending]
		require.Eventually(t, func() bool {
			now := b.show(made.Number)
			return now.Counts[verdict.Pending] < done-5 || now.State == api.Ended
		}, 30*time.Second, 5*time.Millisecond)
		b.kill("serve")
		b.serve()
	}
	run := b.ended(made.Number)
	assert.Zero(t, run.Counts[verdict.Pending]+run.Counts[verdict.LabFault], "%v", run.Counts)
	assert.Equal(t, len(run.Panes), run.Counts[verdict.Failed])
	for i := range run.Panes {
		for j := range run.Tests {
			assert.Equal(t, 1, run.Cells[i][j].Attempts)
		}
	}
}

// kill ends a spawned program at once.
func (b *bench) kill(command string) {
	b.t.Helper()
	cmd := b.programs[command]
	require.NotNil(b.t, cmd)
	require.NoError(b.t, cmd.Process.Kill())
	_, _ = cmd.Process.Wait()
}

// testPlanningConsole goes through the pages about what could run, and when.
func testPlanningConsole(t *testing.T, b *bench) {
	s, enter := b.console()
	if s == nil {
		return
	}
	defer s.Close()
	b.script(s, "http://"+b.listen, map[string]string{"enter": enter}, `
  - visit: ${vars.enter}
  - visit: /fleet
  - expect: {shown: {role: heading, name: "4 agents, 7 slots that take work"}}
  - click: {role: button, name: osprey}
  - expect: 1 idle
  - expect: "browser: wants osprey, has kestrel"
  - enter: {at: {label: "Needs, such as browser=firefox version=>=140 site=quay"}, text: browser=ibis}
  - expect: no agent has browser=ibis
  - visit: /matrix
  - expect: of 48
  - about: a browser is switched off
    click: {role: button, name: kestrel}
  - expect: of 32
  - choose: {at: {css: "select[aria-label=Cover]"}, option: "all: every combination"}
  - expect: no agent
  - click: {role: button, name: Choose devices …}
  - enter: {at: {label: "Find by name, or by size: 390x844"}, text: 360x800}
  - expect: nearest to 360x800
  - click: {css: "[role=dialog] li:first-child button"}
  - expect: {shown: {css: "[role=dialog] li:first-child button[aria-pressed=true]"}}
  - click: {role: button, name: Done}
  - expect: {shown: {role: button, name: phone-slow}}
  - visit: /start
  - choose: {at: {css: "select[aria-label=Matrix]"}, option: releases}
  - expect: pane run quay --matrix releases
  - choose: {at: {css: "select[aria-label=Deal]"}, option: "each test once, spread"}
  - expect: --deal spread
  - enter: {at: {label: "Name, such as nightly"}, text: by-hand}
  - click: {role: button, name: Save}
  - expect: Saved.
  - click: {role: button, name: Start the run}
  - expect: {address: {contains: /runs/}}
  - expect: by admin
  - visit: /schedules
  - expect: mornings
  - expect: by-hand
  - enter: {at: {label: nightly}, text: evenings}
  - click: {role: button, name: Save the schedule}
  - expect: evenings
  - visit: /runs/1/timeline
  - expect: lower bound
  - visit: /runs/1/forecast
  - expect: with four more agents
`)
}
