package agent_test

import (
	"bytes"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/demo/desk"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/project"
)

// The suites of examples/ as they are, each where its program is here, on a real browser.
func TestTheExamples(t *testing.T) {
	conformance.Browser(t, chromium.Family{})
	o := opened(t, t.TempDir(), "127.0.0.1:0")
	o.work(chromium.Family{}, "quay", 2)
	site := httptest.NewServer(desk.New(10 * time.Millisecond))
	t.Cleanup(site.Close)
	files := project.Dir(filepath.Join("..", "..", "examples"))
	p, err := project.Load(files)
	require.NoError(t, err)
	// As programs of a sandbox see it: what only the user of these tests has does not count.
	there := func(program string, args ...string) bool {
		c := exec.Command("/usr/bin/env", append([]string{"-i", "PATH=/usr/local/bin:/usr/bin:/bin:/usr/local/go/bin", program}, args...)...)
		return c.Run() == nil
	}
	for name, c := range map[string]struct {
		here bool
		want verdict.Counts
		of   map[string]int // sessions by test
	}{
		"node": {there("node", "--test", "--version"), verdict.Counts{verdict.Passed: 5, verdict.Skipped: 1},
			map[string]int{"node/tides.test.js › tide table › has four tides": 1, "node/signin.test.js": 0}},
		"shell": {there("curl", "--version"), verdict.Counts{verdict.Passed: 3}, map[string]int{"shell/tides.sh › the tide table opens": 1}},
		"pytest": {there("python3", "-m", "pytest", "--version"), verdict.Counts{verdict.Passed: 3, verdict.Skipped: 1},
			map[string]int{"python/test_fees.py › python.test_fees › test_page_opens[/rules-Harbour rules]": 1}},
		"unittest": {there("python3", "--version"), verdict.Counts{verdict.Passed: 1}, map[string]int{"python/unit_signin.py": 1}},
		"go":       {there("go", "version"), verdict.Counts{verdict.Passed: 1}, map[string]int{"go/tides_test.go": 1}},
		"junit5": {there("javac", "-version") && there("test", "-e", "/usr/share/java/junit-platform-console.jar"),
			verdict.Counts{verdict.Passed: 2, verdict.Skipped: 1}, map[string]int{"java/TidesTest.java › TidesTest › theTideTableOpens()": 1}},
	} {
		t.Run(name, func(t *testing.T) {
			if !c.here {
				t.Skipf("what %s needs is not here", name)
			}
			s, err := p.Suite(name)
			require.NoError(t, err)
			raw, hash, err := p.Pack(files, s, nil)
			require.NoError(t, err)
			require.NoError(t, o.svc.PutBundle(hash, bytes.NewReader(raw)))
			run, err := o.svc.Submit(t.Context(), api.Who{Name: "kestrel", Rights: api.InLab(api.Runner)},
				api.RunRequest{Bundle: hash, Suite: name, Matrix: "one", Base: site.URL})
			require.NoError(t, err)
			require.Eventually(t, func() bool {
				run, err = o.svc.Run(t.Context(), run.Number)
				return err == nil && run.State == api.Ended
			}, 3*time.Minute, 50*time.Millisecond)
			assert.Equal(t, c.want, run.Counts, "%v", told(run))
			for test, sessions := range c.of {
				assert.Len(t, o.attempt(run, test).Sessions, sessions, test)
			}
		})
	}
}
