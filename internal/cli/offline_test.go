package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/verdict"
)

// alone runs a command where no service is.
func alone(t *testing.T, args ...string) (code int, out, errs string) {
	t.Helper()
	t.Setenv("PANE_SERVICE", "http://127.0.0.1:1")
	t.Setenv("PANE_TOKEN", "pane_none")
	var o, e bytes.Buffer
	code = Run(t.Context(), Build{Version: "test"}, args, &o, &e)
	return code, o.String(), e.String()
}

func put(t *testing.T, name, body string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, []byte(body), 0o600))
	return file
}

const twoTests = `{"tests":[{"id":"t1","seconds":12.5,"needs":{"browser":"kestrel"}},{"id":"t2","seconds":4,
"needs":{"browser":["kestrel"]}},{"id":"t3","seconds":1,"needs":{"browser":"ibis"}}],
 "agents":[{"name":"a1","slots":1,"facts":{"browser":["kestrel","osprey"]}}],"known_durations":true}`

func TestForecastOfAFile(t *testing.T) {
	file := put(t, "f.json", twoTests)
	code, out, errs := alone(t, "forecast", file, "--json")
	require.Zero(t, code, errs)
	var f struct {
		Makespan    float64 `json:"makespan_s"`
		Bound       float64 `json:"lower_bound_s"`
		Utilisation float64 `json:"utilisation"`
		Slots       []struct{ Agent string }
		Impossible  []struct{ ID string }
		WhatIf      []struct {
			Agents   int
			Makespan float64 `json:"makespan_s"`
			Copies   map[string]int
		} `json:"what_if"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &f))
	assert.InDelta(t, 16.5, f.Makespan, 1e-9)
	assert.InDelta(t, 16.5, f.Bound, 1e-9)
	assert.InDelta(t, 1, f.Utilisation, 1e-9)
	assert.Len(t, f.Slots, 1)
	assert.Equal(t, "t3", f.Impossible[0].ID)
	assert.InDelta(t, 12.5, f.WhatIf[1].Makespan, 1e-9)
	assert.Equal(t, map[string]int{"a1": 1}, f.WhatIf[1].Copies)

	code, out, _ = alone(t, "forecast", file, "--more", "0,1,2")
	assert.Zero(t, code)
	for _, want := range []string{"It would end after 16.5 s", "1 test can run nowhere, such as t3", "1 like a1",
		"knee", "With more than 2 agents"} {
		assert.Contains(t, out, want)
	}
	fleet := put(t, "fleet.json", `{"agents":[{"name":"b","slots":4,"facts":{"browser":"kestrel"}}]}`)
	code, out, _ = alone(t, "forecast", file, "--fleet", fleet, "--more", "")
	assert.Zero(t, code)
	assert.Contains(t, out, "It would end after 12.5 s")
	code, out, _ = alone(t, "forecast", file, "--fleet", fleet, "--limit", "1", "--more", "")
	assert.Zero(t, code)
	assert.Contains(t, out, "It would end after 16.5 s")
	for want, args := range map[string][]string{
		"no such file":          {"none.json"},
		"expected either":       {},
		"--more":                {file, "--more", "x"},
		"limit: expected 0":     {file, "--limit", "-1"},
		"expected tests, agent": {put(t, "bad.json", "[")},
		"tests[0].id":           {put(t, "bad.json", `{"tests":[{}],"agents":[{"name":"a","slots":1}]}`)},
	} {
		code, _, errs := alone(t, append([]string{"forecast"}, args...)...)
		assert.Equal(t, verdict.ExitUsage, code, want)
		assert.Contains(t, errs, want)
	}
}

func TestMatrixPlanWithoutAService(t *testing.T) {
	literal := put(t, "m.yaml", "matrices: {M: {axes: {browser: [a, b], version: [1, 2]}}}")
	code, out, errs := alone(t, "matrix", "plan", literal, "--json")
	require.Zero(t, code, errs)
	assert.NotContains(t, out, "agents", "nobody was asked")
	newest := put(t, "m.yaml", "matrices: {M: {axes: {browser: [a, b], version: [latest, '>=2']}}}")
	code, _, errs = alone(t, "matrix", "plan", newest)
	assert.Equal(t, verdict.ExitLab, code)
	assert.Contains(t, errs, "versions that only the lab can tell")
	code, out, _ = alone(t, "matrix", "plan", newest, "--offline")
	assert.Zero(t, code)
	assert.Contains(t, out, "latest")
	code, _, errs = alone(t, "matrix", "plan", literal, "--lab")
	assert.Equal(t, verdict.ExitLab, code)
	assert.Contains(t, errs, "no service answers")
	code, _, errs = alone(t, "matrix", "plan", literal, "--lab", "--offline")
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, "none of the others can be")
}

func TestStandInFiles(t *testing.T) {
	code, out, _ := alone(t, "standin", "example")
	require.Zero(t, code)
	assert.Contains(t, out, "stand-ins")
	code, _, errs := alone(t, "standin", "fleet", put(t, "fleet.yaml", "agents: [{name: a}]"))
	assert.Equal(t, verdict.ExitUsage, code)
	assert.Contains(t, errs, "expected browsers")
}

func TestNeedsThatCannotBeRead(t *testing.T) {
	dir := filepath.Dir(put(t, "pane.yaml",
		"project: p\nsuites: {s: {scripts: '*.pane.yaml'}}\nmatrices: {m: {axes: {browser: [chromium]}}}\n"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.pane.yaml"), []byte("name: a\nsteps:\n  - visit: /\n"), 0o600))
	for want, args := range map[string][]string{
		"--needs: \"firefox\" is": {"run", "--dir", dir, "--needs", "firefox"},
		"requires at least 1":     {"why"},
		"--until: expected":       {"schedule", "add", "n", "p", "FREQ=DAILY", "--until", "soon"},
		"no service answers at":   {"why", "browser=firefox"},
		"accepts 2 arg(s)":        {"quota", "set", "project"},
		"is not the number of a":  {"again", "last"},
	} {
		code, _, errs := alone(t, args...)
		assert.NotZero(t, code)
		assert.Contains(t, errs, want)
	}
}
