package gecko

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net/http"
	"runtime"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/webdriver"
)

// A command maps an endpoint of W3C WebDriver section 6.4 "Endpoints" to the
// browser's name for it. Path variables become parameters of the same name
// unless rename says otherwise.
type command struct {
	pattern string
	name    string
	rename  map[string]string
	fixed   map[string]any
}

var elementAsID = map[string]string{"element": "id"}

var commands = []command{
	{"GET /timeouts", "WebDriver:GetTimeouts", nil, nil},
	{"POST /timeouts", "WebDriver:SetTimeouts", nil, nil},
	{"POST /url", "WebDriver:Navigate", nil, nil},
	{"GET /url", "WebDriver:GetCurrentURL", nil, nil},
	{"POST /back", "WebDriver:Back", nil, nil},
	{"POST /forward", "WebDriver:Forward", nil, nil},
	{"POST /refresh", "WebDriver:Refresh", nil, nil},
	{"GET /title", "WebDriver:GetTitle", nil, nil},
	{"GET /window", "WebDriver:GetWindowHandle", nil, nil},
	{"DELETE /window", "WebDriver:CloseWindow", nil, nil},
	{"POST /window", "WebDriver:SwitchToWindow", nil, nil},
	{"GET /window/handles", "WebDriver:GetWindowHandles", nil, nil},
	{"POST /window/new", "WebDriver:NewWindow", nil, nil},
	{"POST /frame", "WebDriver:SwitchToFrame", nil, nil},
	{"POST /frame/parent", "WebDriver:SwitchToParentFrame", nil, nil},
	{"GET /window/rect", "WebDriver:GetWindowRect", nil, nil},
	{"POST /window/rect", "WebDriver:SetWindowRect", nil, nil},
	{"POST /window/maximize", "WebDriver:MaximizeWindow", nil, nil},
	{"POST /window/minimize", "WebDriver:MinimizeWindow", nil, nil},
	{"POST /window/fullscreen", "WebDriver:FullscreenWindow", nil, nil},
	{"GET /element/active", "WebDriver:GetActiveElement", nil, nil},
	{"GET /element/{element}/shadow", "WebDriver:GetShadowRoot", elementAsID, nil},
	{"POST /element", "WebDriver:FindElement", nil, nil},
	{"POST /elements", "WebDriver:FindElements", nil, nil},
	{"POST /element/{element}/element", "WebDriver:FindElement", nil, nil},
	{"POST /element/{element}/elements", "WebDriver:FindElements", nil, nil},
	{"POST /shadow/{shadowRoot}/element", "WebDriver:FindElementFromShadowRoot", nil, nil},
	{"POST /shadow/{shadowRoot}/elements", "WebDriver:FindElementsFromShadowRoot", nil, nil},
	{"GET /element/{element}/selected", "WebDriver:IsElementSelected", elementAsID, nil},
	{"GET /element/{element}/displayed", "WebDriver:IsElementDisplayed", elementAsID, nil},
	{"GET /element/{element}/attribute/{name}", "WebDriver:GetElementAttribute", elementAsID, nil},
	{"GET /element/{element}/property/{name}", "WebDriver:GetElementProperty", elementAsID, nil},
	{"GET /element/{element}/css/{propertyName}", "WebDriver:GetElementCSSValue", elementAsID, nil},
	{"GET /element/{element}/text", "WebDriver:GetElementText", elementAsID, nil},
	{"GET /element/{element}/name", "WebDriver:GetElementTagName", elementAsID, nil},
	{"GET /element/{element}/rect", "WebDriver:GetElementRect", elementAsID, nil},
	{"GET /element/{element}/enabled", "WebDriver:IsElementEnabled", elementAsID, nil},
	{"GET /element/{element}/computedrole", "WebDriver:GetComputedRole", elementAsID, nil},
	{"GET /element/{element}/computedlabel", "WebDriver:GetComputedLabel", elementAsID, nil},
	{"POST /element/{element}/click", "WebDriver:ElementClick", elementAsID, nil},
	{"POST /element/{element}/clear", "WebDriver:ElementClear", elementAsID, nil},
	{"POST /element/{element}/value", "WebDriver:ElementSendKeys", elementAsID, nil},
	{"GET /source", "WebDriver:GetPageSource", nil, nil},
	{"POST /execute/sync", "WebDriver:ExecuteScript", nil, nil},
	{"POST /execute/async", "WebDriver:ExecuteAsyncScript", nil, nil},
	{"GET /cookie", "WebDriver:GetCookies", nil, nil},
	{"POST /cookie", "WebDriver:AddCookie", nil, nil},
	{"DELETE /cookie/{name}", "WebDriver:DeleteCookie", nil, nil},
	{"DELETE /cookie", "WebDriver:DeleteAllCookies", nil, nil},
	{"POST /actions", "WebDriver:PerformActions", nil, nil},
	{"DELETE /actions", "WebDriver:ReleaseActions", nil, nil},
	{"POST /alert/dismiss", "WebDriver:DismissAlert", nil, nil},
	{"POST /alert/accept", "WebDriver:AcceptAlert", nil, nil},
	{"GET /alert/text", "WebDriver:GetAlertText", nil, nil},
	{"POST /alert/text", "WebDriver:SendAlertText", nil, nil},
	{"GET /screenshot", "WebDriver:TakeScreenshot", nil, map[string]any{"full": false, "hash": false}},
	{"GET /element/{element}/screenshot", "WebDriver:TakeScreenshot", elementAsID, map[string]any{"hash": false, "scroll": true}},
	{"POST /print", "WebDriver:Print", nil, nil},

	// Of other standards: Permissions, section 12; Reporting, section 4.1; Web
	// Authentication, section 11; Global Privacy Control, section 5.
	{"POST /permissions", "WebDriver:SetPermission", nil, nil},
	{"POST /reporting/generate_test_report", "Reporting:GenerateTestReport", nil, nil},
	{"POST /webauthn/authenticator", "WebAuthn:AddVirtualAuthenticator", nil, nil},
	{"DELETE /webauthn/authenticator/{authenticatorId}", "WebAuthn:RemoveVirtualAuthenticator", nil, nil},
	{"POST /webauthn/authenticator/{authenticatorId}/credential", "WebAuthn:AddCredential", nil, nil},
	{"GET /webauthn/authenticator/{authenticatorId}/credentials", "WebAuthn:GetCredentials", nil, nil},
	{"DELETE /webauthn/authenticator/{authenticatorId}/credentials", "WebAuthn:RemoveAllCredentials", nil, nil},
	{"DELETE /webauthn/authenticator/{authenticatorId}/credentials/{credentialId}", "WebAuthn:RemoveCredential", nil, nil},
	{"POST /webauthn/authenticator/{authenticatorId}/uv", "WebAuthn:SetUserVerified", nil, nil},
	{"GET /privacy", "GPC:GetGlobalPrivacyControl", nil, nil},
	{"POST /privacy", "GPC:SetGlobalPrivacyControl", nil, nil},
}

// variables are the names of path variables.
var variables = []string{"element", "shadowRoot", "name", "propertyName", "authenticatorId", "credentialId"}

const maxCommandBytes = 64 << 20

// remoteEnd serves one session on one browser.
type remoteEnd struct {
	m     *marionette
	mux   *http.ServeMux
	offer webdriver.Offer

	mu      sync.Mutex
	session string
}

func newRemoteEnd(m *marionette, version string) *remoteEnd {
	r := &remoteEnd{m: m, mux: http.NewServeMux(), offer: webdriver.Offer{Browser: "firefox", Version: version, Platform: runtime.GOOS,
		BiDi: true, Insecure: true, Others: webdriver.OtherPrefixes("firefox", "gecko")}}
	if r.offer.Platform == "darwin" {
		r.offer.Platform = "mac"
	}
	r.mux.HandleFunc("GET /status", func(w http.ResponseWriter, _ *http.Request) {
		reply(w, map[string]any{"ready": r.id() == "", "message": ""})
	})
	r.mux.HandleFunc("POST /session", r.newSession)
	r.mux.HandleFunc("DELETE /session/{session}", r.deleteSession)
	r.mux.HandleFunc("GET /session/{session}/cookie/{name}", r.namedCookie)
	paths := map[string][]string{"/status": {"GET"}, "/session": {"POST"}, "/session/{session}": {"DELETE"},
		"/session/{session}/cookie/{name}": {"GET"}}
	for _, c := range commands {
		method, path, _ := strings.Cut(c.pattern, " ")
		path = "/session/{session}" + path
		paths[path] = append(paths[path], method)
		r.mux.HandleFunc(method+" "+path, func(w http.ResponseWriter, req *http.Request) { r.pass(w, req, c) })
	}
	for path, methods := range paths { // section 6.6: a known path with another method
		r.mux.HandleFunc(path, func(w http.ResponseWriter, req *http.Request) {
			fail(w, webdriver.Errorf(webdriver.UnknownMethod, "%s takes %s, not %s", req.URL.Path, strings.Join(methods, " and "), req.Method))
		})
	}
	r.mux.HandleFunc("/", func(w http.ResponseWriter, req *http.Request) {
		fail(w, webdriver.Errorf(webdriver.UnknownCommand, "%s %s", req.Method, req.URL.Path))
	})
	return r
}

// ServeHTTP answers one command.
func (r *remoteEnd) ServeHTTP(w http.ResponseWriter, req *http.Request) { r.mux.ServeHTTP(w, req) }

func (r *remoteEnd) id() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.session
}

// newSession processes capabilities as section 8.1 "New Session" wants it; the
// browser then checks once more what it was asked for.
func (r *remoteEnd) newSession(w http.ResponseWriter, req *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(nil, req.Body, maxCommandBytes))
	if err != nil {
		fail(w, webdriver.Errorf(webdriver.InvalidArgument, "read the command: %v", err))
		return
	}
	alternatives, err := webdriver.Alternatives(body)
	if err != nil {
		fail(w, err)
		return
	}
	if r.id() != "" {
		fail(w, webdriver.Errorf(webdriver.SessionNotCreated, "this browser has a session already"))
		return
	}
	caps, err := r.offer.Choose(alternatives)
	if err != nil {
		fail(w, err)
		return
	}
	for name := range caps { // section 7.2.3: extension capabilities are matched as the engine likes; others' say nothing to it
		if prefix, _, extension := strings.Cut(name, ":"); extension && prefix != "moz" {
			delete(caps, name)
		}
	}
	if caps["webSocketUrl"] == false { // as if it were not asked for
		delete(caps, "webSocketUrl")
	}
	raw, err := r.m.call(req.Context(), "WebDriver:NewSession", caps)
	if err != nil {
		fail(w, err)
		return
	}
	var v struct {
		SessionID string `json:"sessionId"`
	}
	if err := json.Unmarshal(raw, &v); err != nil {
		fail(w, webdriver.Errorf(webdriver.SessionNotCreated, "unexpected answer: %v", err))
		return
	}
	r.mu.Lock()
	r.session = v.SessionID
	r.mu.Unlock()
	reply(w, raw)
}

func (r *remoteEnd) deleteSession(w http.ResponseWriter, req *http.Request) {
	if !r.known(w, req) {
		return
	}
	if _, err := r.m.call(req.Context(), "WebDriver:DeleteSession", struct{}{}); err != nil {
		fail(w, err)
		return
	}
	r.forget()
	reply(w, nil)
}

func (r *remoteEnd) known(w http.ResponseWriter, req *http.Request) bool {
	if id := req.PathValue("session"); id == "" || id != r.id() {
		fail(w, webdriver.Errorf(webdriver.InvalidSessionID, "no session %s", id))
		return false
	}
	return true
}

// namedCookie has no counterpart in the browser: section 14.2 is answered from
// the list of all cookies.
func (r *remoteEnd) namedCookie(w http.ResponseWriter, req *http.Request) {
	if !r.known(w, req) {
		return
	}
	raw, err := r.m.call(req.Context(), "WebDriver:GetCookies", struct{}{})
	if err != nil {
		fail(w, err)
		return
	}
	var all []map[string]any
	if err := json.Unmarshal(raw, &all); err != nil {
		fail(w, webdriver.Errorf(webdriver.UnknownError, "unexpected answer: %v", err))
		return
	}
	name := req.PathValue("name")
	for _, c := range all {
		if c["name"] == name {
			reply(w, c)
			return
		}
	}
	fail(w, webdriver.Errorf(webdriver.NoSuchCookie, "no cookie %q", name))
}

func (r *remoteEnd) pass(w http.ResponseWriter, req *http.Request, c command) {
	if !r.known(w, req) {
		return
	}
	params := map[string]any{}
	if req.Method == http.MethodPost {
		if err := decode(req, &params); err != nil {
			fail(w, err)
			return
		}
	}
	if check := checks[c.name]; check != nil {
		if err := check(params); err != nil {
			fail(w, err)
			return
		}
	}
	maps.Copy(params, c.fixed)
	for _, name := range variables {
		if v := req.PathValue(name); v != "" {
			key := name
			if to, ok := c.rename[name]; ok {
				key = to
			}
			params[key] = v
		}
	}
	if one := c.name == "WebDriver:FindElementFromShadowRoot"; params["using"] == "xpath" &&
		(one || c.name == "WebDriver:FindElementsFromShadowRoot") {
		found, err := r.pathInShadow(req.Context(), params, one)
		if err != nil {
			fail(w, err)
			return
		}
		reply(w, found)
		return
	}
	raw, err := r.m.call(req.Context(), c.name, params)
	if params["using"] == "xpath" && webdriver.CodeOf(err) == webdriver.JavascriptError { // section 12.3.5: it selects what is no element
		err = webdriver.Errorf(webdriver.InvalidSelector, "%v selects what is no element", params["value"])
	}
	if err != nil {
		fail(w, err)
		return
	}
	value := unwrap(raw)
	if change := answers[c.name]; change != nil {
		v, err := change(value)
		if err != nil {
			fail(w, webdriver.Errorf(webdriver.UnknownError, "unexpected answer: %v", err))
			return
		}
		reply(w, v)
		return
	}
	if c.name == "WebDriver:CloseWindow" && string(bytes.TrimSpace(value)) == "[]" {
		r.forget() // section 11.2: with its last window a session ends
	}
	reply(w, value)
}

// inShadow evaluates an XPath expression in a shadow tree. The engine starts from
// no shadow root, but its children lead there: from the first of them, / is the
// root of their tree, and ../ what a relative expression starts from.
const inShadow = `const [root, path] = arguments, first = root.firstElementChild, found = [];
const relative = (p) => p.trim().startsWith("/") || p.trim().startsWith("(") ? p : "../" + p.trim();
try {
  const r = document.evaluate(path.split("|").map(relative).join("|"), first || document, null,
    XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null);
  for (let i = 0; first && i < r.snapshotLength; i++) found.push(r.snapshotItem(i));
} catch (e) { return {wrong: String(e)}; }
return found.every((n) => n.nodeType === 1) ? {found} : {wrong: "it selects what is no element"};`

// pathInShadow is section 12.3.8 "Find Element From Shadow Root", or the one after
// it, for the strategy XPath.
func (r *remoteEnd) pathInShadow(ctx context.Context, p map[string]any, one bool) (any, error) {
	raw, err := r.m.call(ctx, "WebDriver:GetTimeouts", struct{}{})
	if err != nil {
		return nil, err
	}
	var timeouts struct{ Implicit *float64 }
	if err := json.Unmarshal(raw, &timeouts); err != nil {
		return nil, err
	}
	for began := time.Now(); ; {
		raw, err := r.m.call(ctx, "WebDriver:ExecuteScript", map[string]any{"script": inShadow,
			"args": []any{map[string]any{webdriver.ShadowRootIdentifier: p["shadowRoot"]}, p["value"]}})
		if err != nil {
			return nil, err
		}
		var got struct {
			Value struct {
				Found []json.RawMessage `json:"found"`
				Wrong string            `json:"wrong"`
			} `json:"value"`
		}
		if err := json.Unmarshal(raw, &got); err != nil {
			return nil, err
		}
		switch {
		case got.Value.Wrong != "":
			return nil, webdriver.Errorf(webdriver.InvalidSelector, "%v: %s", p["value"], got.Value.Wrong)
		case len(got.Value.Found) > 0 && one:
			return got.Value.Found[0], nil
		case len(got.Value.Found) > 0:
			return got.Value.Found, nil
		case timeouts.Implicit != nil && time.Since(began) >= time.Duration(*timeouts.Implicit)*time.Millisecond:
			if one {
				return nil, webdriver.Errorf(webdriver.NoSuchElement, "nothing matches %v", p["value"])
			}
			return []any{}, nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (r *remoteEnd) forget() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.session = ""
}

// unwrap takes the value out of answers that carry nothing else.
func unwrap(raw json.RawMessage) json.RawMessage {
	var object map[string]json.RawMessage
	if err := json.Unmarshal(raw, &object); err == nil && len(object) == 1 {
		if v, ok := object["value"]; ok {
			return v
		}
	}
	return raw
}

func decode(req *http.Request, into any) error {
	raw, err := io.ReadAll(http.MaxBytesReader(nil, req.Body, maxCommandBytes))
	if err != nil {
		return webdriver.Errorf(webdriver.InvalidArgument, "read the command: %v", err)
	}
	var object map[string]json.RawMessage
	if err := json.Unmarshal(raw, &object); err != nil || object == nil {
		return webdriver.Errorf(webdriver.InvalidArgument, "the body must be a JSON object")
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return webdriver.Errorf(webdriver.InvalidArgument, "%v", err)
	}
	return nil
}

func reply(w http.ResponseWriter, value any) { write(w, http.StatusOK, value) }

func fail(w http.ResponseWriter, err error) {
	e, ok := errors.AsType[*webdriver.Error](err)
	switch {
	case ok:
	case errors.Is(err, errBrowserGone):
		e = webdriver.Errorf(webdriver.InvalidSessionID, "%v", err)
	case errors.Is(err, context.Canceled):
		e = webdriver.Errorf(webdriver.UnknownError, "the client went away")
	default:
		e = webdriver.Errorf(webdriver.UnknownError, "%v", err)
	}
	write(w, e.Status(), e)
}

func write(w http.ResponseWriter, status int, value any) {
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.Header().Set("Cache-Control", "no-cache")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"value": value})
}
