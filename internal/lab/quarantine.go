package lab

import (
	"context"
	"errors"
	"fmt"

	"parallelpane/internal/api"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/store"
	"parallelpane/internal/webdriver"
)

// What the lab holds of a run is ahead of its records when a write is refused. Then the
// run is set aside: its work is taken back, it ends on record with the reason, and
// everything else goes on.

// quarantine sets aside the runs of effects whose records were refused. The error is
// for the one who asked.
func (lab *Lab) quarantine(e *effects, cause error) error {
	lab.log.Error("the records refused what was decided; the runs that it is about are set aside", "error", cause)
	lab.mu.Lock()
	var rows []int
	var ends []dispatch.End
	var others []dispatch.Decision
	for r := range lab.runsLocked(e) {
		mine, theirs := lab.forgetRunLocked(r, cause)
		ends, others, rows = append(ends, mine...), append(others, theirs...), append(rows, r.view.Number)
	}
	next := lab.applyLocked(others)
	next.ends = append(next.ends, ends...)
	next.events = append(next.events, api.Event{Type: "sessions"})
	lab.mu.Unlock()
	errs := []error{lab.carryOut(next)}
	for _, number := range rows {
		errs = append(errs, lab.setAsideNow(number, cause))
	}
	if err := errors.Join(errs...); err != nil {
		lab.log.Error("a run could not be set aside; the next start will", "error", err)
	}
	return api.Errorf(api.Conflict, "the records did not allow this, and nothing of it was done; the service's log has what an admin needs")
}

// runsLocked are the runs that effects are about, as far as they go on or have just
// ended.
func (lab *Lab) runsLocked(e *effects) map[*liveRun]bool {
	out := map[*liveRun]bool{}
	note := func(id string) { // of a run or a session
		if x := lab.remotes[id]; x != nil {
			out[x.run] = true
		} else if r := lab.live[id]; r != nil {
			out[r] = true
		}
	}
	for _, ev := range append(e.walls, e.events...) {
		if ev.Run != nil {
			note(ev.Run.ID)
		}
	}
	for _, r := range e.ended {
		out[r] = true
	}
	for _, l := range e.grants {
		note(l.Run)
	}
	for _, end := range e.ends {
		note(end.Run)
	}
	return out
}

// forgetRunLocked takes a run out of what goes on: the leases to be revoked, and what
// the scheduler decides for others now.
func (lab *Lab) forgetRunLocked(r *liveRun, cause error) (ends []dispatch.End, others []dispatch.Decision) {
	ids := []string{r.view.ID}
	for id, x := range lab.remotes {
		if x.run == r {
			ids = append(ids, id)
		}
	}
	delete(lab.live, r.view.ID)
	if lab.growing[growKey(r)] == r {
		delete(lab.growing, growKey(r))
	}
	for _, id := range ids {
		for _, d := range lab.machine.Cancel(lab.now(), id, cause.Error()) {
			if lab.runOfDecision(d) != id {
				if over, ok := d.(dispatch.Over); !ok || over.Run != id {
					others = append(others, d)
				}
				continue
			}
			if end, ok := d.(dispatch.End); ok {
				lab.dropScriptsLocked(end.Fence, func(int) bool { return true })
				delete(lab.leases, end.Fence)
				ends = append(ends, end)
			}
		}
		if x := lab.remotes[id]; x != nil {
			delete(lab.remotes, id)
			lab.routes.Delete(id)
			lab.lookers.Delete(id)
			x.row.State = endedState
			x.answer(remoteAnswer{fault: webdriver.Errorf(webdriver.SessionNotCreated, "the session was set aside: the service's records "+
				"did not allow it")})
		}
	}
	return ends, others
}

// setAsideNow ends a run on record that was taken out of what goes on.
func (lab *Lab) setAsideNow(number int, cause error) error {
	if err := lab.store.Sync(); err != nil { // what was decided before is on record, or refused
		return err
	}
	ctx := context.Background()
	row, err := lab.store.RunByNumber(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		return nil // it never came to be
	}
	if err != nil {
		return err
	}
	if row.EndedAt > 0 {
		return nil
	}
	if err := lab.setAside(ctx, row, "", cause); err != nil {
		return fmt.Errorf("set run %d aside: %w", number, err)
	}
	return nil
}
