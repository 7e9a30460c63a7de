package service

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
func (s *Service) guess(ctx context.Context) float64 {
	x := &s.typical
	x.mu.Lock()
	defer x.mu.Unlock()
	if now := s.now(); now.After(x.until) {
		x.seconds, x.until = noGuess, now.Add(typicalFor)
		all, err := s.store.LatestDurations(ctx, typicalOf)
		if err != nil {
			s.log.Warn("what is typical of the lab cannot be read", "error", err)
		}
		if len(all) > 0 {
			slices.Sort(all)
			x.seconds = max(0.001, float64(all[len(all)/2])/1000)
		}
	}
	return x.seconds
}

// expect forecasts when the open runs will end and tells their watchers.
func (s *Service) expect() {
	x := &s.expectation
	if !x.mu.TryLock() {
		return
	}
	defer x.mu.Unlock()
	began := time.Now()
	if began.Before(x.next) {
		return
	}
	s.mu.Lock()
	if len(s.live) == 0 {
		s.mu.Unlock()
		return
	}
	now := s.now()
	outline := s.machine.Outline(now)
	s.mu.Unlock()
	ends := plan.Expect(outline, s.guess(context.Background()))
	var events []api.Event
	s.mu.Lock()
	for id, r := range s.live {
		end := time.Time{}
		if seconds, ok := ends[id]; ok {
			end = now.Add(time.Duration(seconds * float64(time.Second)))
		}
		if end.IsZero() != r.expected.IsZero() || end.Sub(r.expected).Abs() > time.Second {
			r.expected = end
			events = append(events, api.Event{Type: "run", Run: r.head()})
		}
	}
	s.mu.Unlock()
	for _, e := range events {
		s.hub.publish(e)
	}
	x.next = time.Now().Add(restBetween * time.Since(began))
}
