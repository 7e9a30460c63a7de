package cli

import (
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/demo/mailbox"
	"parallelpane/internal/demo/provider"
	"parallelpane/internal/demo/tracker"
)

// The service is killed between a run's end and its mails: each is sent once after the
// restart.
func TestKilledBeforeItsMails(t *testing.T) {
	b := newBench(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	mute := make(chan net.Conn, 9) // takes connections and says nothing
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mute <- c
		}
	}()
	flags := []string{"--mail", "smtp+plain://" + l.Addr().String(), "--mail-from", "lab@saltmarsh.example", "--hooks-to", "127.0.0.1/32"}
	svc := b.serve(flags...)
	b.agent("quay")
	b.refused(verdict.ExitUsage, "--project: say of which project", "notify", "add", "mail", "tern@saltmarsh.example")
	b.refused(verdict.ExitUsage, "kind: expected mail or hook", "notify", "add", "pigeon", "x", "--project", "saltmarsh")
	b.want([]string{"notify", "add", "mail", "tern@saltmarsh.example", "--project", "saltmarsh", "--of", "failed"},
		"tern@saltmarsh.example hears of failed of saltmarsh.")
	b.want([]string{"notify"}, "tern@saltmarsh.example")
	b.run("--tag", "smoke")
	b.run("--tag", "bad")
	select {
	case <-mute:
	case <-time.After(20 * time.Second):
		require.Fail(t, "no mail was on its way")
	}
	require.NoError(t, svc.Process.Kill())
	_ = svc.Wait()
	require.NoError(t, l.Close())
	l, err = net.Listen("tcp", l.Addr().String())
	require.NoError(t, err)
	box := mailbox.New()
	go func() { _ = box.Serve(l) }()
	t.Cleanup(func() { _ = box.Close() })
	b.serve(flags...)
	sent := func() (all []api.Delivery) {
		code, out, errs := b.pane("notify", "sent", "--json")
		require.Zero(t, code, errs)
		require.NoError(t, json.Unmarshal([]byte(out), &all))
		return all
	}
	require.Eventually(t, func() bool { ds := sent(); return len(ds) == 1 && ds[0].State == api.Sent }, 30*time.Second, 50*time.Millisecond)
	require.Len(t, box.Mails(), 1, "of the run that failed, once")
	m := box.Mails()[0]
	assert.Equal(t, "#2 saltmarsh quay on one (local): 1 of 1 failed", m.Subject)
	assert.Contains(t, m.Text, "http://"+b.listen+"/runs/2")
	assert.Contains(t, m.HTML, "data:image/png;base64,", "the wall is in it")

	b.want([]string{"notify", "again", sent()[0].ID}, "It is on its way")
	require.Eventually(t, func() bool { return len(box.Mails()) == 2 }, 20*time.Second, 50*time.Millisecond)
	b.want([]string{"notify", "pause", "tern@saltmarsh.example"}, "It says nothing")
	b.want([]string{"notify"}, "(paused)")
	b.want([]string{"notify", "drop", "tern@saltmarsh.example"}, "It is forgotten.")
	b.refused(verdict.ExitUsage, "there is no subscription", "notify", "drop", "tern@saltmarsh.example")
	assert.True(t, strings.HasPrefix(b.want([]string{"notify"}), "Nobody hears of anything yet"))
}

// A share link is opened in a browser by somebody who has nothing else.
func TestALinkThatIsShared(t *testing.T) {
	b := newBench(t)
	filed, err := tracker.New("http://tracker.saltmarsh.example")
	require.NoError(t, err)
	defects := httptest.NewServer(filed)
	t.Cleanup(defects.Close)
	var office *provider.Provider
	signIn := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { office.ServeHTTP(w, r) }))
	t.Cleanup(signIn.Close)
	office, err = provider.New(signIn.URL, "pane")
	require.NoError(t, err)
	b.serve("--hooks-to", "127.0.0.1/32", "--sign-in", signIn.URL, "--sign-in-client", "pane", "--sign-in-name", "the harbour office")
	b.agent("quay")
	b.run("--tag", "bad")
	b.refused(verdict.ExitUsage, "--until: expected a day", "share", "run", "1", "--until", "soon")
	b.refused(verdict.ExitUsage, `did you mean "The tide stays"`, "share", "test", "1", "The tide stay")
	code, out, errs := b.pane("share", "run", "1", "--until", "48h")
	require.Zero(t, code, errs)
	assert.Contains(t, errs, "Whoever has it sees run #1 until")
	address := strings.TrimSpace(out)
	code, out, _ = b.pane("share", "test", "1", "0", "--json")
	require.Zero(t, code)
	var made api.NewShare
	require.NoError(t, json.Unmarshal([]byte(out), &made))
	b.want([]string{"share"}, "run #1", `the test "The tide stays" of run #1`)
	b.want([]string{"share", "end", made.ID}, "It shows nothing more.")
	b.refused(verdict.ExitUsage, "means 0 share links", "share", "end", made.ID)
	b.want([]string{"share", "cause", "1", "1"}, "/shared#")
	b.want([]string{"tracker", "add", "harbour", defects.URL + tracker.Path, "--project", "saltmarsh"}, "Defects of saltmarsh are filed at")
	b.refused(verdict.ExitUsage, "has a tracker harbour already", "tracker", "add", "harbour", defects.URL, "--project", "saltmarsh")
	b.want([]string{"defect", "form", "1", "1"}, "severity", "nobody can berth", "Still to be filled in", "The tide stays")
	b.refused(verdict.ExitUsage, "severity", "defect", "file", "1", "1")
	b.refused(verdict.ExitUsage, `1 cause, and 0 are "9"`, "defect", "form", "1", "9")
	b.want([]string{"account", "add", "tern", "--mail", "tern@saltmarsh.example", "--role", "viewer:saltmarsh"}, "tern@saltmarsh.example")
	b.refused(verdict.ExitUsage, "admin has no account", "me", "hear", "saltmarsh")
	if s, enter := b.console(); s != nil {
		defer s.Close()
		b.script(s, "http://"+b.listen, map[string]string{"shared": address, "enter": enter}, `
  - visit: ${vars.shared}
  - expect: "admin shares run #1 with you."
  - expect: {shown: {role: heading, name: "Run #1 failed"}}
  - expect: {gone: {role: button, name: Again}}
  - click: {role: button, name: Pass on}
  - expect: "1 of 1 failed"
  - expect: {gone: {role: button, name: Make a link}}
  - visit: /runs
  - expect: "this link shows run #1, and nothing else"
  - about: a cause becomes a defect, its form filled in
    visit: ${vars.enter}
  - visit: /runs/1
  - click: File a defect
  - expect: {holds: "the page's text does not contain \"Flood\"; it is \"Ebb\"", at: {label: "What is wrong *"}}
  - enter: {at: {label: "What is wrong *"}, text: The tide never turns}
  - choose: {at: {label: "Severity *"}, option: a nuisance}
  - click: {role: button, name: File it}
  - expect: {shown: {role: link, name: HARBOUR-1}}
  - expect: The tide never turns
  - visit: /defects
  - expect: {number: 1, of: {reads: HARBOUR-1}}
  - about: somebody else signs in with the lab's provider
    click: Sign out
  - click: Sign in with the harbour office
  - expect: whoever comes is believed
  - click: {css: "li:first-child a"}
  - expect: {shown: {role: link, name: "tern, viewer"}}
  - click: "tern, viewer"
  - expect: signed in with the harbour office
  - expect: {gone: {role: link, name: Accounts}}
`)
		b.want([]string{"defect", "--state", "open"}, "HARBOUR-1", "The tide never turns")
		code, out, _ = b.pane("causes", "1")
		assert.Equal(t, verdict.ExitFailed, code)
		assert.Contains(t, out, "HARBOUR-1, open")
		b.want([]string{"account"}, "with the provider")
	}
}
