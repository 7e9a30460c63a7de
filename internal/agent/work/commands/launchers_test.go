package commands

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/fleet"
)

// Whatever name a suite looks for on the path, it starts the pane's browser, by the way out
// that its room has.
func TestLaunchers(t *testing.T) {
	dir := t.TempDir()
	browser := filepath.Join(dir, "the browser's own")
	require.NoError(t, os.WriteFile(browser, []byte("#!/bin/sh\necho browser \"$@\"\n"), 0o755))
	driver := filepath.Join(dir, "driver")
	require.NoError(t, os.WriteFile(driver, []byte("#!/bin/sh\necho driver \"$@\"\n"), 0o755))
	started := func(in, name string) string {
		out, err := exec.Command(filepath.Join(in, name), "--port=9", "a b").CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	for _, engine := range []string{"chromium", "gecko", "webkit"} {
		for _, headed := range []bool{false, true} {
			at := filepath.Join(t.TempDir(), "launchers")
			require.NoError(t, launchers(at, fleet.Browser{Engine: engine, Path: browser, Driver: driver}, headed, "127.0.0.1:4"))
			for _, name := range browserNames[engine] {
				out := started(at, name)
				assert.Contains(t, out, "browser")
				assert.Contains(t, out, " --port=9 a b\n")
				assert.Equal(t, !headed, strings.Contains(out, "--headless"))
				if engine == "chromium" {
					assert.Contains(t, out, "--proxy-server=127.0.0.1:4 --proxy-bypass-list=<-loopback>")
				}
			}
			for _, name := range driverNames[engine] {
				assert.Equal(t, "driver --port=9 a b\n", started(at, name))
			}
		}
	}
	at := filepath.Join(t.TempDir(), "launchers")
	require.NoError(t, launchers(at, fleet.Browser{Engine: "chromium"}, false, ""))
	entries, err := os.ReadDir(at)
	require.NoError(t, err)
	assert.Empty(t, entries, "a stand-in has no programs")
}
