package project

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEnvironmentsComeFromOthers(t *testing.T) {
	p, err := Parse(FileName, []byte(`project: p
vars: {boat: Osprey, quay: north, lang: nb}
environments:
  staging: {from: test, vars: {quay: south}}
  test: {base: "http://test.example", vars: {boat: Heron, quay: east}}
  alone: {base: "http://alone.example"}
`))
	require.NoError(t, err)
	e, err := p.Environment("staging")
	require.NoError(t, err)
	assert.Equal(t, "http://test.example", e.Base)
	assert.Equal(t, map[string]string{"boat": "Heron", "quay": "south", "lang": "nb"}, e.Vars)
	e, err = p.Environment("alone")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"boat": "Osprey", "quay": "north", "lang": "nb"}, e.Vars)

	all, err := p.Explain("staging", Layer{From: "preset smoke", Vars: map[string]string{"quay": "west"}},
		Layer{From: "the command line", Base: "http://here.example"})
	require.NoError(t, err)
	assert.Equal(t, []Value{
		{"base", "http://here.example", "the command line", []Value{{"base", "http://test.example", "environment test", []Value{}}}},
		{"vars.boat", "Heron", "environment test", []Value{{"vars.boat", "Osprey", "the project", []Value{}}}},
		{"vars.lang", "nb", "the project", []Value{}},
		{"vars.quay", "west", "preset smoke", []Value{{"vars.quay", "south", "environment staging", []Value{}},
			{"vars.quay", "east", "environment test", []Value{}}, {"vars.quay", "north", "the project", []Value{}}}},
	}, all)
	_, err = p.Explain("nowhere")
	require.ErrorContains(t, err, `unknown environment "nowhere"`)

	for src, says := range map[string]string{
		"{a: {from: b}}":                             `3:4: environment a: from: there is no environment "b"`,
		"{a: {from: b}, b: {from: a}}":               "environment a: from: it comes from itself, by way of a",
		"{a: {from: a}}":                             "environment a: from: it comes from itself, by way of a",
		"{a: {from: b}, b: {from: c}, c: {from: b}}": "it comes from itself, by way of b",
	} {
		_, err := Parse(FileName, []byte("project: p\nenvironments:\n  "+src+"\n"))
		assert.ErrorContains(t, err, says, src)
	}
}
