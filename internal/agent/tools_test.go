package agent

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/fleet"
)

func TestToolsAndTheirVersions(t *testing.T) {
	first, second := t.TempDir(), t.TempDir()
	program := func(dir, name, body string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+body+"\n"), 0o755))
	}
	program(first, "node", "echo v20.11.1")
	program(second, "node", "echo v18.0.0")
	program(second, "java", `echo 'openjdk version "17.0.15" 2025-04-15' >&2`)
	program(first, "python3", "exit 3")
	program(second, "python3", "echo Python 3.11.7")
	program(first, "go", "echo no number here")
	require.NoError(t, os.WriteFile(filepath.Join(first, "npm"), []byte("not to be run"), 0o644))
	m := fleet.Machine{OS: "linux", Tools: toolsIn(t.Context(), []string{first, second}, ""), Labels: map[string]string{"java": "mine"}}
	assert.Equal(t, map[string]string{"node": "20.11.1", "java": "17.0.15", "python": "3.11.7"}, m.Tools)
	file := filepath.Join(t.TempDir(), "tools.json")
	assert.Equal(t, m.Tools, toolsIn(t.Context(), []string{first, second}, file))
	said := filepath.Join(first, "asked")
	program(first, "perl", "touch "+said+"; echo 5.36.0")
	assert.Equal(t, "5.36.0", toolsIn(t.Context(), []string{first, second}, file)["perl"])
	require.NoError(t, os.Remove(said))
	assert.Equal(t, "5.36.0", toolsIn(t.Context(), []string{first, second}, file)["perl"])
	assert.NoFileExists(t, said, "a program that has not changed is not asked again")
	program(first, "perl", "touch "+said+"; echo 5.40.10")
	assert.Equal(t, "5.40.10", toolsIn(t.Context(), []string{first, second}, file)["perl"])
	require.NoError(t, os.WriteFile(file, []byte("nonsense"), 0o600))
	assert.Equal(t, "20.11.1", toolsIn(t.Context(), []string{first, second}, file)["node"])
	facts := m.Facts("quay")
	assert.Equal(t, []string{"20.11.1"}, facts["node"])
	assert.Equal(t, []string{"mine"}, facts["java"], "what the agent's owner says goes before")
	for want, fits := range map[string]bool{">=20": true, ">=20.11.2": false, "<21": true} {
		assert.Equal(t, fits, len(fleet.Match(fleet.Needs{"node": {want}}, facts)) == 0, want)
	}
}
