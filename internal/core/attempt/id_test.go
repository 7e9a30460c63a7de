package attempt

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestIDsTellWhichSessionsBelongToAnAttempt(t *testing.T) {
	id := NewID("0199b1c2-3d4e-7f60-8a9b-0c1d2e3f4a5b")
	assert.Equal(t, "0199b1c2-3d4e-7f60-8a9b-0c1d2e3f4a00", id)
	for n := 1; n <= MaxSessions; n++ {
		s := Session(id, n)
		assert.NotEqual(t, id, s)
		assert.Equal(t, id, Of(s))
		assert.Equal(t, n, NumberOf(s))
		assert.Less(t, id, s, "an attempt comes before its sessions")
	}
	assert.Equal(t, "tides", Of("tides"))
	assert.Equal(t, 1, NumberOf("tides"))
}
