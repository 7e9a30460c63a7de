package agent_test

import (
	"context"
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
	"parallelpane/internal/engine/standin"
	"parallelpane/internal/snippet"
)

// The examples are complete: each runs as it is printed, where its runtime is.
// hard is a name that ends or begins something in every language.
const hard = `It's "Tides" & fees, \ all $(id) ${x} %s """ ''' \u0022 */ //ø⚓` + " `id` #{x}"

func TestExamplesRun(t *testing.T) {
	o, site := opened(t, t.TempDir(), "127.0.0.1:0"), pier(t)
	o.work(birds(standin.Faults{}), "quay", 2)
	r := o.runner("build", api.Runner)
	s, err := o.svc.Snippets(api.Who{Rights: api.InLab(api.Viewer)}, api.SnippetRequest{Service: "http://" + o.address,
		Browser: "kestrel", Version: ">=12", Test: hard,
		Run: "examples", Tags: "a b", Record: "video=never", Address: site.URL})
	require.NoError(t, err)
	assert.Equal(t, []string{"quay"}, s.Agents.Idle)
	ran := 0
	for _, l := range snippet.Languages {
		t.Run(l.Name, func(t *testing.T) {
			command := map[string][]string{"shell": {"sh"}, "go": {"go", "run"}, "javascript": {"node"},
				"python": {"python3"}, "java": {"java"}}[l.Name]
			if command == nil {
				t.Skip("no runtime for it on any machine of ours")
			}
			if _, err := exec.LookPath(command[0]); err != nil {
				t.Skip(err)
			}
			if l.Name == "java" {
				if out, _ := exec.Command("java", "--list-modules").Output(); !strings.Contains(string(out), "jdk.compiler") {
					t.Skip("this Java has no compiler")
				}
			}
			file := filepath.Join(t.TempDir(), l.File)
			require.NoError(t, os.WriteFile(file, []byte(s.Code[l.Name]), 0o600))
			ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
			defer cancel()
			cmd := exec.CommandContext(ctx, command[0], append(command[1:], file)...)
			cmd.Env = append(os.Environ(), "PANE_TOKEN="+r.token, "PANE_SERVICE=http://"+o.address)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.Contains(t, string(out), "Pier")
			ran++
		})
	}
	run := o.ended(1)
	assert.Equal(t, verdict.Counts{verdict.Passed: 1}, run.Counts)
	assert.Equal(t, hard, run.Tests[0].Name)
	assert.Equal(t, ran, run.Cells[0][0].Attempts)
	assert.GreaterOrEqual(t, ran, 2)
}

func TestExamplesThatCannotBeWritten(t *testing.T) {
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	o.work(birds(standin.Faults{}), "quay", 1)
	o.until(func() bool { return len(o.svc.Agents()) > 0 })
	for _, c := range []struct {
		r    api.SnippetRequest
		says string
	}{
		{api.SnippetRequest{Service: "lab"}, "expected an address"},
		{api.SnippetRequest{Service: "http://lab", Address: "x\"; rm -rf"}, "cannot be written into a program"},
		{api.SnippetRequest{Service: "http://lab", Version: "x"}, "chooses no version"},
		{api.SnippetRequest{Service: "http://lab", Labels: "site"}, "expected NAME=VALUE"},
		{api.SnippetRequest{Service: "http://lab", Device: "abacus"}, "abacus"},
	} {
		_, err := o.svc.Snippets(api.Who{Rights: api.InLab(api.Viewer)}, c.r)
		assert.ErrorContains(t, err, c.says)
	}
	s, err := o.svc.Snippets(api.Who{Rights: api.InLab(api.Viewer)}, api.SnippetRequest{Service: "http://lab", Browser: "osprey",
		Version: ">=9"})
	require.NoError(t, err)
	assert.Contains(t, s.Why, "the lab has 7.2")
	s, err = o.svc.Snippets(api.Who{Rights: api.InLab(api.Viewer)}, api.SnippetRequest{Service: "http://lab", Browser: "kestrel", BiDi: "yes"})
	require.NoError(t, err)
	assert.Equal(t, "kestrel has no webSocketUrl", s.Why)
}
