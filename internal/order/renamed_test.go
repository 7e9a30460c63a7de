package order

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/suite"
)

// A script is known by its steps when it says another name, with the tests of its rows;
// whatever file it stands in.
func TestAScriptThatSaysAnotherName(t *testing.T) {
	d := openCounter(t, t.TempDir())
	submit := func(files map[string]string) api.Run {
		files["pane.yaml"] = "project: saltmarsh\nsuites: {desk: {scripts: '**/*.pane.yaml', files: [berths.csv]}}\n" +
			"matrices: {wall: {axes: {browser: [chromium]}}}\nenvironments: {e: {base: 'http://desk.example'}}\n"
		files["berths.csv"] = "berth\nA1\nB3\n"
		run, err := d.Submit(t.Context(), api.Who{Name: "ci", Rights: api.InLab(api.Runner)}, api.RunRequest{Bundle: d.send(files)})
		require.NoError(t, err)
		require.NoError(t, d.store.Sync())
		return run
	}
	script := func(name, path string) string {
		return fmt.Sprintf("name: %s\ndata: {file: berths.csv, name: '${row.berth}'}\nsteps:\n  - visit: /%s\n", name, path)
	}
	submit(map[string]string{"a.pane.yaml": script("Hold a berth", "map"), "b.pane.yaml": script("Tides", "tides")})
	run := submit(map[string]string{"holds/a.pane.yaml": script("Take a berth", "map"), "b.pane.yaml": script("Tides", "tides")})
	assert.Equal(t, []suite.Rename{{Was: "Hold a berth", Is: "Take a berth"}}, run.Plan.Renamed)
	names, err := d.store.KnownTests(t.Context(), "saltmarsh", "desk")
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"Take a berth › A1", "Take a berth › B3", "Tides › A1", "Tides › B3"}, names)
	was, err := d.store.FormerNames(t.Context(), "saltmarsh", "desk")
	require.NoError(t, err)
	assert.Len(t, was, 2)

	for what, files := range map[string]map[string]string{
		"moved, of the same name":     {"c.pane.yaml": script("Take a berth", "map"), "b.pane.yaml": script("Tides", "tides")},
		"of another name and content": {"a.pane.yaml": script("Leave a berth", "quay"), "b.pane.yaml": script("Tides", "tides")},
		"of a name that is known":     {"a.pane.yaml": script("Take a berth", "map"), "b.pane.yaml": script("Tides", "tides")},
	} {
		assert.Empty(t, submit(files).Plan.Renamed, what)
	}
}
