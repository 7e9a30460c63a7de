// Package conformance is a kit that every engine passes: the commands a test
// relies on, held against the W3C WebDriver text. Use it from an engine's test.
package conformance

import (
	"bytes"
	"context"
	"fmt"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/find"
	"parallelpane/internal/webdriver"
)

// Kit is what an engine can be asked for beyond the common commands.
type Kit struct {
	Script bool // runs page script
	BiDi   bool // offers webSocketUrl
	// Browser is the one to open; nil takes the family's first of this machine.
	Browser *fleet.Browser
	// OneWindow is of a browser that answers New Window with the one it has.
	OneWindow bool
	// Give makes a file known to the browser and says where it finds it; nil when it
	// sees the files of the test.
	Give func(t *testing.T, s *webdriver.Session, file string) string
}

const first = `<!doctype html><html lang="en"><head><title>Quay one</title></head><body>
<h1 id="top">Harbour office</h1>
<form action="/got" method="get">
<label for="boat">Boat</label><input id="boat" name="boat" value="old">
<label for="berth">Berth</label><select id="berth" name="berth"><option value="a">A</option><option value="b">B</option></select>
<label><input type="checkbox" id="power" name="power"> Shore power</label>
<input type="file" id="paper" name="paper">
<button id="send">Send</button></form>
<p id="hidden" style="display:none">unseen</p>
<a id="next" href="/second">Next page</a>
</body></html>`

const second = `<!doctype html><html><head><title>Quay two</title></head><body><p id="here">Second page</p></body></html>`

const scripted = `<!doctype html><html><head><title>Scripted</title></head><body>
<button id="ask" onclick="setTimeout(() => { document.title = 'asked ' + confirm('Leave the berth?') }, 0)">Ask</button>
<button id="late" onclick="setTimeout(() => { const p = document.createElement('p'); p.id = 'came';
  p.textContent = 'It came'; document.body.append(p) }, 100)">Late</button>
<div style="position:relative;width:200px;height:40px"><button id="under">Under</button><div style="position:absolute;inset:0"></div></div>
</body></html>`

func pages() http.Handler {
	mux := http.NewServeMux()
	page := func(body string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, body)
		}
	}
	mux.HandleFunc("/first", page(first))
	mux.HandleFunc("/second", page(second))
	mux.HandleFunc("/scripted", page(scripted))
	mux.HandleFunc("/got", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(w, `<title>Got</title><p id="got-boat">%s</p><p id="got-berth">%s</p><p id="got-power">%s</p>`,
			r.FormValue("boat"), r.FormValue("berth"), r.FormValue("power"))
	})
	return mux
}

var here = sync.OnceValue(func() find.Found { return find.Here().Look(context.Background()) })

// Browser returns the family's first browser that fits, or skips the test.
// Where PANE_REQUIRE_ENGINES is set, as in CI, a missing one fails it.
func Browser(t *testing.T, f engine.Family) fleet.Browser {
	t.Helper()
	var all []fleet.Browser
	if own, ok := f.(interface {
		Find(ctx context.Context) []fleet.Browser
	}); ok {
		all = own.Find(t.Context())
	} else {
		all = here().Browsers
	}
	for _, is := range []func(b fleet.Browser) bool{
		func(b fleet.Browser) bool { return b.Name == f.Name() },
		func(b fleet.Browser) bool { return b.Engine == f.Name() },
	} {
		for _, b := range all {
			if b.Fits && is(b) {
				return b
			}
		}
	}
	if os.Getenv("PANE_REQUIRE_ENGINES") != "" {
		t.Fatalf("no usable browser of the %s family on this machine", f.Name())
	}
	t.Skipf("no usable browser of the %s family on this machine", f.Name())
	return fleet.Browser{}
}

// Run holds an engine against the kit.
func Run(t *testing.T, f engine.Family, k Kit) {
	var b fleet.Browser
	if k.Browser != nil {
		b = *k.Browser
	} else {
		b = Browser(t, f)
	}
	web := httptest.NewServer(pages())
	t.Cleanup(web.Close)
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	t.Cleanup(cancel)
	profile, err := device.Find("")
	require.NoError(t, err)
	inst, err := f.Launch(ctx, engine.Options{Browser: b, Device: profile, Dir: t.TempDir()})
	require.NoError(t, err)
	t.Cleanup(inst.Close)

	client := webdriver.NewClient(inst.URL, nil)
	ready, err := client.Status(ctx)
	require.NoError(t, err)
	assert.True(t, ready, "ready before the session")
	s, err := client.New(ctx, inst.Caps)
	require.NoError(t, err)
	require.NotEmpty(t, s.ID)
	assert.Equal(t, k.BiDi, s.WebSocketURL() != "", "webSocketUrl")

	open := func(t *testing.T, path string) { require.NoError(t, s.Navigate(ctx, web.URL+path)) }
	find := func(t *testing.T, css string) webdriver.Element {
		e, err := s.Find(ctx, "css selector", css)
		require.NoError(t, err)
		return e
	}
	// Not every driver waits for the page that a click leads to.
	arrived := func(t *testing.T, css string) (text string) {
		t.Helper()
		require.Eventually(t, func() bool {
			e, err := s.Find(ctx, "css selector", css)
			if err == nil {
				text, err = s.Text(ctx, e)
			}
			return err == nil
		}, 10*time.Second, 10*time.Millisecond, "%s never came", css)
		return text
	}
	code := func(t *testing.T, want string, err error) {
		t.Helper()
		require.Error(t, err)
		assert.Equal(t, want, webdriver.CodeOf(err), "%v", err)
	}

	t.Run("navigate", func(t *testing.T) {
		open(t, "/first")
		title, err := s.Title(ctx)
		require.NoError(t, err)
		assert.Equal(t, "Quay one", title)
		address, err := s.URL(ctx)
		require.NoError(t, err)
		assert.Equal(t, web.URL+"/first", address)
		source, err := s.Source(ctx)
		require.NoError(t, err)
		assert.Contains(t, source, "Harbour office")
		require.NoError(t, s.Click(ctx, find(t, "#next")))
		assert.Equal(t, "Second page", arrived(t, "#here"))
		require.NoError(t, s.Do(ctx, http.MethodPost, "/back", nil, nil))
		find(t, "#top")
	})
	t.Run("find", func(t *testing.T) {
		open(t, "/first")
		options, err := s.FindAll(ctx, "css selector", "option")
		require.NoError(t, err)
		assert.Len(t, options, 2)
		link, err := s.Find(ctx, "link text", "Next page")
		require.NoError(t, err)
		assert.Equal(t, find(t, "#next"), link)
		byPath, err := s.Find(ctx, "xpath", "//h1")
		require.NoError(t, err)
		assert.Equal(t, find(t, "#top"), byPath)
	})
	t.Run("form", func(t *testing.T) {
		open(t, "/first")
		boat := find(t, "#boat")
		require.NoError(t, s.Clear(ctx, boat))
		require.NoError(t, s.SendKeys(ctx, boat, "Osprey ü"))
		v, err := s.Property(ctx, boat, "value")
		require.NoError(t, err)
		assert.Equal(t, "Osprey ü", v)
		require.NoError(t, s.Click(ctx, find(t, "#power")))
		require.NoError(t, s.Click(ctx, find(t, "option[value=b]")))
		file := filepath.Join(t.TempDir(), "insurance.txt")
		require.NoError(t, os.WriteFile(file, []byte("insured"), 0o600))
		if k.Give != nil {
			file = k.Give(t, s, file)
		}
		require.NoError(t, s.SendKeys(ctx, find(t, "#paper"), file))
		name, err := s.Attribute(ctx, boat, "name")
		require.NoError(t, err)
		assert.Equal(t, "boat", name)
		require.NoError(t, s.Click(ctx, find(t, "#send")))
		for id, want := range map[string]string{"#got-boat": "Osprey ü", "#got-berth": "b", "#got-power": "on"} {
			assert.Equal(t, want, arrived(t, id), id)
		}
	})
	t.Run("screenshot", func(t *testing.T) {
		open(t, "/first")
		raw, err := s.Screenshot(ctx)
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(raw))
		require.NoError(t, err)
		assert.Greater(t, img.Bounds().Dx(), 100)
	})
	t.Run("cookies", func(t *testing.T) {
		open(t, "/first")
		require.NoError(t, s.AddCookie(ctx, webdriver.Cookie{Name: "tide", Value: "high"}))
		all, err := s.Cookies(ctx)
		require.NoError(t, err)
		require.Len(t, all, 1)
		assert.Equal(t, "high", all[0].Value)
		var one webdriver.Cookie
		require.NoError(t, s.Do(ctx, http.MethodGet, "/cookie/tide", nil, &one))
		assert.Equal(t, "high", one.Value)
		code(t, webdriver.NoSuchCookie, s.Do(ctx, http.MethodGet, "/cookie/none", nil, nil))
		require.NoError(t, s.DeleteCookies(ctx))
		require.Eventually(t, func() bool { // not every driver answers after the deed
			all, err = s.Cookies(ctx)
			return err == nil && len(all) == 0
		}, 5*time.Second, 10*time.Millisecond, "%v %v", all, err)
	})
	t.Run("windows", func(t *testing.T) {
		home, err := s.Window(ctx)
		require.NoError(t, err)
		other, err := s.NewWindow(ctx, "tab")
		require.NoError(t, err)
		if k.OneWindow {
			assert.Equal(t, home, other)
			return
		}
		all, err := s.Windows(ctx)
		require.NoError(t, err)
		assert.ElementsMatch(t, []string{home, other}, all)
		require.NoError(t, s.SwitchTo(ctx, other))
		left, err := s.CloseWindow(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{home}, left)
		code(t, webdriver.NoSuchWindow, s.SwitchTo(ctx, other))
		require.NoError(t, s.SwitchTo(ctx, home))
		_, err = s.WindowRect(ctx)
		require.NoError(t, err)
	})
	t.Run("errors", func(t *testing.T) {
		open(t, "/first")
		_, err := s.Find(ctx, "css selector", "#nowhere")
		code(t, webdriver.NoSuchElement, err)
		_, err = s.Find(ctx, "css selector", "][")
		code(t, webdriver.InvalidSelector, err)
		code(t, webdriver.NotInteractable, s.Click(ctx, find(t, "#hidden")))
		stale := find(t, "#top")
		open(t, "/second")
		code(t, webdriver.StaleElement, s.Click(ctx, stale))
		_, err = s.AlertText(ctx)
		code(t, webdriver.NoSuchAlert, err)
		code(t, webdriver.InvalidArgument, s.Do(ctx, http.MethodPost, "/url", map[string]any{"url": 7}, nil))
		code(t, webdriver.InvalidSessionID, client.Do(ctx, http.MethodGet, "/session/not-a-session/url", nil, nil))
		code(t, webdriver.UnknownCommand, s.Do(ctx, http.MethodGet, "/harbour/master", nil, nil))
	})
	if k.Script {
		t.Run("script", func(t *testing.T) { runScripted(ctx, t, s, web.URL) })
	}
	require.NoError(t, s.Close(ctx))
	_, err = s.URL(ctx)
	require.Error(t, err, "a session that has ended answers no command")
	inst.Close()
	assert.Error(t, inst.Gone(), "every program of the session has ended")
	t.Run("headed", func(t *testing.T) { runHeaded(ctx, t, f, b, web.URL) })
}

// runHeaded opens a window on a virtual display of a device's size.
func runHeaded(ctx context.Context, t *testing.T, f engine.Family, b fleet.Browser, base string) {
	profile, err := device.Find("laptop")
	require.NoError(t, err)
	inst, err := f.Launch(ctx, engine.Options{Browser: b, Device: profile, Headed: true, Dir: t.TempDir()})
	require.NoError(t, err)
	defer inst.Close()
	s, err := webdriver.NewClient(inst.URL, nil).New(ctx, inst.Caps)
	require.NoError(t, err)
	require.NoError(t, s.Navigate(ctx, base+"/first"))
	title, err := s.Title(ctx)
	require.NoError(t, err)
	assert.Equal(t, "Quay one", title)
	raw, err := s.Screenshot(ctx)
	require.NoError(t, err)
	_, err = png.Decode(bytes.NewReader(raw))
	require.NoError(t, err)
	require.NoError(t, s.Close(ctx))
}

func runScripted(ctx context.Context, t *testing.T, s *webdriver.Session, base string) {
	require.NoError(t, s.Navigate(ctx, base+"/scripted"))
	var sum float64
	require.NoError(t, s.Execute(ctx, "return arguments[0] + arguments[1]", &sum, 2, 3))
	assert.InDelta(t, 5, sum, 0)
	var e webdriver.Element
	require.NoError(t, s.Execute(ctx, "return document.querySelector('#late')", &e))
	require.NoError(t, s.Click(ctx, e))
	require.NoError(t, s.SetTimeouts(ctx, webdriver.Timeouts{Script: 5000, PageLoad: 30000, Implicit: 3000}))
	_, err := s.Find(ctx, "css selector", "#came")
	require.NoError(t, err, "the implicit wait lets it come")
	require.NoError(t, s.SetTimeouts(ctx, webdriver.Timeouts{Script: 5000, PageLoad: 30000}))
	var async string
	require.NoError(t, s.ExecuteAsync(ctx, "const done = arguments[arguments.length - 1]; setTimeout(() => done('in time'), 10)", &async))
	assert.Equal(t, "in time", async)
	err = s.Execute(ctx, "throw new Error('rocks')", nil)
	assert.Equal(t, webdriver.JavascriptError, webdriver.CodeOf(err), "%v", err)
	under, err := s.Find(ctx, "css selector", "#under")
	require.NoError(t, err)
	err = s.Click(ctx, under)
	assert.Equal(t, webdriver.ClickIntercepted, webdriver.CodeOf(err), "%v", err)

	ask, err := s.Find(ctx, "css selector", "#ask")
	require.NoError(t, err)
	require.NoError(t, s.Click(ctx, ask))
	var message string
	require.Eventually(t, func() bool {
		message, err = s.AlertText(ctx)
		return err == nil
	}, 5*time.Second, 10*time.Millisecond)
	assert.Equal(t, "Leave the berth?", message)
	require.NoError(t, s.AcceptAlert(ctx))
	require.Eventually(t, func() bool {
		title, err := s.Title(ctx)
		return err == nil && title == "asked true"
	}, 5*time.Second, 10*time.Millisecond)
}
