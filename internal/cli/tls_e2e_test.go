package cli

import (
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/certs"
	"parallelpane/internal/core/verdict"
)

// A service with a certificate of its own making: clients of its machine know it by
// themselves, others and agents by its pin; whoever has another pin does not speak to it.
func TestALabOverTLS(t *testing.T) {
	b := newBench(t)
	data := filepath.Join(b.dir, "data")
	b.spawn("serve", "--data", data, "--listen", b.listen, "--self-made")
	b.listen = "https://" + b.listen
	require.Eventually(t, func() bool { code, _, _ := b.pane("agents"); return code == 0 }, 10*time.Second, 20*time.Millisecond)
	pin := certs.PinIn(data)
	require.Regexp(t, regexp.MustCompile("^sha256:[0-9a-f]{64}$"), pin)
	b.agent("quay")
	code, run := b.run("--tag", "smoke")
	assert.Zero(t, code)
	assert.Equal(t, verdict.Passed, run.Verdict)
	b.want([]string{"agents", "--pin", pin}, "quay")
	b.refused(verdict.ExitLab, "this is not the service that was pinned", "agents", "--pin", "sha256:"+strings.Repeat("0", 64))
	b.refused(verdict.ExitUsage, "is not a pin", "agents", "--pin", "x")
	b.refused(verdict.ExitUsage, "go together", "serve", "--data", b.dir, "--listen", "127.0.0.1:0", "--certificate", "a")
	b.refused(verdict.ExitUsage, "expected an address", "serve", "--data", b.dir, "--listen", "127.0.0.1:0", "--behind-proxy", "x")
}
