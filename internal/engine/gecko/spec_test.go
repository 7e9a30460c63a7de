package gecko

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/webdriver"
)

const elementKey = webdriver.WebElementIdentifier
const timeLimit, tick = 5 * time.Second, 10 * time.Millisecond

const shadowKey = "shadow-6066-11e4-a52e-4f735466cecf"

// quay has something for every section of the standard.
const quay = `<!doctype html><html lang=en><title>Quay</title><body style="margin:0">
<h1 id=h style="color:rgb(1,2,3)">Quay</h1><a id=link href="/tides">Tides today</a><a id=half href="#x">Tides</a>
<form id=f><label for=boat>Boat</label><input id=boat name=boat value=old data-berth=A1><input id=off disabled value=x>
<input id=power type=checkbox checked>
<input id=file type=file><select id=berth><option value=a selected>A<option value=b disabled>B</select><textarea id=note></textarea>
<input id=ro readonly value=r></form>
<p id=hidden style="display:none">unseen</p><div id=host></div><div id=cover style="position:relative;width:100px;height:20px">
<button id=under>Under</button><div style="position:absolute;inset:0"></div></div>
<iframe id=frame name=pier srcdoc="<title>In</title><p id=in>Inside</p><iframe id=deep srcdoc='<p id=deepest>Deep</p>'></iframe>"></iframe>
<script>document.getElementById("host").attachShadow({mode: "open"}).innerHTML = "<span id=s>Shade</span>"</script>`

// remoteEndOf is a session on the real browser, spoken to in raw commands.
type spoken struct {
	t    *testing.T
	base string
	site string
}

func (s spoken) ask(method, path, body string) (int, string, json.RawMessage) {
	s.t.Helper()
	status, raw := ask(s.t, method, s.base+path, body)
	var v struct{ Value json.RawMessage }
	require.NoError(s.t, json.Unmarshal([]byte(raw), &v), "%s %s: %s", method, path, raw)
	var e webdriver.Error
	if status != http.StatusOK {
		require.NoError(s.t, json.Unmarshal(v.Value, &e), "%s", raw)
		var fields map[string]json.RawMessage
		require.NoError(s.t, json.Unmarshal(v.Value, &fields))
		assert.Contains(s.t, fields, "message", "section 6.6: an error has a message")
		assert.Contains(s.t, fields, "stacktrace", "and a stacktrace")
	}
	return status, e.Code, v.Value
}

// good sends a command that works and decodes its value.
func (s spoken) good(method, path, body string, into any) {
	s.t.Helper()
	status, code, value := s.ask(method, path, body)
	require.Equal(s.t, 200, status, "%s %s %s: %s %s", method, path, body, code, value)
	if into != nil {
		require.NoError(s.t, json.Unmarshal(value, into), "%s", value)
	}
}

// is sends a command whose value is known.
func (s spoken) is(want, method, path, body string) {
	s.t.Helper()
	status, code, value := s.ask(method, path, body)
	if assert.Equal(s.t, 200, status, "%s %s %s: %s %s", method, path, body, code, value) {
		assert.JSONEq(s.t, want, string(value), "%s %s %s", method, path, body)
	}
}

// bad sends a command that fails with a code.
func (s spoken) bad(code, method, path, body string) {
	s.t.Helper()
	status, got, value := s.ask(method, path, body)
	assert.Equal(s.t, code, got, "%s %s %s: %s", method, path, body, value)
	assert.Equal(s.t, webdriver.Errorf(code, "").Status(), status, "%s %s %s", method, path, body)
}

func (s spoken) find(css string) string {
	s.t.Helper()
	var e map[string]string
	s.good("POST", "/element", `{"using":"css selector","value":"`+css+`"}`, &e)
	require.Contains(s.t, e, elementKey)
	return e[elementKey]
}

func real(t *testing.T) spoken {
	t.Helper()
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if r.URL.Path == "/tides" {
			_, _ = w.Write([]byte("<title>Tides</title><p>High</p>"))
			return
		}
		_, _ = w.Write([]byte(quay))
	}))
	t.Cleanup(site.Close)
	b := conformance.Browser(t, Family{})
	d, err := device.Find("")
	require.NoError(t, err)
	inst, err := Family{}.Launch(t.Context(), engine.Options{Browser: b, Device: d, Dir: t.TempDir(), Asked: webdriver.Capabilities{}})
	require.NoError(t, err)
	t.Cleanup(inst.Close)
	client, err := webdriver.NewClient(inst.URL, nil).New(t.Context(), inst.Caps)
	require.NoError(t, err)
	s := spoken{t, inst.URL + "/session/" + client.ID, site.URL}
	for _, name := range []string{"acceptInsecureCerts", "browserName", "browserVersion", "platformName", "pageLoadStrategy", "proxy",
		"setWindowRect", "strictFileInteractability", "timeouts", "unhandledPromptBehavior", "userAgent"} {
		assert.Contains(t, client.Capabilities, name, "section 7.2: a new session says it")
	}
	return s
}

// The whole command table, section by section of W3C WebDriver, on the real
// browser.
func TestTheStandardSectionBySection(t *testing.T) {
	s := real(t)
	at := func(t *testing.T) spoken {
		s := s
		s.t = t
		s.good("POST", "/url", `{"url":"`+s.site+`/"}`, nil)
		return s
	}

	t.Run("9 timeouts", func(t *testing.T) {
		s := at(t)
		s.is(`{"script":30000,"pageLoad":300000,"implicit":0}`, "GET", "/timeouts", "")
		s.is(`null`, "POST", "/timeouts", `{"script":null,"implicit":1}`)
		s.is(`{"script":null,"pageLoad":300000,"implicit":1}`, "GET", "/timeouts", "")
		for _, body := range []string{`{"implicit":-1}`, `{"implicit":"1"}`, `{"pageLoad":1.5}`, `{"script":9007199254740992}`, `[]`, `null`,
			``, `{`} {
			s.bad("invalid argument", "POST", "/timeouts", body)
		}
		s.is(`null`, "POST", "/timeouts", `{"script":30000,"implicit":0,"pageLoad":300000}`)
	})
	t.Run("10 navigation", func(t *testing.T) {
		s := at(t)
		s.is(`"`+s.site+`/"`, "GET", "/url", "")
		s.is(`"Quay"`, "GET", "/title", "")
		for _, body := range []string{`{}`, `{"url":7}`, `{"url":null}`, `{"url":"no address"}`, `{"url":"/relative"}`} {
			s.bad("invalid argument", "POST", "/url", body)
		}
		s.good("POST", "/url", `{"url":"`+s.site+`/tides"}`, nil)
		s.is(`null`, "POST", "/back", `{}`)
		s.is(`"Quay"`, "GET", "/title", "")
		s.is(`null`, "POST", "/forward", `{}`)
		s.is(`"Tides"`, "GET", "/title", "")
		s.is(`null`, "POST", "/refresh", `{}`)
		s.bad("timeout", "POST", "/url", func() string {
			s.good("POST", "/timeouts", `{"pageLoad":0}`, nil)
			return `{"url":"` + s.site + `/"}`
		}())
		s.good("POST", "/timeouts", `{"pageLoad":300000}`, nil)
		s.bad("unknown error", "POST", "/url", `{"url":"http://127.0.0.1:1/"}`)
	})
	t.Run("11 contexts", func(t *testing.T) {
		s := at(t)
		var home string
		s.good("GET", "/window", "", &home)
		s.is(`["`+home+`"]`, "GET", "/window/handles", "")
		var made struct{ Handle, Type string }
		s.good("POST", "/window/new", `{"type":"window"}`, &made)
		assert.Equal(t, "window", made.Type)
		s.good("POST", "/window", `{"handle":"`+made.Handle+`"}`, nil)
		s.is(`"about:blank"`, "GET", "/url", "")
		s.is(`["`+home+`"]`, "DELETE", "/window", "")
		s.bad("no such window", "GET", "/title", "")
		s.bad("no such window", "POST", "/window", `{"handle":"`+made.Handle+`"}`)
		for _, body := range []string{`{}`, `{"handle":7}`, `{"handle":null}`} {
			s.bad("invalid argument", "POST", "/window", body)
		}
		s.good("POST", "/window", `{"handle":"`+home+`"}`, nil)
		s.bad("invalid argument", "POST", "/window/new", `{"type":7}`)
		s.good("POST", "/window/new", `{}`, &made)
		s.good("POST", "/window", `{"handle":"`+made.Handle+`"}`, nil)
		s.good("DELETE", "/window", "", nil)
		s.good("POST", "/window", `{"handle":"`+home+`"}`, nil)

		s.is(`null`, "POST", "/frame", `{"id":0}`)
		s.good("POST", "/element", `{"using":"css selector","value":"#in"}`, nil)
		s.is(`null`, "POST", "/frame", `{"id":0}`)
		s.good("POST", "/element", `{"using":"css selector","value":"#deepest"}`, nil)
		s.is(`null`, "POST", "/frame/parent", `{}`)
		s.good("POST", "/element", `{"using":"css selector","value":"#in"}`, nil)
		s.is(`null`, "POST", "/frame", `{"id":null}`)
		frame := s.find("#frame")
		s.is(`null`, "POST", "/frame", `{"id":{"`+elementKey+`":"`+frame+`"}}`)
		s.good("POST", "/element", `{"using":"css selector","value":"#in"}`, nil)
		s.is(`null`, "POST", "/frame", `{"id":null}`)
		s.bad("no such frame", "POST", "/frame", `{"id":99}`)
		s.bad("no such frame", "POST", "/frame", `{"id":{"`+elementKey+`":"`+s.find("#h")+`"}}`)
		s.bad("no such element", "POST", "/frame", `{"id":{"`+elementKey+`":"none"}}`)
		for _, body := range []string{`{}`, `{"id":"pier"}`, `{"id":-1}`, `{"id":65536}`, `{"id":1.5}`, `{"id":true}`, `{"id":[]}`, `{"id":{}}`} {
			s.bad("invalid argument", "POST", "/frame", body)
		}
		var rect struct{ X, Y, Width, Height float64 }
		s.good("POST", "/window/rect", `{"width":800,"height":600,"x":0,"y":0}`, &rect)
		assert.Equal(t, []float64{800, 600}, []float64{rect.Width, rect.Height})
		s.good("GET", "/window/rect", "", &rect)
		assert.Equal(t, 800.0, rect.Width)
		for _, body := range []string{`{"width":-1}`, `{"height":"x"}`, `{"x":2147483648}`, `{"width":2147483648}`} {
			s.bad("invalid argument", "POST", "/window/rect", body)
		}
		for _, how := range []string{"maximize", "minimize", "fullscreen"} {
			s.good("POST", "/window/"+how, `{}`, &rect)
			assert.Positive(t, rect.Width, how)
		}
		s.good("POST", "/window/rect", `{"width":1280,"height":900}`, nil)
	})
	t.Run("12 elements", func(t *testing.T) {
		s := at(t)
		h := s.find("#h")
		for using, value := range map[string]string{"css selector": "#link", "link text": "Tides today", "partial link text": "today",
			"tag name": "a", "xpath": "//a[1]"} {
			var e map[string]string
			s.good("POST", "/element", `{"using":"`+using+`","value":"`+value+`"}`, &e)
			assert.Equal(t, s.find("#link"), e[elementKey], using)
		}
		var many []map[string]string
		s.good("POST", "/elements", `{"using":"css selector","value":"a"}`, &many)
		assert.Len(t, many, 2)
		s.is(`[]`, "POST", "/elements", `{"using":"css selector","value":"#none"}`)
		s.good("POST", "/element/"+s.find("#f")+"/elements", `{"using":"css selector","value":"input"}`, &many)
		assert.Len(t, many, 5)
		s.good("POST", "/element", `{"using":"css selector","value":"#h","element":"`+s.find("#f")+`"}`, nil)
		s.bad("no such element", "POST", "/element/"+h+"/element", `{"using":"css selector","value":"a"}`)
		s.bad("no such element", "POST", "/element", `{"using":"css selector","value":"#none"}`)
		s.bad("invalid selector", "POST", "/element", `{"using":"css selector","value":"]["}`)
		s.bad("invalid selector", "POST", "/element", `{"using":"xpath","value":"//["}`)
		for _, body := range []string{`{}`, `{"using":"id","value":"h"}`, `{"using":7,"value":"h"}`, `{"using":"css selector"}`,
			`{"using":"css selector","value":7}`, `{"using":null,"value":"h"}`} {
			s.bad("invalid argument", "POST", "/element", body)
			s.bad("invalid argument", "POST", "/elements", body)
		}
		var root map[string]string
		s.good("GET", "/element/"+s.find("#host")+"/shadow", "", &root)
		require.Contains(t, root, shadowKey)
		var inside map[string]string
		s.good("POST", "/shadow/"+root[shadowKey]+"/element", `{"using":"css selector","value":"#s"}`, &inside)
		s.is(`"Shade"`, "GET", "/element/"+inside[elementKey]+"/text", "")
		s.good("POST", "/shadow/"+root[shadowKey]+"/elements", `{"using":"css selector","value":"span"}`, &many)
		assert.Len(t, many, 1)
		s.bad("no such shadow root", "GET", "/element/"+h+"/shadow", "")
		s.bad("no such shadow root", "POST", "/shadow/none/element", `{"using":"css selector","value":"span"}`)
		s.bad("no such element", "POST", "/shadow/"+root[shadowKey]+"/element", `{"using":"css selector","value":"#none"}`)
		var active map[string]string
		s.good("GET", "/element/active", "", &active)
		assert.Equal(t, s.find("body"), active[elementKey])
	})
	t.Run("12.4 state", func(t *testing.T) {
		s := at(t)
		h, boat, off, power, berth := s.find("#h"), s.find("#boat"), s.find("#off"), s.find("#power"), s.find("#berth")
		s.is(`true`, "GET", "/element/"+power+"/selected", "")
		s.is(`false`, "GET", "/element/"+h+"/selected", "")
		s.is(`true`, "GET", "/element/"+s.find("option")+"/selected", "")
		s.is(`"A1"`, "GET", "/element/"+boat+"/attribute/data-berth", "")
		s.is(`null`, "GET", "/element/"+boat+"/attribute/none", "")
		s.is(`"true"`, "GET", "/element/"+off+"/attribute/disabled", "")
		s.is(`"old"`, "GET", "/element/"+boat+"/property/value", "")
		s.is(`null`, "GET", "/element/"+boat+"/property/none", "")
		s.is(`"rgb(1, 2, 3)"`, "GET", "/element/"+h+"/css/color", "")
		s.is(`"Quay"`, "GET", "/element/"+h+"/text", "")
		s.is(`""`, "GET", "/element/"+s.find("#hidden")+"/text", "")
		s.is(`"h1"`, "GET", "/element/"+h+"/name", "")
		s.is(`false`, "GET", "/element/"+off+"/enabled", "")
		s.is(`true`, "GET", "/element/"+boat+"/enabled", "")
		s.is(`"heading"`, "GET", "/element/"+h+"/computedrole", "")
		s.is(`"Boat"`, "GET", "/element/"+boat+"/computedlabel", "")
		s.is(`false`, "GET", "/element/"+s.find("#hidden")+"/displayed", "")
		s.is(`true`, "GET", "/element/"+h+"/displayed", "")
		var rect map[string]float64
		s.good("GET", "/element/"+s.find("#cover")+"/rect", "", &rect)
		assert.Equal(t, 100.0, rect["width"])
		for _, path := range []string{"/selected", "/attribute/x", "/property/x", "/css/color", "/text", "/name", "/rect", "/enabled",
			"/computedrole", "/computedlabel", "/displayed", "/screenshot"} {
			s.bad("no such element", "GET", "/element/none"+path, "")
		}
		s.good("POST", "/url", `{"url":"`+s.site+`/tides"}`, nil)
		for _, path := range []string{"/selected", "/text", "/rect", "/screenshot"} {
			_, code, _ := s.ask("GET", "/element/"+berth+path, "")
			assert.Contains(t, []string{"stale element reference", "no such element"}, code)
		}
	})
	t.Run("12.5 interaction", func(t *testing.T) {
		s := at(t)
		boat, link := s.find("#boat"), s.find("#link")
		s.is(`null`, "POST", "/element/"+boat+"/clear", `{}`)
		s.is(`""`, "GET", "/element/"+boat+"/property/value", "")
		s.is(`null`, "POST", "/element/"+boat+"/value", `{"text":"Grey Ospræy ⚓"}`)
		s.is(`"Grey Ospræy ⚓"`, "GET", "/element/"+boat+"/property/value", "")
		s.is(`null`, "POST", "/element/"+s.find("option")+"/click", `{}`)
		s.bad("invalid element state", "POST", "/element/"+s.find("#h")+"/clear", `{}`)
		s.bad("invalid element state", "POST", "/element/"+s.find("#ro")+"/clear", `{}`)
		s.bad("element not interactable", "POST", "/element/"+s.find("#hidden")+"/click", `{}`)
		s.bad("element not interactable", "POST", "/element/"+s.find("#hidden")+"/value", `{"text":"x"}`)
		s.bad("element click intercepted", "POST", "/element/"+s.find("#under")+"/click", `{}`)
		for _, body := range []string{`{}`, `{"text":7}`, `{"text":null}`, `{"text":["x"]}`, `{"value":["x"]}`} {
			s.bad("invalid argument", "POST", "/element/"+boat+"/value", body)
		}
		s.bad("invalid argument", "POST", "/element/"+s.find("#file")+"/value", `{"text":"/no/such/file"}`)
		s.is(`null`, "POST", "/element/"+link+"/click", `{}`)
		s.is(`"Tides"`, "GET", "/title", "")
	})
	t.Run("13 document", func(t *testing.T) {
		s := at(t)
		var source string
		s.good("GET", "/source", "", &source)
		assert.Contains(t, source, "<title>Quay</title>")
		run := func(script, args string) string { return `{"script":` + quoted(script) + `,"args":` + args + `}` }
		for script, want := range map[string]string{"return 1": `1`, "return null": `null`, "": `null`, "return undefined": `null`,
			"return [1,'a',{b:[]}]": `[1,"a",{"b":[]}]`, "return {value: 7}": `{"value":7}`,
			"return 1.5": `1.5`, "return -0": `0`, "return Promise.resolve(3)": `3`, "return document.querySelectorAll('#none')": `[]`} {
			s.is(want, "POST", "/execute/sync", run(script, `[]`))
		}
		s.is(`[2,"x",null,{"a":true}]`, "POST", "/execute/sync", run("return [...arguments]", `[2,"x",null,{"a":true}]`))
		s.is(`"H1"`, "POST", "/execute/sync", run("return arguments[0].tagName", `[{"`+elementKey+`":"`+s.find("#h")+`"}]`))
		var e map[string]string
		s.good("POST", "/execute/sync", run("return document.body", `[]`), &e)
		assert.Contains(t, e, elementKey)
		s.good("POST", "/execute/sync", run("return document.getElementById('host').shadowRoot", `[]`), &e)
		assert.Contains(t, e, shadowKey)
		s.is(`"later"`, "POST", "/execute/async", run("setTimeout(() => arguments[0]('later'), 5)", `[]`))
		s.bad("javascript error", "POST", "/execute/sync", run("throw new Error('rocks')", `[]`))
		s.bad("javascript error", "POST", "/execute/sync", run("return Promise.reject('rocks')", `[]`))
		s.bad("javascript error", "POST", "/execute/sync", run("const o = {}; o.o = o; return o", `[]`))
		s.bad("no such element", "POST", "/execute/sync", run("return 1", `[{"`+elementKey+`":"none"}]`))
		s.good("POST", "/timeouts", `{"script":50}`, nil)
		s.bad("script timeout", "POST", "/execute/async", run("", `[]`))
		s.bad("script timeout", "POST", "/execute/sync", run("return new Promise(() => {})", `[]`))
		s.good("POST", "/timeouts", `{"script":30000}`, nil)
		for _, body := range []string{`{}`, `{"script":7,"args":[]}`, `{"script":"return 1"}`, `{"script":"return 1","args":7}`,
			`{"script":"return 1","args":{}}`, `{"script":null,"args":[]}`} {
			s.bad("invalid argument", "POST", "/execute/sync", body)
			s.bad("invalid argument", "POST", "/execute/async", body)
		}
	})
	t.Run("14 cookies", func(t *testing.T) {
		s := at(t)
		expiry := strconv.FormatInt(time.Now().Add(24*time.Hour).Unix(), 10) // browsers bound it
		s.is(`null`, "POST", "/cookie", `{"cookie":{"name":"tide","value":"high","path":"/","httpOnly":true,"sameSite":"Lax","expiry":`+
			expiry+`}}`)
		var c map[string]any
		s.good("GET", "/cookie/tide", "", &c)
		assert.Equal(t, map[string]any{"name": "tide", "value": "high", "path": "/", "domain": "127.0.0.1", "httpOnly": true,
			"sameSite": "Lax", "secure": false, "expiry": c["expiry"]}, c)
		assert.Equal(t, expiry, fmt.Sprintf("%.0f", c["expiry"]))
		s.good("POST", "/cookie", `{"cookie":{"name":"berth 7/å","value":"x"}}`, nil)
		s.bad("no such cookie", "GET", "/cookie/none", "")
		s.bad("invalid cookie domain", "POST", "/cookie", `{"cookie":{"name":"a","value":"b","domain":"elsewhere.example"}}`)
		for _, body := range []string{`{}`, `{"cookie":7}`, `{"cookie":null}`, `{"cookie":{}}`, `{"cookie":{"name":"a"}}`,
			`{"cookie":{"name":7,"value":"b"}}`, `{"cookie":{"name":"a","value":"b","expiry":"x"}}`,
			`{"cookie":{"name":"a","value":"b","expiry":-1}}`, `{"cookie":{"name":"a","value":"b","sameSite":"Sometimes"}}`,
			`{"cookie":{"name":"a","value":"b","httpOnly":"x"}}`} {
			s.bad("invalid argument", "POST", "/cookie", body)
		}
		s.is(`null`, "DELETE", "/cookie/tide", "")
		s.is(`null`, "DELETE", "/cookie/tide", "")
		s.is(`null`, "DELETE", "/cookie", "")
		s.is(`[]`, "GET", "/cookie", "")
		s.good("POST", "/url", `{"url":"data:text/html,x"}`, nil)
		_, code, _ := s.ask("POST", "/cookie", `{"cookie":{"name":"a","value":"b"}}`)
		assert.Equal(t, "invalid cookie domain", code)
	})
	t.Run("15 actions", func(t *testing.T) {
		s := at(t)
		boat := s.find("#boat")
		s.is(`null`, "POST", "/actions", `{"actions":[{"type":"pointer","id":"m","actions":[{"type":"pointerMove","origin":{"`+elementKey+
			`":"`+boat+`"},"x":0,"y":0},{"type":"pointerDown","button":0},{"type":"pointerUp","button":0}]}]}`)
		s.is(`null`, "POST", "/actions", `{"actions":[{"type":"key","id":"k","actions":[{"type":"keyDown","value":"x"},{"type":"keyUp",
"value":"x"},{"type":"pause","duration":1}]},{"type":"none","id":"n","actions":[{"type":"pause"}]}]}`)
		var value string
		s.good("GET", "/element/"+boat+"/property/value", "", &value)
		assert.Contains(t, value, "x")
		s.is(`null`, "POST", "/actions", `{"actions":[{"type":"wheel","id":"w","actions":[{"type":"scroll","x":5,"y":5,"deltaX":0,
"deltaY":10}]}]}`)
		s.is(`null`, "DELETE", "/actions", "")
		for _, body := range []string{`{}`, `{"actions":7}`, `{"actions":[7]}`, `{"actions":[{"type":"oar","id":"x","actions":[]}]}`,
			`{"actions":[{"type":"key","actions":[]}]}`,
			`{"actions":[{"type":"key","id":"k","actions":[{"type":"keyDown","value":"ab"}]}]}`,
			`{"actions":[{"type":"pointer","id":"m","actions":[{"type":"pointerDown","button":-1}]}]}`,
			`{"actions":[{"type":"none","id":"n","actions":[{"type":"pause","duration":-1}]}]}`} {
			s.bad("invalid argument", "POST", "/actions", body)
		}
		s.bad("move target out of bounds", "POST", "/actions",
			`{"actions":[{"type":"pointer","id":"m","actions":[{"type":"pointerMove","x":99999,"y":0}]}]}`)
		s.bad("no such element", "POST", "/actions",
			`{"actions":[{"type":"pointer","id":"m","actions":[{"type":"pointerMove","x":0,"y":0,"origin":{"`+elementKey+`":"none"}}]}]}`)
	})
	t.Run("16 prompts", func(t *testing.T) {
		s := at(t)
		for _, c := range [][2]string{{"GET", "/alert/text"}, {"POST", "/alert/accept"}, {"POST", "/alert/dismiss"}} {
			s.bad("no such alert", c[0], c[1], map[string]string{"GET": "", "POST": "{}"}[c[0]])
		}
		s.bad("no such alert", "POST", "/alert/text", `{"text":"x"}`)
		prompt := func(how string) {
			s.good("POST", "/execute/sync", `{"script":"setTimeout(() => { window.got = `+how+` }, 0)","args":[]}`, nil)
			require.Eventually(t, func() bool { status, _, _ := s.ask("GET", "/alert/text", ""); return status == 200 }, timeLimit, tick)
		}
		prompt(`prompt('Boat?', 'Tern')`)
		s.is(`"Boat?"`, "GET", "/alert/text", "")
		s.bad("invalid argument", "POST", "/alert/text", `{"text":7}`)
		s.bad("invalid argument", "POST", "/alert/text", `{}`)
		s.is(`null`, "POST", "/alert/text", `{"text":"Gull"}`)
		s.is(`null`, "POST", "/alert/accept", `{}`)
		s.is(`"Gull"`, "POST", "/execute/sync", `{"script":"return window.got","args":[]}`)
		prompt(`confirm('Leave?')`)
		s.is(`null`, "POST", "/alert/dismiss", `{}`)
		s.is(`false`, "POST", "/execute/sync", `{"script":"return window.got","args":[]}`)
		prompt(`alert('Low tide')`)
		s.bad("element not interactable", "POST", "/alert/text", `{"text":"x"}`)
		status, code, value := s.ask("GET", "/title", "")
		assert.Equal(t, []any{500, "unexpected alert open"}, []any{status, code}, "dismissed, and told of")
		var e struct{ Data struct{ Text string } }
		require.NoError(t, json.Unmarshal(value, &e))
		assert.Equal(t, "Low tide", e.Data.Text, "section 16.5: with the text of what was in the way")
		s.is(`"Quay"`, "GET", "/title", "")
	})
	t.Run("17 to 18 pictures and paper", func(t *testing.T) {
		s := at(t)
		var picture string
		for _, path := range []string{"/screenshot", "/element/" + s.find("#h") + "/screenshot"} {
			s.good("GET", path, "", &picture)
			assert.True(t, strings.HasPrefix(picture, "iVBORw0KGgo"), "a PNG in base64")
		}
		s.good("POST", "/print", `{"page":{"width":10,"height":10},"shrinkToFit":true,"background":true,"pageRanges":["1"]}`, &picture)
		assert.True(t, strings.HasPrefix(picture, "JVBERi"), "a PDF in base64")
		for _, body := range []string{`{"page":{"width":-1}}`, `{"scale":5}`, `{"orientation":"sideways"}`,
			`{"pageRanges":["x-"]}`, `{"margin":{"top":-1}}`} {
			s.bad("invalid argument", "POST", "/print", body)
		}
	})
	t.Run("other standards", func(t *testing.T) {
		s := at(t)
		s.good("POST", "/permissions", `{"descriptor":{"name":"geolocation"},"state":"granted"}`, nil)
		s.is(`"granted"`, "POST", "/execute/sync",
			`{"script":"return navigator.permissions.query({name: 'geolocation'}).then(p => p.state)","args":[]}`)
		for _, body := range []string{`{}`, `{"descriptor":{"name":"tide"},"state":"granted"}`,
			`{"descriptor":{"name":"geolocation"},"state":"perhaps"}`} {
			s.bad("invalid argument", "POST", "/permissions", body)
		}
		s.good("POST", "/privacy", `{"gpc":true}`, nil)
		var gpc struct{ GPC bool }
		s.good("GET", "/privacy", "", &gpc)
		assert.True(t, gpc.GPC)
		s.bad("invalid argument", "POST", "/privacy", `{"gpc":7}`)
		var id string
		s.good("POST", "/webauthn/authenticator", `{"protocol":"ctap2","transport":"usb","hasResidentKey":true,"hasUserVerification":true}`, &id)
		path := "/webauthn/authenticator/" + id
		s.is(`[]`, "GET", path+"/credentials", "")
		s.good("POST", path+"/uv", `{"isUserVerified":true}`, nil)
		s.bad("invalid argument", "POST", path+"/uv", `{"isUserVerified":7}`)
		s.bad("invalid argument", "POST", path+"/credential", `{"credentialId":7}`)
		s.good("DELETE", path+"/credentials", "", nil)
		s.good("DELETE", path, "", nil)
		s.bad("invalid argument", "POST", "/webauthn/authenticator", `{"protocol":"oars","transport":"usb"}`)
	})
	t.Run("6 protocol", func(t *testing.T) {
		s := at(t)
		s.bad("unknown command", "GET", "/harbour", "")
		s.bad("unknown command", "GET", "/element/x/harbour", "")
		s.bad("unknown method", "POST", "/title", `{}`)
		s.bad("unknown method", "GET", "/back", "")
		s.bad("unknown method", "PUT", "/url", `{}`)
		for _, body := range []string{``, `{`, `[]`, `"x"`, `null`, `7`} {
			s.bad("invalid argument", "POST", "/back", body)
		}
		resp, err := http.Get(s.base + "/title")
		require.NoError(t, err)
		defer resp.Body.Close()
		assert.Equal(t, "application/json; charset=utf-8", resp.Header.Get("Content-Type"))
		assert.Equal(t, "no-cache", resp.Header.Get("Cache-Control"))
		other := s
		other.base = s.base + "x"
		other.bad("invalid session id", "GET", "/title", "")
		other.bad("invalid session id", "POST", "/url", `{`)
	})
}

func quoted(s string) string {
	raw, _ := json.Marshal(s)
	return string(raw)
}
