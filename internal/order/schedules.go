package order

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"
	_ "time/tzdata" // zones, on machines that have none

	ics "github.com/arran4/golang-ical"

	"parallelpane/internal/api"
	"parallelpane/internal/core/calendar"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/store"
)

// planned is a schedule in force. schedules.mu guards it.
type planned struct {
	row    store.Schedule
	preset string
	of     string // project
	rule   *calendar.Rule
	waits  *fleet.Change // instead of a rule: for a browser's version
	due    time.Time     // next occurrence; zero when there is none
}

type schedules struct {
	mu     sync.Mutex
	loaded bool
	all    []*planned
	opened time.Time // since when the service has been up
}

// scheduler is who starts scheduled runs.
var scheduler = api.Who{Name: "schedule", Rights: api.InLab(api.Runner)}

// Preview lists the next occurrences of a rule.
func (desk *Desk) Occurrences(req api.ScheduleRequest, n int) (api.Occurrences, error) {
	if c, is, err := fleet.ParseChange(req.Rule); err != nil {
		return api.Occurrences{}, api.Errorf(api.Invalid, "rule: %v", err)
	} else if is {
		return api.Occurrences{Words: c.Words(), Occurrences: []time.Time{}}, nil
	}
	rule, start, _, err := desk.ruleOf(req)
	if err != nil {
		return api.Occurrences{}, err
	}
	times, err := rule.After(start.Add(-time.Second), n)
	if err != nil {
		return api.Occurrences{}, api.Errorf(api.Invalid, "%v", err)
	}
	return api.Occurrences{Words: rule.Words(), Occurrences: times}, nil
}

func (desk *Desk) ruleOf(req api.ScheduleRequest) (*calendar.Rule, time.Time, string, error) {
	name := req.Zone
	if name == "" {
		name = "UTC"
	}
	zone, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		return nil, time.Time{}, "", api.Errorf(api.Invalid, "zone: %q is not a time zone such as Europe/Berlin", name)
	}
	start := desk.now().Add(time.Second).Truncate(time.Second) // the next whole one
	if req.Start != "" {
		if start, err = time.Parse(time.RFC3339, req.Start); err != nil {
			return nil, start, "", api.Errorf(api.Invalid, "start: expected a time such as 2026-03-02T06:30:00+01:00, found %q", req.Start)
		}
	}
	rule, err := calendar.Parse(req.Rule, start, zone)
	if err != nil {
		return nil, start, "", api.Errorf(api.Invalid, "%v", err)
	}
	return rule, start, name, nil
}

// loadLocked reads the schedules; schedules.mu is held.
func (desk *Desk) loadLocked(ctx context.Context) error {
	x := &desk.plans
	if x.loaded {
		return nil
	}
	rows, err := desk.store.Schedules(ctx)
	if err != nil {
		return err
	}
	presets, err := desk.Presets(ctx)
	if err != nil {
		return err
	}
	x.all = nil
	for _, row := range rows {
		p := &planned{row: row}
		for _, preset := range presets {
			if preset.ID == row.PresetID {
				p.preset, p.of = preset.Name, preset.Project
			}
		}
		zone, err := time.LoadLocation(row.Zone)
		if c, is, changeErr := fleet.ParseChange(row.Rule); is {
			p.waits, err = &c, changeErr
		} else if err == nil {
			p.rule, err = calendar.Parse(row.Rule, store.Time(row.StartAt), zone)
		}
		if err != nil { // the others go on
			desk.log.Error("a schedule's record cannot be read", "schedule", row.Name, "error", err)
			p.row.Paused, p.row.LastNote = true, "set aside: "+err.Error()
		}
		p.plan()
		x.all = append(x.all, p)
	}
	x.loaded = true
	return nil
}

// plan finds the next occurrence.
func (p *planned) plan() {
	p.due = time.Time{}
	if p.rule == nil {
		return
	}
	if next, err := p.rule.After(store.Time(p.row.SeenAt), 1); err == nil && len(next) > 0 && !p.row.Paused {
		p.due = next[0]
	}
}

// AddSchedule makes a schedule.
func (desk *Desk) AddSchedule(ctx context.Context, who api.Who, req api.ScheduleRequest) (api.Schedule, error) {
	if !fleet.IsName(req.Name) {
		return api.Schedule{}, api.Errorf(api.Invalid, "%q is not a name for a schedule: letters, digits, '.', '-' and '_', at most 64", req.Name)
	}
	if req.Missed == "" {
		req.Missed = api.MissedRun
	}
	if req.Overlap == "" {
		req.Overlap = api.OverlapWait
	}
	if req.Missed != api.MissedRun && req.Missed != api.MissedSkip {
		return api.Schedule{}, api.Errorf(api.Invalid, "missed: expected run or skip, found %q", req.Missed)
	}
	if !slices.Contains([]api.Overlap{api.OverlapWait, api.OverlapSkip, api.OverlapCancel}, req.Overlap) {
		return api.Schedule{}, api.Errorf(api.Invalid, "overlap: expected wait, skip or cancel, found %q", req.Overlap)
	}
	p, err := desk.Preset(ctx, req.Preset)
	if err != nil {
		return api.Schedule{}, err
	}
	now := desk.now()
	start, zone := now, "UTC"
	if _, waits, err := fleet.ParseChange(req.Rule); err != nil {
		return api.Schedule{}, api.Errorf(api.Invalid, "rule: %v", err)
	} else if !waits {
		var rule *calendar.Rule
		if rule, start, zone, err = desk.ruleOf(req); err != nil {
			return api.Schedule{}, err
		}
		if next, err := rule.After(now.Add(-time.Second), 1); err != nil {
			return api.Schedule{}, api.Errorf(api.Invalid, "%v", err)
		} else if len(next) == 0 {
			return api.Schedule{}, api.Errorf(api.Invalid, "the rule has no occurrence after now")
		}
	}
	if _, err := desk.schedule(ctx, req.Name); err == nil {
		return api.Schedule{}, api.Errorf(api.Conflict, "there is a schedule %s: remove it first, or choose another name", req.Name)
	}
	row := store.Schedule{ID: store.NewID(), Name: req.Name, PresetID: p.ID, Rule: req.Rule, StartAt: store.Millis(start),
		Zone: zone, Missed: string(req.Missed),
		Overlap: string(req.Overlap), SeenAt: store.Millis(now) - 1, MadeBy: who.Person(), MadeAt: store.Millis(now)}
	if err := desk.changeSchedules(store.AddSchedule(row)); err != nil {
		return api.Schedule{}, err
	}
	return desk.schedule(ctx, req.Name)
}

func (desk *Desk) changeSchedules(change store.Stmt) error {
	desk.plans.mu.Lock()
	defer desk.plans.mu.Unlock()
	desk.plans.loaded = false
	return desk.store.Write(change)
}

// Schedules lists the schedules by name.
func (desk *Desk) Schedules(ctx context.Context) ([]api.Schedule, error) {
	desk.plans.mu.Lock()
	defer desk.plans.mu.Unlock()
	if err := desk.loadLocked(ctx); err != nil {
		return nil, err
	}
	out := []api.Schedule{}
	for _, p := range desk.plans.all {
		r := p.row
		v := api.Schedule{Name: r.Name, Project: p.of, Preset: p.preset, Rule: r.Rule, Words: r.Rule, Start: api.At(r.StartAt), Zone: r.Zone,
			Missed:  api.Missed(r.Missed),
			Overlap: api.Overlap(r.Overlap), Paused: r.Paused, LastRun: r.LastRun, LastNote: r.LastNote, MadeBy: r.MadeBy, MadeAt: api.At(r.MadeAt)}
		if p.rule != nil {
			v.Words = p.rule.Words()
		}
		if p.waits != nil {
			v.Words = p.waits.Words()
		}
		if !r.Paused && p.rule != nil {
			v.Next, _ = p.rule.After(desk.now(), 5) // a rule that is over has none
		}
		out = append(out, v)
	}
	return out, nil
}

func (desk *Desk) schedule(ctx context.Context, name string) (api.Schedule, error) {
	all, err := desk.Schedules(ctx)
	if err != nil {
		return api.Schedule{}, err
	}
	for _, x := range all {
		if x.Name == name {
			return x, nil
		}
	}
	return api.Schedule{}, api.Errorf(api.NotFound, "there is no schedule %q: pane schedule list shows those there are", name)
}

// ProjectOfSchedule says to which project a schedule belongs.
func (desk *Desk) ProjectOfSchedule(ctx context.Context, name string) (string, error) {
	x, err := desk.schedule(ctx, name)
	return x.Project, err
}

func (desk *Desk) scheduleID(ctx context.Context, name string) (string, error) {
	if _, err := desk.schedule(ctx, name); err != nil {
		return "", err
	}
	desk.plans.mu.Lock()
	defer desk.plans.mu.Unlock()
	for _, p := range desk.plans.all {
		if p.row.Name == name {
			return p.row.ID, nil
		}
	}
	return "", api.Errorf(api.NotFound, "there is no schedule %q", name)
}

// PauseSchedule pauses a schedule or lets it go on; what would have occurred
// meanwhile is not made up for.
func (desk *Desk) PauseSchedule(ctx context.Context, name string, paused bool) (api.Schedule, error) {
	id, err := desk.scheduleID(ctx, name)
	if err == nil {
		err = desk.changeSchedules(store.PauseSchedule(id, paused, store.Millis(desk.now())))
	}
	if err != nil {
		return api.Schedule{}, err
	}
	return desk.schedule(ctx, name)
}

// DropSchedule removes a schedule.
func (desk *Desk) DropSchedule(ctx context.Context, name string) error {
	id, err := desk.scheduleID(ctx, name)
	if err != nil {
		return err
	}
	return desk.changeSchedules(store.DropSchedule(id))
}

// runSchedules starts what is due. It returns at once when it is still busy.
func (desk *Desk) runSchedules() {
	x := &desk.plans
	if !x.mu.TryLock() {
		return
	}
	ctx := context.Background()
	now := desk.now()
	err := desk.loadLocked(ctx)
	if err == nil {
		err = desk.changedLocked(ctx)
	}
	var due []*planned
	for _, p := range x.all {
		if err == nil && !p.due.IsZero() && !p.due.After(now) {
			due = append(due, p)
		}
	}
	if len(due) == 0 {
		x.mu.Unlock()
		if err != nil {
			desk.log.Error("schedules cannot be read", "error", err)
		}
		return
	}
	desk.tasks.Go(func() {
		defer x.mu.Unlock()
		for _, p := range due {
			if err := desk.occur(ctx, p, now); err != nil && !errors.Is(err, store.ErrClosed) {
				desk.log.Error("schedule", "schedule", p.row.Name, "error", err)
			}
		}
	})
}

// changedLocked finds the schedules whose browser has changed; schedules.mu is held.
func (desk *Desk) changedLocked(ctx context.Context) error {
	var changes []store.BrowserChange
	for _, p := range desk.plans.all {
		if p.waits == nil || p.row.Paused || !p.due.IsZero() {
			continue
		}
		if changes == nil {
			var err error
			if changes, err = desk.store.BrowserChanges(ctx, 100); err != nil {
				return err
			}
		}
		for _, c := range changes { // the newest first
			if c.Came && c.At > p.row.SeenAt && p.waits.Is(c.Browser, c.Channel) {
				p.due = store.Time(c.At)
				break
			}
		}
	}
	return nil
}

// marked takes an occurrence as dealt with; run is the number of its run, or 0.
func (p *planned) marked(seen time.Time, run int, note string) store.Stmt {
	p.row.SeenAt, p.row.LastNote = store.Millis(seen), note
	if run > 0 {
		p.row.LastRun = run
	}
	p.plan()
	return store.MarkSchedule(p.row.ID, p.row.SeenAt, run, note)
}

// occur deals with an occurrence that is due. Its run and the note that it
// occurred are written in one batch: whatever happens between, it runs once.
func (desk *Desk) occur(ctx context.Context, p *planned, now time.Time) error {
	mark := func(note string) error {
		desk.log.Info("schedule", "schedule", p.row.Name, "note", note)
		return desk.store.Write(p.marked(now, 0, note))
	}
	when := p.due.Format("2006-01-02 15:04 -07:00")
	if p.due.Before(desk.plans.opened) && p.row.Missed == string(api.MissedSkip) {
		return mark("skipped " + when + ": the service was down")
	}
	if run := p.row.LastRun; run > 0 {
		last, err := desk.records.Run(ctx, run)
		if err != nil {
			return err
		}
		switch {
		case last.State == api.Ended:
		case p.row.Overlap == string(api.OverlapWait):
			return nil // due again at the next tick
		case p.row.Overlap == string(api.OverlapSkip):
			return mark(fmt.Sprintf("skipped %s: run #%d was still going on", when, run))
		default:
			if _, err := desk.lab.Cancel(ctx, scheduler, run); err != nil {
				return err
			}
		}
	}
	run, err := desk.runPreset(ctx, api.Who{Name: "schedule " + p.row.Name, Rights: scheduler.Rights}, p.preset, origin{schedule: p.row.ID,
		mark: func(run int) store.Stmt { return p.marked(now, run, "started for "+when) }})
	if err != nil {
		return mark("could not start at " + when + ": " + err.Error())
	}
	desk.log.Info("schedule", "schedule", p.row.Name, "run", run.Number)
	return nil
}

// feedAhead is how many occurrences of each schedule the calendar feed has.
const feedAhead = 60

// Calendar is the feed of all schedules as iCalendar (RFC 5545). Each occurrence
// is an event of its own in UTC, so that readers need no rules for zones.
func (desk *Desk) Calendar(ctx context.Context, who api.Who) (string, error) {
	all, err := desk.Schedules(ctx)
	if err != nil {
		return "", err
	}
	all = slices.DeleteFunc(all, func(x api.Schedule) bool { return !who.May(api.Viewer, x.Project) })
	cal := ics.NewCalendar()
	cal.SetProductId("-//Parallel Pane//schedules//EN")
	cal.SetMethod(ics.MethodPublish)
	cal.SetName("Parallel Pane")
	for _, x := range all {
		if _, waits, _ := fleet.ParseChange(x.Rule); x.Paused || waits {
			continue
		}
		rule, _, _, err := desk.ruleOf(api.ScheduleRequest{Rule: x.Rule, Start: x.Start.Format(time.RFC3339), Zone: x.Zone})
		if err != nil {
			return "", err
		}
		times, err := rule.After(desk.now(), feedAhead)
		if err != nil {
			continue // over
		}
		for _, t := range times {
			e := cal.AddEvent(fmt.Sprintf("%s-%d@parallel-pane", x.Name, t.Unix()))
			e.SetDtStampTime(*x.MadeAt)
			e.SetStartAt(t)
			e.SetDuration(15 * time.Minute)
			e.SetSummary("Run " + x.Preset)
			e.SetDescription(x.Words)
		}
	}
	return cal.Serialize(), nil
}
