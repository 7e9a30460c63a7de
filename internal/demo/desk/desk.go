// Package desk is the berth desk of Saltmarsh Harbour, the made-up application
// that the demo tests. It is rendered on the server and usable without script;
// script on top makes it livelier. It has honest defects of the kind real pages
// have; none of them knows that it is being tested.
package desk

import (
	"crypto/rand"
	"embed"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

//go:embed templates static
var files embed.FS

// Berth is one berth of the harbour.
type Berth struct {
	ID     string
	Pier   string
	Length int // metres
	Shore  bool
}

// Hold is a berth held for a visitor.
type Hold struct {
	Reference string
	Berth     string
	Boat      string
	Arrival   string
	Nights    int
}

// Tide is one line of the tide table.
type Tide struct {
	Time   string
	Kind   string
	Metres string
	Tip    string
}

// visitor is what the desk remembers of one browser.
type visitor struct {
	name  string
	rules bool
	holds []Hold
}

// Desk is the application.
type Desk struct {
	mux     *http.ServeMux
	pages   *template.Template
	mu      sync.Mutex
	known   map[string]*visitor
	holds   int
	answers int
	late    time.Duration
	next    bool
}

// Made-up credentials of the demo's harbour master.
const (
	DemoName     = "harbourmaster"
	DemoPassword = "slackwater"
)

var berths = func() (all []Berth) {
	for _, pier := range []string{"A", "B", "C"} {
		for i := range 8 {
			all = append(all, Berth{ID: pier + strconv.Itoa(i+1), Pier: pier, Length: 8 + (i*3)%9, Shore: i%3 != 1})
		}
	}
	return all
}()

var tides = []Tide{
	{"00:42", "high", "4.8", "Gate open 23:40 to 01:50"}, {"06:55", "low", "0.9", "Sill dry 05:50 to 08:10"},
	{"13:08", "high", "5.1", "Gate open 12:00 to 14:20"}, {"19:21", "low", "0.7", "Sill dry 18:10 to 20:40"},
}

var nightsOffered = []string{"1", "2", "3", "7", "14"}

// New returns the application. Every fourth availability answer is late by the
// given time: the line to the harbour office is a radio link.
func New(late time.Duration) *Desk {
	d := &Desk{mux: http.NewServeMux(), known: map[string]*visitor{}, late: late,
		pages: template.Must(template.ParseFS(files, "templates/*.html"))}
	static, err := fs.Sub(files, "static")
	if err != nil {
		panic(err) // the directory is embedded above
	}
	d.mux.Handle("GET /static/", http.StripPrefix("/static/", http.FileServerFS(static)))
	d.mux.HandleFunc("GET /{$}", d.home)
	d.mux.HandleFunc("GET /tides", d.page("tides", "Tide table"))
	d.mux.HandleFunc("GET /berths/{id}", d.berth)
	d.mux.HandleFunc("POST /berths/{id}/hold", d.hold)
	d.mux.HandleFunc("GET /holds", d.page("holds", "Your holds"))
	d.mux.HandleFunc("POST /holds/{reference}/release", d.release)
	d.mux.HandleFunc("GET /fees", d.fees)
	d.mux.HandleFunc("GET /sign-in", d.page("sign-in", "Sign in"))
	d.mux.HandleFunc("POST /sign-in", d.signIn)
	d.mux.HandleFunc("GET /insurance", d.page("insurance", "Insurance"))
	d.mux.HandleFunc("POST /insurance", d.insurance)
	d.mux.HandleFunc("GET /rules", d.page("rules", "Harbour rules"))
	d.mux.HandleFunc("POST /rules", d.accept)
	d.mux.HandleFunc("GET /availability/{id}", d.availability)
	return d
}

// Next returns the application as its next release will be: the place in which the office
// answers about a berth has another id, and is otherwise the same to whoever looks at it.
func Next(late time.Duration) *Desk {
	d := New(late)
	d.next = true
	return d
}

// ServeHTTP serves the application.
func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) { d.mux.ServeHTTP(w, r) }

// visitor finds who is asking by cookie; each browser has its own harbour, so
// that tests running side by side do not take each other's berths.
func (d *Desk) visitor(w http.ResponseWriter, r *http.Request) *visitor {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c, err := r.Cookie("desk"); err == nil && d.known[c.Value] != nil {
		return d.known[c.Value]
	}
	id := rand.Text()
	v := &visitor{}
	d.known[id] = v
	http.SetCookie(w, &http.Cookie{Name: "desk", Value: id, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	return v
}

// view is what every template sees.
type view struct {
	Title   string
	Name    string
	Rules   bool
	Berths  []Berth
	Berth   Berth
	Held    map[string]bool
	Holds   []Hold
	Hold    *Hold
	Tides   []Tide
	Problem string
	Form    map[string]string
	Fee     string
	File    string
	Size    int64
	Next    bool
	Nights  []string
}

func (d *Desk) render(w http.ResponseWriter, r *http.Request, status int, page string, v view) {
	who := d.visitor(w, r)
	d.mu.Lock()
	v.Next = d.next
	v.Name, v.Rules, v.Holds = who.name, who.rules, slices.Clone(who.holds)
	d.mu.Unlock()
	v.Berths, v.Tides, v.Nights, v.Held = berths, tides, nightsOffered, map[string]bool{}
	for _, h := range v.Holds {
		v.Held[h.Berth] = true
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = d.pages.ExecuteTemplate(w, page+".html", v)
}

func (d *Desk) page(name, title string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) { d.render(w, r, http.StatusOK, name, view{Title: title}) }
}

func (d *Desk) home(w http.ResponseWriter, r *http.Request) {
	d.render(w, r, http.StatusOK, "map", view{Title: "Berth map", Form: map[string]string{"q": r.FormValue("q")}})
}

func find(id string) (Berth, bool) {
	i := slices.IndexFunc(berths, func(b Berth) bool { return strings.EqualFold(b.ID, id) })
	if i < 0 {
		return Berth{}, false
	}
	return berths[i], true
}

func (d *Desk) berth(w http.ResponseWriter, r *http.Request) {
	b, ok := find(r.PathValue("id"))
	if !ok {
		d.render(w, r, http.StatusNotFound, "map", view{Title: "Berth map", Problem: "There is no berth " + r.PathValue("id")})
		return
	}
	d.render(w, r, http.StatusOK, "berth", view{Title: "Berth " + b.ID, Berth: b, Form: map[string]string{"nights": "1"}})
}

func (d *Desk) hold(w http.ResponseWriter, r *http.Request) {
	b, ok := find(r.PathValue("id"))
	if !ok {
		http.NotFound(w, r)
		return
	}
	form := map[string]string{}
	for _, k := range []string{"boat", "length", "arrival", "nights"} {
		form[k] = strings.TrimSpace(r.FormValue(k))
	}
	length, err := strconv.Atoi(form["length"])
	problem := ""
	switch {
	case form["boat"] == "":
		problem = "Please give the boat's name."
	case err != nil || length < 1:
		problem = "Please give the boat's length in whole metres."
	case length > b.Length:
		problem = fmt.Sprintf("Berth %s takes boats up to %d m.", b.ID, b.Length)
	}
	if problem != "" {
		d.render(w, r, http.StatusUnprocessableEntity, "berth", view{Title: "Berth " + b.ID, Berth: b, Form: form, Problem: problem})
		return
	}
	nights, _ := strconv.Atoi(form["nights"])
	who := d.visitor(w, r)
	d.mu.Lock()
	d.holds++
	h := Hold{Reference: fmt.Sprintf("SH-%04d", d.holds), Berth: b.ID, Boat: form["boat"], Arrival: form["arrival"], Nights: max(1, nights)}
	who.holds = append(who.holds, h)
	d.mu.Unlock()
	d.render(w, r, http.StatusOK, "held", view{Title: "Berth held", Hold: &h, Berth: b})
}

func (d *Desk) release(w http.ResponseWriter, r *http.Request) {
	who := d.visitor(w, r)
	d.mu.Lock()
	who.holds = slices.DeleteFunc(who.holds, func(h Hold) bool { return h.Reference == r.PathValue("reference") })
	d.mu.Unlock()
	http.Redirect(w, r, "/holds", http.StatusSeeOther)
}

// fee is 3.20 a metre and night, a tenth less from the seventh night on.
func fee(length, nights int) string {
	pence := 320 * length * nights
	if nights >= 7 {
		pence = pence * 9 / 10
	}
	return fmt.Sprintf("%d.%02d", pence/100, pence%100)
}

func (d *Desk) fees(w http.ResponseWriter, r *http.Request) {
	v := view{Title: "Fees", Form: map[string]string{"length": r.FormValue("length"), "nights": r.FormValue("nights")}}
	length, errLength := strconv.Atoi(v.Form["length"])
	nights, errNights := strconv.Atoi(v.Form["nights"])
	if errLength == nil && errNights == nil {
		v.Fee = fee(length, nights)
	}
	d.render(w, r, http.StatusOK, "fees", v)
}

func (d *Desk) signIn(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("name") != DemoName || r.FormValue("password") != DemoPassword {
		d.render(w, r, http.StatusUnauthorized, "sign-in", view{Title: "Sign in", Problem: "Name or password is wrong.",
			Form: map[string]string{"name": r.FormValue("name")}})
		return
	}
	who := d.visitor(w, r)
	d.mu.Lock()
	who.name = DemoName
	d.mu.Unlock()
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

func (d *Desk) insurance(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<20)
	f, h, err := r.FormFile("certificate")
	if err != nil {
		d.render(w, r, http.StatusUnprocessableEntity, "insurance", view{Title: "Insurance",
			Problem: "Please choose a certificate of at most 4 MB."})
		return
	}
	defer f.Close()
	n, _ := io.Copy(io.Discard, f)
	d.render(w, r, http.StatusOK, "insurance", view{Title: "Insurance", File: h.Filename, Size: n})
}

func (d *Desk) accept(w http.ResponseWriter, r *http.Request) {
	who := d.visitor(w, r)
	d.mu.Lock()
	who.rules = true
	d.mu.Unlock()
	http.Redirect(w, r, "/rules", http.StatusSeeOther)
}

func (d *Desk) availability(w http.ResponseWriter, r *http.Request) {
	b, ok := find(r.PathValue("id"))
	if !ok {
		http.NotFound(w, r)
		return
	}
	d.mu.Lock()
	d.answers++
	wait := 40 * time.Millisecond
	if d.answers%4 == 0 {
		wait = d.late
	}
	d.mu.Unlock()
	select {
	case <-time.After(wait):
	case <-r.Context().Done():
		return
	}
	w.Header().Set("Content-Type", "application/json")
	fmt.Fprintf(w, `{"berth":%q,"free":true,"nights":14}`, b.ID)
}
