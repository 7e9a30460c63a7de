package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTestsThatAChangeConcerns(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("no git here")
	}
	top := t.TempDir()
	dir := filepath.Join(top, "tests")
	write := func(name, text string) {
		t.Helper()
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	git := func(args ...string) {
		t.Helper()
		c := exec.Command("git", append([]string{"-C", top, "-c", "user.name=ada", "-c", "user.email=ada@harbour.example"}, args...)...)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	write("pane.yaml",
		"project: p\nsuites:\n  s: {scripts: ['*.pane.yaml'], files: [shared/**]}\n  c: {command: 'sh {file}', cases: ['*.sh'], "+
			"results: tap}\n")
	write("a.pane.yaml", "name: A\nsteps: [{upload: {at: {css: input}, file: paper.txt}}]\n")
	write("b.pane.yaml", "name: B\nsteps: [{visit: /}]\n")
	write("paper.txt", "one")
	write("shared/list.txt", "one")
	write("x.sh", "true")
	git("init", "-q")
	git("add", ".")
	git("commit", "-q", "-m", "all")
	touched := func(suite string) ([]string, string) {
		t.Helper()
		tests, why, err := touchedSince(t.Context(), dir, suite, "HEAD")
		require.NoError(t, err)
		return tests, why
	}
	tests, _ := touched("s")
	assert.Equal(t, []string{}, tests)
	write("paper.txt", "two")
	tests, _ = touched("s")
	assert.Equal(t, []string{"A"}, tests, "it uploads the file")
	write("c.pane.yaml", "name: C\nsteps: [{visit: /}]\n")
	tests, _ = touched("s")
	assert.Equal(t, []string{"A", "C"}, tests, "a new file as well")
	write("y.sh", "true")
	tests, _ = touched("c")
	assert.Equal(t, []string{"y.sh"}, tests)
	write("shared/list.txt", "two")
	tests, why := touched("s")
	assert.Nil(t, tests)
	assert.Equal(t, "shared/list.txt has changed, which goes along with all of them", why)
	write("pane.yaml", "project: p\nsuites: {s: {scripts: ['*.pane.yaml']}}\n")
	_, why = touched("s")
	assert.Equal(t, "pane.yaml has changed",
		why)
	for revision, says := range map[string]string{"no-such-branch": "git: fatal", "--output=/tmp/x": "expected a Git revision",
		"": "expected a Git revision"} {
		_, _, err := touchedSince(t.Context(), dir, "s", revision)
		assert.ErrorContains(t, err, says, revision)
	}
}
