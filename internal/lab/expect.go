package lab

import (
	"context"
	"slices"
	"sync"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/plan"
)

// expectation keeps the forecasts of when open runs end.
type expectation struct {
	mu   sync.Mutex // held while one is made
	next time.Time  // not before then is the next one made
}

// restBetween is how many times as long as a forecast took none is made.
const restBetween = 20

// What a test takes of which nothing is known: what is typical of the latest
// attempts of the whole lab, looked at anew after a minute, and while there are
// none, in seconds, noGuess.
const (
	noGuess    = 10.0
	typicalOf  = 500
	typicalFor = time.Minute
)

// typical keeps what is typical.
type typical struct {
	mu      sync.Mutex
	seconds float64
	until   time.Time
}

// guess is how long a test takes of which nothing is known, in seconds.
func (lab *Lab) guess(ctx context.Context) float64 {
	x := &lab.typical
	x.mu.Lock()
	defer x.mu.Unlock()
	if now := lab.now(); now.After(x.until) {
		x.seconds, x.until = noGuess, now.Add(typicalFor)
		all, err := lab.store.LatestDurations(ctx, typicalOf)
		if err != nil {
			lab.log.Warn("what is typical of the lab cannot be read", "error", err)
		}
		if len(all) > 0 {
			slices.Sort(all)
			x.seconds = max(0.001, float64(all[len(all)/2])/1000)
		}
	}
	return x.seconds
}

// expect forecasts when the open runs will end and tells their watchers.
func (lab *Lab) expect() {
	x := &lab.expectation
	if !x.mu.TryLock() {
		return
	}
	defer x.mu.Unlock()
	began := time.Now()
	if began.Before(x.next) {
		return
	}
	lab.mu.Lock()
	if len(lab.live) == 0 {
		lab.mu.Unlock()
		return
	}
	now := lab.now()
	outline := lab.machine.Outline(now)
	lab.mu.Unlock()
	ends := plan.Expect(outline, lab.guess(context.Background()))
	var events []api.Event
	lab.mu.Lock()
	for id, r := range lab.live {
		end := time.Time{}
		if seconds, ok := ends[id]; ok {
			end = now.Add(time.Duration(seconds * float64(time.Second)))
		}
		if end.IsZero() != r.expected.IsZero() || end.Sub(r.expected).Abs() > time.Second {
			r.expected = end
			events = append(events, api.Event{Type: "run", Run: r.head()})
		}
	}
	lab.mu.Unlock()
	for _, e := range events {
		lab.hub.publish(e)
	}
	x.next = time.Now().Add(restBetween * time.Since(began))
}
