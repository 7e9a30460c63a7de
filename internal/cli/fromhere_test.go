package cli

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Whoever names an address that only their own machine answers at is told so.
func TestASiteThatAnswersOnlyHere(t *testing.T) {
	site := httptest.NewServer(http.NotFoundHandler())
	gone := httptest.NewServer(nil)
	gone.Close()
	t.Cleanup(site.Close)
	says := func(base, why string) string {
		var out bytes.Buffer
		run := api.Run{Cells: [][]api.Cell{{{Verdict: verdict.LabFault, Why: why}}}}
		run.Base = base
		(&root{err: &out}).fromHere(t.Context(), run)
		return out.String()
	}
	assert.Contains(t, says(site.URL, "stopped, for no agent reaches the site: agent quay-1: refused"),
		"not reachable from agent quay-1; it answers from your machine: add --relay open.")
	assert.Empty(t, says(gone.URL, "stopped, for no agent reaches the site: agent quay-1: refused"), "it does not answer here either")
	assert.Empty(t, says(site.URL, "no driver"), "something else was wrong")
	assert.Empty(t, says("", "stopped, for no agent reaches the site: agent quay-1: refused"))
}
