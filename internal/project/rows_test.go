package project

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"parallelpane/internal/core/suite"
	"parallelpane/internal/script"
)

func sheet(t *testing.T, rows ...[]any) string {
	t.Helper()
	f := excelize.NewFile()
	for i, r := range rows {
		require.NoError(t, f.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &r))
	}
	var buf bytes.Buffer
	require.NoError(t, f.Write(&buf))
	return buf.String()
}

func TestRowsOfEveryForm(t *testing.T) {
	want := &table{columns: []string{"berth", "boat"}, rows: [][]string{{"B3", "Osprey, the elder"}, {"C5", "7"}}}
	for name, content := range map[string]string{
		"rows.csv":  "\xef\xbb\xbfberth,boat\r\nB3,\"Osprey, the elder\"\r\n\r\nC5,7\r\n",
		"semi.csv":  "berth;boat\nB3;Osprey, the elder\nC5;7\n",
		"rows.tsv":  "berth\tboat\nB3\tOsprey, the elder\n\nC5\t7\n",
		"rows.json": `[{"boat": "Osprey, the elder", "berth": "B3"}, {"berth": "C5", "boat": 7}]`,
		"rows.xlsx": sheet(t, []any{"berth", "boat"}, []any{"B3", "Osprey, the elder"}, []any{}, []any{"C5", 7}),
	} {
		got, _, err := readTable(tree(t, map[string]string{name: content}), name)
		require.NoError(t, err, name)
		assert.Equal(t, want, got, name)
	}
	empty, _, err := readTable(tree(t, map[string]string{"r.xlsx": sheet(t, []any{"a", "b"}, []any{"1"})}), "r.xlsx")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"1", ""}}, empty.rows, "cells at the end that are empty are there")
}

func TestRowsThatCannotBeRead(t *testing.T) {
	for want, f := range map[string][2]string{
		"r.csv: line 3: it has 3 columns, the header 2":  {"r.csv", "a,b\n1,2\n1,2,3\n"},
		"r.csv: line 2, column 2: bare":                  {"r.csv", "a,b\n1\"2,3\n"},
		"r.csv: there are no rows":                       {"r.csv", "a,b\n"},
		`r.csv: the header has "a" twice`:                {"r.csv", "a,a\n1,2\n"},
		"r.csv: column 2 has no name in the header":      {"r.csv", "a,\n1,2\n"},
		"holds a byte 0":                                 {"r.csv", "a\n1\x002\n"},
		"more than 10000 rows, each of which would":      {"r.csv", "a\n" + strings.Repeat("1\n", 100_000)},
		"201 columns; at most 200":                       {"r.csv", columns(201) + columns(201)},
		"bytes; at most 32768 are taken":                 {"r.csv", "a\n" + strings.Repeat("x", maxCell+1) + "\n"},
		"expected a list of objects":                     {"r.json", `{"a": 1}`},
		`row 2 has no "b", which other rows have`:        {"r.json", `[{"a": 1, "b": 2}, {"a": 1}]`},
		`row 1: "a" is neither text nor number`:          {"r.json", `[{"a": [1]}]`},
		"not a workbook that can be read":                {"r.xlsx", "PK nonsense"},
		"expected a file that ends in one of .csv, .tsv": {"r.ods", "x"},
		"r.csv has 17 MB; at most 16 are read":           {"r.csv", strings.Repeat("x", 17<<20+1)},
	} {
		_, _, err := readTable(tree(t, map[string]string{f[0]: f[1]}), f[0])
		assert.ErrorContains(t, err, want)
	}
	_, _, err := readTable(tree(t, nil), "r.csv")
	assert.ErrorContains(t, err, `there is no file "r.csv" in the project`)
}

func columns(n int) string {
	names := make([]string, n)
	for i := range names {
		names[i] = fmt.Sprint("c", i)
	}
	return strings.Join(names, ",") + "\n"
}

const rowsProject = `project: saltmarsh
suites:
  desk: {scripts: "*.pane.yaml"}
  node: {command: "node {file}", cases: "*.mjs", results: exit, data: {file: boats.csv, name: "${row.boat}"}}
blocks: "*.blocks.yaml"
`

func TestEachRowIsATest(t *testing.T) {
	files := tree(t, map[string]string{"pane.yaml": rowsProject, "boats.csv": "boat,length\nOsprey,9\nHeron,12\n",
		"hold.pane.yaml": "name: Hold\ntags: [a]\ndata: {file: boats.csv, name: \"${row.boat} of ${row.length} m\"}\nsteps:\n" +
			"  - {do: hold, with: {boat: \"${row.boat}\"}}\n",
		"plain.pane.yaml": "name: Plain\ndata: boats.csv\nsteps: [{visit: /}]\n",
		"a.mjs":           "//", "site.blocks.yaml": "blocks: {hold: {takes: [boat], steps: [{enter: {at: Boat, text: \"${given.boat}\"}}]}}"})
	p, err := Load(files)
	require.NoError(t, err)
	names := func(of string) (out []string) {
		s, err := p.Suite(of)
		require.NoError(t, err)
		cases, err := p.Cases(files, s)
		require.NoError(t, err)
		for _, c := range cases {
			out = append(out, c.Name)
		}
		return out
	}
	assert.Equal(t, []string{"Hold › Osprey of 9 m", "Hold › Heron of 12 m", "Plain › 1 Osprey", "Plain › 2 Heron"}, names("desk"))
	assert.Equal(t, []string{"a.mjs › Osprey", "a.mjs › Heron"}, names("node"))

	desk, err := p.Suite("desk")
	require.NoError(t, err)
	scripts, err := p.Scripts(files, desk)
	require.NoError(t, err)
	raw, _, err := p.Pack(files, desk, scripts)
	require.NoError(t, err)
	to := t.TempDir()
	require.NoError(t, Unpack(bytes.NewReader(raw), to))
	s, err := p.Script(Dir(to), "hold.pane.yaml")
	require.NoError(t, err, "the bundle has the blocks and the rows")
	assert.Equal(t, map[string]string{"boat": "Heron", "length": "12"}, s.Rows[1].Values)

	a, err := OpenBundle(bytes.NewReader(raw), func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw)), nil })
	require.NoError(t, err)
	cases, err := p.Cases(a, desk)
	require.NoError(t, err, "the service reads them out of it")
	assert.Len(t, cases, 4)

	node, err := p.Suite("node")
	require.NoError(t, err)
	cases, err = p.Cases(files, node)
	require.NoError(t, err)
	assert.Equal(t, 1, suite.Owner(cases, "a.mjs › Heron › berths › holds"))
	assert.Equal(t, []string{"a.mjs › Heron"}, suite.Files(cases, []string{"a.mjs › Heron › berths › holds", "a.mjs › Heron › x"}))
}

func TestWrongColumnsAreFound(t *testing.T) {
	for want, src := range map[string]string{
		"hold.pane.yaml:4:5: row.baot: boats.csv has no such column (did you mean \"boat\"?); it has boat, length": "name: H\ndata: boats.csv\n" +
			"steps:\n  - visit: /${row.baot}\n",
		"hold.pane.yaml:2:7: row.x: boats.csv has no such column": "name: H\n" +
			"data: {file: boats.csv, name: \"${row.x}\"}\nsteps: [{visit: /}]\n",
		"hold.pane.yaml:3:5: row.boat: the script hold.pane.yaml has no rows": "name: H\nsteps:\n  - visit: /${row.boat}\n",
		`hold.pane.yaml:2:7: data: there is no file "baots.csv" in the project`: "name: H\n" +
			"data: baots.csv\nsteps: [{visit: /}]\n",
		"rows 1 and 2 of boats.csv are both called \"boat\"": "name: H\ndata: {file: boats.csv, name: boat}\nsteps: [{visit: /}]\n",
		"b.blocks.yaml:1:": "name: H\ndata: boats.csv\nsteps: [{do: sail}]\n",
	} {
		files := tree(t, map[string]string{"pane.yaml": rowsProject, "boats.csv": "boat,length\nOsprey,9\nHeron,12\n", "hold.pane.yaml": src,
			"b.blocks.yaml": "blocks: {sail: {steps: [{visit: \"/${row.sail}\"}]}}"})
		p, err := Load(files)
		require.NoError(t, err)
		s, err := p.Suite("desk")
		require.NoError(t, err)
		_, err = p.Scripts(files, s)
		assert.ErrorContains(t, err, want)
	}
	_, err := Parse(FileName, []byte("project: a\nsuites: {s: {scripts: \"*\", data: b.csv}}\n"))
	assert.ErrorContains(t, err, "data: each script says by itself which rows it takes")
}

func FuzzRows(f *testing.F) {
	f.Add("r.csv", "a,b\n1,2\n")
	f.Add("r.json", `[{"a": 1}]`)
	f.Add("r.xlsx", "PK\x03\x04")
	f.Fuzz(func(t *testing.T, name, content string) {
		got, _, err := readTable(one{name, content}, name)
		if err == nil && (len(got.rows) > MaxRows || len(got.columns) == 0) {
			t.Fatalf("%d rows of %d columns", len(got.rows), len(got.columns))
		}
	})
}

// one is a tree of one file.
type one struct{ name, content string }

func (o one) Glob(string) ([]string, error) { return []string{o.name}, nil }
func (o one) Read(string) ([]byte, error)   { return []byte(o.content), nil }

// A suite can be cut by the names that a command prints, which its bundle holds.
func TestTestsThatACommandNames(t *testing.T) {
	files := tree(t,
		map[string]string{"pane.yaml": "project: a\nsuites: {s: {command: \"run {name}\", list: \"./list\", results: exit, files: lib/*}}\n",
			"lib/a": "x"})
	p, err := Load(files)
	require.NoError(t, err)
	_, err = p.Cases(files, p.Suites[0])
	assert.ErrorContains(t, err, `its tests are those that "./list" prints`)
	with, err := WithNames(files, p.Suites[0], []byte("hold a berth\r\n\nsign in\nhold a berth\n"))
	require.NoError(t, err)
	raw, _, err := p.Pack(with, p.Suites[0], nil)
	require.NoError(t, err)
	a, err := OpenBundle(bytes.NewReader(raw), nil)
	require.NoError(t, err)
	for _, f := range []Files{with, a} {
		cases, err := p.Cases(f, p.Suites[0])
		require.NoError(t, err)
		assert.Equal(t, []suite.Case{{Name: "hold a berth"}, {Name: "sign in"}}, cases)
	}
	for want, printed := range map[string]string{"printed no name": "\n\n", "which is no name": "a\x07b",
		"more than 20000 names": func() string {
			var b strings.Builder
			for i := range MaxListed + 1 {
				fmt.Fprintln(&b, i)
			}
			return b.String()
		}()} {
		_, err := WithNames(files, p.Suites[0], []byte(printed))
		assert.ErrorContains(t, err, want)
	}
	for want, src := range map[string]string{
		"not by both":                      "{command: \"x {name}\", list: l, cases: \"*\", results: exit}",
		"has to be told which test to run": "{command: x, list: l, results: exit}",
	} {
		_, err := Parse(FileName, []byte("project: a\nsuites: {s: "+src+"}\n"))
		assert.ErrorContains(t, err, want)
	}
}

// A small bundle may not become a large one in the service that reads it.
func TestRowsThatCostTooMuch(t *testing.T) {
	rows := "n\n"
	for i := range MaxRows {
		rows += fmt.Sprintln(i)
	}
	files := map[string]string{"pane.yaml": "project: a\nsuites: {s: {scripts: \"*.pane.yaml\"}, c: {command: \"sh {file}\", " +
		"cases: \"*.pane.yaml\", " +
		"results: exit, data: rows.csv}}\n", "rows.csv": rows}
	for i := range 6 {
		files[fmt.Sprintf("t%d.pane.yaml", i)] = fmt.Sprintf("name: T%d\ndata: rows.csv\nsteps: [{visit: /}]\n", i)
	}
	dir := tree(t, files)
	p, err := Load(dir)
	require.NoError(t, err)
	for _, s := range p.Suites {
		_, err = p.Cases(dir, s)
		assert.ErrorContains(t, err, "with these rows the suite has more than 50000 tests", s.Name)
	}
	lib := "blocks: {long: {steps: ["
	for range script.MaxSteps {
		lib += "{click: B},"
	}
	long := map[string]string{"pane.yaml": "project: a\nsuites: {s: {scripts: \"*.pane.yaml\"}}\nblocks: b.blocks.yaml\n",
		"b.blocks.yaml": lib + "]}}"}
	for i := range 1 + MaxSteps/script.MaxSteps {
		long[fmt.Sprintf("t%d.pane.yaml", i)] = fmt.Sprintf("name: T%d\nsteps: [{do: long}]\n", i)
	}
	many := tree(t, long)
	q, err := Load(many)
	require.NoError(t, err)
	_, err = q.Cases(many, q.Suites[0])
	assert.ErrorContains(t, err, "has more than 200000 steps")
	var ts tables
	ts.bytes = maxAllRowsBytes
	_, err = ts.read(dir, "rows.csv")
	assert.ErrorContains(t, err, "the suite's files of rows have more than 64 MB")
}
