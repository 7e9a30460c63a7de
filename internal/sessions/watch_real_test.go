package sessions

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/engine/box"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/webdriver"
)

// A session that takes up more than it may is ended, and says why.
func TestASessionThatTakesTooMuchIsEnded(t *testing.T) {
	s := somebodyElses(t, chromium.Family{}, Request{Asked: webdriver.Capabilities{}, Bare: true})
	if !s.box.Isolated() {
		t.Skip("there is no sandbox")
	}
	assert.NoError(t, s.Programs())
	s.watch(box.Limits{Resident: 1 << 20}, 10*time.Millisecond)
	assert.Eventually(t, func() bool { return s.Programs() != nil }, 10*time.Second, 5*time.Millisecond)
	assert.ErrorContains(t, s.Programs(), "MB of memory, and may take 1")
	assert.ErrorContains(t, excess(box.Usage{Disk: 3 << 20}, box.Limits{Disk: 2 << 20}), "its files came to 3 MB, and may come to 2")
}
