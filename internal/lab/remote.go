package lab

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/remote"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
	"parallelpane/internal/webdriver"
)

// States of sessions.
const (
	waitingState = "waiting"
	openState    = "open"
	endedState   = "ended"
)

// remoteSession is a session of somebody else's runner that has not ended. To
// the scheduler it is a run of its own with one test; on the wall it is one
// attempt of its test. Service.mu guards it.
type remoteSession struct {
	row     store.Session
	run     *liveRun
	pane    int // of run, as its test
	test    int
	needs   fleet.Needs
	values  map[string]string
	queue   time.Duration
	order   link.Session // without what the lease adds
	relay   string       // through which it reaches the application; "" for none
	waiter  chan remoteAnswer
	link    *link.Agent // over which it is being opened
	gone    bool        // its client went away before it had an answer
	why     string      // the last fault of the lab
	fault   string      // of the lab, in an attempt to open it; "" when there was none
	late    int64       // the lease under which it was being opened when its queue's limit was over
	message string      // for the client, if it never opens
	code    string      // of W3C WebDriver, with message
}

type remoteAnswer struct {
	given map[string]any
	fault *webdriver.Error
}

// NewSession opens a session for a runner. It waits for a slot as all work does;
// gone is closed when the client has gone away. The value is that of the New
// Session command; an error is a *webdriver.Error.
func (lab *Lab) NewSession(ctx context.Context, who api.Who, body []byte, gone <-chan struct{}) (id, key string,
	given map[string]any, err error) {
	x, err := lab.askSession(ctx, who, body)
	if err != nil {
		return "", "", nil, err
	}
	id = x.row.ID
	limit := time.NewTimer(x.queue)
	defer limit.Stop()
	late := time.NewTicker(lateLooks)
	late.Stop()
	defer late.Stop()
	for {
		select {
		case a := <-x.waiter:
			if a.fault != nil {
				return "", "", nil, a.fault
			}
			return id, x.row.BiDiKey, a.given, nil
		case <-limit.C:
			late.Reset(lateLooks)
			lab.dropLate(x)
		case <-late.C:
			lab.dropLate(x)
		case <-gone:
			gone = nil
			lab.dropWaiting(x, "the client went away while it waited")
		case <-lab.stop:
			return "", "", nil, webdriver.Errorf(webdriver.SessionNotCreated, "the service is stopping")
		}
	}
}

// lateLooks is how often a session that is being opened when its queue's limit is
// over is looked at again.
const lateLooks = 200 * time.Millisecond

// dropLate ends a session whose queue's limit is over. One that is being opened
// goes on as long as it is still under the lease that it had then, and its agent
// can say so.
func (lab *Lab) dropLate(x *remoteSession) {
	lab.mu.Lock()
	how := fmt.Sprintf("it waited %s for a slot", x.queue)
	if x.row.Fence != 0 && x.row.State == waitingState {
		if x.late == 0 {
			x.late = x.row.Fence
		}
		if x.late == x.row.Fence && x.link != nil {
			select {
			case <-x.link.Done():
			default:
				lab.mu.Unlock()
				return
			}
		}
		how = fmt.Sprintf("agent %s lost its link while it opened the browser, and the %s that it may wait are over", x.row.Agent, x.queue)
		x.fault = cmp.Or(x.fault, how)
	}
	lab.dropLocked(x, how)
}

// dropWaiting ends a session that waits and whose client has gone. One that is
// just being opened is ended once it is open.
func (lab *Lab) dropWaiting(x *remoteSession, how string) {
	lab.mu.Lock()
	x.gone = true
	if x.row.Fence != 0 {
		lab.mu.Unlock()
		return
	}
	lab.dropLocked(x, how)
}

// dropLocked ends a session that is not open yet. It is called with the lock,
// which it gives up.
func (lab *Lab) dropLocked(x *remoteSession, how string) {
	if x.row.State != waitingState {
		lab.mu.Unlock()
		return
	}
	x.why, x.message = how, how
	e := lab.applyLocked(lab.machine.Cancel(lab.now(), x.row.ID, how))
	lab.mu.Unlock()
	_ = lab.carryOut(e)
}

// askSession processes a New Session command and puts the session in the queue.
func (lab *Lab) askSession(ctx context.Context, who api.Who, body []byte) (*remoteSession, error) {
	alternatives, err := webdriver.Alternatives(body)
	if err != nil {
		return nil, err
	}
	want, caps, err := lab.choose(who, alternatives)
	if err != nil {
		return nil, err
	}
	o := want.Options
	if !who.May(api.Runner, o.Project) {
		return nil, webdriver.Errorf(webdriver.SessionNotCreated, "the token %q has not the role runner in the project %s: name one of yours "+
			"as project in %s", who.Name, o.Project, remote.OptionsKey)
	}
	if o.Relay != "" {
		if _, err := lab.relays.Places(o.Project, o.Relay); err != nil {
			return nil, webdriver.Errorf(webdriver.SessionNotCreated, "%v", err)
		}
	}
	settled, err := lab.keeper.ProjectSettings(ctx, o.Project)
	if err != nil {
		return nil, err
	}
	needs := want.Needs()
	if !lab.exposed {
		needs = needs.With(fleet.Guarded)
	}
	x := &remoteSession{needs: needs, values: want.Values, queue: o.Queue(), relay: o.Relay, waiter: make(chan remoteAnswer, 1)}
	secrets := remote.Secrets(caps)
	id := attempt.Session(attempt.NewID(store.NewID()), 1) // section 8.1 "New Session" wants a UUID
	mask := recording.NewMask(secrets...)
	lab.masks.keep(id, secrets)
	for _, text := range []*string{&o.Name, &o.Test, &o.Run} {
		*text = mask.Text(*text)
	}
	for i := range o.Tags {
		o.Tags[i] = mask.Text(o.Tags[i])
	}
	name := o.Name
	if name == "" {
		name = o.Test
	}
	x.order = link.Session{ID: id, Project: o.Project, Name: name, Values: want.Values, Label: want.Label(), Asked: want.Caps,
		Traffic: o.Traffic, Relay: lab.leads(o.Project, o.Relay, ""),
		IdleMS: o.Idle().Milliseconds(), LifeMS: lab.sessionLife.Milliseconds(), Record: record.Over(o.Record, settled.Record,
			record.Default(true)), Secrets: secrets}
	if o.Device != "" {
		profile, err := device.Find(o.Device)
		if err != nil {
			return nil, webdriver.Errorf(webdriver.InvalidArgument, "%s.device: %v", remote.OptionsKey, err)
		}
		x.order.Device = &profile
	}
	o.Secrets = nil
	asked, _ := json.Marshal(caps)
	x.row = store.Session{ID: x.order.ID, Name: name, Tags: store.List(o.Tags), By: who.Person(), TokenID: who.TokenID,
		Browser: want.Values["browser"], Device: o.Device, OS: want.Values["os"], Asked: string(mask.JSON(withoutSecrets(asked))),
		Options: store.JSON(o), State: waitingState}
	if err := lab.enqueue(ctx, x, o); err != nil {
		return nil, err
	}
	return x, nil
}

// withoutSecrets takes the values of secrets out of capabilities;
// their names stay.
func withoutSecrets(caps json.RawMessage) json.RawMessage {
	var v map[string]any
	if json.Unmarshal(caps, &v) != nil {
		return caps
	}
	if o, ok := v[remote.OptionsKey].(map[string]any); ok {
		if env, ok := o["secrets"].(map[string]any); ok {
			for name := range env {
				env[name] = recording.Masked
			}
		}
	}
	out, err := json.Marshal(v)
	if err != nil {
		return caps
	}
	return out
}

// enqueue gives a session its place on the wall of its run and in the queue.
func (lab *Lab) enqueue(ctx context.Context, x *remoteSession, o remote.Options) error {
	name := o.Run
	if name == "" {
		name = fmt.Sprintf("%s, %s", x.row.By, lab.now().Format("2006-01-02"))
	}
	lab.growMu.Lock() // two sessions of a new run make one run
	defer lab.growMu.Unlock()
	r, err := lab.runOfSessions(ctx, o.Project, name)
	if err != nil {
		return err
	}
	lab.mu.Lock()
	e, err := lab.enqueueLocked(x, r, name, o)
	lab.mu.Unlock()
	if err != nil {
		return err
	}
	return lab.carryOut(e)
}

// maxWaiting bounds the sessions of one token that wait for a slot.
const maxWaiting = 500

// enqueueLocked does so in a run, or in a new one when there is none of its name.
func (lab *Lab) enqueueLocked(x *remoteSession, r *liveRun, name string, o remote.Options) (*effects, error) {
	var batch []store.Stmt
	waiting := 0
	for _, o := range lab.remotes {
		if o.row.TokenID == x.row.TokenID && o.row.State == waitingState {
			waiting++
		}
	}
	if waiting >= maxWaiting {
		return nil, webdriver.Errorf(webdriver.SessionNotCreated, "%d sessions of this token wait already, which is as many as may", waiting)
	}
	if r == nil {
		var err error
		if r, batch, err = lab.newGrowingLocked(o.Project, name, x.row.By); err != nil {
			return nil, err
		}
	}
	test := cmp.Or(o.Test, o.Name)
	if test == "" {
		test = fmt.Sprintf("session %d", len(r.view.Tests)+1)
		x.row.Name, x.order.Name = test, test
	}
	if !r.place(x, test) {
		return nil, webdriver.Errorf(webdriver.SessionNotCreated, "the run %q is full: a wall holds %d cells; name another run in %s",
			name, maxRunCells, remote.OptionsKey)
	}
	batch = append(batch, r.goOn()...)
	batch = append(batch, r.grow(x, test, o.Tags)...)
	batch = append(batch, r.await(x, store.Millis(lab.now()))...)
	lab.live[r.view.ID], lab.growing[growKey(r)], lab.remotes[x.row.ID] = r, r, x
	e := lab.applyLocked(lab.machine.Submit(lab.now(), x.work(o.Project)), batch...)
	e.cell(r, x.pane, x.test)
	e.events = append(e.events, api.Event{Type: "sessions"})
	return e, nil
}

// work is a session as the scheduler sees it: a run of one test, tried once.
func (x *remoteSession) work(project string) dispatch.Run {
	return dispatch.Run{ID: x.row.ID, Project: project, Owner: x.row.By, Once: true, QueueLimit: x.queue,
		Panes: []dispatch.Pane{{Needs: x.needs, Values: x.values, Tests: []dispatch.Test{{}}}}}
}

// applyRemoteLocked books a decision about a session.
func (lab *Lab) applyRemoteLocked(x *remoteSession, d dispatch.Decision, e *effects) (batch []store.Stmt) {
	now := store.Millis(lab.now())
	switch d := d.(type) {
	case dispatch.Lease:
		g := grant{Lease: d, ids: []string{attempt.Of(x.row.ID)}}
		lab.leases[d.Fence] = g
		x.row.Fence, x.row.Agent = d.Fence, d.Agent
		batch = append(batch, store.AddLease(store.Lease{Fence: d.Fence, Run: x.row.Run, Pane: x.pane, Agent: d.Agent,
			Tests: store.JSON(g.tests()), GrantedAt: now}), store.LeaseSession(x.row.ID, d.Fence, d.Agent))
		if r := x.run; r.view.StartedAt == nil {
			r.view.StartedAt, r.view.State = api.At(now), api.Running
			batch = append(batch, store.StartRun(r.view.Number, now))
		}
		x.run.joined(x.pane, d.Agent)
		e.grants = append(e.grants, d)
	case dispatch.End:
		delete(lab.leases, d.Fence)
		x.row.Fence, x.why = 0, d.Why
		batch = append(batch, store.EndLease(d.Fence))
		e.ends = append(e.ends, d)
	case dispatch.Closed:
		delete(lab.leases, d.Fence)
		batch = append(batch, store.EndLease(d.Fence))
	case dispatch.Lost:
		x.why, x.fault = d.Why, d.Why
	case dispatch.Settled:
		if x.fault != "" && d.Verdict == verdict.Skipped { // it was dropped, and the lab had failed it before
			d.Verdict = verdict.LabFault
		}
		if x.row.State != endedState { // no result of an agent has said how
			how := d.Why
			if how == "" {
				how = x.why
			}
			lost := attempt.Detail{Steps: []attempt.Step{}, End: how}
			if x.row.OpenedAt > 0 {
				lost.Record = x.order.Record
				e.lost = append(e.lost, lostSession{x.row.ID, lost})
			}
			batch = append(batch, lab.endLocked(x, link.Result{ID: x.row.ID, Agent: x.row.Agent, Verdict: d.Verdict,
				Message: cmp.Or(x.message, how), StartedAt: now,
				Detail: lost}, walls.Pack(lost), e)...)
		}
	}
	return batch
}

// endLocked books the end of a session: its attempt, its cell, and the end of
// its run when it was the last that was open.
func (lab *Lab) endLocked(x *remoteSession, r link.Result, packed store.Detail, e *effects) (batch []store.Stmt) {
	now := store.Millis(lab.now())
	r.Message, r.Detail.End = lab.masks.of(x.row.ID, r.Message), lab.masks.of(x.row.ID, r.Detail.End)
	x.message = lab.masks.of(x.row.ID, x.message)
	lab.masks.ended(x.row.ID, lab.now())
	x.row.State, x.row.Verdict, x.row.Message, x.row.How, x.row.EndedAt = endedState, string(r.Verdict), r.Message, r.Detail.End, now
	if r.TookMS > 0 && r.StartedAt+r.TookMS < now {
		x.row.EndedAt = r.StartedAt + r.TookMS // before it was put away
	}
	run := x.run
	r.ID, r.Fence, r.Test, r.Attempt, r.Sessions = attempt.Of(x.row.ID), x.row.Fence, x.test, x.row.Number, 1
	batch = append(lab.bookLocked(run, x.pane, r, packed), store.EndSession(x.row))
	run.try(x.pane, x.test, x.row.Number, r.Verdict)
	run.cell(x.pane, x.test, api.Running, "")
	batch = append(batch, store.Regard(run.record(x.pane, x.test))...)
	lab.routes.Delete(x.row.ID)
	lab.lookers.Delete(x.row.ID)
	delete(lab.remotes, x.row.ID)
	fault := remoteAnswer{fault: webdriver.Errorf(x.faultCode(), "%s", x.faultText(r.Message))}
	e.answers = append(e.answers, func() { x.answer(fault) })
	e.cell(run, x.pane, x.test)
	e.events = append(e.events, api.Event{Type: "sessions"})
	if run.sessions--; run.sessions == 0 {
		return append(batch, lab.endRunLocked(run, e))
	}
	e.events = append(e.events, api.Event{Type: "run", Run: run.head()})
	return append(batch, store.Recount(run.view.Number, store.JSON(copyCounts(run.view.Counts))))
}

func (x *remoteSession) faultCode() string {
	if x.code != "" {
		return x.code
	}
	return webdriver.SessionNotCreated
}

func (x *remoteSession) faultText(message string) string {
	if x.message != "" {
		return x.message
	}
	return message
}

// answer tells the client that waits, once.
func (x *remoteSession) answer(a remoteAnswer) {
	select {
	case x.waiter <- a:
	default:
	}
}

// openRemote has an agent open a session under a lease.
func (lab *Lab) openRemote(x *remoteSession, l dispatch.Lease, conn *link.Agent) {
	order := x.order
	order.Fence, order.Record = l.Fence, lab.keeper.Recorded(order.Record)
	var open link.SessionOpen
	var fault link.SessionFault
	status, err := exchange(conn, fasthttp.MethodPost, "/sessions", order, 2*time.Minute, &open, &fault)
	if err == nil && status == fasthttp.StatusOK {
		lab.opened(x, l, open)
		return
	}
	if err == nil && fault.Code == "" {
		err = fmt.Errorf("status %d", status)
	}
	if err != nil {
		fault = link.SessionFault{Code: webdriver.SessionNotCreated, Lab: true, Message: fmt.Sprintf("agent %s did not open the session: %v",
			l.Agent, err)}
		select {
		case <-conn.Done(): // it may only have lost its link: the lease lives until it expires
			return
		default:
		}
	}
	fault.Message = lab.masks.of(x.row.ID, fault.Message)
	lab.log.Info("session not opened", "session", x.row.ID, "agent", l.Agent, "error", fault.Message, "lab", fault.Lab)
	o := dispatch.Outcome{Verdict: verdict.Failed, Why: fault.Message}
	if fault.Lab {
		o.Verdict = verdict.LabFault
	}
	lab.mu.Lock()
	x.why, x.message, x.code = fault.Message, fault.Message, fault.Code
	accepted, ds := lab.machine.Result(lab.now(), l.Fence, 0, o)
	if !accepted {
		lab.mu.Unlock()
		return
	}
	x.why, x.row.Fence = "it could not be opened", 0
	e := lab.applyLocked(ds)
	lab.mu.Unlock()
	_ = lab.carryOut(e)
}

// opened takes an open session into the records and answers its client.
func (lab *Lab) opened(x *remoteSession, l dispatch.Lease, open link.SessionOpen) {
	key := strings.ToLower(rand.Text())
	sum := sha256.Sum256([]byte(key))
	lab.mu.Lock()
	if x.row.State != waitingState || x.row.Fence != l.Fence || !lab.machine.Started(lab.now(), l.Fence, 0) {
		lab.mu.Unlock()
		return // the lease ended meanwhile; the agent is told to drop it
	}
	x.row.State, x.row.OpenedAt, x.row.Browser, x.row.Version, x.row.Agent = openState, store.Millis(lab.now()),
		open.Browser, open.Version, l.Agent
	if a := lab.agents[l.Agent]; a != nil {
		x.row.OS = a.machine.OS
	}
	row := x.row
	row.BiDiKey = hex.EncodeToString(sum[:])
	lab.routes.Store(x.row.ID, &route{x.row.TokenID, l.Agent, row.BiDiKey})
	x.row.BiDiKey = key
	x.run.regard(x.pane, x.test, api.Running, verdict.Pending, "")
	x.run.view.Cells[x.pane][x.test].Agent = l.Agent
	e := lab.applyLocked(nil, store.OpenSession(row))
	e.cell(x.run, x.pane, x.test)
	e.events = append(e.events, api.Event{Type: "sessions"})
	gone := x.gone
	lab.mu.Unlock()
	if lab.carryOut(e) != nil {
		return
	}
	lab.log.Info("session opened", "session", row.ID, "agent", l.Agent, "browser", open.Browser, "version", open.Version)
	if gone {
		_ = lab.endRemote(x, "the client went away before the session was open")
		return
	}
	x.answer(remoteAnswer{given: open.Given})
}

// endRemote asks for the end of a session, wherever it stands.
func (lab *Lab) endRemote(x *remoteSession, why string) error {
	lab.mu.Lock()
	waiting := x.row.State == waitingState
	var conn *link.Agent
	if a := lab.agents[x.row.Agent]; a != nil {
		conn = a.link
	}
	lab.mu.Unlock()
	if !waiting && conn != nil {
		args := fasthttp.AcquireArgs()
		defer fasthttp.ReleaseArgs(args)
		args.Set("why", why)
		if call(conn, fasthttp.MethodPost, "/sessions/"+x.row.ID+"/end?"+args.String(), nil) == nil {
			return nil // its result says so
		}
	}
	lab.mu.Lock()
	x.why, x.message = why, why
	e := lab.applyLocked(lab.machine.Cancel(lab.now(), x.row.ID, why))
	lab.mu.Unlock()
	return lab.carryOut(e)
}

// remoteResultLocked takes the result of a session from its agent.
func (lab *Lab) remoteResultLocked(x *remoteSession, r link.Result, packed store.Detail) (bool, *effects) {
	accepted, ds := lab.machine.Result(lab.now(), r.Fence, 0, dispatch.Outcome{Verdict: r.Verdict, Why: r.Message})
	if !accepted {
		return false, nil
	}
	ended := &effects{}
	batch := lab.endLocked(x, r, packed, ended)
	lab.remotes[x.row.ID] = x // for the decisions about it
	e := lab.applyLocked(ds, batch...)
	delete(lab.remotes, x.row.ID)
	e.ended = append(e.ended, ended.ended...)
	e.walls, e.events, e.answers = append(ended.walls, e.walls...), append(ended.events, e.events...), append(ended.answers, e.answers...)
	return true, e
}

// takeUpRemotes goes on with the sessions that were live when the service
// stopped. Those that waited have lost their clients.
func (lab *Lab) takeUpRemotes(ctx context.Context) error {
	rows, err := lab.store.LiveSessions(ctx)
	if err != nil {
		return err
	}
	lab.mu.Lock()
	defer lab.mu.Unlock()
	byNumber := map[int]*liveRun{}
	for _, r := range lab.live {
		byNumber[r.view.Number] = r
	}
	for _, row := range rows {
		r := byNumber[row.Run]
		if r == nil || row.Pane >= len(r.view.Panes) || row.Test >= len(r.view.Tests) { // its run does not go on, nor does it
			lab.log.Error("a session was set aside: its run does not go on", "session", row.ID)
			row.State, row.Verdict, row.How = endedState, string(verdict.LabFault), "the service was started again, and its run does not go on"
			row.Message, row.EndedAt = row.How, store.Millis(lab.now())
			lab.store.Enqueue(store.EndSession(row))
			continue
		}
		x := &remoteSession{row: row, run: r, pane: row.Pane, test: row.Test, needs: r.view.Panes[row.Pane].Needs,
			values: r.view.Panes[row.Pane].Values,
			waiter: make(chan remoteAnswer, 1)}
		x.order.Label = r.view.Panes[row.Pane].Label
		lab.remotes[row.ID] = x
		r.sessions++
		r.try(row.Pane, row.Test, row.Number, verdict.Pending)
		if row.State != openState {
			x.row.Fence = 0
			how := "the service was started again while it waited"
			e := &effects{}
			lost := link.Result{ID: row.ID, Verdict: verdict.LabFault, Message: how, StartedAt: row.QueuedAt, Detail: attempt.Detail{End: how}}
			if err := lab.store.Write(lab.endLocked(x, lost, walls.Pack(lost.Detail), e)...); errors.Is(err, store.ErrGuard) {
				lab.log.Error("a session was set aside: the records did not allow its end", "session", row.ID, "error", err)
				lab.store.Enqueue(store.AbandonSession(row.ID, "set aside: "+how, store.Millis(lab.now())))
			} else if err != nil {
				return err
			}
			continue
		}
		r.regard(row.Pane, row.Test, api.Running, verdict.Pending, "")
		r.view.Cells[row.Pane][row.Test].Session = row.ID
		lease := dispatch.Lease{Fence: row.Fence, Agent: row.Agent, Run: row.ID, Tests: []int{0}, Attempt: []int{1}}
		lab.leases[row.Fence] = grant{Lease: lease, ids: []string{attempt.Of(row.ID)}}
		lab.routes.Store(row.ID, &route{row.TokenID, row.Agent, row.BiDiKey})
		lab.applyLocked(lab.machine.Restore(lab.now(), x.work(r.view.Project), []dispatch.Lease{lease}))
		lab.machine.Started(lab.now(), row.Fence, 0)
	}
	// A run whose last session ended just before the service did is over.
	for _, r := range lab.growing {
		if r.sessions == 0 {
			r.over(lab.now())
			delete(lab.live, r.view.ID)
			if err := lab.store.Write(r.end(store.Millis(lab.now()))); errors.Is(err, store.ErrGuard) {
				lab.log.Error("the end of a run is not on record", "run", r.view.Number, "error", err)
			} else if err != nil {
				return err
			}
		}
	}
	return nil
}
