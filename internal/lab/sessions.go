package lab

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
	"parallelpane/internal/webdriver"
)

// Sessions lists sessions, newest first.
func (lab *Lab) Sessions(ctx context.Context, f api.SessionFilter) (out []api.SessionSummary, err error) {
	if f.Verdict != "" {
		if _, err := verdict.Parse(f.Verdict); err != nil {
			return nil, api.Errorf(api.Invalid, "%v", err)
		}
	}
	if f.State != "" && f.State != waitingState && f.State != openState && f.State != endedState {
		return nil, api.Errorf(api.Invalid, "state: expected waiting, open or ended, found %q", f.State)
	}
	since, until, err := api.Span(f.Since, f.Until)
	if err != nil {
		return nil, err
	}
	f.Limit = f.Size()
	rows, err := lab.store.Sessions(ctx, store.SessionFilter{Text: f.Text, Run: f.Run, Test: f.Test, Tag: f.Tag, Browser: f.Browser,
		Device: f.Device, Verdict: f.Verdict, Among: f.Among,
		State: f.State, Project: f.Project, Kind: f.Kind, Agent: f.Agent, Since: since, Until: until, Before: f.Before, Limit: f.Limit})
	if err != nil {
		return nil, err
	}
	out = make([]api.SessionSummary, len(rows))
	lab.mu.Lock()
	defer lab.mu.Unlock()
	if f.Before == "" && (f.State == "" || f.State == openState) && (f.Kind == "" || f.Kind == api.ScriptKind) {
		defer func() { out = append(lab.openScriptsLocked(f, since, until), out...) }()
	}
	for i, row := range rows {
		out[i] = sessionOf(row)
		if row.State == waitingState {
			out[i].Ahead = lab.machine.Ahead(row.ID)
		}
	}
	return out, nil
}

func sessionOf(row store.SessionRow) api.SessionSummary {
	v := api.SessionSummary{ID: row.ID, Kind: row.Kind, Name: row.Name, Test: row.TestName, TestAt: row.Test, Run: row.Run,
		RunName: row.RunName, Project: row.Project,
		Pane: row.Pane, Label: row.Label, Attempt: row.Number, By: row.By, Agent: row.Agent, Browser: row.Browser, Version: row.Version,
		OS: row.OS, Device: row.Device,
		State: row.State, Verdict: verdict.Verdict(row.Verdict), Message: row.Message, End: row.How, JudgedBy: row.JudgedBy,
		Note: row.Note, NoteBy: row.NoteBy, NoteAt: api.At(row.NoteAt),
		QueuedAt: api.At(row.QueuedAt), OpenedAt: api.At(row.OpenedAt), EndedAt: api.At(row.EndedAt)}
	_ = json.Unmarshal([]byte(row.Tags), &v.Tags) // written by the service itself
	return v
}

func (lab *Lab) sessionRow(ctx context.Context, id string) (store.SessionRow, error) {
	lab.mu.Lock()
	x, open := lab.scripts[id]
	r := lab.live[x.run]
	lab.mu.Unlock()
	if open && r != nil {
		return store.SessionRow{}, api.Errorf(api.Conflict, "session %s serves a script: cancel run %d instead, or wait for its end", id,
			r.view.Number)
	}
	row, err := lab.store.SessionByID(ctx, id)
	return row, walls.NotFound(err, "there is no session %.80q", id)
}

// WhoseSession says to which project a session belongs, and to whom.
func (lab *Lab) WhoseSession(ctx context.Context, id string) (project, by string, err error) {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	if x := lab.remotes[id]; x != nil {
		return x.run.view.Project, x.row.By, nil
	}
	if x, ok := lab.scripts[id]; ok && lab.live[x.run] != nil {
		v := lab.live[x.run].view
		return v.Project, v.By, nil
	}
	project, by, err = lab.store.WhoseSession(ctx, id)
	return project, by, walls.NotFound(err, "there is no session %.80q", id)
}

// Session returns a session with what is kept of it.
func (lab *Lab) Session(ctx context.Context, id string) (api.Session, error) {
	lab.mu.Lock()
	if x, ok := lab.scripts[id]; ok && lab.live[x.run] != nil {
		v := api.Session{AttemptID: attempt.Of(id), SessionSummary: lab.openScript(id, x, lab.live[x.run]), Asked: json.RawMessage("{}"),
			Files: []attempt.File{}, Attempts: []api.AttemptGlance{}}
		lab.mu.Unlock()
		return v, nil
	}
	lab.mu.Unlock()
	row, err := lab.sessionRow(ctx, id)
	if err != nil {
		return api.Session{}, err
	}
	v := api.Session{AttemptID: attempt.Of(id), SessionSummary: sessionOf(row), Asked: json.RawMessage(row.Asked), Files: []attempt.File{},
		Attempts: []api.AttemptGlance{}}
	if err := json.Unmarshal([]byte(row.Options), &v.Options); err != nil {
		return v, fmt.Errorf("records of session %s: %w", id, err)
	}
	lab.mu.Lock()
	if row.State == waitingState {
		v.Ahead = lab.machine.Ahead(id)
	}
	lab.mu.Unlock()
	for _, a := range lab.Agents() {
		if a.Name == row.Agent {
			v.Facts = &a
		}
	}
	a, err := lab.store.AttemptByID(ctx, v.AttemptID)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return v, err
	default:
		v.TookMS = a.TookMS
		if v.Detail, err = walls.Unpack(a.Detail); err != nil {
			return v, fmt.Errorf("records of session %s: %w", id, err)
		}
	}
	files, err := lab.store.FilesOf(ctx, []string{v.AttemptID})
	if err != nil {
		return v, err
	}
	for _, f := range files {
		if f.Session == 0 || f.Session == attempt.NumberOf(id) {
			v.Files = append(v.Files, walls.FileOf(f))
		}
	}
	all, err := lab.store.AttemptsIn(ctx, row.Run, row.Pane, row.Test)
	if err != nil {
		return v, err
	}
	for _, o := range all {
		v.Attempts = append(v.Attempts, api.AttemptGlance{ID: o.ID, Number: o.Number, Verdict: verdict.Verdict(o.Verdict),
			Sessions: walls.SessionsOf(o)})
	}
	return v, nil
}

// liveSession finds a session of somebody else's runner that has not ended.
func (lab *Lab) liveSession(id string) *remoteSession {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	return lab.remotes[id]
}

// EndSession ends a session before its time.
func (lab *Lab) EndSession(ctx context.Context, who api.Who, id string) error {
	if x := lab.liveSession(id); x != nil {
		return lab.endRemote(x, "ended by "+who.Person())
	}
	row, err := lab.sessionRow(ctx, id)
	if err != nil {
		return err
	}
	if row.Kind == api.ScriptKind {
		return api.Errorf(api.Conflict, "session %s serves a script: cancel run %d instead", id, row.Run)
	}
	return api.Errorf(api.Conflict, "session %s has ended already", id)
}

// EndSessionsOf ends the sessions that were opened with a token.
func (lab *Lab) EndSessionsOf(token, why string) {
	lab.mu.Lock()
	var all []*remoteSession
	for _, x := range lab.remotes {
		if x.row.TokenID == token {
			all = append(all, x)
		}
	}
	lab.mu.Unlock()
	for _, x := range all {
		lab.tasks.Go(func() {
			if err := lab.endRemote(x, why); err != nil {
				lab.log.Warn("a session whose token has ended goes on until it is idle", "session", x.row.ID, "error", err)
			}
		})
	}
}

// cancelSessions ends every session of a run. It is called with the lock, which
// it gives up.
func (lab *Lab) cancelSessions(r *liveRun, why string) (api.Run, error) {
	var all []*remoteSession
	for _, id := range slices.Sorted(maps.Keys(lab.remotes)) {
		if x := lab.remotes[id]; x.run == r {
			all = append(all, x)
		}
	}
	e := lab.applyLocked(nil, store.ExplainRun(r.view.Number, why))
	out := r.copy()
	lab.mu.Unlock()
	errs := []error{lab.carryOut(e)}
	for _, x := range all {
		errs = append(errs, lab.endRemote(x, why))
	}
	return out, errors.Join(errs...)
}

// Judge takes what a runner says of the test that a session served, while the
// session is open or after it.
func (lab *Lab) Judge(ctx context.Context, who api.Who, id string, v link.SessionVerdict) error {
	if v.Verdict != verdict.Passed && v.Verdict != verdict.Failed && v.Verdict != verdict.Skipped {
		return api.Errorf(api.Invalid, "verdict: expected passed, failed or skipped, found %q", v.Verdict)
	}
	v.Message = attempt.Clip(lab.masks.of(id, v.Message), attempt.MaxMessage)
	if x := lab.liveSession(id); x != nil {
		v.By = who.Person()
		return lab.judgeOpen(id, v)
	}
	if err := lab.store.Sync(); err != nil { // its end may still be queued
		return err
	}
	row, err := lab.sessionRow(ctx, id)
	switch {
	case err != nil:
		return err
	case row.Kind != api.RemoteKind:
		return api.Errorf(api.Conflict, "session %s serves a script, which has its verdict from its steps", id)
	case row.Verdict == string(verdict.LabFault) || row.OpenedAt == 0:
		return api.Errorf(api.Conflict, "session %s is %s: %s", id, row.Verdict, row.How)
	}
	v.By = who.Person()
	return lab.judgeEnded(ctx, row, v)
}

func (lab *Lab) judgeOpen(id string, v link.SessionVerdict) error {
	conn, err := lab.sessionLink(anyToken, id)
	if err != nil {
		return api.Errorf(api.Conflict, "%v", err)
	}
	var fault struct {
		Value webdriver.Error `json:"value"`
	}
	status, err := exchange(conn, fasthttp.MethodPost, "/sessions/"+id+"/wd/pane/verdict", v, 15*time.Second, &struct{}{}, &fault)
	if err == nil && status != fasthttp.StatusOK {
		err = api.Errorf(api.Conflict, "%s", fault.Value.Message)
	}
	return err
}

// judgeEnded changes the verdict of an ended session, its cell and its run.
func (lab *Lab) judgeEnded(ctx context.Context, row store.SessionRow, v link.SessionVerdict) error {
	lab.growMu.Lock() // the run neither ends nor grows meanwhile by another session's coming
	defer lab.growMu.Unlock()
	r, err := lab.runOfSessions(ctx, row.Project, row.RunName)
	if err != nil {
		return err
	}
	if r == nil || r.view.ID != row.RunID {
		return api.Errorf(api.Conflict, "run %d is no longer the newest called %q: its verdicts stay", row.Run, row.RunName)
	}
	lab.mu.Lock()
	ended := r.view.EndedAt != nil
	r.try(row.Pane, row.Test, row.Number, v.Verdict)
	r.cell(row.Pane, row.Test, r.view.Cells[row.Pane][row.Test].State, "")
	if v.Verdict != verdict.Passed {
		r.view.Cells[row.Pane][row.Test].Message = attempt.Clip(v.Message, walls.MaxMessage)
	}
	batch := append(store.JudgeSession(row.ID, string(v.Verdict), v.Message, v.By), store.Regard(r.record(row.Pane, row.Test))...)
	if counts := store.JSON(copyCounts(r.view.Counts)); ended {
		r.view.Verdict = r.view.Counts.Over()
		r.revised++
		batch = append(batch, store.ReviseRun(row.Run, string(r.view.Verdict), counts, store.JSON(walls.Glances(&r.view)))...)
	} else {
		batch = append(batch, store.Recount(row.Run, counts))
	}
	e := lab.applyLocked(nil, batch...)
	e.cell(r, row.Pane, row.Test)
	e.events = append(e.events, api.Event{Type: "sessions"})
	lab.mu.Unlock()
	return lab.carryOut(e)
}

// maxNote bounds a note, in bytes.
const maxNote = 16 << 10

// NoteSession keeps a note on a session.
func (lab *Lab) NoteSession(ctx context.Context, who api.Who, id, note string) error {
	if len(note) > maxNote {
		return api.Errorf(api.Invalid, "a note has at most %d bytes", maxNote)
	}
	row, err := lab.sessionRow(ctx, id)
	if err != nil {
		return err
	}
	note = lab.masks.of(row.RunID, lab.masks.of(id, note))
	return lab.store.Write(store.NoteSession(id, note, who.Person(), store.Millis(lab.now())))
}

// scriptSession is an open session that serves a script.
type scriptSession struct {
	run        string // id
	pane, test int
	fence      int64
	agent      string
	began      time.Time
}

// dropScriptsLocked forgets the sessions of some tests of a lease. The next test
// of a lease may be announced before the last one's result comes.
func (lab *Lab) dropScriptsLocked(fence int64, which func(test int) bool) {
	for id, x := range lab.scripts {
		if x.fence == fence && which(x.test) {
			delete(lab.scripts, id)
			lab.routes.Delete(id)
			lab.lookers.Delete(id)
		}
	}
}

// openScriptsLocked lists the sessions of scripts that are open now, newest
// first, as far as they pass the filter.
func (lab *Lab) openScriptsLocked(f api.SessionFilter, since, until int64) []api.SessionSummary {
	out := []api.SessionSummary{}
	for id, x := range lab.scripts {
		r := lab.live[x.run]
		if began := store.Millis(x.began); r == nil || began < since || (until > 0 && began >= until) {
			continue
		}
		v := lab.openScript(id, x, r)
		text := strings.ToLower(strings.Join([]string{v.Name, v.RunName, v.Project, v.Label, v.By, fmt.Sprintf("#%d", v.Run)}, " "))
		if (f.Run == 0 || f.Run == v.Run) && strings.Contains(text, strings.ToLower(f.Text)) &&
			strings.Contains(strings.ToLower(v.Test), strings.ToLower(f.Test)) &&
			(f.Tag == "" || slices.Contains(v.Tags, f.Tag)) && (f.Browser == "" || f.Browser == v.Browser) &&
			(f.Device == "" || f.Device == v.Device) &&
			f.Verdict == "" && (f.Among == nil || slices.Contains(f.Among,
			v.Project)) && (f.Project == "" || f.Project == v.Project) && (f.Agent == "" || f.Agent == v.Agent) {
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b api.SessionSummary) int { return strings.Compare(b.ID, a.ID) })
	return out
}

func (lab *Lab) openScript(id string, x scriptSession, r *liveRun) api.SessionSummary {
	p, t := r.view.Panes[x.pane], r.view.Tests[x.test]
	return api.SessionSummary{ID: id, Kind: api.ScriptKind, Name: t.Name, Test: t.Name, TestAt: x.test, Run: r.view.Number,
		RunName: r.view.Suite, Project: r.view.Project, Pane: x.pane,
		Label: p.Label, Attempt: r.view.Cells[x.pane][x.test].Attempts + 1, Tags: t.Tags, By: r.view.By, Agent: x.agent,
		Browser: p.Values["browser"], Version: p.Info.Version,
		OS: p.Values["os"], Device: p.Values["device"], State: openState, QueuedAt: api.At(store.Millis(x.began)),
		OpenedAt: api.At(store.Millis(x.began))}
}

// LivePicture is what an open session shows now.
type LivePicture struct {
	Image  []byte
	Media  string
	Number int // grows with every picture that differs
}

// looker shares the pictures of one session among those who watch it.
type looker struct {
	mu     sync.Mutex
	next   chan struct{} // closed when the picture that is under way is there
	latest LivePicture
	at     time.Time // when it was taken
	err    error
}

// pictureAge is for how long a picture counts as what is shown when nobody looks.
const pictureAge = 500 * time.Millisecond

// Picture waits for what an open session shows, if that is another picture than
// the one of a number; it returns none when nothing changes for a while. However
// many ask, the agent is asked once, and not at all while nobody does.
func (lab *Lab) Picture(ctx context.Context, id string, after int) (LivePicture, error) {
	v, _ := lab.lookers.LoadOrStore(id, &looker{})
	l := v.(*looker)
	l.mu.Lock()
	known := l.latest.Number
	if known > after {
		if l.next != nil || time.Since(l.at) < pictureAge { // while somebody looks, the latest is what is shown
			defer l.mu.Unlock()
			return l.latest, nil
		}
		known = 0
	}
	if l.next == nil {
		l.next = make(chan struct{})
		lab.tasks.Go(func() { lab.look(id, l, known) })
	}
	next := l.next
	l.mu.Unlock()
	select {
	case <-next:
	case <-ctx.Done():
		return LivePicture{}, ctx.Err()
	case <-lab.stop:
		return LivePicture{}, api.Errorf(api.Conflict, "the service is stopping")
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.latest, l.err
}

// look fetches the next picture from the agent.
func (lab *Lab) look(id string, l *looker, after int) {
	var got LivePicture
	conn, err := lab.sessionLink(anyToken, id)
	if err != nil {
		err = api.Errorf(api.NotFound, "session %.80q is not open", id)
		lab.lookers.Delete(id)
	} else {
		var p said
		p, err = ask(conn, fasthttp.MethodGet, fmt.Sprintf("/sessions/%s/picture?after=%d", id, after), nil, 30*time.Second)
		switch {
		case err != nil:
			err = api.Errorf(api.Conflict, "no picture came: %v", err)
		case p.status == fasthttp.StatusOK:
			got = LivePicture{Image: p.body, Media: p.media}
			got.Number, err = strconv.Atoi(string(p.header))
		case p.status != fasthttp.StatusNoContent:
			err = api.Errorf(api.Conflict, "no picture came: %s", p.text())
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.err = err; err == nil {
		l.at = time.Now()
		if got.Number > 0 {
			l.latest = got
		}
	}
	close(l.next)
	l.next = nil
}

// ByHand has a person reach into a session, act in it, and let go.
func (lab *Lab) ByHand(who api.Who, id string, h link.Hand) (said string, err error) {
	conn, err := lab.sessionLink(anyToken, id)
	if err != nil {
		return "", api.Errorf(api.NotFound, "session %.80q is not open", id)
	}
	h.Who = who.Person()
	got, err := ask(conn, fasthttp.MethodPost, "/sessions/"+id+"/hand", h, 40*time.Second)
	if err != nil {
		return "", api.Errorf(api.Conflict, "the agent did not answer: %v", err)
	}
	switch got.status {
	case fasthttp.StatusNoContent:
		lab.hub.publish(api.Event{Type: "sessions"})
		return "", nil
	case fasthttp.StatusOK:
		var v struct {
			Said string `json:"said"`
		}
		err := json.Unmarshal(got.body, &v)
		return v.Said, err
	case fasthttp.StatusConflict:
		return "", api.Errorf(api.Conflict, "%s", got.text())
	}
	return "", api.Errorf(api.Invalid, "%s", got.text())
}

// SoFar returns the lines of commands or console of an open session after the
// first ones.
func (lab *Lab) SoFar(id, kind string, from int) ([]byte, error) {
	conn, err := lab.sessionLink(anyToken, id)
	if err != nil {
		return nil, api.Errorf(api.NotFound, "session %.80q is not open", id)
	}
	got, err := ask(conn, fasthttp.MethodGet, fmt.Sprintf("/sessions/%s/sofar/%s?from=%d", id, url.PathEscape(kind), from), nil,
		15*time.Second)
	if err != nil {
		return nil, api.Errorf(api.Conflict, "the agent did not answer: %v", err)
	}
	if got.status != fasthttp.StatusOK {
		return nil, api.Errorf(api.NotFound, "%s", got.text())
	}
	return got.body, nil
}
