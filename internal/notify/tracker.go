package notify

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/form"
	"parallelpane/internal/report"
	"parallelpane/internal/store"
)

// Bounds of trackers: those of a project, an address, a secret, what is kept of answers.
const (
	maxTrackers = 20
	maxSecret   = 4000
	maxKey      = 100
	maxStatus   = 60
	maxFound    = 10
)

// done are states that mean that a defect is done with, of a tracker that does not say which.
var done = []string{"closed", "done", "resolved", "fixed", "rejected"}

// asTheLab is how a tracker answers that speaks as the lab does.
var asTheLab = api.TrackerAnswer{Key: "/key", Link: "/link", Status: "/status", Title: "/title"}

// header is a name of a header that may take a secret.
var header = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]{0,60}$`)

// AddTracker puts a tracker on record.
func (o *Office) AddTracker(ctx context.Context, who api.Who, q api.TrackerRequest) (api.Tracker, error) {
	fail := func(format string, args ...any) (api.Tracker, error) {
		return api.Tracker{}, api.Errorf(api.Invalid, format, args...)
	}
	if !fleet.IsName(q.Project) {
		return fail("project: %.80q is no name of a project", q.Project)
	}
	if !fleet.IsName(q.Name) {
		return fail("name: expected letters, digits, - and _, found %.80q", q.Name)
	}
	u, err := o.hooks.check(q.Address)
	if err != nil {
		return fail("address: %s", strings.TrimPrefix(err.Error(), "target: "))
	}
	if len(q.Secret) > maxSecret || strings.ContainsFunc(q.Secret, func(r rune) bool { return r < ' ' || r > '~' }) {
		return fail("secret: expected at most %d printable ASCII characters", maxSecret)
	}
	if q.Header != "" && (!header.MatchString(q.Header) || q.Secret == "") {
		return fail("header: expected the name of a header that takes the secret, found %.60q", q.Header)
	}
	if err := o.checkMapping(q.Mapping); err != nil {
		return fail("mapping: %v", err)
	}
	have, err := o.Store.Trackers(ctx, q.Project)
	if err != nil {
		return api.Tracker{}, err
	}
	if len(have) >= maxTrackers {
		return api.Tracker{}, api.Errorf(api.Conflict, "project %s has %d trackers, as many as it may have: drop one first", q.Project, len(have))
	}
	row := store.Tracker{ID: store.NewID(), Project: q.Project, Name: q.Name, Shown: u.Scheme + "://" + u.Host + "/…", Host: u.Host,
		MadeBy: who.Person(), MadeAt: o.Clock().UnixMilli()}
	if q.Mapping != nil {
		row.Mapping = store.JSON(q.Mapping)
	}
	if row.Sealed, err = o.Seal.Close(map[string]string{"target": q.Address, "secret": q.Secret, "header": q.Header}); err != nil {
		return api.Tracker{}, err
	}
	if err := o.Store.Write(store.AddTracker(row)); errors.Is(err, store.ErrGuard) {
		return api.Tracker{}, api.Errorf(api.Conflict, "project %s has a tracker %s already: drop it first, or choose another name", q.Project,
			q.Name)
	} else if err != nil {
		return api.Tracker{}, err
	}
	return trackerOf(row)
}

// checkMapping reports what is wrong with how a tracker is said to speak.
func (o *Office) checkMapping(m *api.TrackerMapping) error {
	if m == nil {
		return nil
	}
	if len(m.Form) > 0 {
		if _, err := form.Parse(m.Form); err != nil {
			return fmt.Errorf("form: %w", err)
		}
	}
	if len(m.Send) > 0 {
		if _, err := form.ParseTemplate(m.Send); err != nil {
			return fmt.Errorf("send: %w", err)
		}
	}
	for name, p := range map[string]string{"key": m.Answer.Key, "status": m.Answer.Status, "title": m.Answer.Title, "list": m.Answer.List} {
		if p != "" && !form.IsPointer(p) {
			return fmt.Errorf("answer: %s: expected a JSON Pointer such as /entry/status, found %.80q", name, p)
		}
	}
	addresses := map[string]string{"place": m.Place, "search": m.Search}
	if !form.IsPointer(m.Answer.Link) {
		addresses["answer: link"] = m.Answer.Link
	}
	if m.Back != nil {
		addresses["back: address"] = m.Back.Address
		if _, err := form.ParseTemplate(m.Back.Send); err != nil {
			return fmt.Errorf("back: send: %w", err)
		}
	}
	for name, a := range addresses {
		if a == "" {
			continue
		}
		if _, err := o.hooks.check(form.Expand(a, map[string]any{"key": "1", "text": "1"})); err != nil {
			return fmt.Errorf("%s: %s", name, strings.TrimPrefix(err.Error(), "target: "))
		}
	}
	return nil
}

func trackerOf(row store.Tracker) (api.Tracker, error) {
	t := api.Tracker{ID: row.ID, Project: row.Project, Name: row.Name, Address: row.Shown, By: row.MadeBy,
		MadeAt: store.Time(row.MadeAt).UTC()}
	if row.Mapping == "" {
		return t, nil
	}
	return t, json.Unmarshal([]byte(row.Mapping), &t.Mapping)
}

// Trackers lists trackers.
func (o *Office) Trackers(ctx context.Context, f api.TrackerFilter) ([]api.Tracker, error) {
	rows, err := o.Store.Trackers(ctx, f.Project)
	if err != nil {
		return nil, err
	}
	out := []api.Tracker{}
	for _, row := range rows {
		if f.Among != nil && !slices.Contains(f.Among, row.Project) {
			continue
		}
		t, err := trackerOf(row)
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, nil
}

// TrackerProject is the project of a tracker.
func (o *Office) TrackerProject(ctx context.Context, id string) (string, error) {
	t, err := o.trackerRow(ctx, id)
	return t.Project, err
}

func (o *Office) trackerRow(ctx context.Context, id string) (store.Tracker, error) {
	row, err := o.Store.Tracker(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return row, NoTracker(id)
	}
	return row, err
}

// NoTracker says that there is none of an id.
func NoTracker(id string) error {
	return api.Errorf(api.NotFound, "there is no tracker %.80q: pane tracker lists them", id)
}

// DropTracker forgets a tracker. What was filed there stays on record.
func (o *Office) DropTracker(ctx context.Context, id string) error {
	if _, err := o.trackerRow(ctx, id); err != nil {
		return err
	}
	return o.Store.Write(store.DropTracker(id)...)
}

// tracker is one that is spoken to.
type tracker struct {
	api.Tracker
	hooks          *hooks
	address        *url.URL
	secret, header string
	answer         api.TrackerAnswer
	closed         []string
}

// open reads how a tracker is spoken to.
func (o *Office) open(row store.Tracker) (*tracker, error) {
	shown, err := trackerOf(row)
	if err != nil {
		return nil, err
	}
	opened, err := o.Seal.Open(row.Sealed)
	if err != nil {
		return nil, fmt.Errorf("the address of tracker %s cannot be read: %w", row.Name, err)
	}
	t := &tracker{Tracker: shown, hooks: o.hooks, secret: opened["secret"], header: opened["header"], answer: asTheLab, closed: done}
	if t.address, err = url.Parse(opened["target"]); err != nil {
		return nil, fmt.Errorf("the address of tracker %s cannot be read", row.Name)
	}
	if m := shown.Mapping; m != nil {
		if m.Answer != (api.TrackerAnswer{}) {
			t.answer = m.Answer
		}
		if len(m.Closed) > 0 {
			t.closed = m.Closed
		}
	}
	return t, nil
}

// said is what a tracker answered.
type said struct {
	form.Answer
	raw    []byte
	header http.Header
}

// speak asks a tracker something. key tells it that a request is the same as one before
// (Idempotency-Key). The outcome says what is wrong, if anything is.
func (t *tracker) speak(ctx context.Context, method, address string, body any, key string) (said, outcome) {
	var out said
	in := io.Reader(nil)
	if body != nil {
		raw, err := json.Marshal(body)
		if err != nil {
			return out, outcome{answer: err.Error(), never: true}
		}
		in = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, address, in)
	if err != nil {
		return out, outcome{answer: "the address cannot be read", never: true}
	}
	req.Header.Set("User-Agent", "parallel-pane")
	req.Header.Set("Accept", "application/schema+json, application/json")
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", `"`+key+`"`)
	}
	if t.secret != "" && req.URL.Host == t.address.Host {
		if t.header == "" {
			req.Header.Set("Authorization", "Bearer "+t.secret)
		} else {
			req.Header.Set(t.header, t.secret)
		}
	}
	resp, got := t.hooks.exchange(req)
	if resp == nil {
		return out, got
	}
	defer resp.Body.Close()
	out.header = resp.Header
	raw, err := io.ReadAll(io.LimitReader(resp.Body, form.MaxBytes+1))
	switch {
	case err != nil:
		return out, outcome{answer: "its answer broke off: " + err.Error()}
	case !got.taken:
		got.answer = t.hide(strings.TrimSpace(got.answer + " " + report.Clip(string(raw[:min(len(raw), maxAnswer)]))))
		got.never = got.never || resp.StatusCode >= 400 && resp.StatusCode < 500 && !slices.Contains([]int{http.StatusRequestTimeout,
			http.StatusTooEarly, http.StatusTooManyRequests}, resp.StatusCode)
		return out, got
	}
	out.raw = raw
	if len(raw) > 0 {
		if out.Answer, err = form.ParseAnswer(raw); err != nil {
			got.answer += ", but what it says is nonsense: " + err.Error()
			return out, outcome{answer: got.answer, never: true}
		}
	}
	return out, got
}

// hide takes a tracker's secret out of what it says.
func (t *tracker) hide(s string) string {
	if len(t.secret) < 4 {
		return s
	}
	return strings.ReplaceAll(s, t.secret, "***")
}

// theForm asks a tracker for its form, and for where it can be searched.
func (t *tracker) theForm(ctx context.Context) (f *form.Form, search string, err error) {
	if t.Mapping != nil && t.Mapping.Search != "" {
		search = t.Mapping.Search
	}
	if t.Mapping != nil && (len(t.Mapping.Form) > 0 || len(t.Mapping.Send) > 0) {
		raw := t.Mapping.Form
		if len(raw) == 0 {
			raw = json.RawMessage(form.Usual)
		}
		f, err = form.Parse(raw)
		return f, search, err
	}
	answer, got := t.speak(ctx, http.MethodGet, t.address.String(), nil, "")
	if !got.taken {
		return nil, "", api.Errorf(api.Beyond, "tracker %s gave no form: %s", t.Name, got.answer)
	}
	if f, err = form.Parse(answer.raw); err != nil {
		return nil, "", api.Errorf(api.Beyond, "tracker %s gave a form that cannot be used: %v", t.Name, err)
	}
	if search == "" {
		if at := t.here(linked(answer.header, "search")); at != nil {
			q := at.Query()
			q.Set("text", "${text}")
			at.RawQuery = strings.ReplaceAll(q.Encode(), url.QueryEscape("${text}"), "${text}")
			search = at.String()
		}
	}
	return f, search, nil
}

// links reads a Link header (RFC 8288): an address and its parameters.
var links = regexp.MustCompile(`<([^>]*)>((?:\s*;\s*[^,;]+)*)`)

// linked is where a header says that something is.
func linked(h http.Header, rel string) string {
	for _, line := range h.Values("Link") {
		for _, m := range links.FindAllStringSubmatch(line, 20) {
			for _, p := range strings.Split(m[2], ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
				if strings.EqualFold(name, "rel") && slices.Contains(strings.Fields(strings.Trim(value, `"`)), rel) {
					return m[1]
				}
			}
		}
	}
	return ""
}

// here is an address that a tracker names, on itself; nil where it is none, or elsewhere.
func (t *tracker) here(ref string) *url.URL {
	if ref == "" || len(ref) > maxHook {
		return nil
	}
	u, err := t.address.Parse(ref)
	if err != nil || u.Scheme != t.address.Scheme || u.Host != t.address.Host || u.User != nil {
		return nil
	}
	return u
}

// defect reads what a tracker says of one. h is where it may be, as a header says.
func (t *tracker) defect(a form.Answer, location string) (key, title, link, place, status string, closed bool) {
	key, title, status = clipTo(a.At(t.answer.Key), maxKey), report.Clip(a.At(t.answer.Title)), clipTo(a.At(t.answer.Status), maxStatus)
	values := map[string]any{"key": url.PathEscape(key)}
	if link = a.At(t.answer.Link); t.answer.Link != "" && !form.IsPointer(t.answer.Link) && key != "" {
		link = form.Expand(t.answer.Link, values)
	}
	if u, err := url.Parse(link); err != nil || u.Scheme != "http" && u.Scheme != "https" || len(link) > maxHook || u.User != nil {
		link = ""
	}
	if t.Mapping != nil && t.Mapping.Place != "" {
		if key != "" {
			place = form.Expand(t.Mapping.Place, values)
		}
	} else if at := t.here(location); at != nil {
		place = at.String()
	}
	return key, title, link, place, status, t.isClosed(status)
}

func (t *tracker) isClosed(status string) bool {
	return slices.ContainsFunc(t.closed, func(s string) bool { return strings.EqualFold(s, status) })
}

// search asks a tracker for defects like one.
func (t *tracker) search(ctx context.Context, at, text string) ([]api.LikeDefect, error) {
	if at == "" {
		return nil, nil
	}
	answer, got := t.speak(ctx, http.MethodGet, form.Expand(at, map[string]any{"text": url.QueryEscape(text)}), nil, "")
	if !got.taken {
		return nil, errors.New(got.answer)
	}
	list := answer.Answer
	if t.answer.List != "" {
		list = answer.In(t.answer.List)
	}
	var out []api.LikeDefect
	for _, a := range list.List() {
		if key, title, link, _, status, _ := t.defect(a, ""); key != "" && len(out) < maxFound {
			out = append(out, api.LikeDefect{Key: key, Title: title, Link: link, Status: status, Why: "found in the tracker"})
		}
	}
	return out, nil
}

func clipTo(s string, most int) string {
	s = report.Clip(s)
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}
