package script

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"parallelpane/internal/core/source"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseEveryForm(t *testing.T) {
	src := `
name: Everything
tags: [a, b]
wait: 2s
steps:
  - visit: /x
  - {click: Send, about: send it, if: "device.small && browser != 'webkitgtk'", within: {css: form}, wait: 500ms}
  - click: {role: button, name: "Hold ${vars.berth}", number: 2}
  - enter: {at: {label: Boat}, text: 7}
  - choose: {at: {attribute: {placeholder: P}}, option: O}
  - press: Control+a
  - press: {at: {marked: t}, key: Enter}
  - hover: {xpath: //a}
  - upload: {at: {css: input}, file: a/b.txt}
  - scroll: top
  - scroll: {at: Foot}
  - dialog: accept
  - dialog: {answer: yes}
  - keep: {as: fee, at: {reads: Fee}, read: attribute href}
  - keep: {as: here, read: address}
  - capture: shot-1
  - expect: plain
  - expect: {reads: {matches: "^a+$"}, at: {css: p}}
  - expect: {shown: A}
  - expect: {gone: A}
  - expect: {holds: "1", at: {label: L}}
  - expect: {number: 3, of: {css: tr}}
  - expect: {address: /y}
  - expect: {title: {contains: T}}
  - network: offline
  - network: down=1500 delay=120
  - window: new
  - window: {address: /tides}
  - {click: Pay, frame: [{css: "iframe.desk"}, {css: iframe}]}
  - expect: {saved: "*.csv"}
`
	s, err := Parse("all.pane.yaml", []byte(src), nil)
	require.NoError(t, err)
	assert.Equal(t, 2*time.Second, s.Wait)
	require.Len(t, s.Steps, 30)
	used := map[Action]bool{}
	for _, st := range s.Steps {
		used[st.Action] = true
		assert.NotEmpty(t, st.Title())
		assert.NotContains(t, st.Title(), "%!")
	}
	assert.Len(t, used, len(Actions)-1, "every action but do is in this test")
	assert.Equal(t, source.Position{File: "all.pane.yaml", Line: 6, Column: 5}, s.Steps[0].Position)
	assert.Equal(t, "send it", s.Steps[1].Title())
	assert.Equal(t, 500*time.Millisecond, s.Steps[1].Wait)
	assert.Equal(t, `click button "Hold ${vars.berth}" (number 2)`, s.Steps[2].Title())
	assert.Equal(t, "contains", s.Steps[16].Expect.How)
}

// Every problem is told with its place and what was expected.
func TestProblems(t *testing.T) {
	head := "name: N\nsteps:\n"
	for _, tc := range []struct{ name, src, want string }{
		{"empty", "", "f:1:1: the file is empty"},
		{"not yaml", "name: [", "f:1:1: not valid YAML"},
		{"list", "- a", "f:1:1: script: expected a mapping, found a list"},
		{"no steps", "name: N", "f:1:1: script: expected at least one step"},
		{"no name", "steps:\n  - visit: /", "f:1:1: script: expected a name"},
		{"unknown key", "nam: N\nsteps:\n  - visit: /", `f:1:1: script: unknown key "nam" (did you mean "name"?)`},
		{"twice", "name: N\nname: M\nsteps:\n  - visit: /", `f:2:1: script: "name" is given twice`},
		{"unknown step", head + "  - clck: A", `f:3:5: step: unknown key "clck" (did you mean "click"?); expected about, if`},
		{"two actions", head + "  - visit: /\n    click: A", "f:4:5: step: visit and click in one step"},
		{"no action", head + "  - about: x", "f:3:5: step: expected one of visit, click"},
		{"wrong type", head + "  - visit: [a]", "f:3:12: visit: expected text, found a list"},
		{"nothing", head + "  - visit:", "f:3:11: visit: expected text, found nothing"},
		{"step is text", head + "  - visit", `f:3:5: step: expected a mapping, found "visit"`},
		{"bad if", head + "  - visit: /\n    if: brwser == 'x'", "f:4:9: if: expression \"brwser == 'x'\": unknown name brwser"},
		{"if not bool", head + "  - visit: /\n    if: device.width", "f:4:9: if: expression"},
		{"bad wait", head + "  - visit: /\n    wait: soon", `f:4:11: wait: expected a time such as 500ms, 10s or 2m, found "soon"`},
		{"open expression", head + "  - visit: /${vars.a", `f:3:12: visit: "/${vars.a": ${ without a closing }`},
		{"two ways", head + "  - click: {css: a, reads: b}", "f:3:21: click: css and reads in one locator"},
		{"no way", head + "  - click: {number: 1}", "f:3:12: click: expected one of role, label"},
		{"name without role", head + "  - click: {css: a, name: b}", "f:3:12: click: name goes with role only"},
		{"number", head + "  - click: {css: a, number: 0}", "f:3:29: number: expected 1 or more"},
		{"two attributes", head + "  - click: {attribute: {a: x, b: y}}", "f:3:31: attribute: expected one attribute"},
		{"no attribute", head + "  - click: {attribute: {}}", "f:3:24: attribute: expected one attribute"},
		{"odd attribute", head + "  - click: {attribute: {'a]': x}}", `attribute: "a]" is not the name of an attribute`},
		{"enter", head + "  - enter: {at: A}", "f:3:12: enter: expected text"},
		{"press", head + "  - press: Entr", `f:3:12: press: unknown key "Entr" (did you mean "Enter"?)`},
		{"upload", head + "  - upload: {at: A, file: ../secret}", "f:3:13: upload: the file must lie within the project"},
		{"scroll", head + "  - scroll: left", "f:3:13: scroll: expected top, bottom or at: LOCATOR"},
		{"network", head + "  - network: wet", "f:3:14: network: expected words such as down=1500"},
		{"dialog", head + "  - dialog: maybe", "f:3:13: dialog: expected accept, dismiss or answer"},
		{"keep name", head + "  - keep: {as: 1x, at: A}", `f:3:16: as: "1x" is not a variable name`},
		{"keep page", head + "  - keep: {as: x, at: A, read: title}", "at: the title belongs to the page"},
		{"keep what", head + "  - keep: {as: x, at: A, read: colour}", "read: expected text, value"},
		{"capture", head + "  - capture: a/b", `f:3:14: capture: "a/b": a name has letters`},
		{"expect two", head + "  - expect: {title: a, reads: b}", "f:3:24: expect: title and reads in one step"},
		{"expect none", head + "  - expect: {at: A}", "f:3:13: expect: expected one of reads"},
		{"expect value", head + "  - expect: {holds: a}", "f:3:13: expect: holds needs at: LOCATOR"},
		{"expect count", head + "  - expect: {number: -1, of: A}", "f:3:22: number: expected a whole number"},
		{"expect of", head + "  - expect: {reads: a, of: B}", "expect: of goes with number only"},
		{"expect in", head + "  - expect: {title: a, at: B}", "expect: at goes with reads and holds only"},
		{"regexp", head + "  - expect: {reads: {matches: '('}}", "matches: error parsing regexp"},
		{"how", head + "  - expect: {reads: {like: a}}", "f:3:21: reads: expected text, or one of contains"},
		{"too large", "name: " + strings.Repeat("x", MaxFileBytes), "bytes; at most 1048576 are read"},
	} {
		t.Run(tc.name, func(t *testing.T) {
			_, err := Parse("f", []byte(tc.src), nil)
			require.Error(t, err)
			assert.ErrorContains(t, err, tc.want)
		})
	}
}

func TestAllProblemsAreToldAtOnce(t *testing.T) {
	_, err := Parse("f", []byte("name: N\nsteps:\n  - visit: [a]\n  - clic: b\n"), nil)
	var ps source.Problems
	require.ErrorAs(t, err, &ps)
	assert.Len(t, ps, 2)
}

func TestText(t *testing.T) {
	scope := Scope{Browser: "firefox", Vars: map[string]string{"a": "1"}, Kept: map[string]string{"b": "2"}, Device: DeviceScope{Small: true}}
	for src, want := range map[string]string{
		"plain": "plain", "${vars.a}-${kept.b}": "1-2", "$${vars.a}": "${vars.a}", "${device.small ? 'm' : 'd'}": "m",
		"${upper(browser)}!": "FIREFOX!", "cost $5": "cost $5",
	} {
		text, err := ParseText(src)
		require.NoError(t, err, src)
		got, err := text.In(scope)
		require.NoError(t, err, src)
		assert.Equal(t, want, got)
	}
	text, err := ParseText("${vars.gone}")
	require.NoError(t, err)
	_, err = text.In(scope)
	assert.ErrorContains(t, err, "vars.gone is not set")
}

// The schema for editors knows the same keys as the parser.
func TestSchemaKnowsWhatTheParserKnows(t *testing.T) {
	var schema struct {
		Defs map[string]struct {
			Properties map[string]any `json:"properties"`
			OneOf      []struct {
				Properties map[string]any `json:"properties"`
			} `json:"oneOf"`
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(Schema, &schema))
	for _, a := range Actions {
		assert.Contains(t, schema.Defs["step"].Properties, string(a))
	}
	assert.Len(t, schema.Defs["step"].Properties, len(Actions)+7)
	for _, w := range Ways {
		assert.Contains(t, schema.Defs["locator"].OneOf[1].Properties, w)
	}
	expect := schema.Defs["step"].Properties["expect"].(map[string]any)["oneOf"].([]any)[1].(map[string]any)["properties"].(map[string]any)
	for _, k := range expectKinds {
		assert.Contains(t, expect, k)
	}
}

func FuzzParseScript(f *testing.F) {
	names, err := filepath.Glob("../demo/saltmarsh/tests/*.yaml")
	require.NoError(f, err)
	for _, n := range names {
		src, err := os.ReadFile(n)
		require.NoError(f, err)
		f.Add(string(src))
	}
	f.Fuzz(func(t *testing.T, src string) {
		s, err := Parse("f", []byte(src), nil)
		if err != nil {
			var ps source.Problems
			require.ErrorAs(t, err, &ps)
			require.NotEmpty(t, ps)
			for _, p := range ps {
				require.Positive(t, p.Line)
				require.NotEmpty(t, p.Message)
			}
			return
		}
		require.NotEmpty(t, s.Steps)
		for _, st := range s.Steps {
			require.True(t, slices.Contains(Actions, st.Action))
			_ = st.Title()
		}
	})
}

func FuzzExpressions(f *testing.F) {
	f.Add("${vars.a} and ${device.width + 1}")
	f.Fuzz(func(t *testing.T, src string) {
		text, err := ParseText(src)
		if err == nil {
			_, _ = text.In(Scope{})
		}
	})
}
