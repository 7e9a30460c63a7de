package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFileSafe(t *testing.T) {
	for in, want := range map[string]string{"../../etc/passwd": "-..-etc-passwd", "chromium · phone": "chromium-phone", "": "_",
		"...": "_", "a\x00b": "a-b"} {
		got := fileSafe(in)
		assert.Equal(t, want, got)
		assert.True(t, filepath.IsLocal(got))
	}
}

func TestTokenSources(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", dir)
	t.Setenv("HOME", dir)
	t.Setenv("PANE_TOKEN", "")
	t.Setenv("PANE_TOKEN_FILE", "")
	_, err := findToken("http://a", "", "admin.token")
	assert.ErrorContains(t, err, "no token for http://a")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "admin.token"), []byte("first\n"), 0o600))
	require.NoError(t, remember("http://a", dir))
	require.NoError(t, remember("http://b", "/elsewhere"))
	got, err := findToken("http://a", "", "admin.token")
	require.NoError(t, err)
	assert.Equal(t, "first", got)
	_, err = findToken("http://a", filepath.Join(dir, "gone"), "admin.token")
	assert.ErrorContains(t, err, "token file")
	t.Setenv("PANE_TOKEN", "env")
	got, _ = findToken("http://a", "", "admin.token")
	assert.Equal(t, "env", got)
}

func TestCleanBase(t *testing.T) {
	for in, want := range map[string]string{"lab:7420": "http://lab:7420", "https://lab/": "https://lab"} {
		got, err := cleanBase(in)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := cleanBase("ftp://x")
	assert.Error(t, err)
}
