package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/bisect"
	"parallelpane/internal/core/verdict"
)

var kestrel = regexp.MustCompile(`kestrel/(\d+)`)

// Over eight invented versions, of which the seventh answers one way and the other, and
// over the files of earlier runs.
func TestWhichVersionBrokeIt(t *testing.T) {
	b := newBench(t)
	var odd atomic.Int64
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := 0
		if found := kestrel.FindStringSubmatch(r.UserAgent()); found != nil {
			n, _ = strconv.Atoi(found[1])
		}
		tide := "High"
		if n >= 9 || n == 7 && odd.Add(1)%2 == 1 {
			tide = "Low"
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, "<!doctype html><title>Quay</title><p>%s</p>", tide)
	}))
	t.Cleanup(web.Close)
	for _, name := range []string{"good", "bad", "slow"} {
		require.NoError(t, os.Remove(filepath.Join(b.project, name+".pane.yaml")))
	}
	b.write("pane.yaml", `project: saltmarsh
suites: {quay: {scripts: "tide.pane.yaml"}, ebb: {scripts: "ebb.pane.yaml"}}
matrices: {newest: {axes: {browser: [kestrel], os: [saltos]}}}
environments: {local: {base: "`+web.URL+`"}}
default: {suite: quay, matrix: newest, environment: local}
`)
	b.write("ebb.pane.yaml", "name: The tide is low\nsteps:\n  - visit: /\n")
	b.write("tide.pane.yaml", "name: The tide is high\nwait: 100ms\nsteps:\n  - visit: /\n  - expect: High\n")
	b.write("fleet.yaml", `agents:
  - {name: gull, os: saltos, slots: 2, browsers: {kestrel: ["5.0", "6.0", "7.0", "8.0", "9.0", "10.0", "11.0", "12.0"]}, command_ms: 1}
`)
	b.serve()
	b.spawn("standin", "fleet", filepath.Join(b.project, "fleet.yaml"), "--service", b.listen, "--state", filepath.Join(b.dir, "standins"))
	require.Eventually(t, func() bool {
		code, out, _ := b.pane("agents", "--online", "--json")
		return code == 0 && strings.Contains(out, `"stand_in": true`)
	}, 30*time.Second, 50*time.Millisecond)

	_, run := b.run("--retries", "0")
	require.Equal(t, verdict.Failed, run.Verdict)
	search := func(test string, run int, args ...string) (found api.Bisect) {
		t.Helper()
		code, out, errs := b.pane(append([]string{"bisect", test, "--json", "--run", strconv.Itoa(run)}, args...)...)
		require.Zero(t, code, "%s%s", out, errs)
		require.NoError(t, json.Unmarshal([]byte(out), &found))
		return found
	}
	found := search("The tide is high", 1)
	require.Equal(t, bisect.Found, found.Answer.Kind, "%+v", found.Tries)
	assert.Equal(t, []string{"8.0", "9.0"}, []string{found.Answer.Last, found.Answer.First}, "%+v", found.Tries)
	assert.Contains(t, found.Answer.Words, "passes up to 8.0, fails from 9.0 (")
	assert.Equal(t, 1, found.Tries[0].Run, "what the run itself told counts")
	assert.NotEmpty(t, found.Answer.FirstTry.Session)
	b.want([]string{"bisect", "list"}, found.ID, "passes up to 8.0")
	b.want([]string{"bisect", "show", found.ID}, "fails from 9.0", "/sessions/"+found.Answer.LastTry.Session)

	// The files changed on their way: what the test expects is what broke it.
	for i, expects := range []string{"Low", "Low", "Low", "High"} {
		b.write("ebb.pane.yaml", fmt.Sprintf("# change %d\nname: The tide is low\nwait: 100ms\nsteps:\n  - visit: /\n  - expect: %s\n", i,
			expects))
		_, run = b.run("ebb", "--retries", "0")
	}
	byFiles := search("The tide is low", run.Number, "--axis", "bundle")
	require.Equal(t, bisect.Found, byFiles.Answer.Kind, "%+v", byFiles)
	require.Len(t, byFiles.Candidates, 4)
	assert.Equal(t, []string{byFiles.Candidates[2], byFiles.Candidates[3]}, []string{byFiles.Answer.Last, byFiles.Answer.First})

	// Everywhere, and what cannot be looked for.
	b.write("tide.pane.yaml", "name: The tide is high\nwait: 100ms\nsteps:\n  - visit: /\n  - expect: Slack\n")
	_, run = b.run("--retries", "0")
	assert.Equal(t, bisect.Everywhere, search("The tide is high", run.Number).Answer.Kind)
	last := strconv.Itoa(run.Number)
	for want, args := range map[string][]string{
		"has none called": {"bisect", "Nobody's test", "--run", last},
		"no combination":  {"bisect", "The tide is high", "--run", last, "--combination", "osprey"},
		"did not fail in": {"bisect", "The tide is low", "--run", strconv.Itoa(byFiles.Answer.LastTry.Run)},
		"no run 999":      {"bisect", "The tide is high", "--run", "999"},
		"0.5 to 0.999":    {"bisect", "The tide is high", "--run", last, "--sure", "1"},
		"no search":       {"bisect", "show", "nothing"},
		"ended already":   {"bisect", "end", found.ID},
	} {
		code, _, errs := b.pane(args...)
		assert.NotZero(t, code, want)
		assert.Contains(t, errs, want)
	}
}
