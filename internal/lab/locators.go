package lab

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"

	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
)

// maxTitle bounds what is remembered of a step's title, in bytes.
const maxTitle = 500

// watch is at which steps of a test a page is kept though it passes: where it failed
// before, in this run first.
func (r *liveRun) watch(test int) []string {
	return append(slices.Clone(r.stumbled[test]), r.terms.Watched[r.view.Tests[test].Name]...)
}

// stumble notes at which step a test failed, for those that take it up next.
func (r *liveRun) stumble(test int, steps []attempt.Step) {
	i := slices.IndexFunc(steps, func(s attempt.Step) bool { return s.State == attempt.Failed })
	if i < 0 {
		return
	}
	title := attempt.Clip(steps[i].Title, maxTitle)
	if r.stumbled == nil {
		r.stumbled = map[int][]string{}
	}
	if !slices.Contains(r.watch(test), title) {
		r.stumbled[test] = append(r.stumbled[test], title)
	}
}

// remembered takes down what the locators of an attempt have matched, if it passed, those
// that found nothing any more, and the steps that took longer than they may.
func remembered(row store.Attempt, device string, r link.Result) (batch []store.Stmt) {
	if r.Verdict == verdict.Passed && len(r.Seen) > 0 {
		seen := make([]store.Seen, 0, len(r.Seen))
		for _, s := range r.Seen {
			mark := sha256.Sum256([]byte(s.Portrait.Key() + s.Better + s.At.String()))
			seen = append(seen, store.Seen{Place: s.Place, Mark: hex.EncodeToString(mark[:8]), Body: store.JSON(s)})
		}
		batch = append(batch, store.Remember(row.Run, row.Test, device, row.StartedAt, seen))
	}
	if i := slices.IndexFunc(r.Detail.Steps, func(s attempt.Step) bool { return s.State == attempt.Failed }); i >= 0 {
		batch = append(batch, store.Stumble(row.Run, row.Test, attempt.Clip(r.Detail.Steps[i].Title, maxTitle))...)
	}
	var aged []store.Aged
	for _, s := range r.Detail.Steps {
		if s.Aged != nil {
			aged = append(aged, store.Aged{Step: s.Index, Body: store.JSON(s.Aged)})
		}
	}
	var over []store.Over
	for _, s := range r.Detail.Steps {
		if s.OverMS > 0 {
			over = append(over, store.Over{Step: s.Index, Title: attempt.Clip(s.Title, maxTitle), TookMS: s.TookMS, OverMS: s.OverMS})
		}
	}
	if len(over) > 0 {
		batch = append(batch, store.AddOver(row, over))
	}
	if len(aged) > 0 {
		batch = append(batch, store.AddAged(row, aged))
	}
	return batch
}

// RecallLocator tells an agent what a locator matched when a test of its lease last passed.
func (lab *Lab) RecallLocator(ctx context.Context, agent string, q link.Recall) (link.Recalled, error) {
	lab.mu.Lock()
	l, ok := lab.leases[q.Fence]
	r := lab.live[l.Run]
	if !ok || l.Agent != agent || r == nil || !slices.Contains(l.Tests, q.Test) {
		lab.mu.Unlock()
		return link.Recalled{}, api.Errorf(api.Conflict, "lease %d has ended", q.Fence)
	}
	project, suite, test, device := r.view.Project, r.view.Suite, r.view.Tests[q.Test].Name, r.view.Panes[l.Pane].Values["device"]
	lab.mu.Unlock()
	row, err := lab.store.Remembered(ctx, project, suite, test, device, q.Place)
	if errors.Is(err, store.ErrNotFound) {
		return link.Recalled{}, nil
	}
	if err != nil {
		return link.Recalled{}, err
	}
	var seen attempt.Seen
	if err := json.Unmarshal([]byte(row.Body), &seen); err != nil {
		return link.Recalled{}, err
	}
	return link.Recalled{Seen: &seen}, nil
}
