// Package webdrive lets scripts act on a browser through W3C WebDriver.
package webdrive

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"parallelpane/internal/core/remote"
	"parallelpane/internal/core/traffic"
	"parallelpane/internal/script"
	"parallelpane/internal/webdriver"
)

//go:embed finder.js
var finderScript string

//go:embed look.js
var lookScript string

//go:embed survey.js
var surveyScript string

// SurveyScript has the function survey(query, whole) of pages.
var SurveyScript = finderScript + surveyScript

// Browser drives one session.
type Browser struct {
	s    *webdriver.Session
	lab  Lab
	mute bool // the browser runs no scripts and has commands of ours instead
	// secret says whether a text is one that no picture may show.
	secret func(text string) bool
	// been are the windows that the test has been in, the one that it is in last.
	been []string
	// heard takes the errors of pages; nil where the engine tells of them by itself.
	heard func(PageError)
}

// Lab is what surrounds a session.
type Lab interface {
	// Give puts a copy of a file where the browser finds it, and says where.
	Give(file string) (path string, err error)
	// Gone says that the browser or its driver has ended.
	Gone(ctx context.Context) error
	// Reach tries to get to a site as the browser does; any answer will do.
	Reach(ctx context.Context, address string) error
	// Saved lists the files that pages had the browser save, to their ends.
	Saved(ctx context.Context) ([]string, error)
	// Shape holds the browser's way to every site to a shape, until the test ends.
	Shape(shape traffic.Shape) error
}

// New returns a browser on a session.
func New(s *webdriver.Session, lab Lab) *Browser {
	return &Browser{s: s, lab: lab, mute: s.Capabilities[webdriver.NoScript] == true}
}

// PageError is an error that nobody in a page caught.
type PageError struct {
	Text    string `json:"text"`
	Address string `json:"address"`
	Row     int    `json:"row"` // from 1
	Column  int    `json:"column"`
	At      int64  `json:"at"` // milliseconds since 1970, by the browser
}

// Heed has errors that nobody caught be told, for engines that do not tell of them by
// themselves: those from the first look at a page on.
func (b *Browser) Heed(heard func(PageError)) *Browser {
	b.heard = heard
	return b
}

// Conceal has what is entered not be shown where it is a secret: pictures and films are
// taken of what the screen shows.
func (b *Browser) Conceal(secret func(text string) bool) *Browser {
	b.secret = secret
	return b
}

// conceal has a field show dots in place of what it holds, as one for passwords does.
const conceal = `arguments[0].style.setProperty("-webkit-text-security", "disc", "important")`

// judge sorts an error: the lab's fault, one that may pass, or neither.
func (b *Browser) judge(ctx context.Context, err error) error {
	if err == nil || script.IsLab(err) {
		return err
	}
	switch webdriver.CodeOf(err) {
	case webdriver.StaleElement, webdriver.ClickIntercepted, webdriver.NotInteractable, webdriver.NoSuchAlert, webdriver.DetachedShadowRoot,
		webdriver.NoSuchFrame: // what WebKit says when the page goes away under a script
		return script.Retry(err)
	case webdriver.UnexpectedAlertOpen:
		text, _ := b.s.AlertText(ctx)
		return fmt.Errorf("a dialog is open and waits for an answer: %q; add a dialog step", text)
	case webdriver.InvalidSelector, webdriver.InvalidArgument, webdriver.InvalidElementState, webdriver.NoSuchWindow:
		return err
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	if lost := b.lab.Gone(context.WithoutCancel(ctx)); lost != nil {
		return &script.LabError{Err: lost}
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	if webdriver.SessionLost(err) {
		return &script.LabError{Err: err}
	}
	if webdriver.CodeOf(err) == webdriver.JavascriptError || webdriver.CodeOf(err) == webdriver.ScriptTimeout {
		return script.Retry(err) // the page went away while it was looked at
	}
	return err
}

// Visit goes to an address. A site that cannot be reached from here is the
// lab's fault; how engines report it differs, so the address is tried once more
// without a browser.
func (b *Browser) Visit(ctx context.Context, address string) error {
	if why := remote.Address(address); why != "" {
		return errors.New(why)
	}
	err := b.s.Navigate(ctx, address)
	if err == nil {
		var now string
		if jsErr := b.s.Execute(ctx, "return location.href", &now); jsErr != nil || !noPage(now) || noPage(address) {
			return nil
		}
		err = fmt.Errorf("visit %s: the browser shows %s instead", address, now)
	}
	if judged := b.judge(ctx, err); script.IsLab(judged) || ctx.Err() != nil {
		return judged
	}
	unreachable := b.lab.Reach(ctx, address)
	if errors.Is(unreachable, traffic.ErrOff) { // by the test or the combination, which wanted to know what happens then
		return fmt.Errorf("visit %s: %w", address, unreachable)
	}
	if unreachable != nil {
		return &script.LabError{Err: unreachable, Site: true}
	}
	return b.judge(ctx, err)
}

// noPage recognises what engines show in place of a page that did not come:
// WebKit stays on its empty page, Chromium has a page of its own.
func noPage(address string) bool {
	return address == "about:blank" || strings.HasPrefix(address, "chrome-error:")
}

type lookMatch struct {
	script.Match
	El webdriver.Element `json:"el"`
}

// Look runs the finder in the page.
func (b *Browser) Look(ctx context.Context, q script.Query) (script.Sight, error) {
	var seen struct {
		script.Sight
		Matches []lookMatch `json:"matches"`
		Errors  []PageError `json:"errors"`
	}
	var err error
	if b.mute {
		err = b.s.Do(ctx, http.MethodPost, "/pane/look", q, &seen)
	} else {
		err = b.s.ExecuteAsync(ctx, finderScript+lookScript, &seen, q, b.heard != nil)
	}
	for _, e := range seen.Errors[:min(50, len(seen.Errors))] {
		b.heard(e)
	}
	if err != nil {
		if webdriver.CodeOf(err) == webdriver.JavascriptError && (q.Find.By == "css" || q.Find.By == "xpath") &&
			(strings.Contains(err.Error(), "valid selector") || strings.Contains(err.Error(), "XPath") ||
				strings.Contains(err.Error(), "SyntaxError")) {
			return script.Sight{}, fmt.Errorf("%s %q is not valid: %w", q.Find.By, q.Find.Value, err)
		}
		return script.Sight{}, b.judge(ctx, err)
	}
	for _, m := range seen.Matches {
		m.Ref = string(m.El)
		seen.Sight.Matches = append(seen.Sight.Matches, m.Match)
	}
	return seen.Sight, nil
}

// ErrNoSurvey is the error of browsers that run no scripts.
var ErrNoSurvey = errors.New("this browser cannot say what its page is made of")

// Survey says what the elements of a page are known by; the page sees nothing of it.
func (b *Browser) Survey(ctx context.Context, q script.Query, source bool) (script.Survey, error) {
	var out script.Survey
	if b.mute {
		return out, ErrNoSurvey
	}
	err := b.s.Execute(ctx, SurveyScript+"return survey(...arguments)", &out, q, source)
	return out, b.judge(ctx, err)
}

func element(m script.Match) webdriver.Element { return webdriver.Element(m.Ref) }

// Click clicks the middle of the element.
func (b *Browser) Click(ctx context.Context, m script.Match) error {
	return b.judge(ctx, b.s.Click(ctx, element(m)))
}

// typedAlike are the input types whose keyboard entry depends on browser and
// locale; their value is set as a whole, with the events a person would cause.
var typedAlike = map[string]bool{"date": true, "time": true, "datetime-local": true, "month": true, "week": true,
	"color": true, "range": true}

const setValue = `const [e, v] = arguments; e.focus();
Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(e, v);
e.dispatchEvent(new Event("input", {bubbles: true})); e.dispatchEvent(new Event("change", {bubbles: true})); return e.value`

// Enter replaces what an element holds.
func (b *Browser) Enter(ctx context.Context, m script.Match, text string) error {
	if typedAlike[m.Type] && !b.mute {
		var got string
		if err := b.s.Execute(ctx, setValue, &got, element(m), text); err != nil {
			return b.judge(ctx, err)
		}
		if got != text {
			return fmt.Errorf("the %s field did not take %q", m.Type, text)
		}
		return nil
	}
	if err := b.s.Clear(ctx, element(m)); err != nil {
		return b.judge(ctx, err)
	}
	if b.secret != nil && b.secret(text) && !b.mute {
		if err := b.s.Execute(ctx, conceal, nil, element(m)); err != nil {
			return b.judge(ctx, err)
		}
	}
	if text == "" {
		return nil
	}
	return b.judge(ctx, b.s.SendKeys(ctx, element(m), text))
}

// Choose picks the option of a select element that reads text.
func (b *Browser) Choose(ctx context.Context, m script.Match, text string) error {
	var options []webdriver.Element
	err := b.s.Do(ctx, http.MethodPost, "/element/"+m.Ref+"/elements", map[string]string{"using": "css selector", "value": "option"}, &options)
	if err != nil {
		return b.judge(ctx, err)
	}
	var have []string
	for _, o := range options {
		label, err := b.s.Property(ctx, o, "text")
		if err != nil {
			return b.judge(ctx, err)
		}
		if s := strings.Join(strings.Fields(fmt.Sprint(label)), " "); s == text {
			return b.judge(ctx, b.s.Click(ctx, o))
		} else {
			have = append(have, s)
		}
	}
	return script.Retry(fmt.Errorf("no option %q; there are %q", text, have))
}

// Press holds keys down from left to right and lets them go.
func (b *Browser) Press(ctx context.Context, m *script.Match, keys []script.Key) error {
	if m != nil {
		var text strings.Builder
		for _, k := range keys {
			text.WriteString(k.Code)
		}
		return b.judge(ctx, b.s.SendKeys(ctx, element(*m), text.String()))
	}
	a := webdriver.Action{Type: "key", ID: "keyboard"}
	for _, k := range keys {
		a.Actions = append(a.Actions, map[string]any{"type": "keyDown", "value": k.Code})
	}
	for i := len(keys) - 1; i >= 0; i-- {
		a.Actions = append(a.Actions, map[string]any{"type": "keyUp", "value": keys[i].Code})
	}
	return b.judge(ctx, b.s.Perform(ctx, a))
}

// Hover moves the pointer to the middle of the element.
func (b *Browser) Hover(ctx context.Context, m script.Match) error {
	return b.judge(ctx, b.s.Perform(ctx, webdriver.Action{
		Type: "pointer", ID: "mouse", Parameters: map[string]any{"pointerType": "mouse"},
		Actions: []map[string]any{{"type": "pointerMove", "duration": 0, "x": 0, "y": 0, "origin": element(m)}},
	}))
}

// Upload gives a file to a file input.
func (b *Browser) Upload(ctx context.Context, m script.Match, file string) error {
	file, err := b.lab.Give(file)
	if err != nil {
		return &script.LabError{Err: err}
	}
	return b.judge(ctx, b.s.SendKeys(ctx, element(m), file))
}

// ScrollPage scrolls to the top or the bottom.
func (b *Browser) ScrollPage(ctx context.Context, where string) error {
	if b.mute { // nothing in its pages depends on where they are scrolled to
		return nil
	}
	return b.judge(ctx, b.s.Execute(ctx,
		`scrollTo({top: arguments[0] === "top" ? 0 : document.documentElement.scrollHeight, behavior: "instant"})`, nil, where))
}

// Network changes the way to every site for the rest of the test.
func (b *Browser) Network(_ context.Context, shape traffic.Shape) error {
	if err := b.lab.Shape(shape); err != nil {
		return &script.LabError{Err: err}
	}
	return nil
}

// Dialog answers an open alert, confirm or prompt.
func (b *Browser) Dialog(ctx context.Context, accept bool, answer *string) error {
	if answer != nil {
		if err := b.s.Do(ctx, http.MethodPost, "/alert/text", map[string]string{"text": *answer}, nil); err != nil {
			return b.judge(ctx, err)
		}
	}
	how := "dismiss"
	if accept {
		how = "accept"
	}
	return b.judge(ctx, b.s.Do(ctx, http.MethodPost, "/alert/"+how, nil, nil))
}

// Read returns the text, the value or an attribute of an element.
func (b *Browser) Read(ctx context.Context, m script.Match, what, attr string) (string, error) {
	var v any
	var err error
	switch what {
	case "value":
		v, err = b.s.Property(ctx, element(m), "value")
	case "attribute":
		v, err = b.s.Attribute(ctx, element(m), attr)
	default:
		v, err = b.s.Text(ctx, element(m))
	}
	if err != nil {
		return "", b.judge(ctx, err)
	}
	if v == nil {
		return "", script.Retry(fmt.Errorf("<%s> has no %s", m.Tag, strings.TrimSpace(what+" "+attr)))
	}
	return fmt.Sprint(v), nil
}

// PageText is the visible text of the page.
func (b *Browser) PageText(ctx context.Context) (string, error) {
	var s string
	if b.mute {
		return s, b.judge(ctx, b.s.Do(ctx, http.MethodGet, "/pane/text", nil, &s))
	}
	err := b.s.Execute(ctx, "return document.body ? document.body.innerText : ''", &s)
	return s, b.judge(ctx, err)
}

// Address is the page's address.
func (b *Browser) Address(ctx context.Context) (string, error) {
	s, err := b.s.URL(ctx)
	return s, b.judge(ctx, err)
}

// Title is the page's title.
func (b *Browser) Title(ctx context.Context) (string, error) {
	s, err := b.s.Title(ctx)
	return s, b.judge(ctx, err)
}

// Screenshot is a PNG of the viewport.
func (b *Browser) Screenshot(ctx context.Context) ([]byte, error) {
	png, err := b.s.Screenshot(ctx)
	return png, b.judge(ctx, err)
}
