package script

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/source"
)

func TestALocatorIsRewrittenAndNothingElse(t *testing.T) {
	const now = "{role: button, name: Hold}"
	for _, c := range []struct{ name, step, was, want string }{
		{"plain", "  - click: Hold it   # the berth", "Hold it", "  - click: " + now + "   # the berth"},
		{"quoted", `  - click: "Hold: \"it\""`, `"Hold`, "  - click: " + now},
		{"single", `  - click: 'Skipper''s'`, `'Skipper`, "  - click: " + now},
		{"flow", "  - {click: {css: '#a > b, {c}'}, if: device.small}", "{css", "  - {click: " + now + ", if: device.small}"},
		{"flow over lines", "  - click: {role: button,\n      name: Hold it}", "{role", "  - click: " + now},
		{"block", "  - click:\n      role: button\n      name: Hold it\n    if: device.small", "role",
			"  - click:\n      " + now + "\n    if: device.small"},
		{"after wide characters", "  - {about: Über 東 🚢, click: {css: '#a'}}", "{css", "  - {about: Über 東 🚢, click: " + now + "}"},
		{"of an expectation", "  - expect: {reads: Held, at: {css: '#a'}}", "{css", "  - expect: {reads: Held, at: " + now + "}"},
		{"by number", "  - click: {reads: Hold, number: 2}", "{reads", "  - click: " + now},
	} {
		t.Run(c.name, func(t *testing.T) {
			src := "# Berths\nname: T\nsteps:\n  - visit: /\n" + c.step + "\n  - expect: Held\n"
			require.NotContains(t, src, "\t")
			before := src[:strings.Index(src, c.step)+strings.Index(c.step, c.was)]
			line := strings.Count(before, "\n") + 1
			column := len([]rune(before[strings.LastIndex(before, "\n")+1:])) + 1
			s, err := Parse("t.pane.yaml", []byte(src), nil)
			require.NoError(t, err)
			assert.Equal(t, source.Position{File: "t.pane.yaml", Line: line, Column: column}, s.Steps[1].target().Position)
			got, err := Rewrite([]byte(src), s.Steps[1].target().Position, now)
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(src, c.step, c.want, 1), string(got))
			again, err := Parse("t.pane.yaml", got, nil)
			require.NoError(t, err)
			assert.Equal(t, `button "Hold"`, again.Steps[1].target().String())
		})
	}
	at := source.Position{File: "t.pane.yaml", Line: 3, Column: 12}
	for src, want := range map[string]string{
		"name: T\nsteps:\n  - click: {css: a, # why\n      number: 2}\n": "t.pane.yaml:3:12: the locator is written in a way",
		"name: T\nsteps:\n  - click: >\n      Hold it\n":                 "t.pane.yaml:3:12: the locator is written in a way",
		"name: T\nsteps:\n  - click: &a {css: a}\n  - click: *a\n":       "t.pane.yaml:3:12: the locator is written in a way",
		"name: T\nsteps: [click: a]\n":                                   "t.pane.yaml:3:12: nothing stands there",
		"name: [T":                                                       "not valid YAML",
	} {
		_, err := Rewrite([]byte(src), at, now)
		assert.ErrorContains(t, err, want, src)
	}
	within := source.Position{File: "t.pane.yaml", Line: 4, Column: 7}
	_, err := Rewrite([]byte("name: T\nsteps:\n  - click:\n      role: button # or a link\n      name: Hold\n"), within, now)
	assert.ErrorContains(t, err, "change it by hand", "a comment would be lost")
	_, err = Rewrite([]byte("name: T\nsteps:\n  - click: Hold\n"), at, "a: b: c")
	assert.Error(t, err)
}
