package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
	"golang.org/x/net/html/charset"

	"parallelpane/internal/webdriver"
)

// Limits of what is loaded.
const (
	maxPage  = 16 << 20
	maxSheet = 1 << 20
	maxHops  = 20
)

func failed(code, format string, args ...any) error {
	return &webdriver.Error{Code: code, Message: fmt.Sprintf(format, args...)}
}

// window is one top-level context with its history.
type window struct {
	handle  string
	pages   []*page
	current int
	active  *html.Node
}

func (w *window) page() *page { return w.pages[w.current] }

// show puts a page after the current one, dropping what lay ahead.
func (w *window) show(p *page) {
	w.pages = append(w.pages[:w.current+1], p)
	w.current = len(w.pages) - 1
	w.active = nil
}

// load fetches a page and its style sheets.
func (s *session) load(ctx context.Context, method, address, contentType string, body []byte) (*page, error) {
	ctx, cancel := context.WithTimeout(ctx, s.timeouts.pageLoad())
	defer cancel()
	got, final, media, err := s.fetch(ctx, method, address, contentType, body, maxPage)
	if err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			return nil, failed(webdriver.Timeout, "%s did not load within %s", address, s.timeouts.pageLoad())
		}
		return nil, failed(webdriver.UnknownError, "%s cannot be loaded: %v", address, err)
	}
	kind, _, _ := mime.ParseMediaType(media)
	if kind != "text/html" && kind != "application/xhtml+xml" {
		got = []byte("<!doctype html><title></title><pre>" + html.EscapeString(string(got)) + "</pre>")
	}
	r, err := charset.NewReader(bytes.NewReader(got), media)
	if err == nil {
		got, err = io.ReadAll(r)
	}
	if err != nil {
		return nil, failed(webdriver.UnknownError, "%s cannot be read: %v", address, err)
	}
	p, err := newPage(final, got)
	if err != nil {
		return nil, failed(webdriver.UnknownError, "%s cannot be parsed: %v", address, err)
	}
	elements(p.doc.Nodes[0], func(n *html.Node) {
		media := attrOf(n, "media")
		sheet := ""
		switch {
		case n.DataAtom == atom.Style:
			sheet = textOf(n)
		case n.DataAtom == atom.Link && slices.Contains(strings.Fields(strings.ToLower(attrOf(n, "rel"))), "stylesheet"):
			if css, _, _, err := s.fetch(ctx, http.MethodGet, p.resolve(attrOf(n, "href")), "", nil, maxSheet); err == nil {
				sheet = string(css) // one that does not come is left out, as in any browser
			}
		}
		if media != "" && sheet != "" {
			sheet = "@media " + media + " {" + sheet + "}"
		}
		if sheet != "" {
			p.sheet.add(sheet)
		}
	})
	p.resize(s.width, s.height)
	return p, nil
}

// resolve makes an address of a reference in the page.
func (p *page) resolve(ref string) string {
	base, err := url.Parse(p.address)
	if err != nil {
		return ref
	}
	if b := p.doc.Find("base[href]").First(); b.Length() > 0 {
		if u, err := base.Parse(b.AttrOr("href", "")); err == nil {
			base = u
		}
	}
	u, err := base.Parse(strings.TrimSpace(ref))
	if err != nil {
		return ref
	}
	return u.String()
}

// fetch follows redirects by itself, so that each answer's cookies are taken.
func (s *session) fetch(ctx context.Context, method, address, contentType string, body []byte, limit int64) (got []byte,
	final, media string, err error) {
	if address == "about:blank" {
		return nil, address, "text/html", nil
	}
	for range maxHops {
		u, err := url.Parse(address)
		if err != nil || (u.Scheme != "http" && u.Scheme != "https") {
			return nil, address, "", fmt.Errorf("%q is not an address it can load", address)
		}
		req, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
		if err != nil {
			return nil, address, "", err
		}
		req.Header.Set("User-Agent", s.agent)
		req.Header.Set("Accept", "text/html,application/xhtml+xml,*/*;q=0.8")
		req.Header.Set("Accept-Language", s.language)
		if contentType != "" {
			req.Header.Set("Content-Type", contentType)
		}
		for _, c := range s.cookiesFor(u) {
			req.AddCookie(&http.Cookie{Name: c.Name, Value: c.Value})
		}
		resp, err := s.http.Do(req)
		if err != nil {
			return nil, address, "", err
		}
		for _, c := range resp.Cookies() {
			s.takeCookie(u, c)
		}
		got, err = io.ReadAll(io.LimitReader(resp.Body, limit+1))
		resp.Body.Close()
		if err != nil {
			return nil, address, "", err
		}
		if int64(len(got)) > limit {
			return nil, address, "", fmt.Errorf("it is larger than %d MiB", limit>>20)
		}
		where := resp.Header.Get("Location")
		if resp.StatusCode < 300 || resp.StatusCode > 399 || where == "" {
			return got, address, resp.Header.Get("Content-Type"), nil
		}
		next, err := u.Parse(where)
		if err != nil {
			return nil, address, "", err
		}
		if next.Fragment == "" {
			next.Fragment = u.Fragment
		}
		if address = next.String(); resp.StatusCode != http.StatusTemporaryRedirect && resp.StatusCode != http.StatusPermanentRedirect &&
			method != http.MethodHead {
			method, body, contentType = http.MethodGet, nil, ""
		}
	}
	return nil, address, "", fmt.Errorf("more than %d redirects", maxHops)
}

// takeCookie keeps a cookie of an answer (RFC 6265 section 5.3).
func (s *session) takeCookie(u *url.URL, c *http.Cookie) {
	k := webdriver.Cookie{Name: c.Name, Value: c.Value, Path: c.Path, Domain: strings.TrimPrefix(c.Domain, "."),
		Secure: c.Secure, HTTPOnly: c.HttpOnly}
	k.SameSite = map[http.SameSite]string{http.SameSiteLaxMode: "Lax", http.SameSiteStrictMode: "Strict",
		http.SameSiteNoneMode: "None"}[c.SameSite]
	if k.Domain != "" && !domainMatch(u.Hostname(), k.Domain) {
		return
	}
	if !c.Expires.IsZero() {
		k.Expiry = max(1, c.Expires.Unix())
	}
	if c.MaxAge > 0 {
		k.Expiry = time.Now().Add(time.Duration(c.MaxAge) * time.Second).Unix()
	} else if c.MaxAge < 0 {
		k.Expiry = 1
	}
	s.putCookie(u, k)
}

// putCookie stores a cookie in place of the one of its name, domain and path.
// One that has expired only removes.
func (s *session) putCookie(u *url.URL, k webdriver.Cookie) {
	if k.Domain == "" {
		k.Domain = u.Hostname()
	}
	if k.Path == "" || k.Path[0] != '/' {
		k.Path = "/"
	}
	s.cookies = slices.DeleteFunc(s.cookies, func(o webdriver.Cookie) bool {
		return o.Name == k.Name && o.Domain == k.Domain && o.Path == k.Path
	})
	if k.Expiry == 0 || k.Expiry > time.Now().Unix() {
		s.cookies = append(s.cookies, k)
	}
}

func domainMatch(host, domain string) bool {
	return strings.EqualFold(host, domain) || strings.HasSuffix(strings.ToLower(host), "."+strings.ToLower(domain))
}

// cookiesFor lists the cookies that go with a request.
func (s *session) cookiesFor(u *url.URL) (out []webdriver.Cookie) {
	for _, c := range s.cookies {
		path := u.Path
		if path == "" {
			path = "/"
		}
		onPath := path == c.Path || (strings.HasPrefix(path, c.Path) && (strings.HasSuffix(c.Path, "/") || path[len(c.Path)] == '/'))
		if domainMatch(u.Hostname(), c.Domain) && onPath && (!c.Secure || u.Scheme == "https") && (c.Expiry == 0 ||
			c.Expiry > time.Now().Unix()) {
			out = append(out, c)
		}
	}
	return out
}

// goTo loads an address into the current window.
func (s *session) goTo(ctx context.Context, address string) error {
	w := s.window()
	if sameDocument(w.page().address, address) {
		p := *w.page()
		p.address = address
		w.show(&p)
		return nil
	}
	p, err := s.load(ctx, http.MethodGet, address, "", nil)
	if err != nil {
		return err
	}
	w.show(p)
	return nil
}

// sameDocument says whether there leads only to another place in here.
func sameDocument(here, there string) bool {
	x, _, _ := strings.Cut(here, "#")
	y, _, has := strings.Cut(there, "#")
	return has && x == y && here != there
}

// click does what a click on an element leads to, without scripts.
func (s *session) click(ctx context.Context, n *html.Node) error {
	p := s.page()
	if n.DataAtom == atom.Option {
		return s.clickOption(n)
	}
	if why := p.hiddenBecause(n); why != "" {
		return failed(webdriver.NotInteractable, "%s cannot be seen: %s", called(n), why)
	}
	if inputType(n) == "file" {
		return failed(webdriver.InvalidArgument, "a file field is not clicked: send it the path of a file")
	}
	for a := n; a != nil && a.Type == html.ElementNode; a = a.Parent {
		if disabled(a) && control(a) {
			return nil
		}
		switch {
		case control(a):
			s.window().active = a
			return s.activate(ctx, a)
		case a.DataAtom == atom.A && has(a, "href"):
			return s.follow(ctx, a)
		case a.DataAtom == atom.Label:
			if c := p.labelled(a); c != nil && !within(n, c) && !disabled(c) {
				s.window().active = c
				return s.activate(ctx, c)
			}
		case a.DataAtom == atom.Summary && a.Parent != nil && a.Parent.DataAtom == atom.Details:
			if has(a.Parent, "open") {
				dropAttr(a.Parent, "open")
			} else {
				setAttr(a.Parent, "open", "")
			}
			p.changed()
			return nil
		}
	}
	return nil
}

func (s *session) clickOption(n *html.Node) error {
	p := s.page()
	sel := closest(n, atom.Select)
	if sel == nil {
		return nil
	}
	if why := p.hiddenBecause(sel); why != "" {
		return failed(webdriver.NotInteractable, "%s cannot be seen: %s", called(sel), why)
	}
	if disabled(sel) || has(n, "disabled") {
		return nil
	}
	if has(sel, "multiple") && has(n, "selected") {
		dropAttr(n, "selected")
	} else {
		if !has(sel, "multiple") {
			for _, o := range options(sel) {
				dropAttr(o, "selected")
			}
		}
		setAttr(n, "selected", "")
	}
	p.changed()
	return nil
}

func (s *session) follow(ctx context.Context, a *html.Node) error {
	address := s.page().resolve(attrOf(a, "href"))
	if strings.HasPrefix(strings.ToLower(address), "javascript:") {
		return nil
	}
	if t := attrOf(a, "target"); t != "" && t != "_self" && t != "_top" && t != "_parent" {
		p, err := s.load(ctx, http.MethodGet, address, "", nil)
		if err != nil {
			return err
		}
		s.open().show(p)
		return nil
	}
	return s.goTo(ctx, address)
}

// activate is what a click on a control does.
func (s *session) activate(ctx context.Context, n *html.Node) error {
	p := s.page()
	t := inputType(n)
	if n.DataAtom == atom.Button {
		if t = strings.ToLower(attrOf(n, "type")); t == "" {
			t = "submit"
		}
	}
	switch t {
	case "checkbox":
		if has(n, "checked") {
			dropAttr(n, "checked")
		} else {
			setAttr(n, "checked", "")
		}
		p.changed()
	case "radio":
		form := closest(n, atom.Form)
		for _, o := range collect(p.doc.Nodes[0], func(o *html.Node) bool {
			return inputType(o) == "radio" && attrOf(o, "name") == attrOf(n, "name") && closest(o, atom.Form) == form
		}) {
			dropAttr(o, "checked")
		}
		setAttr(n, "checked", "")
		p.changed()
	case "submit", "image":
		if form := p.formOf(n); form != nil {
			return s.submit(ctx, form, n)
		}
	case "reset":
		if form := p.formOf(n); form != nil {
			for _, c := range collect(form, control) {
				delete(p.typed, c)
				delete(p.files, c)
			}
			p.changed()
		}
	}
	return nil
}

func (p *page) formOf(n *html.Node) *html.Node {
	if id := attrOf(n, "form"); id != "" {
		return p.byID(id)
	}
	return closest(n, atom.Form)
}

// entry is one name and value of a form, a file where path is set.
type entry struct{ name, value, path string }

// entries lists what a form sends (HTML, "Constructing the entry list").
func (p *page) entries(form, submitter *html.Node) (out []entry) {
	for _, n := range collect(p.doc.Nodes[0], control) {
		name := attrOf(n, "name")
		if p.formOf(n) != form || name == "" || disabled(n) {
			continue
		}
		t := inputType(n)
		switch {
		case n.DataAtom == atom.Button || t == "submit" || t == "button" || t == "reset" || t == "image":
			if n == submitter {
				out = append(out, entry{name, p.value(n), ""})
			}
		case t == "checkbox" || t == "radio":
			if has(n, "checked") {
				out = append(out, entry{name, p.value(n), ""})
			}
		case t == "file":
			for _, f := range p.files[n] {
				out = append(out, entry{name, filepath.Base(f), f})
			}
			if len(p.files[n]) == 0 {
				out = append(out, entry{name: name})
			}
		case n.DataAtom == atom.Select:
			for _, o := range p.chosen(n) {
				out = append(out, entry{name, optionValue(o), ""})
			}
		default:
			out = append(out, entry{name, p.value(n), ""})
		}
	}
	return out
}

// invalidControl is the first control whose constraints do not hold.
func (p *page) invalidControl(form *html.Node) *html.Node {
	for _, n := range collect(p.doc.Nodes[0], control) {
		if p.formOf(n) != form || disabled(n) || !has(n, "required") {
			continue
		}
		missing := p.value(n) == ""
		if t := inputType(n); t == "checkbox" {
			missing = !has(n, "checked")
		}
		if missing {
			return n
		}
	}
	return nil
}

func (s *session) submit(ctx context.Context, form, submitter *html.Node) error {
	p := s.page()
	of := func(name string) string {
		if submitter != nil && has(submitter, "form"+name) {
			return attrOf(submitter, "form"+name)
		}
		return attrOf(form, name)
	}
	if !has(form, "novalidate") && (submitter == nil || !has(submitter, "formnovalidate")) && p.invalidControl(form) != nil {
		return nil // a browser shows a message and sends nothing
	}
	action := p.resolve(of("action"))
	if of("action") == "" {
		action = p.address
	}
	values := url.Values{}
	list := p.entries(form, submitter)
	for _, e := range list {
		values.Add(e.name, e.value)
	}
	if !strings.EqualFold(of("method"), "post") {
		u, err := url.Parse(action)
		if err != nil {
			return failed(webdriver.UnknownError, "the form's action %q is not an address", action)
		}
		u.RawQuery, u.Fragment = values.Encode(), ""
		return s.goTo(ctx, u.String())
	}
	kind, body := "application/x-www-form-urlencoded", []byte(values.Encode())
	if strings.EqualFold(of("enctype"), "multipart/form-data") {
		var err error
		if kind, body, err = multipartOf(list); err != nil {
			return failed(webdriver.UnknownError, "the form's files cannot be read: %v", err)
		}
	}
	next, err := s.load(ctx, http.MethodPost, action, kind, body)
	if err != nil {
		return err
	}
	s.window().show(next)
	return nil
}

func multipartOf(list []entry) (kind string, body []byte, err error) {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for _, e := range list {
		if e.path == "" {
			err = errors.Join(err, w.WriteField(e.name, e.value))
			continue
		}
		part, partErr := w.CreateFormFile(e.name, e.value)
		raw, readErr := os.ReadFile(e.path)
		if err = errors.Join(err, partErr, readErr); err == nil {
			_, err = part.Write(raw)
		}
	}
	err = errors.Join(err, w.Close())
	return w.FormDataContentType(), b.Bytes(), err
}

// enter types text into an element, as keys; Enter in a field sends its form.
func (s *session) enter(ctx context.Context, n *html.Node, text string) error {
	p := s.page()
	if inputType(n) == "file" {
		for _, f := range strings.Split(text, "\n") {
			if info, err := os.Stat(f); err != nil || !info.Mode().IsRegular() {
				return failed(webdriver.InvalidArgument, "%q is not a file on the machine of the browser", f)
			}
			if !has(n, "multiple") {
				p.files[n] = nil
			}
			p.files[n] = append(p.files[n], f)
		}
		p.changed()
		return nil
	}
	if why := p.hiddenBecause(n); why != "" {
		return failed(webdriver.NotInteractable, "%s cannot be seen: %s", called(n), why)
	}
	if control(n) && disabled(n) {
		return failed(webdriver.NotInteractable, "%s is disabled", called(n))
	}
	s.window().active = n
	return s.keys(ctx, n, text)
}

// Key codes of W3C WebDriver, section 17.4.2 "Keyboard actions".
const (
	keyBackspace = '\uE003'
	keyReturn    = '\uE006'
	keyEnter     = '\uE007'
	keySpace     = '\uE00D'
	firstKey     = '\uE000'
	lastKey      = '\uE05D'
)

func (s *session) keys(ctx context.Context, n *html.Node, text string) error {
	p := s.page()
	t := inputType(n)
	field := n.DataAtom == atom.Textarea || (n.DataAtom == atom.Input && t != "checkbox" && t != "radio" && t != "submit" &&
		t != "button" && t != "reset")
	for _, r := range text {
		switch {
		case r == keyEnter || r == keyReturn || (r == '\n' && n.DataAtom != atom.Textarea):
			switch {
			case n.DataAtom == atom.Textarea:
				p.typed[n] = p.value(n) + "\n"
			case field && p.formOf(n) != nil:
				return s.submit(ctx, p.formOf(n), p.defaultButton(n))
			default:
				return s.click(ctx, n)
			}
		case (r == keySpace || r == ' ') && !field:
			return s.click(ctx, n)
		case r == keyBackspace && field:
			if v := []rune(p.value(n)); len(v) > 0 {
				p.typed[n] = string(v[:len(v)-1])
			}
		case r >= firstKey && r <= lastKey:
		case field && !has(n, "readonly"):
			v := p.value(n) + string(r)
			p.typed[n] = v
		}
	}
	p.changed()
	return nil
}

// defaultButton is the first submit button of a control's form.
func (p *page) defaultButton(n *html.Node) *html.Node {
	form := p.formOf(n)
	for _, c := range collect(p.doc.Nodes[0], control) {
		t := inputType(c)
		if c.DataAtom == atom.Button {
			t = strings.ToLower(attrOf(c, "type"))
		}
		if p.formOf(c) == form && !disabled(c) && (t == "submit" || t == "image" || (t == "" && c.DataAtom == atom.Button)) {
			return c
		}
	}
	return nil
}
