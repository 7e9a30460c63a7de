package find

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/fleet"
)

// tree is a machine made of files. A program's content is what it says of itself.
func tree(t *testing.T, goos string, files map[string]string) (m Machine, asked *atomic.Int32) {
	t.Helper()
	root := t.TempDir()
	for name, content := range files {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o755))
	}
	asked = &atomic.Int32{}
	return Machine{OS: goos, Arch: "amd64", Root: root, Home: "/home/tern", Local: "/users/tern/local",
		Programs: []string{"/programs", "/programs86"}, Path: []string{"/usr/local/bin", "/usr/bin"}, Own: []string{filepath.Join(root, "own")},
		Run: func(_ context.Context, path string, _ bool, _ ...string) (string, error) {
			asked.Add(1)
			raw, err := os.ReadFile(path)
			if strings.HasPrefix(string(raw), "hangs") {
				return "", errors.New("it did not answer within 10 s")
			}
			return string(raw), err
		}}, asked
}

// short says a line for each browser.
func short(m Machine, f Found) (out []string) {
	for _, b := range f.Browsers {
		line := b.Name + " " + b.Version
		for _, x := range []string{b.Channel, strings.TrimPrefix(b.Driver, m.Root), b.Problem} {
			if x != "" {
				line += " | " + x
			}
		}
		out = append(out, line)
	}
	return out
}

func TestWhatSystemsHave(t *testing.T) {
	plist := func(version string) string {
		return `<?xml version="1.0"?><plist version="1.0"><dict><key>CFBundleShortVersionString</key><string>` + version +
			`</string></dict></plist>`
	}
	for name, c := range map[string]struct {
		os    string
		files map[string]string
		want  []string
	}{
		"linux, of everything": {"linux", map[string]string{
			"usr/bin/chromium":                           "Chromium 156.0.8078.108",
			"usr/lib/chromium/chromium":                  "Chromium 156.0.8078.108",
			"usr/bin/chromedriver":                       "ChromeDriver 156.0.8078.108 (7304)",
			"opt/google/chrome/chrome":                   "Google Chrome 155.0.7900.10",
			"opt/google/chrome-beta/chrome":              "Google Chrome 156.0.8078.20 beta",
			"opt/microsoft/msedge/msedge":                "Microsoft Edge 155.0.3000.1",
			"usr/local/bin/msedgedriver":                 "Microsoft Edge WebDriver 155.0.3000.9 (x)",
			"usr/lib/x86_64-linux-gnu/opera/opera":       "140.0.5000.1",
			"usr/local/bin/operadriver":                  "OperaDriver 154.0.7800.1",
			"usr/lib/firefox-esr/firefox-esr":            "is not asked",
			"usr/lib/firefox-esr/application.ini":        "[App]\nVersion=153.7.0\nSourceRepository=https://x/mozilla-esr153\n",
			"opt/firefox-beta/firefox":                   "is not asked",
			"opt/firefox-beta/application.ini":           "[App]\nVersion=157.0b3\n",
			"usr/lib/x/webkit2gtk-4.1/MiniBrowser":       "WebKitGTK 2.50.6",
			"usr/bin/WebKitWebDriver":                    "",
			"usr/bin/Xvfb":                               "",
			"usr/lib/x86_64-linux-gnu/dri/swrast_dri.so": "",
			"usr/lib/x/wpe-webkit-1.1/MiniBrowser":       "WPE WebKit 2.38.6",
		}, []string{
			"chromium 156.0.8078.108 | /usr/bin/chromedriver",
			"chrome 155.0.7900.10 | stable | chromedriver 156.0.8078.108 does not fit chrome 155.0.7900.10",
			"chrome 156.0.8078.20 | beta | /usr/bin/chromedriver",
			"edge 155.0.3000.1 | stable | /usr/local/bin/msedgedriver",
			"opera 140.0.5000.1 | stable | /usr/local/bin/operadriver",
			"firefox 153.7.0 | esr | built in",
			"firefox 157.0 | beta | built in",
			"webkitgtk 2.50.6 | /usr/bin/WebKitWebDriver",
			"wpe 2.38.6 | no WPEWebDriver",
		}},
		"macOS, whose browsers are not asked": {"darwin", map[string]string{
			"Applications/Google Chrome.app/Contents/MacOS/Google Chrome":         "is not asked",
			"Applications/Google Chrome.app/Contents/Info.plist":                  plist("155.0.7900.10"),
			"usr/local/bin/chromedriver":                                          "ChromeDriver 155.0.7900.8",
			"Applications/Safari.app/Contents/MacOS/Safari":                       "is not asked",
			"Applications/Safari.app/Contents/Info.plist":                         plist("26.1"),
			"usr/bin/safaridriver":                                                "Included with Safari 26.1 (21621.1)",
			"Applications/Firefox Nightly.app/Contents/MacOS/firefox":             "is not asked",
			"Applications/Firefox Nightly.app/Contents/Resources/application.ini": "[App]\nVersion=158.0a1\n",
			"home/tern/Applications/Chromium.app/Contents/MacOS/Chromium":         "is not asked",
			"home/tern/Applications/Chromium.app/Contents/Info.plist":             plist("150.0.7871.100"),
		}, []string{
			"chromium 150.0.7871.100 | chromedriver 155.0.7900.8 does not fit chromium 150.0.7871.100",
			"chrome 155.0.7900.10 | stable | /usr/local/bin/chromedriver",
			"firefox 158.0 | nightly | built in",
			"safari 26.1 | stable | /usr/bin/safaridriver",
		}},
		"Windows, by folders that are called like versions": {"windows", map[string]string{
			"programs/Google/Chrome/Application/chrome.exe":              "is not asked",
			"programs/Google/Chrome/Application/155.0.7900.10/x.dll":     "",
			"programs/Google/Chrome/Application/154.0.1.1/x.dll":         "",
			"programs86/Microsoft/Edge/Application/msedge.exe":           "is not asked",
			"programs86/Microsoft/Edge/Application/155.0.3000.1/x.dll":   "",
			"users/tern/local/Google/Chrome SxS/Application/chrome.exe":  "is not asked",
			"users/tern/local/Google/Chrome SxS/Application/158.0.1.1/x": "",
			"usr/bin/chromedriver.exe":                                   "ChromeDriver 155.0.7900.8",
		}, []string{
			"chrome 155.0.7900.10 | stable | /usr/bin/chromedriver.exe",
			"chrome 158.0.1.1 | canary | chromedriver 155.0.7900.8 does not fit chrome 158.0.1.1",
			"edge 155.0.3000.1 | stable | no msedgedriver",
		}},
		"folders of its own, the nearest build beside the browser": {"linux", map[string]string{
			"own/chromium-150/usr/lib/chromium/chromium": "Chromium 150.0.7871.100",
			"own/chromium-150/usr/bin/chromium":          "a script that would start the system's",
			"own/chromium-150/usr/bin/chromedriver":      "ChromeDriver 150.0.7871.100",
			"own/driver/chromedriver":                    "ChromeDriver 150.0.7871.3",
			"own/.coming/chrome":                         "Google Chrome 1.0.0.0",
			"own/again/chrome-linux/chrome":              "Chromium 156.0.8078.108",
			"usr/bin/chromium":                           "Chromium 156.0.8078.108",
			"usr/bin/chromedriver":                       "ChromeDriver 156.0.8078.108",
		}, []string{
			"chromium 156.0.8078.108 | /usr/bin/chromedriver",
			"chromium 150.0.7871.100 | /own/chromium-150/usr/bin/chromedriver",
		}},
		"what does not answer": {"linux", map[string]string{
			"usr/bin/chromium":     "hangs",
			"usr/bin/chromedriver": "ChromeDriver 156.0.8078.108",
		}, []string{"chromium  | it does not say its version: it did not answer within 10 s"}},
	} {
		t.Run(name, func(t *testing.T) {
			m, _ := tree(t, c.os, c.files)
			assert.Equal(t, c.want, short(m, m.Look(t.Context())))
		})
	}
}

func TestADriverThatServesNothing(t *testing.T) {
	m, _ := tree(t, "linux", map[string]string{"usr/bin/chromium": "Chromium 156.0.8078.108",
		"usr/bin/chromedriver": "ChromeDriver 150.0.7871.1"})
	f := m.Look(t.Context())
	require.Len(t, f.Drivers, 1)
	assert.Equal(t, "chromedriver 150.0.7871.1 does not fit chromium 156.0.8078.108", f.Drivers[0].Problem)
	assert.Contains(t, f.Drivers[0].Remedy, "version 150")
	assert.Equal(t, "apt-get install chromium-driver", f.Browsers[0].Remedy)
}

// What was read is known until the file changes; what could not be read is asked anew.
func TestAnInstallationIsReadOnce(t *testing.T) {
	m, asked := tree(t, "linux", map[string]string{"usr/bin/chromium": "Chromium 156.0.8078.108",
		"usr/lib/chromium/chromium": "Chromium 156.0.8078.108",
		"usr/bin/chromedriver":      "ChromeDriver 156.0.8078.108", "opt/google/chrome/chrome": "hangs"})
	m.Cache = filepath.Join(t.TempDir(), "browsers.json")
	first := m.Look(t.Context())
	n := asked.Load()
	assert.EqualValues(t, 4, n)
	assert.Equal(t, first, m.Look(t.Context()))
	assert.EqualValues(t, n+1, asked.Load(), "only what could not be read")
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.WriteFile(m.Root+"/usr/bin/chromium", []byte("Chromium 157.0.1.1"), 0o755))
	require.NoError(t, os.WriteFile(m.Root+"/usr/lib/chromium/chromium", []byte("Chromium 157.0.1.1"), 0o755))
	require.NoError(t, os.Chtimes(m.Root+"/usr/lib/chromium/chromium", later, later))
	assert.Equal(t, "157.0.1.1", m.Look(t.Context()).Browsers[0].Version)
	require.NoError(t, os.WriteFile(m.Cache, []byte("{broken"), 0o600))
	assert.Len(t, m.Look(t.Context()).Browsers, 2)
}

func TestSettings(t *testing.T) {
	read := func(text string) (Settings, error) {
		file := filepath.Join(t.TempDir(), "agent.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		s, err := ReadSettings(file)
		for i := range s.Browsers {
			s.Browsers[i].Path = strings.TrimPrefix(s.Browsers[i].Path, filepath.Dir(file)+"/")
		}
		return s, err
	}
	s, err := read("browsers:\n  - path: kestrel/kestrel\n    name: kestrel\n    base: 150.0.1\n    channel: beta\nstock: false\n")
	require.NoError(t, err)
	assert.Equal(t, []Installation{{Path: "kestrel/kestrel", Name: "kestrel", Base: "150.0.1", Channel: "beta"}}, s.Browsers)
	assert.False(t, *s.Stock)
	_, err = read("")
	require.NoError(t, err)
	for text, want := range map[string]string{
		"browsers:\n  - name: x\n":                        "agent.yaml:2: path: expected",
		"browsers:\n  - path: /a\n  - path: /a\n":         "agent.yaml:3: /a stands in line 2 already",
		"browsers:\n  - path: /a\n    channel: monthly\n": `channel: "monthly" is none of`,
		"browsers:\n  - path: /a\n    name: a b\n":        "is no name",
		"browsers:\n  - path: /a\n    base: new\n":        "base: expected",
		"browser:\n  - path: /a\n":                        "line 1: field browser not found",
		"browsers: [":                                     "agent.yaml: yaml",
	} {
		_, err := read(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// A browser that only the settings know is made from Chromium, in the version they say.
func TestABrowserThatIsNamed(t *testing.T) {
	m, _ := tree(t, "linux", map[string]string{"srv/kestrel": "Kestrel 7.1.0", "usr/bin/chromedriver": "ChromeDriver 150.0.7871.1",
		"srv/chromedriver-special": "ChromeDriver 150.0.7871.2", "usr/bin/chromium": "Chromium 150.0.7871.9", "srv/gone": ""})
	m.Settings = Settings{Browsers: []Installation{{Path: m.Root + "/srv/kestrel", Name: "kestrel", Base: "150.0.7871.1", Channel: "beta"},
		{Path: m.Root + "/usr/bin/chromium", Driver: m.Root + "/srv/chromedriver-special"}, {Path: m.Root + "/srv/none", Name: "osprey"}},
	}
	f := m.Look(t.Context())
	got := short(m, f)
	require.Len(t, got, 3)
	require.Len(t, f.Drivers, 2, "the one that is named with its browser need not be named again")
	assert.Equal(t, "chromium 150.0.7871.9 | /srv/chromedriver-special", got[0])
	assert.Contains(t, got, "kestrel 7.1.0 | beta | /usr/bin/chromedriver")
	assert.Contains(t, strings.Join(got, "\n"), "osprey  | it does not say its version")
	assert.Equal(t, fleet.Named, f.Browsers[0].From)
}
