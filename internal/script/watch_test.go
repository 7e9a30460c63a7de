package script

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"parallelpane/internal/core/verdict"
)

// A page at which the test failed before is kept where it passes: as it is before an
// action, and after an expectation.
func TestPagesAreKeptWhereTheTestFailedBefore(t *testing.T) {
	p := &page{looks: []Sight{seen(shown)}, text: "Held", stumble: 2}
	steps := "  - visit: /\n  - click: Hold\n  - expect: Held\n  - expect: {gone: Never}\n"
	n := 0
	out, notes := run(t, p, steps, Setting{Watch: func(title string) bool {
		n++
		return title == `click reads "Hold"` || title == `expect that the page reads "Held"`
	}})
	assert.Equal(t, verdict.Failed, out.Verdict, "the last expectation does not come true here")
	assert.Equal(t, []string{"step-2", "step-3", "failure"}, notes.shots, "once each, however often the step tries")
	assert.Equal(t, "step-2.page.json", out.Steps[1].Page)
	assert.Equal(t, "step-3.page.json", out.Steps[2].Page)
	assert.Equal(t, "failure.page.json", out.Steps[3].Page)
	assert.Empty(t, out.Steps[0].Page)
	assert.Equal(t, 3, p.surveys)
	_, notes = run(t, &page{looks: []Sight{seen(shown)}, text: "Held"}, "  - click: Hold\n", Setting{})
	assert.Empty(t, notes.shots)
}
