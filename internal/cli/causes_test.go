package cli

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
)

// Tests with names, panes with values and cells with verdict and message are enough of a run.
func TestCausesOfAFile(t *testing.T) {
	file := filepath.Join(t.TempDir(), "run.json")
	write := func(s string) {
		require.NoError(t, os.WriteFile(file, []byte(s), 0o600))
	}
	pass, fail := `{"verdict":"passed"}`, `{"verdict":"failed","message":"the fee is not drawn"}`
	row := func(cell string, n int) string {
		return "[" + strings.TrimSuffix(strings.Repeat(cell+",", n), ",") + "]"
	}
	var tests, panes, cells []string
	for i := range 8 {
		tests = append(tests, `{"name":"test `+string(rune('a'+i))+`"}`)
	}
	for _, browser := range []string{"chromium", "firefox"} {
		for _, device := range []string{"desktop", "phone"} {
			panes = append(panes, `{"values":{"device":"`+device+`","browser":"`+browser+`"}}`)
			cells = append(cells, row(map[string]string{"desktop": pass, "phone": fail}[device], 8))
		}
	}
	write(`{"tests":[` + strings.Join(tests, ",") + `],"panes":[` + strings.Join(panes, ",") + `],"cells":[` + strings.Join(cells, ",") + `]}`)
	code, out, errs := alone(t, "causes", "--file", file, "--json")
	assert.Equal(t, 1, code, errs)
	var got api.Causes
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	require.Len(t, got.Causes, 1)
	c := got.Causes[0]
	assert.Equal(t, "the fee is not drawn in 8 tests: fails in 16 of 16 with device=phone, in 0 of 16 others", c.Sentence)
	assert.Equal(t, []string{"chromium phone", "firefox phone"}, c.Panes)
	assert.Equal(t, []string{"phone"}, c.Pattern[0].Values)
	assert.Less(t, c.P, 1e-6)
	code, out, _ = alone(t, "causes", "--file", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "16 failing cells in 1 cause")

	for _, c := range []struct{ src, want string }{
		{"{\n\"tests\": x}", ":2: this is no JSON"},
		{`[]`, "this is no run"},
		{`{"tests":[{"name":"a"}]}`, "a run has panes and tests, and this has 0 and 1"},
		{`{"tests":[{}],"panes":[{}]}`, "tests[0]: it has no name"},
		{`{"tests":[{"name":"a"}],"panes":[{}],"cells":[[],[]]}`, "cells: 2 lists for 1 panes"},
		{`{"tests":[{"name":"a"}],"panes":[{}],"cells":[[{},{}]]}`, "cells[0]: 2 cells for 1 tests"},
		{`{"tests":[{"name":"a"}],"panes":[{}],"cells":[[{"verdict":"green"}]]}`, `cells[0][0]: unknown verdict "green"`},
	} {
		write(c.src)
		code, _, errs := alone(t, "causes", "--file", file)
		assert.Equal(t, 2, code, c.src)
		assert.Contains(t, errs, c.want)
	}
	write(`{"tests":[{"name":"a"}],"panes":[{}],"cells":[[{"verdict":"passed"}]]}`)
	code, out, _ = alone(t, "causes", "--file", file)
	assert.Zero(t, code)
	assert.Contains(t, out, "Nothing failed")
}
