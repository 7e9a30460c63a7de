package gecko

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/conformance"
)

func TestConformance(t *testing.T) {
	conformance.Run(t, Family{}, conformance.Kit{Script: true, BiDi: true})
}

// A prepared family opens browsers that pass the same kit, and its cache holds
// nothing but what the browser makes of its own program.
func TestPrepared(t *testing.T) {
	f := Family{Cache: t.TempDir()}
	b := conformance.Browser(t, f)
	profile, err := device.Find("")
	require.NoError(t, err)
	require.NoError(t, f.Prepare(t.Context(), engine.Options{Browser: b, Device: profile, Dir: t.TempDir()}))
	entries, err := os.ReadDir(f.warmDir(b))
	require.NoError(t, err)
	for _, e := range entries {
		assert.Contains(t, warm, e.Name())
	}
	assert.FileExists(t, filepath.Join(f.warmDir(b), "compatibility.ini"))
	assert.DirExists(t, filepath.Join(f.warmDir(b), "startupCache"))
	require.NoError(t, f.Prepare(t.Context(), engine.Options{Browser: b, Dir: "/nowhere"}), "once is enough")
	conformance.Run(t, f, conformance.Kit{Script: true, BiDi: true})
}
