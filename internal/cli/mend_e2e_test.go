package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/demo/desk"
)

// An element's id changes with the desk's next release: what its locator found is named, a
// test goes on with it where that is wanted, and the patch mends the script.
func TestALocatorThatAges(t *testing.T) {
	b := newBench(t)
	now, next := httptest.NewServer(desk.New(time.Millisecond)), httptest.NewServer(desk.Next(time.Millisecond))
	t.Cleanup(now.Close)
	t.Cleanup(next.Close)
	odd := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { // hides it on the small screen
		if strings.Contains(r.UserAgent(), "Mobile") && strings.Contains(r.Header.Get("Accept"), "text/html") {
			fmt.Fprint(w, "<!doctype html><style>#berth-free {display: none}</style>")
		}
		desk.Next(time.Millisecond).ServeHTTP(w, r)
	}))
	t.Cleanup(odd.Close)
	for _, name := range []string{"good", "bad", "slow"} {
		require.NoError(t, os.Remove(filepath.Join(b.project, name+".pane.yaml")))
	}
	b.write("pane.yaml", `project: saltmarsh
suites: {quay: {scripts: "*.pane.yaml"}}
matrices:
  one: {axes: {browser: [chromium]}}
  two: {axes: {browser: [chromium], device: [desktop, phone]}}
environments:
  now: {base: "`+now.URL+`"}
  next: {base: "`+next.URL+`"}
  odd: {base: "`+odd.URL+`"}
default: {matrix: one, environment: now}
`)
	b.write("office.pane.yaml", `name: The office answers about a berth
wait: 1500ms
steps:
  - visit: /berths/A4
  - click: {css: "main > p:nth-of-type(2) button"}  # the office has a button
  - expect: {reads: free for 14 nights, at: {css: "#free"}}
`)
	b.serve()
	b.agent("quay")

	code, run := b.run()
	require.Zero(t, code, run.Cells)
	code, run = b.run("--env", "next")
	assert.Equal(t, verdict.ExitFailed, code)
	assert.Contains(t, run.Cells[0][0].Message, `css "#free": no element matches`)
	mended := func() (out api.AgedLocators) {
		code, text, errs := b.pane("mend", "--json")
		require.Zero(t, code, errs)
		require.NoError(t, json.Unmarshal([]byte(text), &out))
		return out
	}
	aged := mended()
	require.Len(t, aged.Locators, 1, "%+v", aged)
	l := aged.Locators[0]
	assert.Equal(t, `css "#free"`, l.Was)
	assert.Equal(t, "{attribute: {id: berth-free}}", l.Now)
	assert.Equal(t, "office.pane.yaml:6:45", l.At.String())
	assert.Equal(t, 1, l.Failed)
	assert.Zero(t, l.Accepted)
	_, text, _ := b.pane("mend")
	assert.Contains(t, text, `css "#free" finds nothing any more`)
	assert.Contains(t, text, "1 locator; pane mend 2 --patch prints the change for the scripts")

	code, run = b.run("--env", "next", "--mending", "accept")
	require.Zero(t, code, run.Cells)
	assert.Equal(t, verdict.Passed, run.Cells[0][0].Verdict)
	assert.Contains(t, run.Cells[0][0].Message, `step 3 went on without its locator: css "#free" finds nothing`)
	assert.Equal(t, 1, mended().Locators[0].Accepted)
	code, _ = b.run("--env", "next", "--mending", "never")
	assert.Equal(t, verdict.ExitFailed, code)
	assert.Empty(t, mended().Locators)
	b.refused(verdict.ExitUsage, `mending: expected never, suggest or accept, found "always"`, "run", "--dir", b.project,
		"--mending", "always")

	// The patch applies, and the next run passes without anything being looked for.
	_, patch, errs := b.pane("mend", "2", "--patch")
	assert.Empty(t, errs)
	cmd := exec.Command("patch", "-p1")
	cmd.Dir, cmd.Stdin = b.project, strings.NewReader(patch)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s\n%s", out, patch)
	src, err := os.ReadFile(filepath.Join(b.project, "office.pane.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(src), "  - expect: {reads: free for 14 nights, at: {attribute: {id: berth-free}}}\n")
	assert.Contains(t, string(src), "  # the office has a button\n")
	code, run = b.run("--env", "next", "--mending", "never")
	require.Zero(t, code, run.Cells)

	code, text, errs = b.pane("locate", "2", "0", "{attribute: {id: berth-free}}")
	assert.Zero(t, code, errs)
	assert.Contains(t, text, "It finds one element that can be seen: a step would take it.")
	assert.Contains(t, text, "  - expect: {reads: free for 14 nights, at: {attribute: {id: berth-free}}}")
	code, text, _ = b.pane("locate", "2", "0", "{css: 'form label'}")
	assert.Equal(t, 1, code)
	assert.Regexp(t, `It finds \d elements that can be seen: a step needs one`, text)
	b.refused(verdict.ExitUsage, "xpath: it walks the page more than twice", "locate", "2", "0", "{xpath: '//*[.//*[.//*]]'}")
	b.refused(verdict.ExitUsage, "no page was kept of", "locate", "1", "0", "Hold")
	code, run = b.run("--env", "next", "--matrix", "two")
	require.Zero(t, code, run.Cells)
	code, text, errs = b.pane("beside", strconv.Itoa(run.Number), "0")
	require.Zero(t, code, errs)
	assert.Contains(t, text, "Every step ended alike and acted on the same elements.")
	assert.Contains(t, text, "the combinations differ in device")
	code, text, errs = b.pane("compare", "env=next", "1")
	assert.Zero(t, code, errs)
	assert.Contains(t, text, "(now) against #")

	// Where a test fails on some combinations, the page tells what is not so on the others.
	for range 2 { // the page is kept where the test passes from the first failure on
		code, _ = b.run("--env", "odd", "--matrix", "two")
		assert.Equal(t, verdict.ExitFailed, code)
	}
	_, text, _ = b.pane("causes")
	assert.Contains(t, text, "on    phone")
	assert.Regexp(t, `seen  <output id=berth-free>.* cannot be seen: display: none in 1 of 1 that fail, in none of 1 that pass, page`, text)
	if s, enter := b.console(); s != nil {
		defer s.Close()
		b.script(s, "http://"+b.listen, map[string]string{"enter": enter, "beside": fmt.Sprintf("/runs/%d/tests/0/beside", run.Number)}, `
  - visit: ${vars.enter}
  - visit: /runs/2
  - expect: 1 locator finds nothing any more
  - click: Patch for the scripts
  - expect: {reads: berth-free, at: {css: 'pre[aria-label="Copy the patch"]'}}
  - visit: /runs/2/tests/0
  - enter: {at: {label: Try another locator on the page as it was}, text: "{role: status}"}
  - click: {role: button, name: Try}
  - expect: "It finds one element that can be seen: a step would take it."
  - visit: ${vars.beside}
  - expect: Every step ended alike and acted on the same elements.
  - expect: {number: 3, of: {css: tbody tr button}}
`)
	}

	// What is brittle is told before it breaks, with a better one from the runs that passed.
	b.t.Chdir(b.project)
	code, text, errs = b.pane("lint", "--better")
	assert.Zero(t, code, errs)
	assert.Contains(t, text, `office.pane.yaml:5:12: css "main > p:nth-of-type(2) button" may break: it counts elements, so that one `+
		`more before it is enough`)
	assert.Contains(t, text, "    better: {role: button, name: Ask the office}")
	_, text, _ = b.pane("lint")
	assert.Contains(t, text, "pane lint --better asks the service")
}
