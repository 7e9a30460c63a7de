package standin

import (
	"bytes"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/PuerkitoBio/goquery"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/conformance"
	"parallelpane/internal/webdriver"
)

func family() *Family {
	return &Family{Browsers: []fleet.Browser{{Name: "kestrel", Version: "12.1"}}, Platform: "saltos 4"}
}

func TestConformance(t *testing.T) {
	conformance.Run(t, family(), conformance.Kit{})
}

const harbour = `<!doctype html><html><head><title>Harbour</title><link rel="stylesheet" href="/style.css">
<style>.gone { display: none } @media (max-width: 600px) { .wide { display: none } } #veil { opacity: 0 }
p.back { display: block !important } </style></head><body>
<nav class="wide"><a href="/tides" id="bar">Tides</a></nav><nav class="narrow"><a href="/tides" id="menu">Tides</a></nav>
<p class="gone" id="gone">Gone</p><p class="gone back" id="back">Back</p><p id="veil">Veil</p>
<p style="visibility:hidden" id="ghost">Ghost</p>
<details id="more"><summary>More</summary><p id="deep">Deep water</p></details>
<form action="/hold" method="post" enctype="multipart/form-data"><label for="boat">Boat</label><input id="boat" name="boat" required>
<input type="radio" name="side" value="port" id="port" checked><input type="radio" name="side" value="starboard" id="starboard">
<textarea name="note" id="note"></textarea><input type="file" name="paper" id="paper"><input type="hidden" name="key" value="k">
<input name="off" value="x" disabled>
<button id="hold" name="do" value="hold">Hold</button><button type="button" id="idle">Idle</button></form>
<noscript><p id="noscript">No scripts here</p></noscript>
<table><caption>Tides</caption><tr><th>Time</th><th>Height</th></tr><tr><td>06:30</td><td>4.1 m</td></tr></table>
<a href="/window" target="_blank" id="window">New window</a></body></html>`

func serve(t *testing.T) string {
	mux := http.NewServeMux()
	mux.HandleFunc("/{$}", func(w http.ResponseWriter, r *http.Request) {
		http.SetCookie(w, &http.Cookie{Name: "visit", Value: "1", Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		io.WriteString(w, harbour)
	})
	mux.HandleFunc("/style.css", func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, "@media (min-width: 601px) { .narrow { display: none } }")
	})
	mux.HandleFunc("/hold", func(w http.ResponseWriter, r *http.Request) {
		require.NoError(t, r.ParseMultipartForm(1<<20))
		file := ""
		if f, h, err := r.FormFile("paper"); err == nil {
			raw, _ := io.ReadAll(f)
			file = h.Filename + "=" + string(raw)
		}
		http.SetCookie(w, &http.Cookie{Name: "held", Value: strings.Join([]string{r.FormValue("boat"), r.FormValue("side"),
			r.FormValue("note"), file, r.FormValue("do"), r.FormValue("off")}, "/"), Path: "/"})
		http.Redirect(w, r, "/held", http.StatusSeeOther)
	})
	mux.HandleFunc("/held", func(w http.ResponseWriter, r *http.Request) {
		c, err := r.Cookie("held")
		require.NoError(t, err)
		fmt.Fprintf(w, "<title>Held</title><p id=was>%s</p>", c.Value)
	})
	mux.HandleFunc("/tides", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Tides</title>") })
	mux.HandleFunc("/window", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Other</title>") })
	mux.HandleFunc("/round", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/round", http.StatusFound) })
	srv := httptest.NewServer(mux)
	t.Cleanup(srv.Close)
	return srv.URL
}

func openOn(t *testing.T, f *Family, name string) *webdriver.Session {
	profile, err := device.Find(name)
	require.NoError(t, err)
	inst, err := f.Launch(t.Context(), engine.Options{Browser: f.Find(t.Context())[0], Device: profile, Dir: t.TempDir()})
	require.NoError(t, err)
	t.Cleanup(inst.Close)
	s, err := webdriver.NewClient(inst.URL, nil).New(t.Context(), inst.Caps)
	require.NoError(t, err)
	return s
}

func shown(t *testing.T, s *webdriver.Session, css string) bool {
	e, err := s.Find(t.Context(), "css selector", css)
	require.NoError(t, err)
	var v bool
	require.NoError(t, s.Do(t.Context(), http.MethodGet, "/element/"+string(e)+"/displayed", nil, &v))
	return v
}

func TestVisibilityFollowsStyleAndViewport(t *testing.T) {
	base := serve(t)
	for name, want := range map[string]map[string]bool{
		"desktop": {"#bar": true, "#menu": false, "#gone": false, "#back": true, "#veil": false, "#ghost": false,
			"#deep": false, "#noscript": true},
		"phone": {"#bar": false, "#menu": true},
	} {
		s := openOn(t, family(), name)
		require.NoError(t, s.Navigate(t.Context(), base+"/"))
		for css, visible := range want {
			assert.Equal(t, visible, shown(t, s, css), "%s on %s", css, name)
		}
	}
}

func TestAFormWithAFileThroughARedirect(t *testing.T) {
	s := openOn(t, family(), "desktop")
	ctx := t.Context()
	require.NoError(t, s.Navigate(ctx, serve(t)+"/"))
	find := func(css string) webdriver.Element {
		e, err := s.Find(ctx, "css selector", css)
		require.NoError(t, err)
		return e
	}
	require.NoError(t, s.Click(ctx, find("#hold")))
	title, err := s.Title(ctx)
	require.NoError(t, err)
	assert.Equal(t, "Harbour", title, "a required field is empty: nothing is sent")
	paper := filepath.Join(t.TempDir(), "paper.txt")
	require.NoError(t, os.WriteFile(paper, []byte("insured"), 0o600))
	for css, text := range map[string]string{"#boat": "Osprey", "#note": "by night", "#paper": paper} {
		require.NoError(t, s.SendKeys(ctx, find(css), text))
	}
	require.NoError(t, s.Click(ctx, find("#starboard")))
	require.NoError(t, s.Click(ctx, find("#idle")))
	require.NoError(t, s.Click(ctx, find("#hold")))
	got, err := s.Text(ctx, find("#was"))
	require.NoError(t, err)
	assert.Equal(t, "Osprey/starboard/by night/paper.txt=insured/hold/", strings.ReplaceAll(got, `"`, ""))
	err = s.SendKeys(ctx, find("#was"), "x")
	require.NoError(t, err, "keys to what takes none go nowhere")
}

func TestDetailsWindowsAndKeys(t *testing.T) {
	s := openOn(t, family(), "desktop")
	ctx, base := t.Context(), serve(t)
	require.NoError(t, s.Navigate(ctx, base+"/"))
	find := func(css string) webdriver.Element {
		e, err := s.Find(ctx, "css selector", css)
		require.NoError(t, err)
		return e
	}
	require.NoError(t, s.Click(ctx, find("summary")))
	assert.True(t, shown(t, s, "#deep"))
	require.NoError(t, s.Click(ctx, find("#window")))
	windows, err := s.Windows(ctx)
	require.NoError(t, err)
	require.Len(t, windows, 2)
	require.NoError(t, s.SendKeys(ctx, find("#boat"), "Osprey\uE003\uE003\uE007"))
	text, err := s.Text(ctx, find("#was"))
	require.NoError(t, err)
	assert.Contains(t, text, "Ospr/port", "Enter sends the form")
	require.NoError(t, s.Navigate(ctx, base+"/#quay"))
	before := find("#boat")
	require.NoError(t, s.Navigate(ctx, base+"/#pier"))
	assert.Equal(t, before, find("#boat"), "another place in the same document")
	var rows string
	rows, err = s.Text(ctx, find("table"))
	require.NoError(t, err)
	assert.Equal(t, "Tides\nTime Height\n06:30 4.1 m", rows)
}

func TestWhatItCannotDoItSays(t *testing.T) {
	s := openOn(t, family(), "phone")
	ctx, base := t.Context(), serve(t)
	err := s.Execute(ctx, "return 1", nil)
	assert.Equal(t, webdriver.UnsupportedOperation, webdriver.CodeOf(err))
	assert.ErrorContains(t, err, "without a script engine")
	assert.Equal(t, true, s.Capabilities[webdriver.NoScript])
	assert.Equal(t, webdriver.UnknownError, webdriver.CodeOf(s.Navigate(ctx, "http://127.0.0.1:1/")))
	assert.ErrorContains(t, s.Navigate(ctx, base+"/round"), "more than 20 redirects")
	assert.Equal(t, webdriver.UnknownMethod, webdriver.CodeOf(s.Do(ctx, http.MethodDelete, "/title", nil, nil)))
	require.NoError(t, s.Navigate(ctx, base+"/"))
	raw, err := s.Screenshot(ctx)
	require.NoError(t, err)
	img, err := png.Decode(bytes.NewReader(raw))
	require.NoError(t, err)
	assert.Equal(t, 390*3, img.Bounds().Dx(), "device pixels")
}

func TestFaults(t *testing.T) {
	f := family()
	f.Faults.Start = 1
	_, err := f.Launch(t.Context(), engine.Options{Browser: f.Find(t.Context())[0], Device: device.Catalogue[2]})
	assert.ErrorContains(t, err, "would not start")
	f = family()
	f.Faults.Crash = 1
	profile, _ := device.Find("")
	inst, err := f.Launch(t.Context(), engine.Options{Browser: f.Find(t.Context())[0], Device: profile})
	require.NoError(t, err)
	defer inst.Close()
	s, err := webdriver.NewClient(inst.URL, nil).New(t.Context(), inst.Caps)
	require.NoError(t, err)
	_, err = s.Title(t.Context())
	assert.True(t, webdriver.SessionLost(err), "%v", err)
	assert.ErrorContains(t, inst.Gone(), "crashed")
}

func TestMediaQueries(t *testing.T) {
	for query, want := range map[string]bool{
		"(min-width: 600px)": true, "(max-width: 600px)": false, "screen and (min-width: 37.5em) and (max-width: 1000px)": true, "print": false,
		"(width >= 800px)": true, "(width < 800px)": false, "(orientation: landscape)": true, "not print": true, "print, (height > 500px)": true,
		"(prefers-color-scheme: dark)": false, "only screen": true,
	} {
		assert.Equal(t, want, holds(query, 800, 600), query)
	}
}

func FuzzPage(f *testing.F) {
	f.Add(harbour)
	f.Add("<style>@media (min-width:</style><select><option selected><table><tr><td><details><input type=file>")
	f.Fuzz(func(t *testing.T, source string) {
		p, err := newPage("http://quay.example/", []byte(source))
		if err != nil {
			return
		}
		p.doc.Find("style").Each(func(_ int, s *goquery.Selection) { p.sheet.add(s.Text()) })
		p.resize(390, 844)
		p.layout()
		p.rendered(p.doc.Nodes[0])
	})
}

func TestActionsReachWhatLiesUnderThem(t *testing.T) {
	s := openOn(t, family(), "desktop")
	ctx := t.Context()
	require.NoError(t, s.Navigate(ctx, serve(t)+"/"))
	summary, err := s.Find(ctx, "css selector", "summary")
	require.NoError(t, err)
	press := webdriver.Action{Type: "pointer", ID: "mouse", Actions: []map[string]any{
		{"type": "pointerMove", "x": 0, "y": 0, "origin": summary}, {"type": "pointerDown", "button": 0}, {"type": "pointerUp", "button": 0}}}
	require.NoError(t, s.Perform(ctx, press))
	assert.True(t, shown(t, s, "#deep"))
	boat, err := s.Find(ctx, "css selector", "#boat")
	require.NoError(t, err)
	require.NoError(t, s.Click(ctx, boat))
	require.NoError(t, s.Perform(ctx, webdriver.Action{Type: "key", ID: "keyboard", Actions: []map[string]any{
		{"type": "keyDown", "value": "O"}, {"type": "keyUp", "value": "O"}, {"type": "keyDown", "value": "k"}, {"type": "keyUp", "value": "k"}}}))
	v, err := s.Property(ctx, boat, "value")
	require.NoError(t, err)
	assert.Equal(t, "Ok", v)
	var active webdriver.Element
	require.NoError(t, s.Do(ctx, http.MethodGet, "/element/active", nil, &active))
	assert.Equal(t, boat, active)
	err = s.Perform(ctx, webdriver.Action{Type: "key", ID: "keyboard", Actions: []map[string]any{{"type": "sing"}}})
	assert.Equal(t, webdriver.InvalidArgument, webdriver.CodeOf(err))
}

func TestRolesAndNames(t *testing.T) {
	p, err := newPage("http://quay.example/",
		[]byte(`<nav id=n aria-label=Main></nav><section id=s></section><section id=r aria-labelledby=h><h2 id=h>Tides <img alt=today></h2>
</section>
<input id=q type=search placeholder=Find><input id=go type=submit><input id=c type=checkbox><label for=c>Shore <b>power</b></label>
<img id=i alt=""><table id=t><caption>Berths</caption><tr><th id=th>No.</th></tr></table>
<fieldset id=f><legend>Boat</legend></fieldset><a id=a>x</a><a id=l href=/>Home</a><select id=m multiple></select>
<div id=d role="alert note">!</div><header id=b></header><main><footer id=g></footer></main>`))
	require.NoError(t, err)
	p.resize(800, 600)
	for id, want := range map[string][2]string{
		"n": {"navigation", "Main"}, "s": {"", ""}, "r": {"region", "Tides"}, "h": {"heading", "Tides today"}, "q": {"searchbox",
			"Find"}, "go": {"button", "Submit"},
		"c": {"checkbox", "Shore power"}, "i": {"presentation", ""}, "t": {"table", "Berths"}, "th": {"columnheader", "No."},
		"f": {"group", "Boat"}, "a": {"", "x"},
		"l": {"link", "Home"}, "m": {"listbox", ""}, "d": {"alert", ""}, "b": {"banner", ""}, "g": {"", ""},
	} {
		n := p.byID(id)
		require.NotNil(t, n, id)
		assert.Equal(t, want, [2]string{p.role(n), p.name(n)}, id)
	}
}

func TestCookiesStayWithTheirSite(t *testing.T) {
	s := &session{}
	quay, pier := "http://quay.example/berths/7", "https://pier.example/"
	at := func(address string) *url.URL { u, err := url.Parse(address); require.NoError(t, err); return u }
	for _, c := range []*http.Cookie{
		{Name: "host", Value: "1"}, {Name: "deep", Value: "2", Path: "/berths"}, {Name: "foreign", Value: "3", Domain: "pier.example"},
		{Name: "site", Value: "4", Domain: ".example"}, {Name: "secure", Value: "5", Secure: true}, {Name: "old", Value: "6", MaxAge: -1},
	} {
		s.takeCookie(at(quay), c)
	}
	names := func(address string) (out []string) {
		for _, c := range s.cookiesFor(at(address)) {
			out = append(out, c.Name)
		}
		return out
	}
	assert.Equal(t, []string{"host", "deep", "site"}, names(quay))
	assert.Equal(t, []string{"host", "site"}, names("http://quay.example/"))
	assert.Equal(t, []string{"host", "site"}, names("http://quay.example/berthsmen"), "a path ends at a slash")
	assert.Equal(t, []string{"site"}, names(pier))
	assert.Contains(t, names("https://quay.example/"), "secure")
	s.takeCookie(at(quay), &http.Cookie{Name: "host", Value: "", MaxAge: -1, Path: "/"})
	assert.NotContains(t, names(quay), "host")
}
