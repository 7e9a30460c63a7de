package project

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/source"
)

const severalFile = `project: saltmarsh
suites:
  all: {suites: [desk, node, shell]}
  desk: {scripts: [tests/*.pane.yaml], secrets: [door]}
  node: {command: "node {file} {results}", cases: [node/*.js], files: [node/lib.txt], needs: {node: ">=20"}, secrets: [door, quay]}
  shell: {command: "sh {file}", cases: [shell/*.sh], results: exit}
matrices: {m: {axes: {browser: [chromium]}}}
default: {suite: all}
`

func TestASuiteOfSeveral(t *testing.T) {
	files := tree(t, map[string]string{
		"pane.yaml":           severalFile,
		"tests/a.pane.yaml":   "name: Read the tides\nsteps: [{visit: /}]\n",
		"node/berths.test.js": "//", "node/lib.txt": "x", "shell/tides.sh": "true",
	})
	p, err := Load(files)
	require.NoError(t, err)
	all, err := p.Suite("")
	require.NoError(t, err)
	assert.Equal(t, SeveralKind, all.Kind)
	assert.Len(t, all.Each(), 3)
	assert.True(t, all.Commands())
	assert.False(t, all.Listed())
	assert.Equal(t, []string{"door", "quay"}, all.Secrets)
	assert.Equal(t, []string{"yes"}, all.Needs["commands"])
	assert.Equal(t, []string{">=20"}, all.Needs["node"])
	cases, err := p.Cases(files, all)
	require.NoError(t, err)
	parts := map[string]string{}
	for _, c := range cases {
		parts[c.Name] = c.Part
	}
	assert.Equal(t, map[string]string{"Read the tides": "desk", "node/berths.test.js": "node", "shell/tides.sh": "shell"}, parts)
	for test, want := range map[string]string{"Read the tides": "desk", "node/berths.test.js › berths › one": "node", "gone": ""} {
		part, known := all.Part(cases, test)
		assert.Equal(t, want, part.Name, test)
		assert.Equal(t, want != "", known, test)
	}
	scripts, err := p.Scripts(files, all)
	require.NoError(t, err)
	raw, _, err := p.Pack(files, all, scripts)
	require.NoError(t, err)
	a, err := OpenBundle(strings.NewReader(string(raw)), nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"node/berths.test.js", "node/lib.txt", "pane.yaml", "shell/tides.sh", "tests/a.pane.yaml"}, a.names)
	one, err := p.Suite("desk")
	require.NoError(t, err)
	assert.Equal(t, []Suite{one}, one.Each())
	assert.False(t, one.Commands())
}

func TestWhatIsWrongWithASuiteOfSeveral(t *testing.T) {
	for name, c := range map[string]struct{ old, new, want string }{
		"an unknown one": {"[desk, node, shell]", "[desk, nod]", `pane.yaml:3:17: suite all: unknown suite "nod" (did you mean "node"?)`},
		"twice":          {"[desk, node, shell]", "[desk, desk]", "suite all: desk is named twice"},
		"itself":         {"[desk, node, shell]", "[all]", "suite all: all is itself made of others: name those"},
		"none":           {"[desk, node, shell]", "[]", "suite all: expected suites, the names"},
		"with more": {"{suites: [desk, node, shell]}", "{suites: [desk], files: [x]}",
			"a suite that is made of others has nothing but their names"},
		"needs at odds": {"{command: \"sh {file}\"", "{needs: {node: \">=22\"}, command: \"sh {file}\"",
			"its parts need different agents: node of shell is >=22, and >=20 of others"},
	} {
		t.Run(name, func(t *testing.T) {
			src := strings.Replace(severalFile, c.old, c.new, 1)
			require.NotEqual(t, severalFile, src)
			_, err := Parse("pane.yaml", []byte(src))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
		})
	}
	_, err := Parse("pane.yaml", []byte(strings.Replace(severalFile, "{suites:", "{kind: several, suites:", 1)))
	assert.NoError(t, err, "its kind may be said")

	files := tree(t, map[string]string{"pane.yaml": severalFile, "tests/a.pane.yaml": "name: node/x.js\nsteps: [{visit: /}]\n",
		"node/x.js":    "",
		"node/lib.txt": "", "shell/tides.sh": ""})
	p, err := Load(files)
	require.NoError(t, err)
	all, _ := p.Suite("all")
	_, err = p.Cases(files, all)
	var ps source.Problems
	require.ErrorAs(t, err, &ps)
	assert.Contains(t, err.Error(), `desk and node both have a test "node/x.js"`)
}
