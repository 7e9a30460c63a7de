// Package webdriver speaks the W3C WebDriver protocol as a client: its error
// codes, its element references and its commands over HTTP. It opens no browser
// and starts no driver; package engine does.
package webdriver

import (
	"encoding/json"
	"errors"
	"fmt"
)

// Error codes of W3C WebDriver, section 6.6 "Errors".
const (
	ClickIntercepted            = "element click intercepted"
	NotInteractable             = "element not interactable"
	InsecureCertificate         = "insecure certificate"
	InvalidArgument             = "invalid argument"
	InvalidCookieDomain         = "invalid cookie domain"
	InvalidElementState         = "invalid element state"
	InvalidSelector             = "invalid selector"
	InvalidSessionID            = "invalid session id"
	JavascriptError             = "javascript error"
	MoveTargetOutOfBounds       = "move target out of bounds"
	NoSuchAlert                 = "no such alert"
	NoSuchCookie                = "no such cookie"
	NoSuchElement               = "no such element"
	NoSuchFrame                 = "no such frame"
	NoSuchWindow                = "no such window"
	NoSuchShadowRoot            = "no such shadow root"
	ScriptTimeout               = "script timeout"
	SessionNotCreated           = "session not created"
	StaleElement                = "stale element reference"
	DetachedShadowRoot          = "detached shadow root"
	Timeout                     = "timeout"
	UnableToSetCookie           = "unable to set cookie"
	UnableToCaptureScreen       = "unable to capture screen"
	UnexpectedAlertOpen         = "unexpected alert open"
	UnknownCommand              = "unknown command"
	UnknownError                = "unknown error"
	UnknownMethod               = "unknown method"
	UnsupportedOperation        = "unsupported operation"
	WebElementIdentifier        = "element-6066-11e4-a52e-4f735466cecf" // section 12 "Elements"
	ShadowRootIdentifier        = "shadow-6066-11e4-a52e-4f735466cecf"
	WindowIdentifier            = "window-fcc6-11e5-b4f8-330a88ab9d7f"
	FrameIdentifier             = "frame-075b-4da1-b6ba-e579c2d3230a"
	NoScript                    = "pane:noScript" // capability of a remote end without a script engine
	maxResponseBytes      int64 = 256 << 20
)

// statusOf is the HTTP status of each error code, section 6.6.
var statusOf = map[string]int{
	ClickIntercepted: 400, NotInteractable: 400, InsecureCertificate: 400, InvalidArgument: 400,
	InvalidCookieDomain: 400, InvalidElementState: 400, InvalidSelector: 400, InvalidSessionID: 404,
	JavascriptError: 500, MoveTargetOutOfBounds: 500, NoSuchAlert: 404, NoSuchCookie: 404,
	NoSuchElement: 404, NoSuchFrame: 404, NoSuchWindow: 404, NoSuchShadowRoot: 404, ScriptTimeout: 500,
	SessionNotCreated: 500, StaleElement: 404, DetachedShadowRoot: 404, Timeout: 500,
	UnableToSetCookie: 500, UnableToCaptureScreen: 500, UnexpectedAlertOpen: 500, UnknownCommand: 404,
	UnknownError: 500, UnknownMethod: 405, UnsupportedOperation: 500,
}

// Error is a W3C error. Its JSON form is the "value" of an error response.
type Error struct {
	Code       string          `json:"error"`
	Message    string          `json:"message"`
	Stacktrace string          `json:"stacktrace"`
	Data       json.RawMessage `json:"data,omitempty"`
}

func (e *Error) Error() string {
	if e.Message == "" {
		return e.Code
	}
	return e.Code + ": " + e.Message
}

// Status is the HTTP status that belongs to the code; 500 for an unknown one.
func (e *Error) Status() int {
	if s, ok := statusOf[e.Code]; ok {
		return s
	}
	return 500
}

// Errorf returns an error with one of the codes above.
func Errorf(code, format string, args ...any) *Error {
	return &Error{Code: code, Message: fmt.Sprintf(format, args...)}
}

// CodeOf is the W3C code of an error, or "" when it is not one.
func CodeOf(err error) string {
	if e, ok := errors.AsType[*Error](err); ok {
		return e.Code
	}
	return ""
}

// TransportError means that no W3C answer came: the driver is gone, or answered
// something that is not WebDriver.
type TransportError struct {
	Op  string
	Err error
}

func (e *TransportError) Error() string { return e.Op + ": " + e.Err.Error() }
func (e *TransportError) Unwrap() error { return e.Err }

// SessionLost reports whether an error says that the session or its driver is
// gone, which is never the fault of the page under test.
func SessionLost(err error) bool {
	if _, ok := errors.AsType[*TransportError](err); ok {
		return true
	}
	return CodeOf(err) == InvalidSessionID
}
