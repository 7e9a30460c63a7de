package work

import (
	"encoding/json"
	"os"
	"path/filepath"
	"sync"
	"time"

	"parallelpane/internal/core/fleet"
)

// Meter measures how much sessions slow each other: it knows how many are open
// and what tests took while so many were.
type Meter struct {
	file string // where the timings survive a restart

	mu      sync.Mutex
	open    int
	area    float64 // session seconds so far
	last    time.Time
	timings []fleet.Timing
}

// maxTimings is how many of the latest timings an advice rests on.
const maxTimings = 600

// NewMeter takes up what was measured before, from a state directory.
func NewMeter(dir string) *Meter {
	m := &Meter{file: filepath.Join(dir, "timings.json"), last: time.Now()}
	if raw, err := os.ReadFile(m.file); err == nil {
		_ = json.Unmarshal(raw, &m.timings) // a file that cannot be read is as good as none
	}
	return m
}

func (m *Meter) passLocked() {
	now := time.Now()
	m.area += float64(m.open) * now.Sub(m.last).Seconds()
	m.last = now
}

// Begin counts a session in; the returned function counts it out and notes how
// long the work took, unless it is to be left out.
func (m *Meter) Begin(work string) (end func(count bool)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.passLocked()
	m.open++
	began, area := m.last, m.area
	return func(count bool) {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.passLocked()
		m.open--
		seconds := m.last.Sub(began).Seconds()
		if !count || seconds <= 0 {
			return
		}
		m.timings = append(m.timings, fleet.Timing{Work: work, Load: max(1, (m.area-area)/seconds), Seconds: seconds})
		if over := len(m.timings) - maxTimings; over > 0 {
			m.timings = m.timings[over:]
		}
	}
}

// Advice is what the timings say for an agent of so many slots.
func (m *Meter) Advice(slots int) fleet.Advice {
	m.mu.Lock()
	defer m.mu.Unlock()
	return fleet.Advise(m.timings, slots)
}

// Save keeps the timings for the next start.
func (m *Meter) Save() error {
	m.mu.Lock()
	raw, err := json.Marshal(m.timings)
	m.mu.Unlock()
	if err != nil {
		return err
	}
	return os.WriteFile(m.file, raw, 0o600)
}
