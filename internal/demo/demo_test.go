package demo

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/project"
)

// The demo's project is written with the desk's address, and nothing in it needs
// mending.
func TestTheProjectIsInOrder(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, WriteProject(dir, "http://desk.example:81", "http://next.example:81"))
	raw, err := os.ReadFile(filepath.Join(dir, project.FileName))
	require.NoError(t, err)
	assert.Contains(t, string(raw), "http://desk.example:81", "http://next.example:81")
	assert.NotContains(t, string(raw), siteInFile, nextInFile)
	p, err := project.Load(project.Dir(dir))
	require.NoError(t, err)
	assert.Equal(t, "saltmarsh", p.Name)
	names := map[string]string{}
	for _, suite := range p.Suites {
		for _, glob := range suite.Scripts {
			files, err := project.Dir(dir).Glob(glob)
			require.NoError(t, err)
			require.NotEmpty(t, files, glob)
			for _, f := range files {
				sc, err := p.Script(project.Dir(dir), f)
				require.NoError(t, err)
				assert.Empty(t, names[sc.Name], "%s has the name of %s", f, names[sc.Name])
				names[sc.Name] = f
			}
		}
	}
	assert.Greater(t, len(names), 10)
	require.NoError(t, WriteProject(dir, "http://desk.example:82", "http://next.example:82"), "it is written again")
}

// No verdict of the demo is written down anywhere: its scripts neither know
// which engine fails nor skip one.
func TestTheProjectHidesNothing(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, WriteProject(dir, siteInFile, nextInFile))
	files, err := project.Dir(dir).Glob("tests/**/*.pane.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		src, err := os.ReadFile(filepath.Join(dir, f))
		require.NoError(t, err)
		for _, word := range []string{"chromium", "firefox", "webkitgtk"} {
			assert.False(t, strings.Contains(strings.ToLower(string(src)), word), "%s names %s", f, word)
		}
	}
}

func TestWhereNothingCanBeWritten(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	assert.Error(t, WriteProject(filepath.Join(file, "saltmarsh"), siteInFile, nextInFile))
}
