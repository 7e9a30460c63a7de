package gecko

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/webdriver"
)

type entry struct {
	name, body string
	mode       fs.FileMode
}

// packed is a profile as a session brings it along.
func packed(t *testing.T, entries ...entry) string {
	t.Helper()
	var buf bytes.Buffer
	w := zip.NewWriter(&buf)
	for _, e := range entries {
		h := &zip.FileHeader{Name: e.name, Method: zip.Deflate}
		h.SetMode(e.mode | 0o600)
		f, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = f.Write([]byte(e.body))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return base64.StdEncoding.EncodeToString(buf.Bytes())
}

// claiming is a profile with a file that says how large it is.
func claiming(t *testing.T, size uint64) string {
	t.Helper()
	var buf bytes.Buffer
	w := zip.NewWriter(&buf)
	f, err := w.CreateRaw(&zip.FileHeader{Name: "big", UncompressedSize64: size, CompressedSize64: 3, CRC32: 1})
	require.NoError(t, err)
	_, err = f.Write([]byte("abc"))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return base64.StdEncoding.EncodeToString(buf.Bytes())
}

func bringing(profile any) webdriver.Capabilities {
	return webdriver.Capabilities{vendor.Key: map[string]any{"profile": profile}}
}

func TestProfilesThatAreRefused(t *testing.T) {
	good := packed(t, entry{name: "user.js", body: strings.Repeat("tide ", 100)})
	raw, _ := base64.StdEncoding.DecodeString(good)
	cut := base64.StdEncoding.EncodeToString(raw[:len(raw)/2])
	for says, profile := range map[string]any{
		"expected a ZIP archive in base64": 7, "expected a ZIP archive in base64: illegal": "%%", "not a ZIP archive": cut,
		`"../user.js" leads out of it`:  packed(t, entry{name: "../user.js"}),
		`"/etc/passwd" leads out of it`: packed(t, entry{name: "/etc/passwd"}),
		`"a/../../b" leads out of it`:   packed(t, entry{name: "a/../../b"}),
		`"..\\b" leads out of it`:       packed(t, entry{name: `..\b`}),
		`"link" is neither a file nor`:  packed(t, entry{name: "link", body: "/etc", mode: fs.ModeSymlink}),
		"larger than 256 MiB":           claiming(t, maxProfileBytes+1),
	} {
		_, err := askedOf(bringing(profile), nil)
		var refused *engine.Refused
		require.ErrorAs(t, err, &refused, says)
		assert.ErrorContains(t, err, "moz:firefoxOptions: profile: ")
		assert.ErrorContains(t, err, says)
	}
}

func TestAProfileIsUnpackedWithoutWhatIsTheAgents(t *testing.T) {
	a, err := askedOf(bringing(packed(t, entry{name: "extensions/", mode: fs.ModeDir}, entry{name: "extensions/tide@desk.xpi", body: "x"},
		entry{name: "deep/er/file", body: "y"},
		entry{name: "MarionetteActivePort", body: "1"}, entry{name: "handlers.json", body: "{}"}, entry{name: "./pkcs11.txt",
			body: "library=/tmp/x.so"}, entry{name: "PKCS11.TXT", body: "x"})), nil)
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, unpack(a.profile, dir))
	var all []string
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if !d.IsDir() {
			rel, _ := filepath.Rel(dir, path)
			all = append(all, filepath.ToSlash(rel))
		}
		return err
	}))
	assert.Equal(t, []string{"deep/er/file", "extensions/tide@desk.xpi"}, all)
}

func TestAProfileThatIsNotWhatItClaims(t *testing.T) {
	a, err := askedOf(bringing(claiming(t, 3)), nil)
	require.NoError(t, err)
	var refused *engine.Refused
	require.ErrorAs(t, unpack(a.profile, t.TempDir()), &refused, "its checksum is wrong")
}

func TestTheLastPreferenceCounts(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "user.js"), []byte("// theirs\nuser_pref(\"dom.a\", 1);\n user_pref(\"dom.b\", "+
		"\"x\");\r\nuser_pref(\"marionette.port\", 9);\nuser_pref(\"logging.x\", 5);\nuser_pref(\"sail\", 5);\nnonsense(\n/* swallows\n"), 0o600))
	require.NoError(t, writePrefs(dir, map[string]any{"b": "y", "c": true}, "/home/pane/Downloads", "", engine.Names{"sail"}))
	raw, err := os.ReadFile(filepath.Join(dir, "user.js"))
	require.NoError(t, err)
	_, after, found := strings.Cut(string(raw), `user_pref("dom.a", 1);`)
	require.True(t, found)
	assert.Equal(t, "\nuser_pref(\"dom.b\", \"x\");\nuser_pref(\"sail\", 5);\nuser_pref(\"b\", \"y\");\nuser_pref(\"c\", "+
		"true);\nuser_pref(\"browser.download.dir\", \"/home/pane/Downloads\");\nuser_pref(\"browser.download.folderList\", 2);\n"+
		"user_pref(\"browser.download.useDownloadDir\", true);\nuser_pref(\"marionette.port\", 0);\n", after)
	assert.NotContains(t, string(raw), "swallows")
}

func TestARealBrowserTakesTheProfile(t *testing.T) {
	b := conformance.Browser(t, Family{})
	d, err := device.Find("")
	require.NoError(t, err)
	inst, err := Family{}.Launch(t.Context(), engine.Options{Browser: b, Device: d, Dir: t.TempDir(),
		Asked: bringing(packed(t, entry{name: "user.js", body: `user_pref("general.useragent.override", "Tern/1");` + "\n"},
			entry{name: "MarionetteActivePort", body: "1"}))})
	require.NoError(t, err)
	defer inst.Close()
	s, err := webdriver.NewClient(inst.URL, nil).New(t.Context(), inst.Caps)
	require.NoError(t, err)
	var agent string
	require.NoError(t, s.Execute(t.Context(), "return navigator.userAgent", &agent))
	assert.Equal(t, "Tern/1", agent)
	require.NoError(t, s.Close(t.Context()))
}
