package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"html"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/script"
	"parallelpane/internal/sessions"
	"parallelpane/web"
)

// TestMain lets the test binary be the program itself, so that the service and
// the agent are processes that can be killed.
func TestMain(m *testing.M) {
	if os.Getenv("PANE_BE_THE_PROGRAM") != "" {
		os.Exit(Main(Build{Version: "test", Console: web.Console()}, os.Args[1:]))
	}
	os.Exit(m.Run())
}

// site is what the tests look at: a page whose text comes after a while.
func site(t *testing.T, visits *atomic.Int64) string {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		visits.Add(1)
		wait, _ := strconv.Atoi(r.FormValue("wait"))
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<!doctype html><title>Quay</title><p id="p">Ebb</p>
<script>setTimeout(() => { p.textContent = "Flood" }, %d)</script>`, wait)
	})
	mux.HandleFunc("GET /form", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, "<!doctype html><title>Sign in</title><form><input name=pin></form><p>It was %s</p>",
			html.EscapeString(r.FormValue("pin")))
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	return s.URL
}

type bench struct {
	t        *testing.T
	dir      string
	listen   string
	project  string
	site     string
	visits   atomic.Int64         // of the site
	programs map[string]*exec.Cmd // that were spawned, the latest of each command
	env      []string             // of programs that are started
}

func newBench(t *testing.T) *bench {
	t.Helper()
	conformance.Browser(t, chromium.Family{})
	b := &bench{t: t, dir: t.TempDir(), programs: map[string]*exec.Cmd{}}
	t.Setenv("HOME", b.dir)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(b.dir, "config"))
	t.Setenv("PANE_TOKEN", "")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	b.listen = l.Addr().String()
	l.Close()
	b.project = filepath.Join(b.dir, "project")
	b.site = site(t, &b.visits)
	b.write("pane.yaml", `project: saltmarsh
suites: {quay: {scripts: "*.pane.yaml"}}
matrices:
  one: {axes: {browser: [chromium]}}
  far: {axes: {browser: [chromium], os: [windows]}}
environments:
  local: {base: "`+b.site+`"}
  gone: {base: "http://127.0.0.1:1"}
default: {matrix: one, environment: local}
`)
	b.write("good.pane.yaml", "name: The tide turns\ntags: [smoke]\nsteps:\n  - visit: /?wait=50\n  - capture: start\n  - expect: Flood\n")
	b.write("bad.pane.yaml", "name: The tide stays\ntags: [bad]\nwait: 300ms\nsteps:\n  - visit: /?wait=60000\n  - expect: Flood\n")
	b.write("slow.pane.yaml", "name: The tide is slow\ntags: [slow]\nwait: 20s\nsteps:\n  - visit: /?wait=4000\n  - expect: Flood\n")
	return b
}

func (b *bench) write(name, body string) {
	require.NoError(b.t, os.MkdirAll(b.project, 0o755))
	require.NoError(b.t, os.WriteFile(filepath.Join(b.project, name), []byte(body), 0o644))
}

// spawn starts the program as a process of its own.
func (b *bench) spawn(args ...string) *exec.Cmd {
	b.t.Helper()
	exe, err := os.Executable()
	require.NoError(b.t, err)
	cmd := exec.Command(exe, args...)
	cmd.Env = append(os.Environ(), append(b.env, "PANE_BE_THE_PROGRAM=1")...)
	var log bytes.Buffer
	cmd.Stderr = &log
	require.NoError(b.t, cmd.Start())
	b.programs[args[0]] = cmd
	b.t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		done := make(chan struct{})
		go func() { _ = cmd.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(10 * time.Second):
			_ = cmd.Process.Kill()
			<-done
		}
		if b.t.Failed() {
			b.t.Logf("%v:\n%s", args, log.String())
		}
	})
	return cmd
}

func (b *bench) serve(flags ...string) *exec.Cmd {
	b.t.Helper()
	cmd := b.spawn(append([]string{"serve", "--data", filepath.Join(b.dir, "data"), "--listen", b.listen}, flags...)...)
	require.NoError(b.t, waitFor(b.t.Context(), "http://"+b.listen+"/readyz"))
	return cmd
}

func (b *bench) agent(name string) *exec.Cmd {
	b.t.Helper()
	if b.programs["agent"] != nil { // the first one has the service's first token
		b.env = []string{"PANE_TOKEN=" + strings.TrimSpace(b.want([]string{"token", "add", name, "--role", "agent", "--agent", name}))}
		defer func() { b.env = nil }()
	}
	cmd := b.spawn("agent", "--service", b.listen, "--name", name, "--slots", "1", "--state", filepath.Join(b.dir, name))
	require.Eventually(b.t, func() bool {
		code, out, _ := b.pane("agents", "--online", "--json")
		return code == 0 && strings.Contains(out, `"name": "`+name+`"`)
	}, 30*time.Second, 50*time.Millisecond)
	return cmd
}

// pane runs a client command in this process.
func (b *bench) pane(args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	ctx, cancel := context.WithTimeout(b.t.Context(), 2*time.Minute)
	defer cancel()
	code = Run(ctx, Build{Version: "test"}, append([]string{"--service", b.listen}, args...), &o, &e)
	return code, o.String(), e.String()
}

func (b *bench) run(args ...string) (code int, run api.Run) {
	b.t.Helper()
	code, out, errs := b.pane(append([]string{"run", "--dir", b.project, "--json"}, args...)...)
	require.NoError(b.t, json.Unmarshal([]byte(out), &run), "%s %s", out, errs)
	return code, run
}

func (b *bench) show(number int) (run api.Run) {
	b.t.Helper()
	code, out, errs := b.pane("show", strconv.Itoa(number), "--json")
	require.Zero(b.t, code, errs)
	require.NoError(b.t, json.Unmarshal([]byte(out), &run))
	return run
}

// running waits until a test of a detached run is being executed.
func (b *bench) running(args ...string) int {
	b.t.Helper()
	code, out, errs := b.pane(append([]string{"run", "--dir", b.project, "--detach", "--json"}, args...)...)
	require.Zero(b.t, code, errs)
	var made struct{ Number int }
	require.NoError(b.t, json.Unmarshal([]byte(out), &made))
	require.Eventually(b.t, func() bool { return b.show(made.Number).Panes[0].Running > 0 }, 30*time.Second, 20*time.Millisecond)
	return made.Number
}

func (b *bench) ended(number int) (run api.Run) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		run = b.show(number)
		return run.State == api.Ended
	}, 90*time.Second, 100*time.Millisecond)
	return run
}

func (b *bench) attempts(number, test int) (all []api.Attempt) {
	b.t.Helper()
	run := b.show(number)
	code, out, errs := b.pane("show", strconv.Itoa(number), "--test", run.Tests[test].Name, "--json")
	require.Zero(b.t, code, errs)
	var res api.TestResult
	require.NoError(b.t, json.Unmarshal([]byte(out), &res))
	return res.Results[0].Attempts
}

func TestTheWholeWay(t *testing.T) {
	b := newBench(t)
	code, _, errs := b.pane("runs")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, "no token for http://"+b.listen)
	b.serve()
	code, out, _ := b.pane("agents")
	assert.Zero(t, code)
	assert.Contains(t, out, "No agent has joined yet")
	code, out, _ = b.pane("runs")
	assert.Zero(t, code)
	assert.Contains(t, out, "No run yet")
	b.agent("quay")

	junit := filepath.Join(b.dir, "junit.xml")
	code, out, errs = b.pane("run", "--dir", b.project, "--tag", "smoke", "--junit", junit)
	assert.Equal(t, verdict.ExitPassed, code, errs)
	assert.Contains(t, out, "The tide turns")
	assert.Contains(t, out, "1 passed")
	assert.Contains(t, errs, "1 test on 1 combination")
	raw, err := os.ReadFile(junit)
	require.NoError(t, err)
	require.NoError(t, xml.Unmarshal(raw, new(struct{})))
	assert.Contains(t, string(raw), `tests="1" failures="0"`)

	code, out, _ = b.pane("run", "quay", "--dir", b.project, "--tag", "bad", "--tag", "smoke", "--watch")
	assert.Equal(t, verdict.ExitFailed, code)
	for _, want := range []string{"The tide stays", "bad.pane.yaml:6:5", `the page's text does not contain "Flood"; it is "Ebb"`,
		"files/failure.png", "1 passed", "1 failed"} {
		assert.Contains(t, out, want)
	}
	assert.Contains(t, string(out), "step 2 of 2")

	code, out, _ = b.pane("show", "#2", "--test", "The tide stays")
	assert.Zero(t, code)
	assert.Contains(t, out, "attempt 1 on quay")
	code, out, _ = b.pane("runs", "--verdict", "failed")
	assert.Zero(t, code)
	assert.Contains(t, out, "#2")
	assert.NotContains(t, out, "#1 ")

	b.triage()
	dir := filepath.Join(b.dir, "fetched")
	code, out, errs = b.pane("fetch", "2", dir, "--kind", "screenshots")
	assert.Zero(t, code, errs)
	assert.Contains(t, out, "2 files saved")
	png, err := os.ReadFile(filepath.Join(dir, "chromium", "The-tide-stays-1", "failure.png"))
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(png, []byte("\x89PNG")))

	code, run := b.run("--env", "gone", "--tag", "smoke")
	assert.Equal(t, verdict.ExitLab, code, "a site that cannot be reached is the lab's trouble")
	assert.Contains(t, run.Cells[0][0].Message, "http://127.0.0.1:1 cannot be reached from this agent")
	assert.Equal(t, 3, run.Cells[0][0].Attempts)
	code, run = b.run("--matrix", "far")
	assert.Equal(t, verdict.ExitLab, code)
	assert.Equal(t, verdict.Unsupported, run.Verdict)

	number := b.running("--tag", "slow")
	code, out, _ = b.pane("cancel", strconv.Itoa(number))
	assert.Zero(t, code)
	assert.Contains(t, out, "1 skipped")
	code, _, errs = b.pane("cancel", strconv.Itoa(number))
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, "has ended already")
	b.noLeftovers("quay")
	testConsole(t, b)

	code, out, errs = b.pane("shake", "The tide stays", "--run", "2", "--times", "3", "--until", "0.35")
	assert.Equal(t, verdict.ExitFailed, code, errs)
	assert.Contains(t, out, "2 of 2", "then it is known well enough")
	assert.Contains(t, errs, "#7, 1 of at most 3: failed 1 of 1")
	for _, args := range [][]string{{"shake", "The tide staid", "--run", "2"}, {"shake", "x", "--times", "0"}, {"shake", "x", "--until", "2"},
		{"again", "2", "--test", "nothing"}} {
		code, _, errs = b.pane(args...)
		assert.Equal(t, verdict.ExitUsage, code, args)
	}
	assert.Contains(t, errs, `the run has no test "nothing"`)
}

// triage asks what the second run's failure comes from, in every way.
func (b *bench) triage() {
	const cause = `the page's text does not contain "Flood"; it is "Ebb" in "The tide stays"`
	code, out, errs := b.pane("causes", "2")
	assert.Equal(b.t, verdict.ExitFailed, code, errs)
	assert.Contains(b.t, out, cause+" new since the last green run")
	assert.Contains(b.t, out, "fails in one cell, chromium")
	code, out, _ = b.pane("show", "2", "--json")
	assert.Zero(b.t, code)
	file := filepath.Join(b.dir, "run.json")
	require.NoError(b.t, os.WriteFile(file, []byte(out), 0o600))
	code, out, errs = b.pane("causes", "--file", file, "--json")
	assert.Equal(b.t, verdict.ExitFailed, code, errs)
	assert.Contains(b.t, out, `"tests": [
        "The tide stays"
      ]`)
	code, out, _ = b.pane("compare", "1", "2")
	assert.Zero(b.t, code)
	assert.Contains(b.t, out, "#2 against #1: 1 test added")
	pdf := filepath.Join(b.dir, "run.pdf")
	code, _, errs = b.pane("export", "run", "2", "--as", "pdf", "-o", pdf)
	require.Zero(b.t, code, errs)
	printed, err := os.ReadFile(pdf)
	require.NoError(b.t, err)
	assert.Contains(b.t, string(printed), "Skia/PDF", "printed by the agent's own Chromium")
	for _, c := range []struct{ args, want string }{
		{"api", `"openapi":"3.1`}, {"api get /runs?limit=1", `"number":2`}, {"api get /api/v1/runs/2/as/tap", "TAP version 14"},
		{"show 2 --words", "#2 saltmarsh quay on one (local)"}, {"export run 2 --as tap", "TAP version 14"}, {"export causes 2",
			"fails in one cell, chromium"},
		{"export compare 1 2", "test added,The tide stays"}, {"export trends --by test", "The tide stays"}, {"export lab", "day,attempts"},
		{"trends lab", "quay"}, {"compare", "env=local"}, {"overview", cause}, {"unsteady", "No test is unsteady"}, {"slow", "The tide turns"},
		{"trends", "chromium"}, {"trends --by test --csv", "The tide stays,1,0"}, {"trends --only browser=firefox", "Nothing ran"},
	} {
		code, out, errs := b.pane(strings.Fields(c.args)...)
		assert.Zero(b.t, code, errs)
		assert.Contains(b.t, out, c.want, c.args)
	}
	for _, args := range []string{"causes 99", "causes x", "causes 2 --file x", "causes --file /nowhere", "compare 1 99",
		"unsteady --runs 0", "api get /nowhere",
		"slow --runs 101", "trends --days 0", "trends --csv --json", "trends --only browser", "trends --by test --only browser=chromium"} {
		code, _, errs := b.pane(strings.Fields(args)...)
		assert.Equal(b.t, verdict.ExitUsage, code, args)
		assert.NotEmpty(b.t, errs, args)
	}
}

// noLeftovers waits until no session's directory is left.
func (b *bench) noLeftovers(agent string) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		left, _ := os.ReadDir(filepath.Join(b.dir, agent, "sessions"))
		return len(left) == 0
	}, 10*time.Second, 20*time.Millisecond)
}

// console opens a browser for the console and makes a link that signs it in. It
// is nil where the console was not built.
func (b *bench) console() (*sessions.Session, string) {
	b.t.Helper()
	if web.Console() == nil {
		b.t.Log("the console is not built")
		return nil, ""
	}
	code, out, errs := b.pane("link")
	require.Zero(b.t, code, errs)
	host, err := sessions.NewHost(filepath.Join(b.dir, "mine"), slog.New(slog.DiscardHandler), chromium.Family{})
	require.NoError(b.t, err)
	profile, err := device.Find("")
	require.NoError(b.t, err)
	s, err := host.Open(b.t.Context(), sessions.Request{Browser: host.Found(b.t.Context()).Browsers[0], Device: profile})
	require.NoError(b.t, err)
	return s, strings.TrimSpace(out)
}

// testConsole drives the console in a browser of its own, through the same
// runner and script format that users have.
func testConsole(t *testing.T, b *bench) {
	s, enter := b.console()
	if s == nil {
		return
	}
	defer s.Close()
	b.script(s, "http://"+b.listen, map[string]string{"enter": enter, "token": b.token()}, `
  - visit: ${vars.enter}
  - about: the first page says how suites stand, each cause in a sentence
    expect: {shown: {role: heading, name: How suites stand}}
  - expect: {reads: "cannot be reached from this agent", at: {css: "ul[aria-label=Suites]"}}
  - click: {role: link, name: Runs}
  - expect: {number: 5, of: {css: tbody tr}}
  - about: the filter is kept in the address
    choose: {at: {css: "select[aria-label=Verdict]"}, option: failed}
  - expect: {address: "/runs?verdict=failed"}
  - expect: {number: 1, of: {css: tbody tr}}
  - enter: {at: {attribute: {placeholder: "Find suite, matrix, person, #number"}}, text: nothing like it}
  - expect: No run matches these filters
  - click: Show every run
  - click: {css: "a[href='/runs/2']", number: 1}
  - expect: {shown: {role: heading, name: "Run #2 failed"}}
  - expect: {reads: "the page's text does not contain", at: {css: "ul[aria-label=Causes]"}}
  - about: the wall shows the tests of one cause, and the whole again
    click: {role: button, name: On the wall}
  - expect: {number: 1, of: {role: rowheader}}
  - expect: {address: {contains: "cause="}}
  - click: {role: button, name: Whole wall}
  - expect: {number: 2, of: {role: rowheader}}
  - about: arrow keys go from cell to cell
    press: {at: {css: "[role=cell] a[data-test='0']"}, key: ArrowDown}
  - expect: {shown: {css: "[role=cell] a[data-test='1']:focus"}}
  - about: the wall can be searched
    enter: {at: {attribute: {placeholder: "Find test, file or tag"}}, text: turns}
  - expect: {number: 1, of: {role: rowheader}}
  - enter: {at: {attribute: {placeholder: "Find test, file or tag"}}, text: stays}
  - hover: {css: "[role=cell] a[aria-label='chromium: failed']"}
  - expect: {reads: "failed", at: {role: tooltip}}
  - click: {css: "[role=cell] a[aria-label='chromium: failed']"}
  - expect: {shown: {role: heading, name: The tide stays}}
  - about: the step that failed is open, with its line and picture
    expect: {reads: "expect: Flood", at: {css: "li[aria-current=step]"}}
  - expect: {shown: {css: "img[alt='Screenshot failure.png']"}}
  - about: a line of the script opens its step
    click: {reads: "- visit: /?wait=60000"}
  - expect: {address: {contains: step=0}}
  - about: a headless browser prefers light, so the other theme is offered
    click: Dark
  - expect: {shown: {css: "html[data-theme=dark]"}}
  - click: Sign out
  - expect: {shown: {label: Token}}
  - enter: {at: {label: Token}, text: pane_wrong}
  - click: {role: button, name: Sign in}
  - expect: {reads: the token is not valid here, at: {role: alert}}
  - enter: {at: {label: Token}, text: "${vars.token}"}
  - click: {role: button, name: Sign in}
  - expect: {shown: {role: heading, name: How suites stand}}
  - expect: {title: "Overview · Parallel Pane"}
  - click: {role: link, name: Trends}
  - expect: {shown: {role: heading, name: "By browser, those that fail for certain first"}}
  - choose: {at: {css: "select[aria-label=By]"}, option: by test}
  - expect: {shown: {role: button, name: The tide stays}}
  - click: {role: link, name: What is slow}
  - expect: What takes longest
  - click: {role: link, name: What is unsteady}
  - expect: No test is unsteady
  - visit: /compare?was=1&is=2
  - expect: {shown: {role: heading, name: "#2 against #1: 1 test added"}}
  - expect: Tests added
  - visit: /runs
  - expect: {title: "Runs · Parallel Pane"}
`)
	testManyTabs(t, b, s)
}

// testManyTabs opens more tabs than a browser opens connections to one address:
// they share one stream of events, and each hears what happens.
func testManyTabs(t *testing.T, b *bench, s *sessions.Session) {
	ctx := t.Context()
	home, err := s.Window(ctx)
	require.NoError(t, err)
	tabs := []string{home}
	for range 8 {
		tab, err := s.NewWindow(ctx, "tab")
		require.NoError(t, err)
		require.NoError(t, s.SwitchTo(ctx, tab))
		tabs = append(tabs, tab)
		b.script(s, "http://"+b.listen, nil, "\n  - visit: /runs\n  - expect: {number: 5, of: {css: tbody tr}}\n")
	}
	code, _, _ := b.pane("run", "--dir", b.project, "--tag", "smoke")
	require.Zero(t, code)
	for _, tab := range tabs {
		require.NoError(t, s.SwitchTo(ctx, tab))
		b.script(s, "http://"+b.listen, nil, "\n  - expect: {number: 6, of: {css: tbody tr}}\n")
	}
}

func (b *bench) token() string {
	raw, err := os.ReadFile(filepath.Join(b.dir, "data", "admin.token"))
	require.NoError(b.t, err)
	return strings.TrimSpace(string(raw))
}

// One script runs on this machine without a service.
func TestTry(t *testing.T) {
	b := newBench(t)
	file := func(name string) string { return filepath.Join(b.project, name+".pane.yaml") }
	shots := filepath.Join(b.dir, "shots")
	code, out, errs := b.pane("try", file("good"), "--browser", "chromium", "--device", "phone", "--env", "local", "--shots", shots)
	assert.Zero(t, code, errs)
	for _, want := range []string{"The tide turns on chromium", "as phone", "expect that the page reads", "passed"} {
		assert.Contains(t, out, want)
	}
	png, err := os.ReadFile(filepath.Join(shots, "01-start.png"))
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(png, []byte("\x89PNG")))
	code, out, _ = b.pane("try", file("bad"), "--browser", "chromium", "--env", "local", "--json")
	assert.Equal(t, verdict.ExitFailed, code)
	var got struct{ Verdict verdict.Verdict }
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, verdict.Failed, got.Verdict)
	code, out, _ = b.pane("try", file("good"), "--browser", "chromium", "--env", "gone")
	assert.Equal(t, verdict.ExitLab, code)
	assert.Contains(t, out, "cannot be reached")
	for want, args := range map[string][]string{
		"unknown environment":       {file("good"), "--env", "harbour"},
		"unknown device":            {file("good"), "--env", "local", "--device", "buoy"},
		"no usable ibis":            {file("good"), "--env", "local", "--browser", "ibis"},
		"no such file or directory": {file("none")},
		"expected an address":       {file("good"), "--env", "local", "--base", "ftp://x"},
	} {
		code, _, errs := b.pane(append([]string{"try"}, args...)...)
		assert.NotZero(t, code)
		assert.Contains(t, errs, want)
	}
}

// Steps are typed one by one; those that work become a script that runs.
func TestAsk(t *testing.T) {
	b := newBench(t)
	saved := filepath.Join(b.project, "by-hand.pane.yaml")
	var o bytes.Buffer
	r := &root{out: &o, err: io.Discard}
	cmd := r.tryCmd()
	cmd.SetArgs([]string{"--ask", "--browser", "chromium", "--base", b.site})
	cmd.SetIn(strings.NewReader(strings.Join([]string{"visit: /?wait=0", "click: {css: nothing}, wait: 100ms", "clik: x",
		"click: {css: \"#p\"}", "expect: Flood", "expect: {title: Quay}",
		":undo", ":sing", ":save x.txt", ":save " + saved, ":save " + saved, ":quit"}, "\n")))
	require.NoError(t, cmd.ExecuteContext(t.Context()), o.String())
	for _, want := range []string{"<p> \"Flood\" visible at", "unknown key \"clik\"", "There is no :sing", "Say where to",
		"3 steps saved", "exists already"} {
		assert.Contains(t, o.String(), want)
	}
	raw, err := os.ReadFile(saved)
	require.NoError(t, err)
	assert.Equal(t, "name: by hand\nsteps:\n  - visit: /?wait=0\n  - click: {css: \"#p\"}\n  - expect: Flood\n", string(raw))
	code, out, errs := b.pane("try", saved, "--browser", "chromium", "--env", "local")
	assert.Zero(t, code, out+errs)
}

func TestKilledDriverIsTheLabsFault(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.agent("quay")
	number := b.running("--tag", "slow")
	require.Eventually(t, func() bool { return b.visits.Load() > 0 }, 30*time.Second, 10*time.Millisecond)
	killSession(t, filepath.Join(b.dir, "quay", "sessions", "chromium-"))
	run := b.ended(number)
	assert.Equal(t, verdict.Passed, run.Verdict, "it was tried again: %+v", run.Cells)
	all := b.attempts(number, 0)
	require.Len(t, all, 2)
	assert.Equal(t, verdict.LabFault, all[0].Verdict, all[0].Message)
	assert.Contains(t, all[0].Message, "gone")
	assert.Equal(t, verdict.Passed, all[1].Verdict)
}

// killSession kills every program of the sessions whose directory begins so, as
// a crash would.
func killSession(t *testing.T, dir string) {
	require.Eventually(t, func() bool {
		killed := 0
		environs, _ := filepath.Glob("/proc/[0-9]*/environ")
		for _, f := range environs {
			raw, _ := os.ReadFile(f)
			line, _ := os.ReadFile(filepath.Join(filepath.Dir(f), "cmdline"))
			if bytes.Contains(raw, []byte("PANE_SESSION_DIR="+dir)) || bytes.Contains(line, []byte("\x00--bind\x00"+dir)) {
				pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(f)))
				if p, err := os.FindProcess(pid); err == nil && p.Kill() == nil {
					killed++
				}
			}
		}
		return killed > 0
	}, 10*time.Second, 20*time.Millisecond)
}

func TestKilledAgent(t *testing.T) {
	b := newBench(t)
	b.serve()
	first := b.agent("quay")
	number := b.running("--tag", "slow", "--queue-limit", "2s")
	require.NoError(t, first.Process.Kill())
	run := b.ended(number)
	assert.Equal(t, verdict.LabFault, run.Verdict)
	assert.Contains(t, b.attempts(number, 0)[0].Message, "agent quay stopped answering")

	second := b.spawn("agent", "--service", b.listen, "--name", "quay", "--slots", "1", "--state", filepath.Join(b.dir, "quay"))
	number = b.running("--tag", "slow")
	require.NoError(t, second.Process.Kill())
	_ = second.Wait()
	b.spawn("agent", "--service", b.listen, "--name", "quay", "--slots", "1", "--state", filepath.Join(b.dir, "quay"))
	run = b.ended(number)
	assert.Equal(t, verdict.Passed, run.Verdict, "it finishes once the agent is back")
	assert.Contains(t, b.attempts(number, 0)[0].Message, "agent quay was started again")
	b.noLeftovers("quay")
}

func TestKilledService(t *testing.T) {
	b := newBench(t)
	svc := b.serve()
	b.agent("quay")
	number := b.running("--tag", "slow", "--tag", "smoke")
	require.NoError(t, svc.Process.Kill())
	_ = svc.Wait()
	code, _, errs := b.pane("show", strconv.Itoa(number))
	assert.Equal(t, verdict.ExitLab, code)
	assert.Contains(t, errs, "no service answers at")
	b.serve()
	run := b.ended(number)
	assert.Equal(t, verdict.Counts{verdict.Passed: 2}, run.Counts)
	for test := range run.Tests {
		assert.Len(t, b.attempts(number, test), 1, "no attempt is lost or doubled")
	}
}

func TestRefusals(t *testing.T) {
	b := newBench(t)
	b.serve()
	code, _, errs := b.pane("run", "--dir", b.dir)
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, "no pane.yaml in")
	code, _, errs = b.pane("run", "quai", "--dir", b.project)
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, `unknown suite "quai" (did you mean "quay"?)`)
	code, _, errs = b.pane("run", "--dir", b.project, "--tag", "smok")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, `unknown tag "smok"`)
	code, _, errs = b.pane("run", "--dir", b.project, "--matrix", "on")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, `unknown matrix "on"`)
	code, _, errs = b.pane("show", "x")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, `"x" is not the number of a run`)
	code, _, errs = b.pane("fetch", "1", b.dir, "--kind", "film")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, "expected one of [commands screenshots video")
	code, _, errs = b.pane("serve", "--listen", b.listen, "--data", filepath.Join(b.dir, "other"))
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, "cannot listen on")
	t.Setenv("PANE_TOKEN", "pane_wrong")
	code, _, errs = b.pane("runs")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, "the token is not valid here")
	t.Setenv("PANE_TOKEN", "")

	b.write("worse.pane.yaml", "name: Worse\nsteps:\n  - clik: x\n")
	for _, args := range [][]string{{"lint", b.project}, {"run", "--dir", b.project}} {
		code, out, errs := b.pane(args...)
		assert.Equal(t, verdict.ExitUsage, code)
		assert.Contains(t, out+errs, `worse.pane.yaml:3:5: step: unknown key "clik" (did you mean "click"?)`)
	}
	code, out, _ := b.pane("lint", b.project, "--json")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, out, `"column": 5`)
}

func TestOfflineCommands(t *testing.T) {
	b := newBench(t)
	code, out, _ := b.pane("lint", b.project)
	assert.Zero(t, code)
	assert.Contains(t, out, "1 suite, 3 tests, nothing to mend")
	code, out, _ = b.pane("matrix", "plan", filepath.Join(b.project, "pane.yaml"), "--name", "far", "--offline", "--json")
	assert.Zero(t, code)
	assert.JSONEq(t, `{"combinations": [{"key": "browser=chromium;os=windows", "label": "chromium · windows",
		"values": {"browser": "chromium", "os": "windows"}}],
		"missing": [], "cover": {"strength": 2, "tuples": 1, "covered": 1, "left": 0}}`, out)
	code, _, errs := b.pane("matrix", "plan", filepath.Join(b.project, "pane.yaml"), "--name", "fra")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, `unknown matrix "fra" (did you mean "far"?)`)
	for _, what := range []string{"script", "project"} {
		code, out, _ = b.pane("schema", what)
		assert.Zero(t, code)
		assert.True(t, json.Valid([]byte(out)))
	}
	code, out, _ = b.pane("devices", "--text", "phone")
	assert.Zero(t, code)
	assert.Contains(t, out, "390×844")
	assert.NotContains(t, out, "kiosk")
	code, out, _ = b.pane("agent", "check")
	assert.Zero(t, code)
	assert.Contains(t, out, "chromedriver")
}

// script runs steps on an open session and expects them to pass. They wait longer than
// is usual: other tests have the machine's cores as well.
func (b *bench) script(s *sessions.Session, base string, vars map[string]string, steps string) {
	b.t.Helper()
	sc, err := script.Parse("console.pane.yaml", []byte("name: Console\nwait: 20s\nsteps:"+steps), nil)
	require.NoError(b.t, err)
	runScript(b.t, s, sc, base, vars)
}
