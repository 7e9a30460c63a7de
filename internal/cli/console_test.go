package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/sessions"
)

// shots keeps the failure's picture when PANE_TEST_SHOTS names a directory.
type shots struct{}

func (shots) StepDone(attempt.Step)             {}
func (shots) Page(string, likeness.Page) string { return "" }
func (shots) Shot(name string, png []byte) string {
	if dir := os.Getenv("PANE_TEST_SHOTS"); dir != "" {
		_ = os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644)
	}
	return name
}

func runScript(t *testing.T, s *sessions.Session, sc *script.Script, base string, vars map[string]string) {
	t.Helper()
	out := script.Run(t.Context(), sc, webdrive.New(s.Session, s), script.Setting{
		Base: base, Scope: script.Scope{Browser: "chromium", OS: "linux", Vars: vars},
	}, shots{})
	last := ""
	for _, st := range out.Steps {
		if st.State == attempt.Failed || st.State == attempt.LabFault {
			last = st.Title
		}
	}
	require.Equal(t, verdict.Passed, out.Verdict, "%s: %s", last, out.Message)
}
