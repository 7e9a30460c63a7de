// Package tracker is a stand-in for a defect tracker: it gives a form, takes what is filled
// in, and shows what it has on a page that says so, where defects are closed and opened
// again. It keeps them in memory, and nothing on disk.
package tracker

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/core/form"
)

// Bounds of what is kept.
const (
	maxDefects = 500
	maxBody    = 8 << 20
	maxNotes   = 50
)

// Path is where the tracker is spoken to; its page is at the root.
const Path = "/defects"

//go:embed form.json
var formJSON []byte

//go:embed tracker.html
var pageHTML string

var page = template.Must(template.New("tracker").Parse(pageHTML))

// Defect is one that was filed.
type Defect struct {
	Key    string    `json:"key"`
	Title  string    `json:"title"`
	Status string    `json:"status"`
	Link   string    `json:"link"`
	At     time.Time `json:"-"`
	Fields []Field   `json:"-"`
	Shots  []string  `json:"-"` // pictures, in base64
	Notes  []string  `json:"-"` // what it was told later, the newest last
}

// Field is one of a filled form.
type Field struct{ Name, Value string }

// Tracker takes defects and shows them.
type Tracker struct {
	base string // its own address
	form *form.Form

	mu   sync.Mutex
	all  []*Defect // the newest first
	last int
	keys map[string]*Defect // by Idempotency-Key
}

// New makes a tracker that is reached at an address such as http://127.0.0.1:7484.
func New(base string) (*Tracker, error) {
	f, err := form.Parse(formJSON)
	return &Tracker{base: base, form: f, keys: map[string]*Defect{}}, err
}

// ServeHTTP speaks as docs/trackers.md has it, and shows the page.
func (t *Tracker) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cache-Control", "no-store")
	switch key, under := strings.CutPrefix(r.URL.Path, Path+"/"); {
	case r.URL.Path == Path && r.Method == http.MethodGet && r.URL.Query().Has("text"):
		answer(w, http.StatusOK, t.search(r.URL.Query().Get("text")))
	case r.URL.Path == Path && r.Method == http.MethodGet:
		h.Set("Content-Type", "application/schema+json")
		h.Set("Link", "<"+Path+`>; rel="search"`)
		_, _ = w.Write(formJSON)
	case r.URL.Path == Path && r.Method == http.MethodPost:
		t.take(w, r)
	case under && r.Method == http.MethodPost:
		t.note(w, r, key)
	case under:
		t.mu.Lock()
		defer t.mu.Unlock()
		if d := t.find(key); d != nil {
			answer(w, http.StatusOK, d)
			return
		}
		answer(w, http.StatusNotFound, map[string]string{"message": "there is no defect " + key})
	case strings.HasPrefix(r.URL.Path, "/set/") && r.Method == http.MethodPost:
		t.set(w, r)
	default:
		t.show(w, r)
	}
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, format string, args ...any) {
	answer(w, http.StatusUnprocessableEntity, map[string]string{"message": fmt.Sprintf(format, args...)})
}

// take files a defect; the same once more is the one that was filed.
func (t *Tracker) take(w http.ResponseWriter, r *http.Request) {
	raw, err := io.ReadAll(io.LimitReader(r.Body, maxBody))
	if err != nil {
		refuse(w, "the body broke off: %v", err)
		return
	}
	values := map[string]any{}
	if err := json.Unmarshal(raw, &values); err != nil {
		refuse(w, "this is no JSON object: %v", err)
		return
	}
	shots, _ := values[t.form.Pictures()].([]any)
	delete(values, t.form.Pictures())
	if wrong := t.form.Check(values); len(wrong) > 0 {
		refuse(w, "%s %s", wrong[0].Field, wrong[0].Message)
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	key := r.Header.Get("Idempotency-Key")
	d := t.keys[key]
	if d == nil || key == "" {
		t.last++
		d = &Defect{Key: fmt.Sprintf("HARBOUR-%d", t.last), Status: "open", At: time.Now()}
		d.Link = t.base + "/" + d.Key
		d.Title, _ = values["title"].(string)
		for _, name := range t.form.Names() {
			if v, ok := values[name]; ok && name != "title" {
				d.Fields = append(d.Fields, Field{name, form.Text(v)})
			}
		}
		for _, s := range shots {
			if s, ok := s.(string); ok {
				d.Shots = append(d.Shots, s)
			}
		}
		t.all = slices.Insert(t.all, 0, d)
		t.all = t.all[:min(maxDefects, len(t.all))]
		t.keys[key] = d
	}
	w.Header().Set("Location", Path+"/"+d.Key)
	answer(w, http.StatusCreated, d)
}

// find looks a defect up; the tracker is locked.
func (t *Tracker) find(key string) *Defect {
	if i := slices.IndexFunc(t.all, func(d *Defect) bool { return d.Key == key }); i >= 0 {
		return t.all[i]
	}
	return nil
}

// search lists the open defects whose titles say much the same.
func (t *Tracker) search(text string) []Defect {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := []Defect{}
	for _, d := range t.all {
		if form.Alike(d.Title, text) >= 0.5 && len(out) < 10 {
			out = append(out, *d)
		}
	}
	return out
}

// note takes what a defect is told later; what is back is open again.
func (t *Tracker) note(w http.ResponseWriter, r *http.Request, key string) {
	var in struct{ Event, Words, Link string }
	if err := json.NewDecoder(io.LimitReader(r.Body, 64<<10)).Decode(&in); err != nil {
		refuse(w, "this is no JSON: %v", err)
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	d := t.find(key)
	if d == nil {
		answer(w, http.StatusNotFound, map[string]string{"message": "there is no defect " + key})
		return
	}
	if in.Event == "back" {
		d.Status = "open"
	}
	d.Notes = append(d.Notes, strings.TrimSpace("It is back. "+in.Words))
	d.Notes = d.Notes[max(0, len(d.Notes)-maxNotes):]
	answer(w, http.StatusOK, d)
}

// set closes a defect, or opens it again: what its page's button does.
func (t *Tracker) set(w http.ResponseWriter, r *http.Request) {
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" {
		http.Error(w, "not from elsewhere", http.StatusForbidden)
		return
	}
	key := strings.TrimPrefix(r.URL.Path, "/set/")
	t.mu.Lock()
	defer t.mu.Unlock()
	d := t.find(key)
	if d == nil {
		http.NotFound(w, r)
		return
	}
	if d.Status == "open" {
		d.Status = "closed"
	} else {
		d.Status = "open"
	}
	http.Redirect(w, r, "/"+url.PathEscape(key), http.StatusSeeOther)
}

// show draws the page: every defect, or one.
func (t *Tracker) show(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", "default-src 'none'; img-src data:; style-src 'unsafe-inline'; form-action 'self'")
	t.mu.Lock()
	defer t.mu.Unlock()
	key := strings.Trim(r.URL.Path, "/")
	if key == "" {
		_ = page.Execute(w, map[string]any{"All": t.all})
		return
	}
	d := t.find(key)
	if d == nil {
		http.NotFound(w, r)
		return
	}
	pictures := make([]template.URL, len(d.Shots))
	for i, s := range d.Shots {
		pictures[i] = template.URL("data:image/png;base64," + strings.Map(base64Only, s))
	}
	_ = page.Execute(w, map[string]any{"One": d, "Pictures": pictures})
}

func base64Only(r rune) rune {
	if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '+' || r == '/' || r == '=' {
		return r
	}
	return -1
}
