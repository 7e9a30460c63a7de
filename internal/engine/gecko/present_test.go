package gecko

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/webdriver"
)

const (
	windowKey = "window-fcc6-11e5-b4f8-330a88ab9d7f"
	frameKey  = "frame-075b-4da1-b6ba-e579c2d3230a"
)

// What the browser by itself does otherwise than the present text of W3C
// WebDriver has it.
func TestThePresentText(t *testing.T) {
	s := real(t)
	at := func(t *testing.T) spoken {
		s := s
		s.t = t
		s.good("POST", "/url", `{"url":"`+s.site+`/"}`, nil)
		return s
	}
	run := func(script, args string) string { return `{"script":` + quoted(script) + `,"args":` + args + `}` }

	t.Run("9 which timeouts may be null", func(t *testing.T) {
		s := at(t)
		for _, name := range []string{"script", "pageLoad", "implicit"} {
			s.is(`null`, "POST", "/timeouts", `{"`+name+`":null}`)
			var got map[string]any
			s.good("GET", "/timeouts", "", &got)
			require.Contains(t, got, name)
			assert.Nil(t, got[name], name)
			s.is(`null`, "POST", "/timeouts", `{"script":30000,"pageLoad":300000,"implicit":0}`)
		}
		s.is(`null`, "POST", "/timeouts", `{"implicit":2.0}`)
		s.is(`{"script":30000,"pageLoad":300000,"implicit":2}`, "GET", "/timeouts", "")
		s.is(`null`, "POST", "/timeouts", `{"implicit":0}`)
	})
	t.Run("11 new window", func(t *testing.T) {
		s := at(t)
		var home string
		s.good("GET", "/window", "", &home)
		var made struct{ Handle, Type string }
		s.good("POST", "/window/new", `{"type":null}`, &made)
		s.good("POST", "/window", `{"handle":"`+made.Handle+`"}`, nil)
		s.good("DELETE", "/window", "", nil)
		s.good("POST", "/window", `{"handle":"`+home+`"}`, nil)
	})
	t.Run("11.8.2 set window rect", func(t *testing.T) {
		s := at(t)
		var before, rect struct{ X, Y, Width, Height float64 }
		s.good("POST", "/window/rect", `{"width":900.7,"height":650.2}`, &before)
		assert.Equal(t, []float64{900, 650}, []float64{before.Width, before.Height}, "fractions are taken")
		for _, body := range []string{`{"width":500}`, `{"height":500}`, `{"width":500,"height":null}`, `{"x":50}`, `{"y":50,"x":null}`, `{}`} {
			s.good("POST", "/window/rect", body, &rect)
			assert.Equal(t, before, rect, "%s: the size changes only with both, and so does the position", body)
		}
		s.good("POST", "/window/rect", `{"x":3.9,"y":4.1}`, nil)
		s.good("POST", "/window/rect", `{"width":1280,"height":900}`, nil)
	})
	t.Run("12 find", func(t *testing.T) {
		s := at(t)
		var root, e map[string]string
		s.good("GET", "/element/"+s.find("#host")+"/shadow", "", &root)
		path := "/shadow/" + root[shadowKey]
		for _, c := range [][2]string{{"tag name", "span"}, {"xpath", "//span"}, {"xpath", ".//span"},
			{"xpath", "span | b"}, {"css selector", "span"}} {
			body := `{"using":"` + c[0] + `","value":"` + c[1] + `"}`
			s.good("POST", path+"/element", body, &e)
			s.is(`"Shade"`, "GET", "/element/"+e[elementKey]+"/text", "")
			var many []map[string]string
			s.good("POST", path+"/elements", body, &many)
			assert.Len(t, many, 1, c)
		}
		s.bad("no such element", "POST", path+"/element", `{"using":"tag name","value":"h1"}`)
		s.bad("no such element", "POST", path+"/element", `{"using":"xpath","value":"//h1"}`)
		s.is(`[]`, "POST", path+"/elements", `{"using":"xpath","value":"//h1"}`)
		s.bad("invalid selector", "POST", path+"/element", `{"using":"xpath","value":"//["}`)
		html := s.find("html")
		s.bad("invalid selector", "POST", "/element/"+html+"/element", `{"using":"xpath","value":".."}`)
		s.bad("invalid selector", "POST", "/element/"+html+"/elements", `{"using":"xpath","value":".."}`)
		s.bad("invalid selector", "POST", "/element", `{"using":"xpath","value":"count(//a)"}`)
		s.bad("invalid selector", "POST", "/element", `{"using":"xpath","value":"//a/text()"}`)
	})
	t.Run("12.4.5 element rect", func(t *testing.T) {
		s := at(t)
		var rect map[string]float64
		s.good("GET", "/element/"+s.find("#h")+"/rect", "", &rect)
		assert.ElementsMatch(t, []string{"x", "y", "width", "height"}, keys(rect))
	})
	t.Run("12.5.1 clicks on what overflow hides", func(t *testing.T) {
		s := at(t)
		s.good("POST", "/execute/sync", run(`document.body.insertAdjacentHTML("beforeend", '<div style="overflow:hidden;height:0">' +
			'<a id=gone href="#x">gone</a></div><div style="overflow:hidden;width:50px;height:20px;position:relative">' +
			'<button id=far style="position:absolute;top:300px">far</button></div>')`, `[]`), nil)
		s.bad("element not interactable", "POST", "/element/"+s.find("#gone")+"/click", `{}`)
		s.is(`null`, "POST", "/element/"+s.find("#far")+"/click", `{}`)
	})
	t.Run("13.2 scripts", func(t *testing.T) {
		s := at(t)
		s.bad("no such window", "POST", "/execute/sync", run("return 1", `[{"`+windowKey+`":"none"}]`))
		s.bad("no such frame", "POST", "/execute/sync", run("return 1", `[{"`+frameKey+`":"none"}]`))
		s.bad("no such shadow root", "POST", "/execute/sync", run("return 1", `[{"`+shadowKey+`":"none"}]`))
		s.is(`["tide",7]`, "POST", "/execute/sync", run("return {toJSON: () => ['tide', 7]}", `[]`))
		s.is(`{"at":"high"}`, "POST", "/execute/sync", run("class T { toJSON() { return {at: 'high'} } }; return new T()", `[]`))
		s.bad("javascript error", "POST", "/execute/sync", run("return {toJSON() { throw new Error('rocks') }}", `[]`))
		s.is(`5`, "POST", "/execute/sync", run("const a = await Promise.resolve(2); return a + arguments[0]", `[3]`))
		s.bad("javascript error", "POST", "/execute/sync", run("await Promise.reject(new Error('rocks'))", `[]`))
		s.is(`"done"`, "POST", "/execute/async", run("const done = arguments[0]; await 1; done('done')", `[]`))
		s.bad("javascript error", "POST", "/execute/async", run("await Promise.reject(new Error('rocks'))", `[]`))
		s.bad("javascript error", "POST", "/execute/sync", run("const await = {", `[]`))
		s.is(`"await"`, "POST", "/execute/sync", run("return 'await'", `[]`))
	})
	t.Run("14 cookies", func(t *testing.T) {
		s := at(t)
		for _, site := range []string{"None", "Lax", "Strict"} {
			s.good("POST", "/cookie", `{"cookie":{"name":"tide","value":"high","secure":true,"sameSite":"`+site+`"}}`, nil)
			var c map[string]any
			s.good("GET", "/cookie/tide", "", &c)
			assert.Equal(t, site, c["sameSite"])
		}
		s.good("DELETE", "/cookie", "", nil)
	})
	t.Run("15 origins", func(t *testing.T) {
		s := at(t)
		for _, origin := range []string{`"boat"`, `7`, `null`, `{}`, `[]`, `true`, `{"` + elementKey + `":7}`, `{"` + shadowKey + `":"x"}`} {
			s.bad("invalid argument", "POST", "/actions",
				`{"actions":[{"type":"pointer","id":"m","actions":[{"type":"pointerMove","x":0,"y":0,"origin":`+origin+`}]}]}`)
			s.bad("invalid argument", "POST", "/actions",
				`{"actions":[{"type":"wheel","id":"w","actions":[{"type":"scroll","x":0,"y":0,"deltaX":0,"deltaY":0,"origin":`+origin+`}]}]}`)
		}
		s.bad("invalid argument", "POST", "/actions",
			`{"actions":[{"type":"wheel","id":"w","actions":[{"type":"scroll","x":0,"y":0,"deltaX":0,"deltaY":0,"origin":"pointer"}]}]}`)
		for _, origin := range []string{`"viewport"`, `"pointer"`} {
			s.good("POST", "/actions", `{"actions":[{"type":"pointer","id":"m","actions":[{"type":"pointerMove","x":1,"y":1,"origin":`+origin+
				`}]}]}`, nil)
		}
	})
}

func keys(m map[string]float64) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	return out
}

// A session takes any extension capability; those of other prefixes than its own
// say nothing to it.
func TestExtensionCapabilitiesThatSayNothing(t *testing.T) {
	b := conformance.Browser(t, Family{})
	d, err := device.Find("")
	require.NoError(t, err)
	inst, err := Family{}.Launch(t.Context(), engine.Options{Browser: b, Device: d, Dir: t.TempDir(), Asked: webdriver.Capabilities{}})
	require.NoError(t, err)
	t.Cleanup(inst.Close)
	for _, value := range []string{`false`, `"abc"`, `123`, `[]`, `{"key":"value"}`} {
		status, raw := ask(t, "POST", inst.URL+"/session", `{"capabilities":{"alwaysMatch":{"test:extension":`+value+`,"webSocketUrl":false}}}`)
		require.Equal(t, 200, status, raw)
		var v struct {
			Value struct {
				SessionID    string
				Capabilities map[string]any
			}
		}
		require.NoError(t, json.Unmarshal([]byte(raw), &v))
		assert.NotContains(t, v.Value.Capabilities, "webSocketUrl", "what is not wanted is not given")
		status, raw = ask(t, "DELETE", inst.URL+"/session/"+v.Value.SessionID, "")
		require.Equal(t, 200, status, raw)
	}
}

// Section 16 "User prompts": without a BiDi connection a page that asks before it
// is left is left, whatever the handler.
func TestPagesThatAskBeforeTheyAreLeft(t *testing.T) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<title>%s</title><input id=boat>
<script>if (location.pathname == "/asks") addEventListener("beforeunload", (e) => { e.preventDefault();
e.returnValue = "1"; });</script>`, r.URL.Path[1:])
	}))
	t.Cleanup(site.Close)
	for _, handler := range []string{`null`, `"dismiss"`, `"ignore"`, `{"beforeUnload":"dismiss"}`, `{"default":"ignore"}`} {
		t.Run(handler, func(t *testing.T) {
			b := conformance.Browser(t, Family{})
			d, err := device.Find("")
			require.NoError(t, err)
			inst, err := Family{}.Launch(t.Context(), engine.Options{Browser: b, Device: d, Dir: t.TempDir(), Asked: webdriver.Capabilities{}})
			require.NoError(t, err)
			defer inst.Close()
			caps := `{}`
			if handler != `null` {
				caps = `{"unhandledPromptBehavior":` + handler + `}`
			}
			status, raw := ask(t, "POST", inst.URL+"/session", `{"capabilities":{"alwaysMatch":`+caps+`}}`)
			require.Equal(t, 200, status, raw)
			var v struct{ Value struct{ SessionID string } }
			require.NoError(t, json.Unmarshal([]byte(raw), &v))
			s := spoken{t, inst.URL + "/session/" + v.Value.SessionID, site.URL}
			s.good("POST", "/url", `{"url":"`+site.URL+`/asks"}`, nil)
			s.good("POST", "/element/"+s.find("#boat")+"/value", `{"text":"Tern"}`, nil)
			s.is(`null`, "POST", "/url", `{"url":"`+site.URL+`/next"}`)
			s.bad("no such alert", "GET", "/alert/text", "")
			s.is(`"next"`, "GET", "/title", "")
		})
	}
}
