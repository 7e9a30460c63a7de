package service

import (
	"sync"
	"time"

	"parallelpane/internal/core/plan"
)

// expectation keeps the forecasts of when open runs end.
type expectation struct {
	mu   sync.Mutex // held while one is made
	next time.Time  // not before then is the next one made
}

// restBetween is how many times as long as a forecast took none is made.
const restBetween = 20

// guess is how long a test takes of which nothing at all is known, in seconds.
const guess = 10.0

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
	ends := plan.Expect(outline, guess)
	var events []Event
	s.mu.Lock()
	for id, r := range s.live {
		end := time.Time{}
		if seconds, ok := ends[id]; ok {
			end = now.Add(time.Duration(seconds * float64(time.Second)))
		}
		if end.IsZero() != r.expected.IsZero() || end.Sub(r.expected).Abs() > time.Second {
			r.expected = end
			events = append(events, Event{Type: "run", Run: r.head()})
		}
	}
	s.mu.Unlock()
	for _, e := range events {
		s.hub.publish(e)
	}
	x.next = time.Now().Add(restBetween * time.Since(began))
}
