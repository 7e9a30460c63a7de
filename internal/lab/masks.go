package lab

import (
	"sync"
	"time"

	"parallelpane/internal/recording"
)

// masks know the secrets of runs and sessions, so that what is said of them afterwards
// shows none: in memory only, for a day after the end.
type masks struct {
	mu   sync.Mutex
	byID map[string]*masked
}

type masked struct {
	mask  *recording.Mask
	until time.Time // zero while it goes on
}

const (
	maskLife = 24 * time.Hour
	maxMasks = 5000 // of what has ended
)

// keep remembers secrets.
func (m *masks) keep(id string, secrets []string) {
	mask := recording.NewMask(secrets...)
	if mask == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.byID == nil {
		m.byID = map[string]*masked{}
	}
	m.byID[id] = &masked{mask: mask}
}

// ended has secrets forgotten after a while.
func (m *masks) ended(id string, now time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	x := m.byID[id]
	if x == nil {
		return
	}
	x.until = now.Add(maskLife)
	for id, x := range m.byID {
		if !x.until.IsZero() && (now.After(x.until) || len(m.byID) > maxMasks) {
			delete(m.byID, id)
		}
	}
}

// Masked is a text about a session without the session's secrets.
func (lab *Lab) Masked(session, text string) string { return lab.masks.of(session, text) }

// of is a text about something without its secrets.
func (m *masks) of(id, text string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	if x := m.byID[id]; x != nil {
		return x.mask.Text(text)
	}
	return text
}
