package script

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/source"
	"parallelpane/internal/core/verdict"
)

const menu = `
blocks:
  menu entry:
    about: to ${given.entry}
    takes: [entry]
    steps:
      - {do: open menu, if: device.small}
      - click: {role: link, name: "${given.entry}"}
  open menu:
    takes: {menu: Menu, times: }
    steps:
      - click: "${given.menu}"
`

func library(t *testing.T, files ...string) (*Library, error) {
	var all []*Block
	for _, src := range files {
		blocks, err := ParseBlocks("menu.blocks.yaml", []byte(src))
		require.NoError(t, err)
		all = append(all, blocks...)
	}
	return NewLibrary(all)
}

func TestBlocksAreCarriedOutInTheirPlace(t *testing.T) {
	lib, err := library(t, strings.Replace(menu, ", times: ", "", 1))
	require.NoError(t, err)
	assert.Equal(t, []string{"menu entry", "open menu"}, lib.Names())
	assert.Equal(t, "menu.blocks.yaml", lib.File("menu entry"))
	s, err := Parse("t.pane.yaml", []byte(`
name: T
steps:
  - keep: {as: page, read: title}
  - {do: menu entry, with: {entry: "${kept.page} tides"}}
  - {do: menu entry, with: {entry: Fees}, if: "false", about: never}
  - expect: Hold
`), lib)
	require.NoError(t, err)
	assert.Equal(t, []string{"menu entry", "open menu"}, s.Blocks())
	titles := make([]string, len(s.Steps))
	for i, st := range s.Steps {
		titles[i] = st.Title()
	}
	assert.Equal(t, []string{"keep title as page", `to ${given.entry} › open menu › click reads "${given.menu}"`,
		`to ${given.entry} › click link "${given.entry}"`, `never › open menu › click reads "${given.menu}"`,
		`never › click link "${given.entry}"`, `expect that the page reads "Hold"`}, titles)
	assert.Equal(t, "menu.blocks.yaml:12:9", s.Steps[1].Position.String(), "a step says where it is written")

	for small, want := range map[bool][]attempt.State{true: {attempt.Passed, attempt.Passed, attempt.Passed, attempt.Skipped,
		attempt.Skipped, attempt.Passed}, false: {attempt.Passed, attempt.Skipped, attempt.Passed, attempt.Skipped, attempt.Skipped,
		attempt.Passed}} {
		p := &seeker{page: page{looks: []Sight{seen(shown)}, text: "Hold"}}
		out := Run(t.Context(), s, p, Setting{Scope: Scope{Device: DeviceScope{Small: small}}}, &notes{})
		require.Equal(t, verdict.Passed, out.Verdict, out.Message)
		states := make([]attempt.State, len(out.Steps))
		for i, st := range out.Steps {
			states[i] = st.State
		}
		assert.Equal(t, want, states)
		assert.Contains(t, p.sought, "Harbour tides", "what is given is worked out where the block is used")
		assert.Equal(t, small, strings.Contains(strings.Join(p.sought, ","), "Menu"))
	}
}

// seeker notes what is looked for.
type seeker struct {
	page
	sought []string
}

func (p *seeker) Look(ctx context.Context, q Query) (Sight, error) {
	p.sought = append(p.sought, q.Find.Value, q.Find.Name)
	return p.page.Look(ctx, q)
}

// What is given is given once: a block that changes what it was made of does not change it.
func TestWhatIsGivenStays(t *testing.T) {
	lib, err := library(t, `
blocks:
  twice:
    takes: [name]
    steps:
      - keep: {as: page, at: Hold}
      - click: "${given.name}"
`)
	require.NoError(t, err)
	s, err := Parse("t.pane.yaml",
		[]byte("name: T\nsteps:\n  - keep: {as: page, read: title}\n  - {do: twice, with: {name: \"${kept.page}\"}}\n"), lib)
	require.NoError(t, err)
	p := &seeker{page: page{looks: []Sight{seen(shown)}}}
	out := Run(t.Context(), s, p, Setting{}, &notes{})
	require.Equal(t, verdict.Passed, out.Verdict, out.Message)
	assert.Contains(t, p.sought, "Harbour")
}

func TestWhatIsWrongWithBlocks(t *testing.T) {
	for want, src := range map[string]string{
		`block a is also in menu.blocks.yaml:3:3`:                    "blocks:\n  b: {steps: [{visit: /}]}\n  a: {steps: [{visit: /}]}\n",
		`block a would do itself: a › c › a`:                         "blocks:\n  c: {steps: [{do: a}]}\n",
		`there is no block "open menus" (did you mean "open menu"?)`: "blocks:\n  c: {steps: [{do: open menus}]}\n",
		`block needy needs berth and boat: add with: {berth: …}`:     "blocks:\n  c: {steps: [{do: needy}]}\n",
		`block needy takes no "berht" (did you mean "berth"?); it takes berth, boat`: "blocks:\n  c: {steps: [{do: needy, with: {berth: 1, " +
			"boat: 2, berht: 3}}]}\n",
		`block open menu takes no "x"; it takes, which is nothing`: "blocks:\n  c: {steps: [{do: open menu, with: {x: 1}}]}\n",
	} {
		base := "blocks:\n  open menu: {steps: [{visit: /}]}\n  a: {steps: [{do: open menu}]}\n" +
			"  needy: {takes: [berth, boat], steps: [{visit: /}]}\n"
		if strings.Contains(want, "itself") {
			base = strings.Replace(base, "do: open menu", "do: c", 1)
		}
		_, err := library(t, base, src)
		var ps source.Problems
		require.ErrorAs(t, err, &ps, want)
		assert.ErrorContains(t, err, want)
	}
	for want, src := range map[string]string{
		"given.x is not among what it takes: y":                            "blocks: {a: {takes: [y], steps: [{click: \"${given.x}\"}]}}",
		"given.x is not among what it takes, which is nothing":             "blocks: {a: {steps: [{click: B, if: 'given[\"x\"] == \"\"'}]}}",
		"expected at least one step":                                       "blocks: {a: {about: nothing}}",
		`takes: "1x" is not a name`:                                        "blocks: {a: {takes: [1x], steps: [{visit: /}]}}",
		"takes: x is there twice":                                          "blocks: {a: {takes: [x, x], steps: [{visit: /}]}}",
		`file of blocks: unknown key "block" (did you mean "blocks"?)`:     "block: {}",
		"file of blocks: expected blocks":                                  "blocks: {}",
		"do: within, frame and wait belong to the steps of the block":      "blocks: {a: {steps: [{do: b, wait: 2s}]}}",
		"with: goes with do only":                                          "blocks: {a: {steps: [{visit: /, with: {a: 1}}]}}",
		"window: expected new, first, close, title: TEXT":                  "blocks: {a: {steps: [{window: third}]}}",
		"window: expected new, first, close, title: TEXT or address: TEXT": "blocks: {a: {steps: [{window: {name: x}}]}}",
		"frame: expected 1 to 10 locators":                                 "blocks: {a: {steps: [{click: B, frame: []}]}}",
	} {
		_, err := ParseBlocks("a.blocks.yaml", []byte(src))
		assert.ErrorContains(t, err, want, src)
	}
	for want, src := range map[string]string{
		"given.x: only the steps of a block are given something": "name: T\nsteps: [{click: \"${given.x}\"}]",
		`there is no block "a"`:                                  "name: T\nsteps: [{do: a}]",
		"data: the file must lie within":                         "name: T\ndata: ../x.csv\nsteps: [{visit: /}]",
		`data: unknown key "files"`:                              "name: T\ndata: {files: x.csv}\nsteps: [{visit: /}]",
	} {
		_, err := Parse("t.pane.yaml", []byte(src), nil)
		assert.ErrorContains(t, err, want, src)
	}
}

// Blocks within blocks could make more steps than anybody can write.
func TestBlocksThatWouldCostTooMuch(t *testing.T) {
	src := "blocks:\n  b0: {steps: [{visit: /}]}\n"
	for i := range 30 {
		name, before := string(rune('a'+i%26))+strings.Repeat("x", i/26), ""
		if i == 0 {
			before = "b0"
		} else {
			before = string(rune('a'+(i-1)%26)) + strings.Repeat("x", (i-1)/26)
		}
		src += "  " + name + ": {steps: [{do: " + before + "}, {do: " + before + "}]}\n"
	}
	_, err := library(t, src)
	assert.ErrorContains(t, err, "there are more than 2000 steps here")
}

func FuzzBlocks(f *testing.F) {
	f.Add(menu)
	f.Add("blocks: {a: {steps: [{do: a}]}}")
	f.Fuzz(func(t *testing.T, src string) {
		blocks, err := ParseBlocks("a.blocks.yaml", []byte(src))
		if err != nil {
			return
		}
		lib, err := NewLibrary(blocks)
		if err != nil {
			return
		}
		for _, name := range lib.Names() {
			s, err := Parse("t.pane.yaml", []byte("name: T\nsteps:\n  - {do: "+strings.ReplaceAll(name, "\n", " ")+"}\n"), lib)
			if err == nil && len(s.Steps) > MaxSteps {
				t.Fatalf("%d steps", len(s.Steps))
			}
		}
	})
}
