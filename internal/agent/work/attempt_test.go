package work

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/agent/spool"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/link"
	"parallelpane/internal/sessions"
)

// A script that takes more screenshots than a result holds keeps the first of
// them, and says so.
func TestAnAttemptHasALimitOfCaptures(t *testing.T) {
	s, err := spool.Open(t.TempDir())
	require.NoError(t, err)
	at := &Attempt{Floor: &Floor{Spool: s}, Result: link.Result{ID: "01"}}
	assert.Equal(t, "seen.png", at.Shot("seen", nil))
	assert.Equal(t, "seen-2.png", at.Shot("seen", nil), "two captures of one name get a number")
	assert.Equal(t, "seen-2-2.png", at.Shot("seen-2", nil), "and nothing gets a name that is taken")
	assert.Equal(t, "seen-3.png", at.Shot("seen", nil))
	for i := range maxCaptures {
		at.Shot(fmt.Sprint("shot-", i), []byte("png"))
	}
	assert.Len(t, at.Result.Files, maxCaptures)
	assert.Contains(t, string(at.notes()), "shot-249 was not kept: an attempt has at most 250 captures")
	assert.Less(t, maxCaptures+sessions.MaxShots+10, attempt.MaxFiles)
}
