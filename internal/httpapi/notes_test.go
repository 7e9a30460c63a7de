package httpapi_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Notes on a run stay with it; those on a test and a cause are shown wherever these are.
func TestNotes(t *testing.T) {
	x := start(t, t.TempDir())
	h := x.mustJoin("quay", 2)
	for n := range 2 {
		run := x.run(api.RunRequest{Matrix: "wall", Tests: []string{"Tide"}})
		require.Equal(t, n+1, run.Number)
		for range 2 {
			h.result(h.next(), 0, verdict.Failed)
		}
	}
	var causes api.Causes
	x.get("/runs/1/causes", &causes)
	require.NotEmpty(t, causes.Causes)
	note := func(q api.NoteRequest) (n api.Note) {
		x.post("/runs/1/notes", q, &n)
		return
	}
	of := note(api.NoteRequest{Kind: "run", Body: "the *line* was down, ask @tern"})
	assert.Equal(t, []string{"tern"}, of.Mentions)
	note(api.NoteRequest{Kind: "test", Test: 0, Body: "<script>alert(1)</script>"})
	note(api.NoteRequest{Kind: "cause", Cause: causes.Causes[0].ID, Body: "see the harbour log"})
	list := func(path string) (kinds []string) {
		var all []api.Note
		x.get(path, &all)
		for _, n := range all {
			kinds = append(kinds, n.Kind)
		}
		return
	}
	assert.ElementsMatch(t, []string{"run", "test", "cause"}, list("/runs/1/notes"))
	assert.ElementsMatch(t, []string{"test", "cause"}, list("/runs/2/notes"), "where the test and the cause are again")
	assert.Equal(t, []string{"run"}, list("/notes?mentions=@tern"))
	assert.Equal(t, []string{"cause"}, list("/notes?text=HARBOUR+log"))
	for body, want := range map[string]string{
		`{"kind":"run","body":" "}`: "body: a note has 1 to 16384 bytes", `{"kind":"lab","body":"x"}`: "kind: expected run, test or cause",
		`{"kind":"test","test":4,"body":"x"}`: "run 1 has tests 0 to 0", `{"kind":"cause","cause":"c9","body":"x"}`: "run 1 has no cause",
		`{"kind":"run","body":"` + strings.Repeat("a", 17<<10) + `"}`: "body: a note has 1 to 16384 bytes",
	} {
		assert.Contains(t, string(x.do("POST", "/api/v1/runs/1/notes", x.token, json.RawMessage(body)).body), want)
	}
	viewer, other, guest := x.as("eider", in("saltmarsh", api.Viewer)), x.as("teal", in("saltmarsh", api.Runner)), x.as("guest", in("marina",
		api.Admin))
	assert.Equal(t, 403, x.do("POST", "/api/v1/runs/1/notes", viewer, api.NoteRequest{Kind: "run", Body: "x"}).status)
	assert.Equal(t, 403, x.do("DELETE", "/api/v1/notes/"+of.ID, other, nil).status, "it is somebody else's")
	assert.Equal(t, 404, x.do("DELETE", "/api/v1/notes/"+of.ID, guest, nil).status)
	assert.Equal(t, "[]", strings.TrimSpace(string(x.do("GET", "/api/v1/notes", guest, nil).body)))
	assert.Equal(t, 204, x.do("DELETE", "/api/v1/notes/"+of.ID, x.token, nil).status)
	assert.Equal(t, 404, x.do("DELETE", "/api/v1/notes/"+of.ID, x.token, nil).status)
}
