package cli

import (
	"bytes"
	"encoding/json"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
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

// endpoint is a runner's client of the session endpoint.
func (b *bench) endpoint() *webdriver.Client {
	return webdriver.NewClient("http://"+b.listen+"/webdriver", &http.Client{Transport: withToken{b.token(), http.DefaultTransport}})
}

func TestSessionsOfARunner(t *testing.T) {
	b := newBench(t)
	b.serve()
	b.want([]string{"sessions"}, "There are no sessions yet", "/webdriver")
	b.agent("quay")
	b.want([]string{"record", "saltmarsh", "video=unless-passed"}, "project saltmarsh", "as usual")
	b.want([]string{"keep", "saltmarsh", "video:passed=3", "all=30"}, "3 days", "30 days")
	b.want([]string{"keep", "other"}, "90 days", "as usual")
	s, err := b.endpoint().New(t.Context(), webdriver.Capabilities{"browserName": "chrome", "browserVersion": "latest",
		"pane:options": map[string]any{"test": "Holding a berth", "run": "build 812", "project": "saltmarsh", "tags": []string{"berths"},
			"record": "always", "idleLimit": 300}})
	require.NoError(t, err)
	require.NoError(t, s.Navigate(t.Context(), b.site))
	_, err = s.Find(t.Context(), "css selector", "#nowhere")
	require.Equal(t, webdriver.NoSuchElement, webdriver.CodeOf(err))
	b.want([]string{"sessions", "--state", "open"}, "Holding a berth", "quay", "open")
	b.want([]string{"agents"}, "quay")

	mine, enter := b.console()
	if mine != nil {
		defer mine.Close()
		b.script(mine, "http://"+b.listen, map[string]string{"enter": enter, "session": s.ID}, `
  - visit: ${vars.enter}
  - click: {role: link, name: Sessions}
  - expect: {number: 1, of: {css: tbody tr}}
  - click: {css: "a[href^='/sessions/']"}
  - expect: {shown: {role: heading, name: Holding a berth open}}
  - about: the picture of the session comes by itself
    expect: {shown: {css: "img[alt='What the session shows now']"}}
  - expect: Find Element
  - click: Reach in
  - expect: The runner's commands wait
  - click: {css: "img[alt='What the session shows now']"}
  - about: what was done by hand is recorded with who did it
    expect: by admin
  - click: Page source
  - expect: {shown: {css: "pre[aria-label='Page source']"}}
  - click: Let go
  - expect: Nothing is captured while nobody looks
`)
	}
	require.NoError(t, s.Close(t.Context()))
	var ended api.Session
	require.Eventually(t, func() bool {
		return json.Unmarshal([]byte(b.want([]string{"sessions", "show", s.ID, "--json"})), &ended) == nil && ended.State == "ended"
	}, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, verdict.Ended, ended.Verdict, "nobody has said how it went")
	b.want([]string{"verdict", s.ID, "failed", "-m", "the berth was not held"}, "has the verdict failed")
	b.want([]string{"sessions", "note", s.ID, "ask the harbour master"}, "kept")
	b.want([]string{"sessions", "show", s.ID}, "◩ failed", "the berth was not held", "the client ended it", "Navigate To",
		"no such element", "video.webm", "ask the harbour master")
	b.want([]string{"sessions", "--verdict", "failed", "--tag", "berths", "--since", "2026-01-01"}, "Holding a berth")
	b.want([]string{"sessions", "--verdict", "passed"}, "No session is like that")
	b.want([]string{"sweep", "--dry-run"}, "0 files with 0 B would be removed")
	b.want([]string{"snippet", "--browser", "chromium", "--in", "python"}, "urllib", `"browserName": "chromium"`)
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"verdict", s.ID, "fine"}, verdict.ExitUsage, "expected passed, failed or skipped"},
		{[]string{"verdict", "nobody", "passed"}, verdict.ExitUsage, "there is no session"},
		{[]string{"sessions", "end", s.ID}, verdict.ExitUsage, "has ended already"},
		{[]string{"sessions", "--since", "yesterday"}, verdict.ExitUsage, "expected a day such as"},
		{[]string{"record", "saltmarsh", "film=always"}, verdict.ExitUsage, `no recording "film"`},
		{[]string{"keep", "saltmarsh", "video"}, verdict.ExitUsage, "is not a rule"},
		{[]string{"snippet", "--browser", "puffin"}, verdict.ExitLab, "no agent"},
		{[]string{"snippet", "--in", "latin"}, verdict.ExitUsage, "there is no example"},
		{[]string{"run", "--dir", b.project, "--secret", "NO_SUCH_VARIABLE"}, verdict.ExitUsage, "there is no environment variable"},
		{[]string{"try", "--ask", "--lab", "--browser", "puffin", "--base", b.site}, verdict.ExitLab, "no agent has browser=puffin"},
	} {
		code, _, errs := b.pane(c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errs)
		assert.Contains(t, errs, c.says, "%v", c.args)
	}
	if mine != nil {
		b.script(mine, "http://"+b.listen, map[string]string{"session": s.ID}, `
  - visit: /sessions/${vars.session}
  - about: the failing command is opened first
    expect: {reads: Find Element, at: {css: "ol button[aria-current=true]"}}
  - expect: {shown: {css: "video[aria-label='Video of the session']"}}
  - expect: the berth was not held
  - press: ArrowLeft
  - expect: {reads: Navigate To, at: {css: "ol button[aria-current=true]"}}
  - press: n
  - expect: {reads: Find Element, at: {css: "ol button[aria-current=true]"}}
  - click: {role: tab, name: Capabilities}
  - expect: browserVersion
  - click: {role: tab, name: Agent log}
  - expect: reached into the session
  - visit: /sessions?verdict=passed
  - expect: No session is like that
  - click: {role: link, name: Your runner}
  - choose: {at: {css: "select[aria-label=Browser]"}, option: chromium}
  - expect: could serve it
  - click: {role: link, name: Recordings}
  - click: See what would go
  - expect: Nothing is over its time
  - visit: /runs/1
  - expect: {shown: {role: heading, name: "Run #1 failed"}}
  - about: a list that is filtered can be kept as its address
    visit: /sessions
  - enter: {at: {attribute: {placeholder: "Find name, test, run, person, message, note"}}, text: harbour master}
  - expect: {address: {contains: "text=harbour"}}
  - expect: {number: 1, of: {css: tbody tr}}
  - choose: {at: {css: "select[aria-label=State]"}, option: waiting}
  - expect: No session is like that
  - click: Show every session
  - expect: {address: "/sessions"}
  - expect: {reads: "build 812", at: {css: tbody}}
  - about: what is recorded and kept is settled for a project
    visit: /recordings?project=saltmarsh
  - choose: {at: {css: "select[aria-label='Record network']"}, option: "always"}
  - enter: {at: {attribute: {placeholder: "Days, 0 for ever"}}, text: "9"}
  - choose: {at: {css: "select[aria-label=Kind]"}, option: network}
  - click: {role: button, name: Settle}
  - expect: for 9 days
  - about: a runner's first program comes with what it asks for
    visit: /connect?browser=chromium
  - choose: {at: {css: "select[aria-label=Window]"}, option: headed}
  - expect: {address: {contains: mode=headed}}
  - expect: '"mode": "headed"'
  - click: {role: button, name: Python}
  - expect: urllib
  - visit: /connect?browser=puffin
  - expect: Nobody can serve this
  - visit: /sessions/no-such-session
  - expect: there is no session
`)
		b.want([]string{"record", "saltmarsh"}, "network", "always")
		b.want([]string{"keep", "saltmarsh"}, "9 days")
	}
}

// A secret that a run was given is used by its scripts and shown nowhere.
func TestSecretsOfARun(t *testing.T) {
	b := newBench(t)
	b.write("pin.pane.yaml", "name: The pin\ntags: [pin]\nwait: 200ms\nsteps:\n  - visit: /?pin=${vars.PIN}\n  - expect: {address: "+
		"{contains: \"${vars.PIN}\"}}\n  - expect: ${vars.PIN}\n")
	b.serve()
	b.agent("quay")
	t.Setenv("PIN", "kedge-anchor-17")
	code, out, errs := b.pane("run", "--dir", b.project, "--tag", "pin", "--secret", "PIN", "--record", "always")
	assert.Equal(t, verdict.ExitFailed, code, errs)
	assert.Contains(t, out, "•••")
	assert.NotContains(t, out+errs, "kedge-anchor-17")
	b.noLeftovers("quay")
	b.nowhere("kedge-anchor-17")
	b.refused(verdict.ExitUsage, "give PIN again, with pane again 1 --secret PIN", "again", "1", "--not-passed")
	code, out, errs = b.pane("again", "1", "--not-passed", "--secret", "PIN")
	assert.Equal(t, verdict.ExitFailed, code, errs)
	assert.Contains(t, out, "•••")
	assert.NotContains(t, out+errs, "kedge-anchor-17")
}

// A secret that the project keeps is typed into a form and printed by a command, with
// everything recorded, and stands in no file of the service and its agents, on no page and
// in no output.
func TestAKeptSecretIsShownNowhere(t *testing.T) {
	b := newBench(t)
	const secret = "kedge anchor & 4711"
	b.write("pane.yaml", `project: saltmarsh
suites:
  quay: {scripts: "*.pane.yaml", secrets: [pin]}
  shell: {command: "sh {file}", cases: "*.sh", results: exit, secrets: pin}
matrices: {one: {axes: {browser: [chromium]}}}
environments: {local: {base: "`+b.site+`"}}
default: {suite: quay}
`)
	b.write("pin.pane.yaml", "name: The pin\ntags: [pin]\nwait: 200ms\nsteps:\n  - visit: /form\n  - enter: {at: {css: input}, "+
		"text: \"${vars.pin}\"}\n  - press: Enter\n  - capture: sent\n  - expect: It is ${vars.pin}\n")
	b.write("print.sh", "echo \"it is $PANE_VAR_PIN\"; echo \"$PANE_VAR_PIN\" > \"$PANE_ATTACHMENTS/pin.txt\"; exit 1\n")
	b.serve()
	b.agent("quay")
	b.refused(verdict.ExitUsage, "the suite needs the secret pin, which project saltmarsh keeps neither for environment local", "run", "--dir",
		b.project, "--tag", "pin")
	cmd := (&root{address: b.listen, out: io.Discard, err: io.Discard}).secretCmd()
	cmd.SetArgs([]string{"keep", "pin", "--project", "saltmarsh"})
	cmd.SetIn(strings.NewReader(secret + "\n"))
	require.NoError(t, cmd.ExecuteContext(t.Context()))
	b.want([]string{"secret", "list", "--dir", b.project}, "pin", "every one")
	b.want([]string{"run", "--dir", b.project, "--tag", "pin", "--preview"}, "secrets.pin = (kept)", "kept for every environment")
	for _, of := range [][]string{{"quay", "--tag", "pin"}, {"shell"}} {
		code, out, errs := b.pane(append([]string{"run", "--dir", b.project, "--record", "always"}, of...)...)
		assert.Equal(t, verdict.ExitFailed, code, errs)
		assert.Contains(t, out, "•••", of)
		assert.NotContains(t, out+errs, secret)
	}
	b.noLeftovers("quay")
	for _, form := range []string{secret, url.QueryEscape(secret), url.PathEscape(secret), "kedge anchor &amp; 4711", "kedge+anchor"} {
		b.nowhere(form)
	}
	var all bytes.Buffer
	for _, args := range [][]string{{"show", "1"}, {"show", "1", "The pin"}, {"show", "2", "--json"}, {"fetch", "1", filepath.Join(b.dir,
		"fetched")}, {"audit"}, {"secret", "list", "--project", "saltmarsh", "--json"}} {
		_, out, errs := b.pane(args...)
		all.WriteString(out + errs)
	}
	assert.NotContains(t, all.String(), "anchor")
	assert.Equal(t, secret, strings.TrimSpace(b.want([]string{"secret", "read", "pin", "--dir", b.project})), "an admin reads it")
	if s, enter := b.console(); s != nil {
		defer s.Close()
		b.script(s, "http://"+b.listen, map[string]string{"enter": enter}, `
  - visit: ${vars.enter}
  - visit: /people/secrets
  - expect: {reads: every one, at: {css: tbody}}
  - enter: {at: {attribute: {placeholder: desk_password}}, text: other}
  - enter: {at: {attribute: {placeholder: staging}}, text: local}
  - enter: {at: {attribute: {placeholder: its value}}, text: sheet bend}
  - click: {role: button, name: Keep}
  - expect: {reads: local, at: {css: tbody}}
  - visit: /runs/2
  - expect: print.sh
  - expect: •••
`)
	}
	b.want([]string{"secret", "drop", "other", "--env", "local", "--project", "saltmarsh"}, "is forgotten")
}

// nowhere says that a word is in no file of the service and the agents.
func (b *bench) nowhere(word string) {
	b.t.Helper()
	for _, dir := range []string{"data", "quay"} {
		root := filepath.Join(b.dir, dir)
		require.NoError(b.t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			raw, err := os.ReadFile(path)
			if err != nil && !os.IsNotExist(err) {
				return err
			}
			assert.False(b.t, bytes.Contains(raw, []byte(word)), "%s is in %s", word, path)
			return nil
		}))
	}
}
