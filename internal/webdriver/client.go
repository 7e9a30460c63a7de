package webdriver

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Capabilities is a set of W3C capabilities.
type Capabilities map[string]any

// Element is a web element reference.
type Element string

// MarshalJSON writes the reference as section 12 has it.
func (e Element) MarshalJSON() ([]byte, error) {
	return json.Marshal(map[string]string{WebElementIdentifier: string(e)})
}

// UnmarshalJSON reads a reference.
func (e *Element) UnmarshalJSON(b []byte) error {
	var m map[string]string
	if err := json.Unmarshal(b, &m); err != nil {
		return err
	}
	id, ok := m[WebElementIdentifier]
	if !ok {
		return fmt.Errorf("%s is not a web element reference", b)
	}
	*e = Element(id)
	return nil
}

// Rect is a window or element rectangle in CSS pixels.
type Rect struct {
	X      float64 `json:"x"`
	Y      float64 `json:"y"`
	Width  float64 `json:"width"`
	Height float64 `json:"height"`
}

// Cookie is a serialized cookie, section 14. Expiry is in seconds since 1970.
type Cookie struct {
	Name     string `json:"name"`
	Value    string `json:"value"`
	Path     string `json:"path,omitempty"`
	Domain   string `json:"domain,omitempty"`
	Secure   bool   `json:"secure,omitempty"`
	HTTPOnly bool   `json:"httpOnly,omitempty"`
	Expiry   int64  `json:"expiry,omitempty"`
	SameSite string `json:"sameSite,omitempty"`
}

// Observer is told of each command after it was answered, with the time spent
// waiting for the other side. It must not block.
type Observer func(method, path string, took time.Duration, err error)

// Client sends commands to one remote end.
type Client struct {
	base    string
	http    *http.Client
	Observe Observer
}

// NewClient returns a client for the remote end at base, for example
// http://127.0.0.1:9515. A nil httpClient means a new one without a time limit;
// contexts give the limits.
func NewClient(base string, httpClient *http.Client) *Client {
	if httpClient == nil {
		httpClient = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
	}
	return &Client{base: strings.TrimRight(base, "/"), http: httpClient}
}

// Do sends one command and decodes its value into out, which may be nil. The
// error is an *Error when the remote end answered one, a *TransportError when
// it did not answer as WebDriver, or the context's.
func (c *Client) Do(ctx context.Context, method, path string, body, out any) error {
	start := time.Now()
	err := c.do(ctx, method, path, body, out)
	if c.Observe != nil {
		c.Observe(method, path, time.Since(start), err)
	}
	return err
}

func (c *Client) do(ctx context.Context, method, path string, body, out any) error {
	op := method + " " + path
	var reader io.Reader
	if method == http.MethodPost {
		if body == nil {
			body = struct{}{}
		}
		raw, err := json.Marshal(body)
		if err != nil {
			return fmt.Errorf("%s: %w", op, err)
		}
		reader = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, reader)
	if err != nil {
		return fmt.Errorf("%s: %w", op, err)
	}
	if reader != nil {
		req.Header.Set("Content-Type", "application/json; charset=utf-8")
	}
	resp, err := c.http.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("%s: %w", op, ctx.Err())
		}
		return &TransportError{Op: op, Err: errors.Unwrap(err)}
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(resp.Body, maxResponseBytes))
	if err != nil {
		if ctx.Err() != nil {
			return fmt.Errorf("%s: %w", op, ctx.Err())
		}
		return &TransportError{Op: op, Err: err}
	}
	var answer struct {
		Value json.RawMessage `json:"value"`
	}
	if err := json.Unmarshal(raw, &answer); err != nil {
		return &TransportError{Op: op, Err: fmt.Errorf("status %d, not a WebDriver answer: %.80q", resp.StatusCode, raw)}
	}
	if resp.StatusCode != http.StatusOK {
		var e Error
		if err := json.Unmarshal(answer.Value, &e); err != nil || e.Code == "" {
			return &TransportError{Op: op, Err: fmt.Errorf("status %d without a W3C error: %.80q", resp.StatusCode, raw)}
		}
		return &e
	}
	if out == nil {
		return nil
	}
	if err := json.Unmarshal(answer.Value, out); err != nil {
		return &TransportError{Op: op, Err: fmt.Errorf("unexpected value %.80q: %w", answer.Value, err)}
	}
	return nil
}

// Status asks whether the remote end is ready for a new session.
func (c *Client) Status(ctx context.Context) (ready bool, err error) {
	var v struct {
		Ready bool `json:"ready"`
	}
	err = c.Do(ctx, http.MethodGet, "/status", nil, &v)
	return v.Ready, err
}

// Session is one open session.
type Session struct {
	ID           string
	Capabilities Capabilities
	client       *Client
}

// HTTP is what the client sends with.
func (c *Client) HTTP() *http.Client { return c.http }

// New opens a session with alwaysMatch capabilities.
func (c *Client) New(ctx context.Context, always Capabilities) (*Session, error) {
	var v struct {
		SessionID    string       `json:"sessionId"`
		Capabilities Capabilities `json:"capabilities"`
	}
	body := map[string]any{"capabilities": map[string]any{"alwaysMatch": always}}
	if err := c.Do(ctx, http.MethodPost, "/session", body, &v); err != nil {
		return nil, err
	}
	return &Session{ID: v.SessionID, Capabilities: v.Capabilities, client: c}, nil
}

// Do sends a command of this session; path starts after the session id.
func (s *Session) Do(ctx context.Context, method, path string, body, out any) error {
	return s.client.Do(ctx, method, "/session/"+url.PathEscape(s.ID)+path, body, out)
}

func (s *Session) get(ctx context.Context, path string, out any) error {
	return s.Do(ctx, http.MethodGet, path, nil, out)
}

func (s *Session) post(ctx context.Context, path string, body, out any) error {
	return s.Do(ctx, http.MethodPost, path, body, out)
}

// Close ends the session.
func (s *Session) Close(ctx context.Context) error {
	return s.Do(ctx, http.MethodDelete, "", nil, nil)
}

// WebSocketURL is the BiDi address of the session, or "".
func (s *Session) WebSocketURL() string {
	u, _ := s.Capabilities["webSocketUrl"].(string)
	return u
}

// Timeouts are the session's limits in milliseconds, section 9.
type Timeouts struct {
	Script   int64 `json:"script"`
	PageLoad int64 `json:"pageLoad"`
	Implicit int64 `json:"implicit"`
}

// SetTimeouts sets all three limits.
func (s *Session) SetTimeouts(ctx context.Context, t Timeouts) error {
	return s.post(ctx, "/timeouts", t, nil)
}

// Navigate goes to an address and waits until it is loaded.
func (s *Session) Navigate(ctx context.Context, address string) error {
	return s.post(ctx, "/url", map[string]string{"url": address}, nil)
}

// URL is the current address.
func (s *Session) URL(ctx context.Context) (string, error) {
	var v string
	err := s.get(ctx, "/url", &v)
	return v, err
}

// Title is the title of the document.
func (s *Session) Title(ctx context.Context) (string, error) {
	var v string
	err := s.get(ctx, "/title", &v)
	return v, err
}

// Source is the serialized document.
func (s *Session) Source(ctx context.Context) (string, error) {
	var v string
	err := s.get(ctx, "/source", &v)
	return v, err
}

// Find returns the first element for a location strategy, such as
// "css selector".
func (s *Session) Find(ctx context.Context, using, value string) (Element, error) {
	var e Element
	err := s.post(ctx, "/element", map[string]string{"using": using, "value": value}, &e)
	return e, err
}

// FindAll returns every element for a location strategy.
func (s *Session) FindAll(ctx context.Context, using, value string) ([]Element, error) {
	var es []Element
	err := s.post(ctx, "/elements", map[string]string{"using": using, "value": value}, &es)
	return es, err
}

func (e Element) path(rest string) string { return "/element/" + url.PathEscape(string(e)) + rest }

// Click clicks the middle of an element.
func (s *Session) Click(ctx context.Context, e Element) error {
	return s.post(ctx, e.path("/click"), nil, nil)
}

// Clear empties an editable element.
func (s *Session) Clear(ctx context.Context, e Element) error {
	return s.post(ctx, e.path("/clear"), nil, nil)
}

// SendKeys types into an element; on a file input the text is a path.
func (s *Session) SendKeys(ctx context.Context, e Element, text string) error {
	return s.post(ctx, e.path("/value"), map[string]string{"text": text}, nil)
}

// Text is the rendered text of an element.
func (s *Session) Text(ctx context.Context, e Element) (string, error) {
	var v string
	err := s.get(ctx, e.path("/text"), &v)
	return v, err
}

// Property is a property of an element.
func (s *Session) Property(ctx context.Context, e Element, name string) (any, error) {
	var v any
	err := s.get(ctx, e.path("/property/"+url.PathEscape(name)), &v)
	return v, err
}

// Attribute is an attribute of an element; nil when it has none.
func (s *Session) Attribute(ctx context.Context, e Element, name string) (any, error) {
	var v any
	err := s.get(ctx, e.path("/attribute/"+url.PathEscape(name)), &v)
	return v, err
}

// Execute runs a function body in the page and decodes what it returns.
func (s *Session) Execute(ctx context.Context, script string, out any, args ...any) error {
	return s.post(ctx, "/execute/sync", scriptBody(script, args), out)
}

// ExecuteAsync runs a function body whose last argument is called with the
// result.
func (s *Session) ExecuteAsync(ctx context.Context, script string, out any, args ...any) error {
	return s.post(ctx, "/execute/async", scriptBody(script, args), out)
}

func scriptBody(script string, args []any) map[string]any {
	if args == nil {
		args = []any{}
	}
	return map[string]any{"script": script, "args": args}
}

// Screenshot is a PNG of the viewport.
func (s *Session) Screenshot(ctx context.Context) ([]byte, error) {
	var v string
	if err := s.get(ctx, "/screenshot", &v); err != nil {
		return nil, err
	}
	png, err := base64.StdEncoding.DecodeString(v)
	if err != nil {
		return nil, &TransportError{Op: "GET /screenshot", Err: err}
	}
	return png, nil
}

// Print is the document as PDF (section 18.1), with its backgrounds and the page size that
// it asks for.
func (s *Session) Print(ctx context.Context) ([]byte, error) {
	var v string
	if err := s.post(ctx, "/print", map[string]any{"background": true, "shrinkToFit": true}, &v); err != nil {
		return nil, err
	}
	pdf, err := base64.StdEncoding.DecodeString(v)
	if err != nil {
		return nil, &TransportError{Op: "POST /print", Err: err}
	}
	return pdf, nil
}

// Cookies are the cookies of the current page.
func (s *Session) Cookies(ctx context.Context) ([]Cookie, error) {
	var v []Cookie
	err := s.get(ctx, "/cookie", &v)
	return v, err
}

// AddCookie sets a cookie.
func (s *Session) AddCookie(ctx context.Context, c Cookie) error {
	return s.post(ctx, "/cookie", map[string]any{"cookie": c}, nil)
}

// DeleteCookies removes every cookie of the current page.
func (s *Session) DeleteCookies(ctx context.Context) error {
	return s.Do(ctx, http.MethodDelete, "/cookie", nil, nil)
}

// WindowRect is the outer rectangle of the window.
func (s *Session) WindowRect(ctx context.Context) (Rect, error) {
	var r Rect
	err := s.get(ctx, "/window/rect", &r)
	return r, err
}

// SetWindowRect moves and resizes the window and returns what it became.
func (s *Session) SetWindowRect(ctx context.Context, r Rect) (Rect, error) {
	var got Rect
	err := s.post(ctx, "/window/rect", r, &got)
	return got, err
}

// Window is the handle of the current window.
func (s *Session) Window(ctx context.Context) (string, error) {
	var v string
	err := s.get(ctx, "/window", &v)
	return v, err
}

// Windows are the handles of every window.
func (s *Session) Windows(ctx context.Context) ([]string, error) {
	var v []string
	err := s.get(ctx, "/window/handles", &v)
	return v, err
}

// NewWindow opens a tab or a window ("tab", "window") and returns its handle.
func (s *Session) NewWindow(ctx context.Context, kind string) (string, error) {
	var v struct {
		Handle string `json:"handle"`
	}
	err := s.post(ctx, "/window/new", map[string]string{"type": kind}, &v)
	return v.Handle, err
}

// SwitchTo makes a window the current one.
func (s *Session) SwitchTo(ctx context.Context, handle string) error {
	return s.post(ctx, "/window", map[string]string{"handle": handle}, nil)
}

// SwitchFrame makes a frame's document the one that commands look at; "" is the page of
// the whole window (W3C WebDriver section 11.6).
func (s *Session) SwitchFrame(ctx context.Context, frame Element) error {
	var id any
	if frame != "" {
		id = frame
	}
	return s.post(ctx, "/frame", map[string]any{"id": id}, nil)
}

// CloseWindow closes the current window and returns the handles left.
func (s *Session) CloseWindow(ctx context.Context) ([]string, error) {
	var v []string
	err := s.Do(ctx, http.MethodDelete, "/window", nil, &v)
	return v, err
}

// AlertText is the message of the open alert.
func (s *Session) AlertText(ctx context.Context) (string, error) {
	var v string
	err := s.get(ctx, "/alert/text", &v)
	return v, err
}

// AcceptAlert accepts the open alert.
func (s *Session) AcceptAlert(ctx context.Context) error {
	return s.post(ctx, "/alert/accept", nil, nil)
}

// Action is one input source's sequence, section 17.
type Action struct {
	Type       string           `json:"type"`
	ID         string           `json:"id"`
	Parameters map[string]any   `json:"parameters,omitempty"`
	Actions    []map[string]any `json:"actions"`
}

// Perform dispatches actions tick by tick.
func (s *Session) Perform(ctx context.Context, actions ...Action) error {
	return s.post(ctx, "/actions", map[string]any{"actions": actions}, nil)
}
