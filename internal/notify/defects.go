package notify

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/form"
	"parallelpane/internal/report"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// How often trackers are asked how defects stand, how many at once, and how long somebody
// who files one is kept waiting for it.
const (
	askOpen   = 5 * time.Minute
	askClosed = time.Hour
	maxAsked  = 20
	fileWait  = 10 * time.Second
)

// What makes a defect one that may be the same, and one that most probably is.
const (
	maybeSame  = 0.6
	surelySame = 0.85
	maxLike    = 200 // of the lab's own that are looked at
)

// DefectForm gives a tracker's form, filled in with what is known of a cause.
func (o *Office) DefectForm(ctx context.Context, run int, cause, trackerID string) (api.DefectForm, error) {
	w, err := o.work(ctx, run, cause, trackerID)
	if err != nil {
		return api.DefectForm{}, err
	}
	out := api.DefectForm{Tracker: w.tracker.Shown(), Schema: w.form.Raw, Values: w.values(nil),
		Defect: w.page.Cause.Defect}
	for _, t := range w.trackers {
		out.Trackers = append(out.Trackers, t.Shown())
	}
	if w.form.Pictures() != "" {
		out.Pictures = len(w.page.Pictures)
	}
	out.Missing = w.check(out.Values)
	if out.Like, err = o.like(ctx, w); err != nil {
		out.Trouble = err.Error()
	}
	return out, nil
}

// work is what there is to file a defect with.
type work struct {
	page     api.CausePage
	tracker  *tracker
	trackers []api.Tracker
	form     *form.Form
	search   string
	known    map[string]any
}

func (o *Office) work(ctx context.Context, run int, cause, trackerID string) (*work, error) {
	w := &work{}
	var err error
	if w.page, err = o.Records.Cause(ctx, run, cause); err != nil {
		return nil, err
	}
	project := w.page.Run.Project
	if w.trackers, err = o.Trackers(ctx, api.TrackerFilter{Project: project}); err != nil {
		return nil, err
	}
	switch {
	case len(w.trackers) == 0:
		return nil, api.Errorf(api.Conflict, "project %s has no tracker: a keeper of it adds one with pane tracker add", project)
	case trackerID == "":
		trackerID = w.trackers[0].ID
	}
	row, err := o.trackerRow(ctx, trackerID)
	if err == nil && row.Project != project {
		err = NoTracker(trackerID)
	}
	if err != nil {
		return nil, err
	}
	if w.tracker, err = o.open(row); err != nil {
		return nil, err
	}
	w.known = report.Known(w.page, o.linkTo)
	w.form, w.search, err = w.tracker.theForm(ctx)
	return w, err
}

// values are those of the form: what is known, and above it what somebody filled in.
func (w *work) values(given map[string]any) map[string]any {
	out := w.form.Fill(w.known)
	maps.Copy(out, given)
	delete(out, w.form.Pictures())
	return out
}

// check says what is not as the form has it. Pictures go in when it is sent.
func (w *work) check(values map[string]any) []form.Problem {
	with := maps.Clone(values)
	if field := w.form.Pictures(); field != "" && len(w.page.Pictures) > 0 {
		var list []any
		for range w.page.Pictures {
			list = append(list, "AAAA")
		}
		with[field] = list
	}
	return w.form.Check(with)
}

// like finds defects that may be of the same cause: among those that the lab knows of, and
// in the tracker.
func (o *Office) like(ctx context.Context, w *work) ([]api.LikeDefect, error) {
	out := []api.LikeDefect{}
	rows, err := o.Store.Defects(ctx, store.DefectFilter{Project: w.page.Run.Project, Tracker: w.tracker.ID, Limit: maxLike})
	if err != nil {
		return out, err
	}
	for _, d := range rows {
		other := d.Suite != w.page.Run.Suite || d.Signature != w.page.Cause.Signature
		if other && d.State == api.Filed && d.Key != "" && form.Alike(d.Title, w.page.Cause.Title) >= maybeSame {
			out = append(out, api.LikeDefect{Key: d.Key, Title: d.Title, Link: d.Link, Status: d.Status,
				Why: fmt.Sprintf("filed of another cause, in #%d", d.Run)})
		}
	}
	found, err := w.tracker.search(ctx, w.search, report.Clip(w.page.Cause.Title))
	if err != nil {
		err = api.Errorf(api.Beyond, "tracker %s could not be searched: %v", w.tracker.Name, err)
	}
	for _, d := range found {
		if !slices.ContainsFunc(out, func(x api.LikeDefect) bool { return x.Key == d.Key }) && len(out) < maxFound {
			out = append(out, d)
		}
	}
	return out, err
}

// FileDefect has a defect filed of a cause, or says which one it is. It waits a moment for
// the tracker; what that does not take at once is tried again.
func (o *Office) FileDefect(ctx context.Context, who api.Who, run int, cause string, q api.DefectRequest) (api.Defect, error) {
	w, err := o.work(ctx, run, cause, q.Tracker)
	if err != nil {
		return api.Defect{}, err
	}
	if d := w.page.Cause.Defect; d != nil && d.State != api.Refused {
		return api.Defect{}, api.Errorf(api.Conflict, "the cause has a defect already: %s", defectWords(*d))
	}
	now := o.Clock().UnixMilli()
	row := store.Defect{ID: store.NewID(), Project: w.page.Run.Project, Suite: w.page.Run.Suite, Signature: w.page.Cause.Signature,
		Tracker: w.tracker.ID, Run: run, Cause: cause, State: api.Awaiting, MadeBy: who.Person(), MadeAt: now, Body: "{}"}
	if q.Same != "" {
		return o.sameDefect(ctx, w, row, q.Same)
	}
	values := w.values(q.Values)
	if problems := w.check(values); len(problems) > 0 {
		return api.Defect{}, wrongForm(problems)
	}
	row.Title = report.Clip(w.page.Cause.Title)
	if t, ok := values["title"].(string); ok && strings.TrimSpace(t) != "" {
		row.Title = report.Clip(t)
	}
	if !q.Anyway {
		if err := o.noneAlike(ctx, w, row.Title); err != nil {
			return api.Defect{}, err
		}
	}
	row.Body = store.JSON(values)
	settled := o.settles(row.ID)
	batch := append(store.AddDefect(row), store.Post(store.Delivery{ID: row.ID, Subscription: w.tracker.ID, Of: api.OfDefect,
		Project: row.Project, Run: run, Host: w.tracker.address.Host, MadeAt: now, NextAt: now}))
	if err := o.Store.Write(batch...); err != nil {
		o.settled(row.ID) // nothing is on its way
		if errors.Is(err, store.ErrGuard) {
			err = api.Errorf(api.Conflict, "somebody filed a defect of this cause just now: look at the cause again")
		}
		return api.Defect{}, err
	}
	o.await(ctx, settled)
	return o.Defect(ctx, row.ID)
}

// sameDefect puts on record which defect of the tracker's a cause has.
func (o *Office) sameDefect(ctx context.Context, w *work, row store.Defect, key string) (api.Defect, error) {
	row.Key, row.State, row.Title = clipTo(key, maxKey), api.Filed, report.Clip(w.page.Cause.Title)
	if rows, err := o.Store.Defects(ctx, store.DefectFilter{Project: row.Project, Tracker: row.Tracker, Text: key,
		Limit: maxLike}); err == nil {
		for _, d := range rows {
			if d.Key == key {
				row.Link, row.Place, row.Status, row.Closed, row.Title = d.Link, d.Place, d.Status, d.Closed, d.Title
			}
		}
	}
	if m := w.tracker.Mapping; m != nil && m.Place != "" {
		row.Place = form.Expand(m.Place, map[string]any{"key": url.PathEscape(key)})
	} else if row.Place == "" {
		row.Place = strings.TrimRight(w.tracker.address.String(), "/") + "/" + url.PathEscape(key)
	}
	answer, got := w.tracker.speak(ctx, http.MethodGet, row.Place, nil, "")
	if !got.taken {
		return api.Defect{}, api.Errorf(api.Invalid, "same: tracker %s does not know %.80q: %s", w.tracker.Name, key, got.answer)
	}
	known, title, link, _, status, closed := w.tracker.defect(answer.Answer, "")
	if known == "" {
		return api.Defect{}, api.Errorf(api.Beyond, "tracker %s says nothing of %.80q that can be read", w.tracker.Name, key)
	}
	row.Key, row.Link, row.Status, row.Closed, row.AskedAt = known, link, status, closed, row.MadeAt
	if title != "" {
		row.Title = title
	}
	if err := o.Store.Write(store.AddDefect(row)...); errors.Is(err, store.ErrGuard) {
		return api.Defect{}, api.Errorf(api.Conflict, "somebody filed a defect of this cause just now: look at the cause again")
	} else if err != nil {
		return api.Defect{}, err
	}
	return o.Defect(ctx, row.ID)
}

// noneAlike refuses to file what most probably is filed already.
func (o *Office) noneAlike(ctx context.Context, w *work, title string) error {
	all, _ := o.like(ctx, w) // a tracker that cannot be searched does not keep anybody from filing
	for _, d := range all {
		if max(form.Alike(d.Title, title), form.Alike(d.Title, w.page.Cause.Title)) >= surelySame && !w.tracker.isClosed(d.Status) {
			return api.Errorf(api.Conflict, "it is most probably %s %q, %s: say that it is the same (same), or that it is another (anyway)",
				d.Key, d.Title, d.Why)
		}
	}
	return nil
}

func wrongForm(problems []form.Problem) error {
	parts := make([]string, 0, len(problems))
	for _, p := range problems[:min(5, len(problems))] {
		parts = append(parts, strings.TrimPrefix(strings.TrimPrefix(p.Field, "/")+": "+p.Message, ": "))
	}
	if n := len(problems) - 5; n > 0 {
		parts = append(parts, fmt.Sprintf("and %d more", n))
	}
	return api.Errorf(api.Invalid, "values: %s", strings.Join(parts, "; "))
}

func defectWords(d api.Defect) string {
	switch {
	case d.State == api.Awaiting && d.Trouble != "":
		return "it waits to be filed: " + d.Trouble
	case d.State == api.Awaiting:
		return "it waits to be filed"
	case d.Status != "":
		return d.Key + ", " + d.Status
	}
	return d.Key
}

// settles is closed when a delivery was tried.
func (o *Office) settles(id string) <-chan struct{} {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.waits[id] == nil {
		o.waits[id] = make(chan struct{})
	}
	return o.waits[id]
}

// await has the outbox looked at, and waits a moment for what is to be tried.
func (o *Office) await(ctx context.Context, settled <-chan struct{}) {
	o.Kick()
	t := time.NewTimer(fileWait)
	defer t.Stop()
	select {
	case <-settled:
	case <-t.C:
	case <-ctx.Done():
	}
}

func (o *Office) settled(id string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if c := o.waits[id]; c != nil {
		close(c)
		delete(o.waits, id)
	}
}

// file sends a defect to its tracker.
func (o *Office) file(ctx context.Context, d store.Delivery) outcome {
	row, t, got := o.defectOf(ctx, d.ID, d.Subscription)
	if t == nil {
		return got
	}
	page, err := o.Records.Cause(ctx, row.Run, row.Cause)
	if e, ok := errors.AsType[*api.Error](err); ok && e.Kind == api.NotFound { // it was revised meanwhile: what was filled in stands
		err = nil
	}
	if err != nil {
		return outcome{answer: err.Error()}
	}
	f, _, err := t.theForm(ctx)
	if err != nil {
		return outcome{answer: err.Error()}
	}
	values := map[string]any{}
	if err := json.Unmarshal([]byte(row.Body), &values); err != nil {
		return outcome{answer: err.Error(), never: true}
	}
	if field := f.Pictures(); field != "" {
		if values[field], err = o.pictures(ctx, page); err != nil {
			return outcome{answer: err.Error()}
		}
	}
	body := any(values)
	if t.Mapping != nil && len(t.Mapping.Send) > 0 {
		tm, err := form.ParseTemplate(t.Mapping.Send)
		if err != nil {
			return outcome{answer: err.Error(), never: true}
		}
		all := report.Known(page, o.linkTo)
		maps.Copy(all, values)
		body = tm.Apply(all)
	}
	answer, got := t.speak(ctx, http.MethodPost, t.address.String(), body, row.ID)
	if !got.taken {
		return got
	}
	key, _, link, place, status, closed := t.defect(answer.Answer, answer.header.Get("Location"))
	if key == "" {
		return outcome{answer: got.answer + ", but it does not say what it calls the defect: nothing at " + t.answer.Key, never: true}
	}
	got.also = []store.Stmt{store.FiledDefect(row.ID, key, link, place, status, closed, o.Clock().UnixMilli())}
	return got
}

// pictures are those of a cause, in base64.
func (o *Office) pictures(ctx context.Context, p api.CausePage) ([]string, error) {
	out := []string{}
	for _, s := range p.Pictures {
		body, _, err := o.Records.PictureNamed(ctx, s.Attempt, s.Name)
		if err != nil {
			return nil, err
		}
		if len(body) > 0 {
			out = append(out, base64.StdEncoding.EncodeToString(body))
		}
	}
	return out, nil
}

// defectOf finds a defect, and its tracker to speak to; no tracker means that the outcome
// says why.
func (o *Office) defectOf(ctx context.Context, id, trackerID string) (row store.Defect, t *tracker, got outcome) {
	row, err := o.Store.Defect(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return row, nil, outcome{answer: "the defect was dropped", never: true}
	}
	if err != nil {
		return row, nil, outcome{answer: err.Error()}
	}
	kept, err := o.Store.Tracker(ctx, trackerID)
	if errors.Is(err, store.ErrNotFound) {
		return row, nil, outcome{answer: "its tracker was dropped", never: true}
	}
	if err != nil {
		return row, nil, outcome{answer: err.Error()}
	}
	if t, err = o.open(kept); err != nil {
		return row, nil, outcome{answer: err.Error(), never: true}
	}
	return row, t, got
}

// tellBack tells a tracker that a cause is back of which it has a defect.
func (o *Office) tellBack(ctx context.Context, d store.Delivery) outcome {
	id, _, _ := strings.Cut(d.ID, ":")
	row, t, got := o.defectOf(ctx, id, d.Subscription)
	if t == nil {
		return got
	}
	m, err := o.message(ctx, d)
	if err != nil {
		return outcome{answer: err.Error()}
	}
	told := map[string]any{"key": row.Key, "title": row.Title, "run": d.Run, "words": m.words.Text, "link": m.link}
	address, body := row.Place, any(map[string]any{"event": "back", "run": d.Run, "words": m.words.Text, "link": m.link})
	if t.Mapping != nil {
		if t.Mapping.Back == nil {
			return outcome{taken: true, answer: "nothing says how this tracker is told so"}
		}
		tm, err := form.ParseTemplate(t.Mapping.Back.Send)
		if err != nil {
			return outcome{answer: err.Error(), never: true}
		}
		address, body = form.Expand(t.Mapping.Back.Address, map[string]any{"key": url.PathEscape(row.Key)}), tm.Apply(told)
	}
	if address == "" {
		return outcome{taken: true, answer: "the tracker has not said where it is told so"}
	}
	_, got = t.speak(ctx, http.MethodPost, address, body, d.ID)
	if !got.taken {
		return got
	}
	got.also = []store.Stmt{store.ToldDefect(row.ID, d.Run)}
	if row.Place != "" { // it may be open again
		if err := o.ask(ctx, row); err != nil {
			got.also = append(got.also, store.AskedDefect(row.ID, row.Status, row.Closed, err.Error(), o.Clock().UnixMilli()))
		}
	}
	return got
}

// askAround asks trackers how those defects stand of which they were not asked for long.
func (o *Office) askAround(ctx context.Context) error {
	now := o.Clock()
	o.mu.Lock()
	busy := o.asking || now.Before(o.askNext)
	if !busy {
		o.asking, o.askNext = true, now.Add(look)
	}
	o.mu.Unlock()
	if busy {
		return nil
	}
	rows, err := o.Store.ToBeAsked(ctx, now.Add(-askOpen).UnixMilli(), now.Add(-askClosed).UnixMilli(), maxAsked)
	o.tasks.Go(func() {
		for _, row := range rows {
			if err := o.ask(ctx, row); err != nil && ctx.Err() == nil {
				o.Log.Error("how a defect stands is not on record", "defect", row.ID, "error", err)
			}
		}
		o.mu.Lock()
		defer o.mu.Unlock()
		o.asking = false
	})
	return err
}

// ask asks a tracker how a defect stands.
func (o *Office) ask(ctx context.Context, row store.Defect) error {
	_, t, got := o.defectOf(ctx, row.ID, row.Tracker)
	if t == nil {
		return errors.New(got.answer)
	}
	now := o.Clock().UnixMilli()
	if row.Place == "" {
		return api.Errorf(api.Conflict, "tracker %s has not said where it is asked of %s", t.Name, row.Key)
	}
	answer, got := t.speak(ctx, http.MethodGet, row.Place, nil, "")
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if !got.taken {
		return o.Store.Write(store.AskedDefect(row.ID, row.Status, row.Closed, got.answer, now))
	}
	_, _, _, _, status, closed := t.defect(answer.Answer, "")
	return o.Store.Write(store.AskedDefect(row.ID, status, closed, "", now))
}

// AskDefect asks a tracker now how a defect stands; of one that is not filed, files it now.
func (o *Office) AskDefect(ctx context.Context, id string) (api.Defect, error) {
	row, err := o.Store.Defect(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return api.Defect{}, NoDefect(id)
	}
	if err != nil {
		return api.Defect{}, err
	}
	switch {
	case row.State == api.Refused:
		return api.Defect{}, api.Errorf(api.Conflict, "the tracker did not take it: %s; file it again from its cause, in #%d", row.Trouble,
			row.Run)
	case row.Name == "":
		return api.Defect{}, api.Errorf(api.Conflict, "its tracker was dropped: nobody can be asked")
	case row.State == api.Filed:
		err = o.ask(ctx, row)
	default:
		settled := o.settles(row.ID)
		err = o.Store.Write(store.Redeliver(row.ID, o.Clock().UnixMilli()))
		o.await(ctx, settled)
	}
	if err != nil {
		return api.Defect{}, err
	}
	return o.Defect(ctx, id)
}

// Defects lists defects, the newest first.
func (o *Office) Defects(ctx context.Context, f api.DefectFilter) ([]api.Defect, error) {
	if f.State != "" && !slices.Contains([]string{api.Awaiting, api.Refused, "open", "closed"}, f.State) {
		return nil, api.Errorf(api.Invalid, "state: expected waiting, refused, open or closed, found %.40q", f.State)
	}
	rows, err := o.Store.Defects(ctx, store.DefectFilter{Project: f.Project, Suite: f.Suite, Tracker: f.Tracker, State: f.State, Text: f.Text,
		Among: f.Among, Before: f.Before, Limit: f.Size()})
	out := make([]api.Defect, len(rows))
	for i, row := range rows {
		out[i] = walls.DefectOf(row)
	}
	return out, err
}

// Defect finds one.
func (o *Office) Defect(ctx context.Context, id string) (api.Defect, error) {
	row, err := o.Store.Defect(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return api.Defect{}, NoDefect(id)
	}
	return walls.DefectOf(row), err
}

// NoDefect says that there is none of an id.
func NoDefect(id string) error {
	return api.Errorf(api.NotFound, "there is no defect %.80q: pane defect lists them", id)
}

// DropDefect forgets a defect: the tracker keeps what it has.
func (o *Office) DropDefect(ctx context.Context, who api.Who, id string) error {
	d, err := o.Defect(ctx, id)
	if err != nil {
		return err
	}
	if d.By != who.Person() && !who.May(api.Keeper, d.Project) {
		return api.Errorf(api.Forbidden, "the defect was filed by %s: a keeper of %s may drop it", d.By, d.Project)
	}
	return o.Store.Write(store.DropDefect(id)...)
}
