package lab

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"time"

	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/mending"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// agentConn is an agent the service knows, online or not. Service.mu guards it.
type agentConn struct {
	name     string
	instance string
	machine  fleet.Machine
	link     *link.Agent // nil while offline
	lastSeen time.Time
	draining bool
	advice   fleet.Advice
	stock    map[string]link.StockState // what it says of what the service stocks, by id
}

func (lab *Lab) knowAgents(ctx context.Context) error {
	rows, err := lab.store.Agents(ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		a := &agentConn{name: row.Name, instance: row.Instance, lastSeen: store.Time(row.LastSeen), draining: row.Draining}
		if err := json.Unmarshal([]byte(row.Machine), &a.machine); err != nil {
			lab.log.Error("an agent's record cannot be read: it is unknown until it joins", "agent", row.Name, "error", err)
			continue
		}
		lab.agents[row.Name] = a
		lab.machine.Know(lab.now(), a.forDispatch())
	}
	return nil
}

func (a *agentConn) forDispatch() dispatch.Agent {
	return dispatch.Agent{Name: a.name, Program: a.instance, Facts: a.machine.Facts(a.name), Slots: a.machine.Slots, Draining: a.draining}
}

const (
	ticketLife = time.Minute
	maxTickets = 10_000
	maxHeld    = 100_000 // leases that an agent may say it holds
)

// ticket is an agent that has introduced itself and has no link yet.
type ticket struct {
	hello   link.Hello
	token   string // id of the one it was given to
	expires time.Time
}

// Hello takes the introduction of an agent that may join and whose token is its own,
// and answers with a ticket for its link. An earlier ticket of the token for that agent is void.
func (lab *Lab) Hello(token string, h link.Hello) (link.Welcome, error) {
	if err := lab.MayJoin(h); err != nil {
		return link.Welcome{}, err
	}
	t := rand.Text()
	lab.mu.Lock()
	defer lab.mu.Unlock()
	maps.DeleteFunc(lab.tickets, func(_ string, t ticket) bool {
		return t.token == token && t.hello.Name == h.Name || lab.now().After(t.expires)
	})
	if len(lab.tickets) >= maxTickets {
		return link.Welcome{}, api.Errorf(api.Conflict, "%d agents have introduced themselves and opened no link: try again in a minute",
			maxTickets)
	}
	lab.tickets[t] = ticket{h, token, lab.now().Add(ticketLife)}
	return link.Welcome{Ticket: t}, nil
}

// Admit takes a ticket back from the token it was given to and says whose link may be
// opened with it.
func (lab *Lab) Admit(token, name string) (link.Hello, error) {
	lab.mu.Lock()
	t, ok := lab.tickets[name]
	delete(lab.tickets, name)
	lab.mu.Unlock()
	if !ok || t.token != token || lab.now().After(t.expires) {
		return link.Hello{}, api.Errorf(api.Invalid, "the ticket is not valid: introduce the agent first with POST /api/v1%s", link.HelloPath)
	}
	return t.hello, lab.MayJoin(t.hello)
}

// Bounds of what an agent may say of its machine.
const (
	maxBrowsers = 500
	maxLabels   = 100
	maxFact     = 300     // bytes of a label or of one fact of a machine or browser
	maxSaid     = 4 << 10 // bytes of a path, a problem or a remedy
)

// MayJoin reports why an agent may not join as it says it is.
func (lab *Lab) MayJoin(h link.Hello) error {
	if !fleet.IsAgent(h.Name) {
		return api.Errorf(api.Invalid, "%q is not a name for an agent: letters, digits, '.', '-' and '_', at most 64", h.Name)
	}
	if h.Instance == "" || h.Machine.Slots < 1 || h.Machine.Slots > 1000 {
		return api.Errorf(api.Invalid, "agent %s must say its instance and 1 to 1000 slots", h.Name)
	}
	if h.Machine.Pool != "" && !fleet.IsName(h.Machine.Pool) {
		return api.Errorf(api.Invalid, "agent %s: %q is not the name of a pool: %s, or a project", h.Name, h.Machine.Pool, fleet.Shared)
	}
	if len(h.Held) > maxHeld {
		return api.Errorf(api.Invalid, "agent %s says it holds %d leases; at most %d are taken", h.Name, len(h.Held), maxHeld)
	}
	if err := bounded(h.Name, h.Machine); err != nil {
		return err
	}
	for label, v := range h.Machine.Labels {
		if len(label) > maxFact || len(v) > maxFact {
			return api.Errorf(api.Invalid, "agent %s: a label has at most %d bytes", h.Name, maxFact)
		}
		if slices.Contains(fleet.Own, label) {
			return api.Errorf(api.Invalid, "agent %s: a label may not be called %s, which every agent has by itself", h.Name, label)
		}
	}
	lab.mu.Lock()
	defer lab.mu.Unlock()
	if a := lab.agents[h.Name]; a != nil && a.link != nil && a.instance != h.Instance {
		return api.Errorf(api.Conflict, "another agent named %s is online: give this one a name of its own with --name", h.Name)
	}
	return nil
}

// bounded reports what an agent says too much of.
func bounded(agent string, m fleet.Machine) error {
	if len(m.Browsers) > maxBrowsers || len(m.Drivers) > maxBrowsers || len(m.Labels) > maxLabels {
		return api.Errorf(api.Invalid, "agent %s has %d browsers, %d drivers and %d labels; at most %d, %d and %d are taken", agent,
			len(m.Browsers), len(m.Drivers), len(m.Labels), maxBrowsers, maxBrowsers, maxLabels)
	}
	if len(m.Tools) > maxLabels {
		return api.Errorf(api.Invalid, "agent %s has %d tools; at most %d are taken", agent, len(m.Tools), maxLabels)
	}
	said := []string{m.OS, m.OSVersion, m.Arch, m.Model, m.Screen, m.Isolation, m.Version, m.StartedAt}
	for name, v := range m.Tools {
		said = append(said, name, v)
	}
	for _, b := range m.Browsers {
		said = append(said, b.Name, b.Engine, b.Version, b.Channel, b.Arch, string(b.From), b.Base, b.DriverVersion)
		if max(len(b.Path), len(b.Driver), len(b.Problem), len(b.Remedy)) > maxSaid {
			return api.Errorf(api.Invalid, "agent %s says more than %d bytes of its browser %.40q", agent, maxSaid, b.Name)
		}
	}
	for _, d := range m.Drivers {
		said = append(said, d.Name, d.Version, d.Arch, string(d.From))
		if max(len(d.Path), len(d.Problem), len(d.Remedy)) > maxSaid || len(d.Serves) > maxBrowsers {
			return api.Errorf(api.Invalid, "agent %s says more than %d bytes of its driver %.40q", agent, maxSaid, d.Name)
		}
		said = append(said, d.Serves...)
	}
	for _, s := range said {
		if len(s) > maxFact {
			return api.Errorf(api.Invalid, "agent %s: %.40q is longer than the %d bytes that a fact of a machine has", agent, s, maxFact)
		}
	}
	if len(m.Exposed) > maxSaid {
		return api.Errorf(api.Invalid, "agent %s says more than %d bytes of why it has no sandbox", agent, maxSaid)
	}
	return nil
}

// Join brings an agent online and keeps it so until the link is gone.
func (lab *Lab) Join(h link.Hello, l *link.Agent) error {
	lab.mu.Lock()
	a, e, err := lab.arriveLocked(h, l)
	lab.mu.Unlock()
	if err != nil {
		return err
	}
	lab.log.Info("agent joined", "agent", h.Name, "slots", h.Machine.Slots, "held", len(h.Held))
	if err := lab.carryOut(e); err != nil {
		return err
	}

	<-l.Done()

	lab.mu.Lock()
	if a.link != l {
		lab.mu.Unlock()
		return nil
	}
	a.link, a.lastSeen = nil, lab.now()
	lab.links.Delete(h.Name)
	e = lab.applyLocked(lab.machine.Leave(lab.now(), h.Name), store.SawAgent(h.Name, store.Millis(lab.now())))
	e.events = append(e.events, api.Event{Type: "agents"})
	lab.mu.Unlock()
	lab.log.Info("agent left", "agent", h.Name)
	return lab.carryOut(e)
}

// arriveLocked notes that an agent is online on a link.
func (lab *Lab) arriveLocked(h link.Hello, l *link.Agent) (*agentConn, *effects, error) {
	now := lab.now()
	a := lab.agents[h.Name]
	if a == nil {
		a = &agentConn{name: h.Name}
		lab.agents[h.Name] = a
	}
	if a.link != nil {
		if a.instance != h.Instance { // two came at the same time
			return nil, nil, api.Errorf(api.Conflict, "another agent named %s is online: give this one a name of its own with --name", h.Name)
		}
		a.link.Close() // the same agent came back before its old link was known to be dead
	}
	changed := lab.changedLocked(h.Name, a.machine, h.Machine)
	a.instance, a.machine, a.link, a.lastSeen = h.Instance, h.Machine, l, now
	lab.links.Store(h.Name, l)
	e := lab.applyLocked(lab.machine.Join(now, a.forDispatch(), h.Held), append(changed, store.SaveAgent(store.Agent{Name: h.Name,
		Instance: h.Instance, Machine: store.JSON(h.Machine), FirstSeen: store.Millis(now), LastSeen: store.Millis(now)}))...)
	e.events = append(e.events, api.Event{Type: "agents"})
	e.grants = append(e.grants, lab.halfOpenLocked(h)...)
	return a, e, nil
}

// halfOpenLocked lists the leases of sessions that an agent which came back was
// opening when its link dropped: the orders are sent once more, and the agent
// answers each with what came of the first.
func (lab *Lab) halfOpenLocked(h link.Hello) (out []dispatch.Lease) {
	for _, fence := range h.Held {
		g := lab.leases[fence]
		if x := lab.remotes[g.Run]; x != nil && g.Agent == h.Name && x.row.State == waitingState {
			out = append(out, g.Lease)
		}
	}
	return out
}

// Beat renews the leases of an agent.
func (lab *Lab) Beat(agent string, b link.Beat) (link.BeatAnswer, error) {
	lab.mu.Lock()
	a := lab.agents[b.Name]
	if a == nil || b.Name != agent || a.instance != b.Instance {
		lab.mu.Unlock()
		return link.BeatAnswer{}, api.Errorf(api.Conflict, "agent %s has not joined", b.Name)
	}
	a.lastSeen, a.advice = lab.now(), b.Advice
	if len(b.Stock) > maxStock {
		b.Stock = b.Stock[:maxStock]
	}
	a.stock = make(map[string]link.StockState, len(b.Stock))
	for _, s := range b.Stock {
		s.Why = s.Why[:min(len(s.Why), 2*maxFact)]
		a.stock[s.ID] = s
	}
	revision := lab.shelf.of()
	ended := lab.machine.Renew(lab.now(), b.Name, b.Held)
	lab.mu.Unlock()
	if len(ended) == 0 {
		return link.BeatAnswer{Stock: revision}, nil
	}
	return link.BeatAnswer{Ended: ended, Stock: revision}, lab.store.Sync() // the agent drops what it has of these leases
}

// Started notes that an agent has begun a test.
func (lab *Lab) Started(agent string, st link.Started) error {
	lab.mu.Lock()
	l, ok := lab.leases[st.Fence]
	if !ok || l.Agent != agent || !lab.machine.Started(lab.now(), st.Fence, st.Test) {
		lab.mu.Unlock()
		if err := lab.store.Sync(); err != nil { // the agent drops what it has of the lease
			return err
		}
		return api.Errorf(api.Conflict, "lease %d has ended", st.Fence)
	}
	e := &effects{}
	session := attempt.Session(l.id(st.Test), 1)
	if r := lab.live[l.Run]; r != nil {
		if r.started(l.Pane, st.Test, l.Agent) {
			r.view.Cells[l.Pane][st.Test].Session = session
			e.cell(r, l.Pane, st.Test)
		}
		lab.scripts[session] = scriptSession{run: l.Run, pane: l.Pane, test: st.Test, fence: st.Fence, agent: l.Agent, began: lab.now()}
		lab.routes.Store(session, &route{agent: l.Agent})
	}
	lab.mu.Unlock()
	for _, w := range e.walls {
		lab.hub.publish(w)
	}
	return nil
}

// MaxFileBytes bounds one file of an attempt.
const MaxFileBytes = 512 << 20

// PutFile takes a file of an attempt that an agent made under a lease.
func (lab *Lab) PutFile(agent string, fence int64, hash string, r io.Reader) error {
	lab.mu.Lock()
	l, ok := lab.leases[fence]
	lab.mu.Unlock()
	if !ok || l.Agent != agent {
		return api.Errorf(api.NotFound, "lease %d has ended", fence)
	}
	return lab.keeper.Take(hash, MaxFileBytes, r)
}

var fileName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

// inOrder checks a result. What is wrong with its files or its words costs these
// and is said; the verdict counts all the same. Only a verdict that is none, or a
// file that is still to be sent, is an error.
func inOrder(r link.Result, has func(string) bool) (link.Result, error) {
	switch r.Verdict {
	case verdict.Ended, verdict.Passed, verdict.Failed, verdict.Flaky, verdict.LabFault, verdict.Skipped:
	default:
		return r, api.Errorf(api.Invalid, "an attempt cannot end as %q", r.Verdict)
	}
	names := map[string]bool{}
	kept := make([]attempt.File, 0, min(len(r.Files), attempt.MaxFiles))
	for _, f := range r.Files {
		switch {
		case !fileName.MatchString(f.Name):
			r.Detail.Cut = append(r.Detail.Cut, fmt.Sprintf("a file: %.120q is not a name for one", f.Name))
		case names[f.Name]:
			r.Detail.Cut = append(r.Detail.Cut, "a second file called "+f.Name)
		case len(kept) == attempt.MaxFiles:
			r.Detail.Cut = append(r.Detail.Cut, fmt.Sprintf("files beyond the first %d", attempt.MaxFiles))
		case !has(f.Hash):
			return r, api.Errorf(api.Conflict, "the file %s has not been sent", f.Name)
		default:
			names[f.Name] = true
			kept = append(kept, f)
			continue
		}
		if len(kept) == attempt.MaxFiles || len(r.Detail.Cut) > attempt.MaxFiles {
			break
		}
	}
	r.Files, r.TookMS = kept, max(0, r.TookMS)
	return r.Fit(), nil
}

// Holds reports whether an agent has a lease on a run with a bundle.
func (lab *Lab) Holds(agent, bundle string) bool {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	for _, l := range lab.leases {
		if r := lab.live[l.Run]; l.Agent == agent && r != nil && r.view.Request.Bundle == bundle {
			return true
		}
	}
	return false
}

// Result takes the result of an attempt from an agent.
func (lab *Lab) Result(agent string, r link.Result) (link.ResultAnswer, error) {
	r.Agent = agent
	defer lab.keeper.Naming()() // the contents it names are not swept away before it is on record
	r, err := inOrder(r, lab.blobs.Has)
	if err != nil {
		return link.ResultAnswer{}, err
	}
	packed := walls.Pack(r.Detail) // which takes a while: not under the lock
	lab.mu.Lock()
	l, ok := lab.leases[r.Fence]
	if x := lab.remotes[l.Run]; ok && x != nil && attempt.Of(x.row.ID) == r.ID && l.Agent == r.Agent {
		accepted, e := lab.remoteResultLocked(x, r, packed)
		lab.mu.Unlock()
		if !accepted {
			return lab.notAccepted("lease %d has ended", r.Fence)
		}
		lab.dropGrown(x.row.ID)
		return link.ResultAnswer{Accepted: true}, lab.carryOut(e)
	}
	i := slices.Index(l.Tests, r.Test)
	if !ok || i < 0 || l.Agent != r.Agent {
		lab.mu.Unlock()
		return lab.notAccepted("lease %d has ended", r.Fence)
	}
	accepted, ds := lab.machine.Result(lab.now(), r.Fence, r.Test,
		dispatch.Outcome{Verdict: r.Verdict, Why: r.Message, Site: r.Site, Lacks: r.Lacks, Seconds: float64(r.TookMS) / 1000})
	if !accepted {
		lab.mu.Unlock()
		return lab.notAccepted("lease %d has ended or has this result", r.Fence)
	}
	r.ID, r.Attempt = l.ids[i], l.Attempt[i]
	run := lab.live[l.Run]
	batch := lab.bookLocked(run, l.Pane, r, packed)
	lab.dropScriptsLocked(r.Fence, func(test int) bool { return test == r.Test })
	e := lab.applyLocked(ds, batch...)
	e.cell(run, l.Pane, r.Test)
	lab.mu.Unlock()
	lab.dropGrown(attempt.Session(r.ID, 1))
	return link.ResultAnswer{Accepted: true}, lab.carryOut(e)
}

// maxRanOn bounds each part of what an attempt says it ran on, in bytes: these texts
// are kept once each, and found by their contents.
const maxRanOn = 100

// attemptOf is the record of an attempt, with what it says in detail.
func (lab *Lab) attemptOf(run *liveRun, pane int, r link.Result, packed store.Detail) store.Attempt {
	system := ""
	if c := lab.agents[r.Agent]; c != nil {
		system = c.machine.OS
	}
	return store.Attempt{ID: r.ID, Run: run.view.Number, Pane: pane, Test: r.Test, Number: r.Attempt,
		Sessions: sessionNumber(r.Sessions), Fence: r.Fence, Agent: r.Agent,
		Verdict: string(r.Verdict), Message: r.Message, StartedAt: r.StartedAt, TookMS: r.TookMS, OpenedMS: r.Detail.StartMS,
		RanOn: store.JSON(ranOn{attempt.Clip(r.Detail.Browser, maxRanOn), attempt.Clip(r.Detail.Version, maxRanOn),
			attempt.Clip(system, maxRanOn), attempt.Clip(r.Detail.Device, maxRanOn)}), Detail: packed}
}

// ranOn is what the session of an attempt ran on.
type ranOn struct {
	Browser string `json:"browser"`
	Version string `json:"version"`
	OS      string `json:"os"`
	Device  string `json:"device"`
}

// sessionNumber bounds what an agent says of the sessions of an attempt.
func sessionNumber(n int) int { return min(max(0, n), attempt.MaxSessions) }

// filesOf are the records of a result's files.
func filesOf(r link.Result) []store.File {
	out := make([]store.File, len(r.Files))
	for i, f := range r.Files {
		out[i] = store.File{Name: f.Name, Kind: f.Kind, Media: f.Media, Hash: f.Hash, Size: f.Size, Session: sessionNumber(f.Session)}
	}
	return out
}

// notAccepted answers a result that does not count, most often one that was taken
// before. Its sender drops its copy, so the answer waits until what was taken is on
// disk.
func (lab *Lab) notAccepted(format string, args ...any) (link.ResultAnswer, error) {
	return link.ResultAnswer{Why: fmt.Sprintf(format, args...)}, lab.store.Sync()
}

// defaultTestMS is how long a test may take, in milliseconds, when nobody says.
const defaultTestMS = 120_000

// deliver sends a slice to its agent. When that fails the lease is given back;
// an agent whose link has just gone keeps it until it comes back or the lease
// expires.
func (lab *Lab) deliver(lease dispatch.Lease) {
	lab.mu.Lock()
	l, ok := lab.leases[lease.Fence]
	if !ok { // it has ended meanwhile
		lab.mu.Unlock()
		return
	}
	r, a := lab.live[l.Run], lab.agents[l.Agent]
	if x := lab.remotes[l.Run]; x != nil && a != nil && a.link != nil {
		conn := a.link
		x.link = conn
		lab.mu.Unlock()
		lab.tasks.Go(func() { lab.openRemote(x, lease, conn) })
		return
	}
	if r == nil || a == nil || a.link == nil {
		lab.mu.Unlock()
		return
	}
	conn := a.link
	limit := int64(r.view.Request.TestLimitS) * 1000
	if limit == 0 {
		limit = defaultTestMS
	}
	p := r.view.Panes[l.Pane]
	slice := link.Slice{Fence: l.Fence, Run: r.view.Number, Project: r.view.Project, Suite: r.view.Suite, Pane: l.Pane, Label: p.Label,
		Values: p.Values, Device: r.terms.Profiles[l.Pane], Keep: r.view.Request.Browser == api.Kept, Bundle: r.view.Request.Bundle,
		Marker: r.terms.Marker, Base: r.view.Base, Vars: maps.Clone(r.terms.Vars), TestLimitMS: limit,
		Record: lab.keeper.Recorded(r.terms.Record), Secrets: maps.Clone(r.terms.Secrets), Traffic: r.view.Request.Traffic,
		Command: r.terms.Command, Several: r.terms.Several, Relay: lab.leads(r.view.Project, r.view.Request.Relay, r.view.Base),
		Mending: cmp.Or(r.view.Request.Mending, r.terms.Mending, mending.Suggest)}
	for i, t := range l.Tests {
		slice.Tests = append(slice.Tests, link.SliceTest{Index: t, Name: r.view.Tests[t].Name, File: r.view.Tests[t].File,
			Attempt: l.Attempt[i], ID: l.ids[i], Watch: r.watch(t)})
	}
	lab.mu.Unlock()
	lab.tasks.Go(func() {
		err := call(conn, fasthttp.MethodPost, "/slices", slice)
		if err == nil {
			return
		}
		lab.log.Warn("slice not delivered", "agent", l.Agent, "fence", l.Fence, "error", err)
		select {
		case <-conn.Done():
		default:
			lab.mu.Lock()
			e := lab.applyLocked(lab.machine.Done(lab.now(), l.Fence, fmt.Sprintf("agent %s did not take the slice: %v", l.Agent, err)))
			lab.mu.Unlock()
			_ = lab.carryOut(e)
		}
	})
}

// revoke tells an agent to drop a lease. An agent that cannot be told learns it
// from its next beat.
func (lab *Lab) revoke(end dispatch.End) {
	lab.mu.Lock()
	var conn *link.Agent
	if a := lab.agents[end.Agent]; a != nil {
		conn = a.link
	}
	lab.mu.Unlock()
	if conn == nil {
		return
	}
	lab.tasks.Go(func() {
		if err := call(conn, fasthttp.MethodDelete, fmt.Sprintf("/slices/%d", end.Fence), nil); err != nil {
			lab.log.Warn("lease not revoked", "agent", end.Agent, "fence", end.Fence, "error", err)
		}
	})
}

// Agents lists the fleet by name.
func (lab *Lab) Agents() []api.Agent {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	out := []api.Agent{}
	for _, name := range slices.Sorted(maps.Keys(lab.agents)) {
		a := lab.agents[name]
		v := api.Agent{Name: name, Online: a.link != nil, Machine: a.machine, Slots: a.machine.Slots,
			LastSeen: api.At(store.Millis(a.lastSeen)), Work: []api.AgentWork{}}
		load := lab.machine.Load(name)
		v.Used, v.Draining, v.Away, v.RestEnds, v.Advice = load.Used, a.draining, load.Away, api.At(store.Millis(load.RestUntil)), a.advice
		for _, fence := range slices.Sorted(maps.Keys(lab.leases)) {
			l := lab.leases[fence]
			if r := lab.live[l.Run]; l.Agent == name && r != nil {
				v.Work = append(v.Work, api.AgentWork{Project: r.view.Project, Run: r.view.Number, Label: r.view.Panes[l.Pane].Label,
					Tests: len(l.Tests), Session: ""})
			} else if x := lab.remotes[l.Run]; l.Agent == name && x != nil {
				v.Work = append(v.Work, api.AgentWork{Project: x.run.view.Project, Run: x.run.view.Number, Label: x.order.Label, Tests: 1,
					Session: x.row.ID})
			}
		}
		out = append(out, v)
	}
	return out
}

// DrainAgent has an agent finish what it has and take nothing new, or take work
// again.
func (lab *Lab) DrainAgent(name string, draining bool) error {
	return lab.changeAgent(name, func(a *agentConn) ([]dispatch.Decision, []store.Stmt) {
		a.draining = draining
		return lab.machine.Drain(lab.now(), name, draining), []store.Stmt{store.DrainAgent(name, draining)}
	})
}

// WakeAgent ends an agent's rest.
func (lab *Lab) WakeAgent(name string) error {
	return lab.changeAgent(name, func(*agentConn) ([]dispatch.Decision, []store.Stmt) { return lab.machine.Wake(lab.now(), name), nil })
}

func (lab *Lab) changeAgent(name string, change func(*agentConn) ([]dispatch.Decision, []store.Stmt)) error {
	lab.mu.Lock()
	a := lab.agents[name]
	if a == nil {
		lab.mu.Unlock()
		return api.Errorf(api.NotFound, "there is no agent %s: pane agents lists them", name)
	}
	ds, records := change(a)
	e := lab.applyLocked(ds, records...)
	e.events = append(e.events, api.Event{Type: "agents"})
	lab.mu.Unlock()
	return lab.carryOut(e)
}

// ForgetAgent removes an agent that is offline.
func (lab *Lab) ForgetAgent(name string) error {
	lab.mu.Lock()
	a := lab.agents[name]
	if a == nil || a.link != nil {
		lab.mu.Unlock()
		if a == nil {
			return api.Errorf(api.NotFound, "there is no agent %s", name)
		}
		return api.Errorf(api.Conflict, "agent %s is online: stop it first", name)
	}
	delete(lab.agents, name)
	e := lab.applyLocked(lab.machine.Forget(lab.now(), name), store.DropAgent(name))
	e.events = append(e.events, api.Event{Type: "agents"})
	lab.mu.Unlock()
	return lab.carryOut(e)
}
