package agent_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/bidi"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/box"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/engine/gecko"
	"parallelpane/internal/engine/webkit"
)

// listeners are the sockets of this machine's network on which this process, or one
// that it has started, listens: by inode, with address and port in hexadecimal.
func listeners(t *testing.T) map[string]string {
	t.Helper()
	all, ours := map[string]string{}, map[string]string{}
	for _, file := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		for line := range strings.Lines(string(raw)) {
			if f := strings.Fields(line); len(f) > 9 && f[3] == "0A" {
				all["socket:["+f[9]+"]"] = f[1]
			}
		}
	}
	parents := map[string]string{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range stats {
		raw, _ := os.ReadFile(file)
		if _, rest, ok := strings.Cut(string(raw), ") "); ok {
			parents[filepath.Base(filepath.Dir(file))] = strings.Fields(rest)[1]
		}
	}
	for pid := range parents {
		for p := pid; p != ""; p = parents[p] {
			if p != strconv.Itoa(os.Getpid()) {
				continue
			}
			fds, _ := filepath.Glob("/proc/" + pid + "/fd/*")
			for _, fd := range fds {
				if to, _ := os.Readlink(fd); all[to] != "" {
					ours[to] = all[to]
				}
			}
			break
		}
	}
	return ours
}

// A runner that nobody knows gets a browser and nothing else: no file of the
// machine, no port of a driver, not the service behind its back, not what tells
// machines their keys.
func TestAttacksOfARunner(t *testing.T) {
	if _, err := box.Find(); err != nil && os.Getenv("PANE_REQUIRE_ENGINES") == "" {
		t.Skip(err)
	}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<!doctype html><title>Quay</title>")
	}))
	t.Cleanup(site.Close)
	for name, f := range map[string]engine.Family{"chromium": chromium.Family{}, "firefox": gecko.Family{}, "webkitgtk": webkit.Family{}} {
		t.Run(name, func(t *testing.T) {
			conformance.Browser(t, f)
			o := opened(t, t.TempDir(), "127.0.0.1:0")
			o.work(f, "quay", 2)
			r, other := o.runner("tern", api.Runner), o.runner("gull", api.Runner)
			with := ""
			if name != "webkitgtk" {
				with = `,"webSocketUrl":true`
			}
			before := listeners(t)
			var ids, streams []string
			for _, who := range []*runner{r, other} {
				a := who.do("POST", "/session", `{"capabilities":{"alwaysMatch":{"browserName":"`+name+`"`+with+`}}}`)
				require.Equal(t, 200, a.status, "%s", a.value)
				var v struct {
					SessionID    string
					Capabilities struct{ WebSocketURL string }
				}
				require.NoError(t, json.Unmarshal(a.value, &v))
				ids, streams = append(ids, v.SessionID), append(streams, v.Capabilities.WebSocketURL)
			}
			for socket, at := range listeners(t) {
				assert.Contains(t, before, socket, "%s can be found by any page of the machine", at)
			}
			at := "/session/" + ids[0]
			require.Equal(t, 200, r.do("POST", at+"/url", `{"url":"`+site.URL+`"}`).status)

			for _, address := range []string{"file:///etc/passwd", " fi\\tle:///etc/passwd", "FILE:///etc/passwd", "chrome://version",
				"about:config", "view-source:file:///etc/passwd", "javascript:alert(1)"} {
				a := r.do("POST", at+"/url", `{"url":"`+address+`"}`)
				assert.Equal(t, 400, a.status, "%s: %s", address, a.value)
				assert.Contains(t, string(a.value), "invalid argument")
			}
			fetched := func(address string) string {
				a := r.do("POST", at+"/execute/async", `{"script":"const d = arguments[1]; fetch(arguments[0], {mode: 'no-cors'})`+
					`.then(() => d('reached'), () => d('refused'))","args":["`+address+`"]}`)
				var said string
				require.NoError(t, json.Unmarshal(a.value, &said), "%s", a.value)
				return said
			}
			assert.Equal(t, "reached", fetched(site.URL+"/x"))
			_, port, _ := strings.Cut(o.address, ":")
			for _, address := range []string{"http://" + o.address + "/healthz", "http://localhost:" + port + "/", "http://0.0.0.0:" + port + "/",
				"http://[::1]:" + port + "/", "http://169.254.169.254/latest/meta-data", "http://[fd00:ec2::254]/latest"} {
				assert.Equal(t, "refused", fetched(address), address)
			}
			if name == "chromium" {
				for _, command := range []string{"Browser.setDownloadBehavior", "Tethering.bind", "Extensions.loadUnpacked", "Tracing.start",
					"Target.attachToBrowserTarget"} {
					a := r.do("POST", at+"/goog/cdp/execute", `{"cmd":"`+command+`","params":{}}`)
					assert.Equal(t, 400, a.status, "%s: %s", command, a.value)
				}
				a := r.do("POST", at+"/goog/cdp/execute", `{"cmd":"Page.navigate","params":{"url":"file:///etc/passwd"}}`)
				assert.Equal(t, 400, a.status, "%s", a.value)
			}
			if with != "" {
				c, err := bidi.Dial(t.Context(), streams[0], nil)
				require.NoError(t, err)
				defer c.Close()
				contexts, err := c.TopContexts(t.Context())
				require.NoError(t, err)
				err = c.Send(t.Context(), "browsingContext.navigate", map[string]any{"context": contexts[0], "url": "file:///etc/passwd"}, nil)
				assert.ErrorContains(t, err, "a session goes to http, https, data and about:blank")
				err = c.Send(t.Context(), "browser.createUserContext", map[string]any{"proxy": map[string]any{"proxyType": "direct"}}, nil)
				assert.ErrorContains(t, err, "one way out")
				_, err = c.TopContexts(t.Context())
				assert.NoError(t, err, "what is refused ends nothing")
			}
			// Somebody else's session is not there for a runner that did not open it.
			for _, id := range ids {
				r.do("DELETE", "/session/"+id, "")
				other.do("DELETE", "/session/"+id, "")
			}
		})
	}
}

// What a session asks of a browser's command line, preferences and profile is an
// allow-list, and each refusal says why.
func TestWhatARunnerMayNotAskFor(t *testing.T) {
	for name, c := range map[string]struct {
		family engine.Family
		asks   map[string]string // what is asked for, and what the refusal says
	}{
		"chromium": {chromium.Family{}, map[string]string{
			`"goog:chromeOptions":{"args":["--js-flags=--allow-natives-syntax"]}`:             "open what the browser's own sandbox",
			`"goog:chromeOptions":{"args":["--renderer-cmd-prefix=sh -c id"]}`:                "not on the list",
			`"goog:chromeOptions":{"minidumpPath":"/tmp"}`:                                    "it writes to a path",
			`"goog:chromeOptions":{"prefs":{"download":{"default_directory":"/etc/cron.d"}}}`: "session's own directory",
			`"goog:chromeOptions":{"perfLoggingPrefs":{"traceCategories":"*"}}`:               "without end",
			`"goog:chromeOptions":{"binary":"/bin/sh"}`:                                       "the agent chooses the browser",
			`"proxy":{"proxyType":"pac","proxyAutoconfigUrl":"http://127.0.0.1/x.pac"}`:       "runs no script to find a proxy",
		}},
		"firefox": {gecko.Family{}, map[string]string{
			`"moz:firefoxOptions":{"args":["-MOZ_LOG_FILE","-x"]}`:                  "it",
			`"moz:firefoxOptions":{"env":{"MOZ_LOG_FILE":"/tmp/x"}}`:                "load programs",
			`"moz:firefoxOptions":{"prefs":{"browser.download.dir":"/etc/cron.d"}}`: "session's own directory",
			`"moz:firefoxOptions":{"prefs":{"security.sandbox.content.level":0}}`:   "not on the list",
			`"moz:firefoxOptions":{"prefs":{"network.proxy.type":0}}`:               "by the capability proxy",
		}},
		"webkitgtk": {webkit.Family{}, map[string]string{
			`"webkitgtk:browserOptions":{"args":["--gtk-module=/tmp/x.so"]}`: "it loads a program",
			`"webkitgtk:browserOptions":{"args":["--display=:0"]}`:           "a display of its own",
			`"webkitgtk:browserOptions":{"binary":"/bin/sh"}`:                "the agent chooses the browser",
		}},
	} {
		t.Run(name, func(t *testing.T) {
			conformance.Browser(t, c.family)
			o := opened(t, t.TempDir(), "127.0.0.1:0")
			o.work(c.family, "quay", 1)
			r := o.runner("tern", api.Runner)
			for asks, says := range c.asks {
				a := r.do("POST", "/session", `{"capabilities":{"alwaysMatch":{"browserName":"`+name+`",`+asks+`}}}`)
				assert.Equal(t, 400, a.status, "%s: %s", asks, a.value)
				assert.Contains(t, string(a.value), says, asks)
			}
		})
	}
}
