package remote

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAddressesThatSessionsMayGoTo(t *testing.T) {
	for address, fine := range map[string]bool{
		"http://x/": true, "HTTPS://x": true, "data:text/html,x": true, "about:blank": true, "about:blank#x": true, "about:blank?x": true,
		"ABOUT:blank": true, "": true, "/x": true, "x": true, " http://x": true,
		"file:///etc/hosts": false, "FILE:///etc": false, " file:///etc": false, "fi\tle:///etc": false, "\x01file:///etc": false,
		"f\nile:///etc": false, "chrome://version": false, "about:config": false, "about:blankety": false, "view-source:http://x": false,
		"javascript:1": false, "ftp://x": false, "resource://gre": false, "blob:http://x/1": false, "jar:file:///x": false,
		"moz-extension://x": false, "devtools://x": false,
	} {
		assert.Equal(t, fine, Address(address) == "", address)
		body, _ := json.Marshal(map[string]string{"url": address})
		assert.Equal(t, fine, Command("POST", "/url", body) == "", address)
		bidi, _ := json.Marshal(map[string]any{"id": 1, "method": "browsingContext.navigate",
			"params": map[string]any{"context": "c", "url": address}})
		assert.Equal(t, fine, BiDi(bidi) == "", address)
		cdp, _ := json.Marshal(map[string]any{"cmd": "Page.navigate", "params": map[string]string{"url": address}})
		assert.Equal(t, fine, Command("POST", "/goog/cdp/execute", cdp) == "", address)
	}
}

func TestCommandsThatReachBeyondPages(t *testing.T) {
	for command, says := range map[string]string{
		"Runtime.evaluate": "", "Network.setExtraHTTPHeaders": "", "Browser.getVersion": "", "Target.createTarget": "",
		"Browser.setDownloadBehavior": "acts on more than pages", "Tethering.bind": "acts on more than pages", "Tracing.start": "more than pages",
		"Extensions.loadUnpacked": "more than pages", "Target.attachToBrowserTarget": "more than pages", "Browser.close": "more than pages",
		"SystemInfo.getInfo": "more than pages", "Page.setDownloadBehavior": "session's own directory", "": "more than pages",
		"PageX.navigate": "more than pages",
	} {
		body, _ := json.Marshal(map[string]any{"cmd": command, "params": map[string]any{}})
		bidi, _ := json.Marshal(map[string]any{"id": 1, "method": "goog:cdp.sendCommand", "params": map[string]any{"method": command}})
		for _, got := range []string{Command("POST", "/goog/cdp/execute", body),
			Command("POST", "/chromium/send_command_and_get_result?x", body), BiDi(bidi)} {
			if says == "" {
				assert.Empty(t, got, command)
			} else {
				assert.Contains(t, got, says, command)
			}
		}
	}
	for message, says := range map[string]string{
		`{"method":"browser.createUserContext","params":{}}`:                                  "",
		`{"method":"browser.createUserContext","params":{"proxy":{"proxyType":"direct"}}}`:    "one way out",
		`{"method":"browser.setDownloadBehavior","params":{"downloadBehavior":null}}`:         "own directory",
		`{"method":"webExtension.install","params":{"extensionData":{"type":"path"}}}`:        "in base64",
		`{"method":"webExtension.install","params":{"extensionData":{"type":"base64"}}}`:      "",
		`{"method":"browsingContext.navigate","params":{"url":"file:///"},"method":"x.y"}`:    `"method" is there twice`,
		`{"method":"browsingContext.navigate","params":{"url":"file:///","URL":"http://x/"}}`: "a session goes to",
		`{"method":"browsingContext.navigate","params":{"url":"file:///","url":"http://x/"}}`: `"url" is there twice`,
		`nonsense`: "",
	} {
		got := BiDi([]byte(message))
		assert.Equal(t, says == "", got == "", message)
		assert.True(t, strings.Contains(got, says), got)
	}
}

func TestReadersThatDiffer(t *testing.T) {
	for body, says := range map[string]string{
		`{"url":"file:///","URL":"http://x/"}`: "a session goes to", `{"url":"file:///","url":"http://x/"}`: "twice",
		`{"url":"http://x/","url":"file:///"}`: "twice",
		`{"\u0075rl":"file:///"}`:              "a session goes to", `{"URL":"file:///","url":"http://x/"}`: "",
	} {
		got := Command("POST", "/url", []byte(body))
		assert.Equal(t, says == "", got == "", body)
		assert.Contains(t, got, says)
	}
}

func FuzzGuard(f *testing.F) {
	f.Add("/url", []byte(`{"url":"file:///"}`))
	f.Add("/goog/cdp/execute", []byte(`{"cmd":"Page.navigate","params":{"url":"x"}}`))
	f.Fuzz(func(_ *testing.T, path string, body []byte) {
		Command("POST", path, body)
		BiDi(body)
	})
}
