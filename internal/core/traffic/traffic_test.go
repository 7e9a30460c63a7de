package traffic

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestShapesAreReadAsTheyAreTyped(t *testing.T) {
	for text, want := range map[string]Shape{"": {}, "down=1500": {Down: 1500}, "delay=120, up=750 down=1500": {1500, 750,
		120 * time.Millisecond, false}, "offline": {Off: true}, "slow": {1500, 750, 150 * time.Millisecond, false}, "usual": {}} {
		s, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, s)
		again, err := Parse(s.String())
		require.NoError(t, err)
		assert.Equal(t, s, again)
	}
	for text, says := range map[string]string{"fast": `found "fast"`, "down": "whole number", "down=0": "from 1 to 10000000",
		"up=-1": "whole number", "delay=30001": "from 1 to 30000", "down=1 down=2": "twice", "down=1e3": "whole number",
		"offline down=1":         "or one of offline, poor, slow, usual",
		strings.Repeat(" ", 101): "at most 100 bytes"} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, says, text)
	}
}
