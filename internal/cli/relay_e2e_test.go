package cli

import (
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/webdriver"
)

// An application that the agents do not reach is tested through the machine of its
// developer, by runs and sessions that ask for that and by no others.
func TestAnApplicationThatOnlyItsDeveloperReaches(t *testing.T) {
	b := newBench(t)
	b.write("twice.pane.yaml", "name: The tide, twice\ntags: [twice]\nwait: 20s\nsteps:\n  - visit: /?wait=4000\n  - expect: Flood\n"+
		"  - visit: /?wait=1\n  - expect: Flood\n")
	b.serve()
	// The agent leads nowhere by itself: as far as it is concerned, the site is on another machine.
	b.spawn("agent", "--service", b.listen, "--name", "quay", "--slots", "1", "--state", filepath.Join(b.dir, "quay"), "--only", "192.0.2.1")
	require.Eventually(t, func() bool {
		_, out, _ := b.pane("agents", "--online")
		return strings.Contains(out, "quay")
	}, 30*time.Second, 50*time.Millisecond)

	code, run := b.run("--tag", "smoke")
	assert.Equal(t, verdict.ExitLab, code)
	assert.Equal(t, 1, run.Counts[verdict.LabFault])
	code, run = b.run("--tag", "smoke", "--relay", "open")
	assert.Zero(t, code, run.Cells)
	assert.Regexp(t, "^way-[a-z0-9]{8}$", run.Request.Relay)
	open := b.relays()
	assert.Empty(t, open, "it ended with its run")
	code, out, errs := b.pane("again", "2")
	assert.Zero(t, code, out+errs)

	b.refused(verdict.ExitUsage, "there is no relay nobody open in project saltmarsh: open it where the application runs",
		"run", "--dir", b.project, "--relay", "nobody")
	b.refused(verdict.ExitUsage, "the relay would end with this command, before the run", "run", "--dir", b.project, "--relay",
		"open", "--detach")

	at, err := url.Parse(b.site)
	require.NoError(t, err)
	owner := b.spawn("relay", at.Port(), at.Host, b.listen, "--name", "pier", "--project", "saltmarsh", "--service", b.listen)
	require.Eventually(t, func() bool {
		open = b.relays("--text", "pier")
		return len(open) == 1
	}, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, []string{"localhost:" + at.Port(), at.Host, b.listen}, open[0].Places)
	b.refused(verdict.ExitUsage, "relay pier does not lead to http://127.0.0.1:1: 127.0.0.1:1 is not on its list",
		"run", "--dir", b.project, "--relay", "pier", "--env", "gone")
	code, run = b.run("--tag", "smoke", "--relay", "pier")
	assert.Zero(t, code, run.Cells)

	// A runner's session that names the relay reaches the site, and what is the lab's own through nothing.
	visit := func(options map[string]any, address string) (title string) {
		s, err := b.endpoint().New(t.Context(), webdriver.Capabilities{"browserName": "chromium", "pane:options": options})
		require.NoError(t, err)
		defer func() { _ = s.Close(t.Context()) }()
		_ = s.Navigate(t.Context(), address) // engines differ in what they say of a site that breaks off
		title, err = s.Title(t.Context())
		require.NoError(t, err)
		return title
	}
	assert.Equal(t, "Quay", visit(map[string]any{"project": "saltmarsh", "relay": "pier"}, "http://localhost:"+at.Port()+"/"))
	assert.NotEqual(t, "Quay", visit(map[string]any{"project": "saltmarsh"}, b.site))
	assert.NotContains(t, visit(map[string]any{"project": "saltmarsh", "relay": "pier"}, "http://"+b.listen+"/"), "Pane")
	_, err = b.endpoint().New(t.Context(), webdriver.Capabilities{"browserName": "chromium",
		"pane:options": map[string]any{"project": "other", "relay": "pier"}})
	assert.ErrorContains(t, err, "there is no relay pier open in project other")
	_, err = b.endpoint().New(t.Context(), webdriver.Capabilities{"browserName": "chromium",
		"pane:options": map[string]any{"project": "saltmarsh", "relay": "no name"}})
	assert.ErrorContains(t, err, "relay: expected the name of an open relay")
	code, out, _ = b.pane("relays")
	assert.Zero(t, code)
	assert.Contains(t, out, "localhost:"+at.Port())

	// Its owner vanishes in the middle of a run: the lab's fault, not the product's.
	number := b.running("--tag", "twice", "--relay", "pier")
	require.Eventually(t, func() bool {
		open = b.relays()
		return len(open) == 1 && open[0].Open > 0
	}, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, owner.Process.Signal(os.Interrupt))
	require.Eventually(t, func() bool {
		open = b.relays()
		return len(open) == 0
	}, 10*time.Second, 20*time.Millisecond)
	run = b.ended(number)
	assert.Equal(t, 1, run.Counts[verdict.LabFault], run.Cells)

	s, enter := b.console()
	if s == nil {
		return
	}
	defer s.Close()
	b.script(s, "http://"+b.listen, map[string]string{"enter": enter}, `
  - visit: ${vars.enter}
  - visit: /fleet/relays
  - expect: No relay is open
  - visit: /connect?browser=chromium&relay=pier
  - expect: '"relay": "pier"'
`)
}

// relays are those that are open.
func (b *bench) relays(args ...string) (all []api.Relay) {
	b.t.Helper()
	code, out, errs := b.pane(append([]string{"relays", "--json"}, args...)...)
	require.Zero(b.t, code, errs)
	require.NoError(b.t, json.Unmarshal([]byte(out), &all))
	return all
}

// A CI job that has a shell and curl starts a run, waits for it and ends as it did.
func TestAStepWithNothingButCurl(t *testing.T) {
	if _, err := exec.LookPath("curl"); err != nil {
		t.Skip("no curl here")
	}
	b := newBench(t)
	b.serve()
	b.agent("quay")
	for tag, want := range map[string]int{"smoke": verdict.ExitPassed, "bad": verdict.ExitFailed} {
		b.want([]string{"preset", "save", tag, "--dir", b.project, "--tag", tag})
		script, err := filepath.Abs("../../examples/ci/step.sh")
		require.NoError(t, err)
		cmd := exec.Command("sh", script, tag)
		cmd.Dir = t.TempDir()
		cmd.Env = append(os.Environ(), "PANE_SERVICE=http://"+b.listen, "PANE_TOKEN="+b.token())
		out, _ := cmd.CombinedOutput()
		assert.Equal(t, want, cmd.ProcessState.ExitCode(), "%s", out)
		assert.Contains(t, string(out), "Run #")
		junit, err := os.ReadFile(filepath.Join(cmd.Dir, "results.xml"))
		require.NoError(t, err)
		assert.Contains(t, string(junit), "<testsuites")
		assert.NotContains(t, string(out), b.token())
	}
	code, body := b.exit("/runs/1/exit?wait=61")
	assert.Equal(t, 422, code, body)
	b.pane("run", "--dir", b.project, "--tag", "slow", "--detach")
	code, _ = b.exit("/runs/3/exit")
	assert.Equal(t, 204, code, "it goes on")
}

func (b *bench) exit(path string) (status int, body string) {
	b.t.Helper()
	req, err := http.NewRequest(http.MethodGet, "http://"+b.listen+"/api/v1"+path, nil)
	require.NoError(b.t, err)
	req.Header.Set("Authorization", "Bearer "+b.token())
	resp, err := http.DefaultClient.Do(req)
	require.NoError(b.t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(b.t, err)
	return resp.StatusCode, string(raw)
}
