package agent_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Scripts and commands of several suites are on one wall, each carried out in its own way,
// whatever slices they come in.
func TestSuitesOfSeveralKindsOnOneWall(t *testing.T) {
	o, p := opened(t, t.TempDir(), "127.0.0.1:0"), &pretend{}
	o.work(p, "quay", 1)
	run := o.carry("    suites: [desk, tap, plain]\n"+
		"  desk: {scripts: [d/*.pane.yaml]}\n"+
		"  tap: {command: 'sh {file}', cases: [t/*.sh], results: tap, env: {OF: tap}}\n"+
		"  plain: {command: 'test $OF = plain && sh {file}', cases: [p/*.sh], results: exit, env: {OF: plain}}\n", map[string]string{
		"d/one.pane.yaml": "name: Read the tides\nsteps:\n  - visit: /\n",
		"d/two.pane.yaml": "name: Hold a berth\nsteps:\n  - visit: /\n",
		"t/tides.sh":      `echo "1..1"; echo "ok 1 - at $OF"`,
		"p/works.sh":      "true",
		"p/fails.sh":      "echo no; false",
	}, nil, 0)
	assert.Equal(t, map[string]string{
		"Read the tides": "passed", "Hold a berth": "passed", "t/tides.sh": "passed", "t/tides.sh › at tap": "passed",
		"p/works.sh": "passed", "p/fails.sh": "failed: exit code 1: no",
	}, told(run))
	assert.Len(t, o.attempt(run, "Read the tides").Sessions, 1, "a script has its session")
	assert.Contains(t, o.text(o.attempt(run, "p/fails.sh"), "output.log"), "no")
}
