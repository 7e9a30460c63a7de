package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// Offered notes what an agent offered: its slots times the time that it was online.
func Offered(agent string, at, ms int64) []Stmt {
	return []Stmt{say(agent), Do(`INSERT INTO days_of_agents (agent, project, day, offered_ms) SELECT id, '', ?, ? FROM texts WHERE body = ?
		ON CONFLICT DO UPDATE SET offered_ms = offered_ms + excluded.offered_ms`, at/dayMS, ms, agent)}
}

const dayMS = 86_400_000

// AgentDay is what an agent did for a project on a day; or, for the project "", what it
// offered.
type AgentDay struct {
	Agent     string `db:"agent"`
	Project   string `db:"project"`
	Day       int64  `db:"day"` // since 1970
	Attempts  int    `db:"attempts"`
	Faults    int    `db:"faults"`
	BusyMS    int64  `db:"busy_ms"`
	OfferedMS int64  `db:"offered_ms"`
}

// DaysOfAgents lists what agents did from a day on.
func (s *Store) DaysOfAgents(ctx context.Context, from int64) (ds []AgentDay, err error) {
	err = s.read.SelectContext(ctx, &ds, `SELECT x.body AS agent, d.project, d.day, d.attempts, d.faults, d.busy_ms, d.offered_ms
		FROM days_of_agents d JOIN texts x ON x.id = d.agent WHERE d.day >= ? AND x.body != '' ORDER BY d.day`, from)
	return
}

// Wait is how long a run, or a session of somebody else's runner, waited for its first slot.
type Wait struct {
	Project string `db:"project"`
	At      int64  `db:"at"` // when it was asked for
	MS      int64  `db:"ms"`
}

// Waits lists the waits since a time, at most so many of each kind, the newest first.
func (s *Store) Waits(ctx context.Context, since int64, most int) (ws []Wait, err error) {
	if err = s.read.SelectContext(ctx, &ws, `SELECT project, created_at AS at, started_at - created_at AS ms FROM runs
		WHERE kind != 'remote' AND created_at >= ? AND started_at > 0 ORDER BY number DESC LIMIT ?`, since, most); err != nil {
		return nil, err
	}
	var more []Wait
	err = s.read.SelectContext(ctx, &more, `SELECT r.project, s.queued_at AS at, s.opened_at - s.queued_at AS ms
		FROM sessions s JOIN runs r ON r.number = s.run
		WHERE s.id >= ? AND s.queued_at >= ? AND s.opened_at > 0 ORDER BY s.id DESC LIMIT ?`, idFrom(since), since, most)
	return append(ws, more...), err
}

// idFrom is the lowest id that can have been made at a time, a minute's grace included
// (RFC 9562, section 5.7: the first 48 bits are milliseconds).
func idFrom(at int64) string {
	at = max(0, at-time.Minute.Milliseconds())
	var u uuid.UUID
	for i := range 6 {
		u[i] = byte(at >> (8 * (5 - i)))
	}
	return u.String()
}
