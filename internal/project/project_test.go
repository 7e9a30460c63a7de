package project

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"parallelpane/internal/core/source"
	"parallelpane/internal/core/suite"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const good = `project: saltmarsh
suites:
  desk: {scripts: tests/*.pane.yaml, files: [data/**]}
  gate: {scripts: [gate/*.pane.yaml]}
matrices:
  wall:
    axes: {browser: [chromium, firefox], device: [desktop, phone]}
environments:
  local: {base: "http://127.0.0.1:1", vars: {boat: Osprey}}
default: {suite: desk}
`

const aScript = "name: %s\nsteps:\n  - visit: /\n  - upload: {at: Paper, file: papers/a.txt}\n"

func tree(t *testing.T, files map[string]string) Dir {
	dir := t.TempDir()
	for name, body := range files {
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	return Dir(dir)
}

func saltmarsh(t *testing.T) Dir {
	return tree(t, map[string]string{
		FileName: good, "tests/a.pane.yaml": strings.ReplaceAll(aScript, "%s", "A"), "tests/b.pane.yaml": strings.ReplaceAll(aScript, "%s", "B"),
		"papers/a.txt": "paper", "data/x/y.bin": "\x00\x01", "secret.env": "not in the bundle",
	})
}

func TestParse(t *testing.T) {
	p, err := Parse(FileName, []byte(good))
	require.NoError(t, err)
	assert.Equal(t, "saltmarsh", p.Name)
	m, err := p.Matrix("")
	require.NoError(t, err, "the only one is meant when none is named")
	assert.Equal(t, "wall", m.Name)
	assert.Equal(t, "browser", m.Axes[0].Name, "axes keep their order")
	s, err := p.Suite("")
	require.NoError(t, err)
	assert.Equal(t, "desk", s.Name)
	e, err := p.Environment("local")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"boat": "Osprey"}, e.Vars)
	_, err = p.Suite("dsk")
	assert.ErrorContains(t, err, `unknown suite "dsk" (did you mean "desk"?): the project has desk, gate`)
}

func TestParseProblems(t *testing.T) {
	for src, want := range map[string]string{
		"suites: {}":                                                      "pane.yaml:1:1: project file: expected project: NAME",
		"project: a b":                                                    `pane.yaml:1:10: project: "a b" is not a name`,
		"project: p\nsuits: {}":                                           `2:1: project file: unknown key "suits" (did you mean "suites"?)`,
		"project: p\nsuites: {a: {}}":                                     "suite a: expected scripts",
		"project: p\nsuites: {a: {scripts: ../x}}":                        `"../x" is not a glob within the project`,
		"project: p\nsuites: {a: {kind: magic}}":                          `kind: expected script, command or several, found "magic"`,
		"project: p\nmatrices: {m: {axes: {os: []}}}":                     `axis "os" has no values`,
		"project: p\nmatrices: {m: {axes: {device: fone}}}":               `unknown device "fone"`,
		"project: p\nmatrices: {m: {axes: {device: [phoen]}}}":            `pane.yaml:2:32: unknown device "phoen" (did you mean "phone"?)`,
		"project: p\nmatrices: {m: {axes: {os: [a]}, only: ['ox == 1']}}": `matrix "m": only "ox == 1": unknown name ox`,
		"project: p\nmatrices: {m: {axes: {os: [a]}, drop: [{os: b}]}}":   `axis "os" has no value "b"`,
		"project: p\nmatrices: {m: {axes: {os: [a]}, cover: lots}}":       `unknown cover "lots"`,
		"project: p\nmatrices: {m: {axes: {os: [a]}, effort: 9}}":         `effort: expected normal or high, found "9"`,
		"project: p\nmatrices: {m: {axes: {os: [a]}, seed: x}}":           "seed: expected a whole number",
		"project: p\nmatrices: {m: {axes: {version: [newest]}}}":          `version: "newest" chooses no version`,
		"project: p\nenvironments: {e: {base: ftp://x}}":                  "base: expected an address",
		"project: p\nenvironments: {e: {base: 'http://u:p@x'}}":           "must not carry credentials",
		"project: p\ndefault: {suite: z}":                                 "default: the project has no suite",
	} {
		_, err := Parse(FileName, []byte(src))
		assert.ErrorContains(t, err, want, src)
	}
}

func TestMatricesOfAnyFile(t *testing.T) {
	ms, err := Matrices("m.yaml", []byte("other: 1\nmatrices:\n  m:\n    axes: {device: [anything], n: [1, 2]}\n    cover: {strength: "+
		"pairs, axes: [n]}\n    add: [{n: 3}]\n    drop: [{n: [1, 2], device: anything}]\n"))
	require.NoError(t, err)
	assert.Equal(t, 2, ms[0].Cover.Strength)
	assert.Equal(t, []string{"n"}, ms[0].Cover.Axes)
	assert.Equal(t, []string{"1", "2"}, ms[0].Drop[0]["n"])
	_, err = Matrices("m.yaml", []byte("a: 1"))
	assert.ErrorContains(t, err, "m.yaml:1:1: file: expected matrices")
}

func TestScriptsGatherEveryProblem(t *testing.T) {
	files := tree(t, map[string]string{
		FileName: good, "tests/a.pane.yaml": "name: Same\nsteps:\n  - visit: /", "tests/b.pane.yaml": "name: Same\nsteps:\n  - visit: /",
		"tests/c.pane.yaml": "name: C\nsteps:\n  - clik: x", "tests/d.pane.yaml": "name: D\nsteps:\n  - upload: {at: P, file: gone.txt}",
	})
	p, err := Load(files)
	require.NoError(t, err)
	suite, _ := p.Suite("desk")
	_, err = p.Scripts(files, suite)
	var ps source.Problems
	require.ErrorAs(t, err, &ps)
	text := ps.Error()
	for _, want := range []string{`tests/b.pane.yaml:1:1: the name "Same" is taken by tests/a.pane.yaml`, "tests/c.pane.yaml:3:5",
		`tests/d.pane.yaml:3:5: upload: no file "gone.txt"`} {
		assert.Contains(t, text, want)
	}
	gate, _ := p.Suite("gate")
	_, err = p.Scripts(files, gate)
	assert.ErrorContains(t, err, "pane.yaml:4:3: suite gate: no file matches gate/*.pane.yaml")
}

func TestFindRoot(t *testing.T) {
	dir := string(saltmarsh(t))
	root, err := FindRoot(filepath.Join(dir, "data", "x"))
	require.NoError(t, err)
	assert.Equal(t, dir, root)
	_, err = FindRoot(t.TempDir())
	assert.ErrorContains(t, err, "no pane.yaml in")
}

func pack(t *testing.T, files Dir) ([]byte, string) {
	p, err := Load(files)
	require.NoError(t, err)
	suite, err := p.Suite("desk")
	require.NoError(t, err)
	scripts, err := p.Scripts(files, suite)
	require.NoError(t, err)
	raw, hash, err := p.Pack(files, suite, scripts)
	require.NoError(t, err)
	return raw, hash
}

func TestBundleThereAndBack(t *testing.T) {
	files := saltmarsh(t)
	raw, hash := pack(t, files)
	_, again := pack(t, saltmarsh(t))
	assert.Equal(t, hash, again, "the same files give the same bundle, wherever they lie")
	a, err := OpenBundle(bytes.NewReader(raw), nil)
	require.NoError(t, err)
	names, err := a.Glob("**")
	require.NoError(t, err)
	assert.Equal(t, []string{"data/x/y.bin", "pane.yaml", "papers/a.txt", "tests/a.pane.yaml", "tests/b.pane.yaml"}, names)
	p, err := Load(a)
	require.NoError(t, err)
	suite, _ := p.Suite("desk")
	scripts, err := p.Scripts(a, suite)
	require.NoError(t, err)
	assert.Len(t, scripts, 2)
	dir := t.TempDir()
	require.NoError(t, Unpack(bytes.NewReader(raw), dir))
	got, err := os.ReadFile(filepath.Join(dir, "data", "x", "y.bin"))
	require.NoError(t, err)
	assert.Equal(t, "\x00\x01", string(got))
}

func archive(headers ...tar.Header) []byte {
	var buf bytes.Buffer
	zw := gzip.NewWriter(&buf)
	tw := tar.NewWriter(zw)
	for _, h := range headers {
		body := strings.Repeat("x", int(h.Size))
		_ = tw.WriteHeader(&h)
		_, _ = tw.Write([]byte(body))
	}
	tw.Close()
	zw.Close()
	return buf.Bytes()
}

func TestHostileBundlesAreRefused(t *testing.T) {
	file := func(name string) tar.Header {
		return tar.Header{Name: name, Typeflag: tar.TypeReg, Size: 1, Mode: 0o644}
	}
	for name, raw := range map[string][]byte{
		"not gzip":  []byte("hello"),
		"cut short": archive(file("a"))[:20],
		"parent":    archive(file("../evil")),
		"deep":      archive(file("a/../../evil")),
		"absolute":  archive(file("/etc/evil")),
		"backslash": archive(file(`..\evil`)),
		"unclean":   archive(file("a//b")),
		"twice":     archive(file("a"), file("a")),
		"link":      archive(tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}),
		"directory": archive(tar.Header{Name: "d/", Typeflag: tar.TypeDir}),
		"huge":      archive(tar.Header{Name: "h", Typeflag: tar.TypeReg, Size: MaxUnpackedBytes + 1, Mode: 0o644}),
	} {
		t.Run(name, func(t *testing.T) {
			outer := t.TempDir()
			dir := filepath.Join(outer, "in")
			require.NoError(t, os.Mkdir(dir, 0o755))
			var refused *BundleError
			err := Unpack(bytes.NewReader(raw), dir)
			require.ErrorAs(t, err, &refused, "%v", err)
			_, err = OpenBundle(bytes.NewReader(raw), nil)
			require.ErrorAs(t, err, &refused)
			entries, err := os.ReadDir(outer)
			require.NoError(t, err)
			assert.Len(t, entries, 1, "nothing is written outside")
		})
	}
}

func TestALinkInTheTreeDoesNotLeadOutside(t *testing.T) {
	files := saltmarsh(t)
	outside := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(outside, []byte("s"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(string(files), "data", "link")))
	_, err := files.Read("data/link")
	assert.Error(t, err)
}

func TestProjectSchemaIsJSON(t *testing.T) {
	var v map[string]any
	require.NoError(t, json.Unmarshal(Schema, &v))
	assert.Contains(t, v["properties"], "matrices")
}

func FuzzBundle(f *testing.F) {
	f.Add(archive(tar.Header{Name: "pane.yaml", Typeflag: tar.TypeReg, Size: 3}))
	f.Fuzz(func(t *testing.T, raw []byte) {
		outer := t.TempDir()
		dir := filepath.Join(outer, "in")
		require.NoError(t, os.Mkdir(dir, 0o755))
		_ = Unpack(bytes.NewReader(raw), dir)
		entries, err := os.ReadDir(outer)
		require.NoError(t, err)
		require.Len(t, entries, 1)
	})
}

func TestDevicesOfAProject(t *testing.T) {
	p, err := Parse(FileName, []byte("project: p\nmatrices: {m: {axes: {browser: [chromium], device: [buoy, phone], viewport: "+
		"[800x600], timezone: [Europe/Oslo]}}}\n"+
		"devices:\n  buoy: {title: display on a buoy, size: 480x320, density: 1.5, touch: true, handheld: true}\n"))
	require.NoError(t, err)
	require.Len(t, p.Devices, 1)
	got, err := p.Profile(map[string]string{"device": "buoy", "locale": "nb-NO"})
	require.NoError(t, err)
	assert.Equal(t, "display on a buoy", got.Title)
	assert.Equal(t, 480, got.Size.Width)
	assert.Equal(t, "nb-NO", got.Locale)
	_, err = p.Profile(map[string]string{"viewport": "wide"})
	assert.ErrorContains(t, err, "expected a size")
	for src, want := range map[string]string{
		"devices: {phone: {size: 300x300}}":                                         "the catalogue has one of this name",
		"devices: {b: {size: 10x300}}":                                              "200 to 8192 pixels",
		"devices: {b: {size: 300}}":                                                 "size: expected a size such as 390x844, found \"300\"",
		"devices: {b: {size: 300x300, density: much}}":                              "density: expected a number",
		"marker: 'a b'":                                                             "is not the name of an attribute",
		"devices: {b: {size: 300x300, touch: maybe}}":                               "touch: expected true or false",
		"devices: {b: {size: 300x300, colour: red}}":                                "unknown",
		"devices: {'b c': {size: 300x300}}":                                         "is not a name",
		"matrices: {m: {axes: {device: [bouy]}}}\ndevices: {buoy: {size: 300x300}}": `did you mean "buoy"?`,
		"matrices: {m: {axes: {viewport: [big]}}}":                                  "viewport: expected a size",
		"matrices: {m: {axes: {locale: [x]}}}":                                      "locale: expected one",
		"matrices: {m: {axes: {version: ['>=5 <3']}}}":                              "contradicts itself",
	} {
		_, err := Parse(FileName, []byte("project: p\n"+src+"\n"))
		assert.ErrorContains(t, err, want, src)
		assert.ErrorContains(t, err, "pane.yaml:", src)
	}
	_, err = Parse(FileName, []byte("project: shared\n"))
	assert.ErrorContains(t, err, "name of the pool")
}

func TestCommandSuites(t *testing.T) {
	const ok = "project: p\nsuites:\n  s:\n    command: node --test {file} > {results}\n    cases: [t/*.js]\n"
	p, err := Parse(FileName, []byte(ok+"    limit: 90s\n    env: {A: 1}\n    files: [lib/**]\n"))
	require.NoError(t, err)
	s := p.Suites[0]
	assert.Equal(t, CommandKind, s.Kind)
	assert.Equal(t, suite.Command{Line: "node --test {file} > {results}", Results: suite.JUnit, LimitMS: 90_000,
		Env: map[string]string{"A": "1"}},
		*s.Command)
	dir := Dir(t.TempDir())
	_, err = p.Cases(dir, s)
	require.ErrorContains(t, err, "no file matches t/*.js")
	require.NoError(t, os.MkdirAll(filepath.Join(string(dir), "t"), 0o755))
	for _, name := range []string{"t/b.js", "t/a.js", "t/a.txt", FileName} {
		require.NoError(t, os.WriteFile(filepath.Join(string(dir), name), []byte("//"), 0o600))
	}
	cases, err := p.Cases(dir, s)
	require.NoError(t, err)
	assert.Equal(t, []suite.Case{{Name: "t/a.js", File: "t/a.js"}, {Name: "t/b.js", File: "t/b.js"}}, cases)
	raw, _, err := p.Pack(dir, s, nil)
	require.NoError(t, err)
	a, err := OpenBundle(bytes.NewReader(raw), nil)
	require.NoError(t, err)
	again, err := p.Cases(a, s)
	require.NoError(t, err)
	assert.Equal(t, cases, again)
	text, err := TextOf(bytes.NewReader(raw), "t/a.js")
	require.NoError(t, err)
	assert.Equal(t, "//", text)

	for src, says := range map[string]string{
		ok + "    scripts: [x]\n":                                    "a suite has scripts or a command, not both",
		ok + "    kind: script\n":                                    "it has what a command suite has, and says kind: script",
		ok + "    results: html\n":                                   `results: expected one of [junit tap exit], found "html"`,
		ok + "    limit: 3h\n":                                       "limit: expected a time from 1s to 2h0m0s",
		ok + "    env: {PANE_X: 1}\n":                                "not beginning with PANE_",
		ok + "    env: {a-b: 1}\n":                                   "is no name of a variable",
		"project: p\nsuites: {s: {command: x}}":                      "expected cases",
		"project: p\nsuites: {s: {cases: [x]}}":                      "expected command",
		"project: p\nsuites: {s: {command: x, cases: [x]}}":          "has to write JUnit XML to {results}",
		"project: p\nsuites: {s: {command: 'x {fiel}', cases: [x]}}": "{fiel} stands for nothing: one of attachments, base",
		"project: p\nsuites: {s: {command: x, cases: ['../x']}}":     "is not a glob within the project",
		"project: p\nsuites: {s: {kind: command, scripts: [x]}}":     "says kind: command",
	} {
		_, err := Parse(FileName, []byte(src))
		assert.ErrorContains(t, err, says, src)
	}
}
