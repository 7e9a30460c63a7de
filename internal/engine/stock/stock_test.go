package stock

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"parallelpane/internal/engine/find"
)

// machine is one of its own directory; a program is a file that says its version.
func machine(t *testing.T) find.Machine {
	return find.Machine{OS: "linux", Arch: "amd64", Root: "/nowhere", Own: []string{filepath.Join(t.TempDir(), "own")},
		Run: func(_ context.Context, path string, _ bool, _ ...string) (string, error) {
			raw, err := os.ReadFile(path)
			return string(raw), err
		}}
}

type entry struct {
	name, content string
	kind          byte // of tar; 0 is a file
	to            string
}

func tarOf(t testing.TB, entries ...entry) []byte {
	var b bytes.Buffer
	out := tar.NewWriter(&b)
	for _, e := range entries {
		h := &tar.Header{Name: e.name, Typeflag: e.kind, Linkname: e.to, Mode: 0o4755, Size: int64(len(e.content))}
		if e.kind == 0 {
			h.Typeflag = tar.TypeReg
		}
		require.NoError(t, out.WriteHeader(h))
		_, err := io.WriteString(out, e.content)
		require.NoError(t, err)
	}
	require.NoError(t, out.Close())
	return b.Bytes()
}

func gz(t testing.TB, raw []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write(raw)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func debOf(t testing.TB, entries ...entry) []byte {
	var packed, b bytes.Buffer
	x, err := xz.NewWriter(&packed)
	require.NoError(t, err)
	_, err = x.Write(tarOf(t, entries...))
	require.NoError(t, err)
	require.NoError(t, x.Close())
	b.WriteString("!<arch>\n")
	for _, m := range []struct {
		name    string
		content []byte
	}{{"debian-binary", []byte("2.0\n")}, {"control.tar.xz", []byte("odd")}, {"data.tar.xz", packed.Bytes()}} {
		fmt.Fprintf(&b, "%-16s%-12d%-6d%-6d%-8s%-10d`\n%s", m.name, 0, 0, 0, "100644", len(m.content), m.content)
		if len(m.content)%2 > 0 {
			b.WriteByte('\n')
		}
	}
	return b.Bytes()
}

func zipOf(t testing.TB, entries ...entry) []byte {
	var b bytes.Buffer
	out := zip.NewWriter(&b)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name}
		h.SetMode(0o755)
		if e.to != "" {
			h.SetMode(fs.ModeSymlink | 0o777)
			e.content = e.to
		}
		w, err := out.CreateHeader(h)
		require.NoError(t, err)
		_, err = io.WriteString(w, e.content)
		require.NoError(t, err)
	}
	require.NoError(t, out.Close())
	return b.Bytes()
}

func save(t testing.TB, name string, raw []byte) string {
	file := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(file, raw, 0o600))
	return file
}

const (
	says   = "Chromium 150.0.7871.100"
	drives = "ChromeDriver 150.0.7871.100"
)

func TestArchivesOfEveryForm(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "chrome-linux"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "chrome-linux/chrome"), []byte(says), 0o755))
	for name, archives := range map[string][]string{
		"packages that belong together": {
			save(t, "chromium.deb", debOf(t, entry{name: "./usr/lib/chromium/chromium", content: says},
				entry{name: "./usr/bin/chromium", content: "calls the system's"},
				entry{name: "./usr/lib/chromium/extra", kind: tar.TypeSymlink, to: "/usr/share/chromium/extra"})),
			save(t, "common.deb", debOf(t, entry{name: "./usr/lib/chromium/icudtl.dat", content: "x"})),
			save(t, "driver.deb", debOf(t, entry{name: "./usr/bin/chromedriver", content: drives}))},
		"tar": {save(t, "c.tar.gz", gz(t, tarOf(t, entry{name: "chrome-linux/chrome", content: says},
			entry{name: "chrome-linux/chromedriver", content: drives}, entry{name: "chrome-linux/again", kind: tar.TypeLink,
				to: "chrome-linux/chrome"})))},
		"zip": {save(t, "c.zip", zipOf(t, entry{name: "chrome-linux/chrome", content: says}, entry{name: "chrome-linux/l", to: "chrome"})),
			save(t, "d.zip", zipOf(t, entry{name: "chromedriver", content: drives}))},
		"directory": {dir},
	} {
		t.Run(name, func(t *testing.T) {
			m := machine(t)
			a, err := Add(t.Context(), m, "", archives...)
			require.NoError(t, err)
			assert.Equal(t, "chromium-150.0.7871.100", a.Folder)
			assert.Equal(t, "chromium", a.Browser.Name)
			assert.FileExists(t, a.Browser.Path)
			info, err := os.Stat(a.Browser.Path)
			require.NoError(t, err)
			assert.EqualValues(t, 0o755, info.Mode().Perm())
			assert.Zero(t, info.Mode()&fs.ModeSetuid)
			found := m.Look(t.Context())
			require.Len(t, found.Browsers, 1)
			assert.Equal(t, name != "directory", found.Browsers[0].Fits)
			_, err = Add(t.Context(), m, "", archives...)
			assert.ErrorContains(t, err, "is there already")
			all, err := Folders(t.Context(), m)
			require.NoError(t, err)
			require.Len(t, all, 1)
			require.NoError(t, Drop(m, a.Folder))
			assert.ErrorIs(t, Drop(m, a.Folder), fs.ErrNotExist)
			empty(t, m)
		})
	}
}

// empty says that nothing is left, half unpacked or otherwise.
func empty(t *testing.T, m find.Machine) {
	t.Helper()
	entries, err := os.ReadDir(m.Own[0])
	require.NoError(t, err)
	assert.Empty(t, entries)
}

// Archives are strangers: none writes anywhere else, and nothing stays of one that is bad.
func TestArchivesThatAreNone(t *testing.T) {
	chrome := entry{name: "chrome", content: says}
	tgz := func(entries ...entry) []byte { return gz(t, tarOf(t, append(entries, chrome)...)) }
	for name, c := range map[string]struct {
		raw  []byte
		want string
	}{
		"no archive":           {[]byte("<html>not found</html>"), "it is no archive"},
		"empty":                {nil, "it is no archive"},
		"cut off":              {tgz()[:60], "damaged"},
		"a package without":    {debOf(t)[:80], "it is"},
		"no browser":           {gz(t, tarOf(t, entry{name: "readme", content: "hello"})), "there is no browser and no driver for linux"},
		"another system's":     {zipOf(t, entry{name: "Chromium.app/Contents/MacOS/x", content: says}), "no browser and no driver"},
		"a browser that hangs": {gz(t, tarOf(t, entry{name: "chrome", content: "no number"})), "does not say its version"},
		"up":                   {tgz(entry{name: "../evil", content: "x"}), "leads out of it"},
		"up in a zip":          {zipOf(t, entry{name: `..\evil`, content: "x"}, chrome), "leads out of it"},
		"absolute":             {tgz(entry{name: "/tmp/pane-evil", content: "x"}), "leads out of it"},
		"link up":              {tgz(entry{name: "a/l", kind: tar.TypeSymlink, to: "../../x"}), "leads out of it"},
		"absolute link":        {tgz(entry{name: "l", kind: tar.TypeSymlink, to: "/etc"}), "leads out of it"},
		"link in a zip":        {zipOf(t, entry{name: "l", to: "/etc/passwd"}, chrome), "leads out of it"},
		"through a link": {tgz(entry{name: "l", kind: tar.TypeSymlink, to: "."}, entry{name: "l/x", content: "x"}),
			"something else lies there"},
		"hard link out":       {tgz(entry{name: "l", kind: tar.TypeLink, to: "../../etc/passwd"}), "leads out of it"},
		"hard link nowhere":   {tgz(entry{name: "l", kind: tar.TypeLink, to: "none"}), "not there"},
		"device":              {tgz(entry{name: "d", kind: tar.TypeChar}), "neither a file"},
		"pipe":                {tgz(entry{name: "d", kind: tar.TypeFifo}), "neither a file"},
		"too deep":            {tgz(entry{name: strings.Repeat("d/", 60) + "f", content: "x"}), "too deep"},
		"a file under a file": {tgz(entry{name: "f", content: "x"}, entry{name: "f/g", content: "x"}), "f/g"},
	} {
		t.Run(name, func(t *testing.T) {
			m := machine(t)
			_, err := Add(t.Context(), m, "", save(t, "x", c.raw))
			assert.ErrorContains(t, err, c.want)
			empty(t, m)
		})
	}
	assert.NoFileExists(t, "/tmp/pane-evil")
	u := unpacker{name: "many", files: maxFiles}
	assert.ErrorContains(t, u.dir("one more"), "more than 100000 files")
	m := machine(t)
	for _, name := range []string{"", ".", "..", "../x", "a/b", ".coming-1"} {
		assert.Error(t, Drop(m, name), name)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	_, err := Add(ended, m, "", save(t, "x", tgz()))
	assert.ErrorIs(t, err, context.Canceled)
	empty(t, m)
}

// A bomb is stopped by what it unpacks to, not by what it weighs.
func TestABombOfBrowsers(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	u := unpacker{root: root, name: "bomb.zip", bytes: maxUnpacked - 100}
	err = u.file("zeros", 0o644, bytes.NewReader(make([]byte, 1000)))
	assert.ErrorContains(t, err, "bomb.zip: it unpacks to more than")
}

// What was half unpacked when somebody was killed is no installation, and is removed.
func TestWhatWasHalfUnpacked(t *testing.T) {
	m := machine(t)
	require.NoError(t, os.MkdirAll(filepath.Join(m.Own[0], coming+"1"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(m.Own[0], coming+"1", "chrome"), []byte(says), 0o755))
	assert.Empty(t, m.Look(t.Context()).Browsers)
	require.NoError(t, Sweep(m))
	empty(t, m)
}

func FuzzAdd(f *testing.F) {
	f.Add(gz(f, tarOf(f, entry{name: "chrome", content: says})))
	f.Add(zipOf(f, entry{name: "chrome", content: says}, entry{name: "l", to: "chrome"}))
	f.Add(debOf(f, entry{name: "./usr/lib/chromium/chromium", content: says}))
	f.Fuzz(func(t *testing.T, raw []byte) {
		above := t.TempDir()
		m := find.Machine{OS: "linux", Arch: "amd64", Own: []string{filepath.Join(above, "own")},
			Run: func(context.Context, string, bool, ...string) (string, error) { return says, nil }}
		file := filepath.Join(t.TempDir(), "x")
		require.NoError(t, os.WriteFile(file, raw, 0o600))
		_, err := Add(t.Context(), m, "", file)
		left, readErr := os.ReadDir(above)
		require.NoError(t, readErr)
		require.Len(t, left, 1)
		entries, readErr := os.ReadDir(m.Own[0])
		require.NoError(t, readErr)
		if err != nil {
			assert.Empty(t, entries)
		} else {
			assert.Len(t, entries, 1)
		}
	})
}
