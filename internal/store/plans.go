package store

import "context"

// Quota is a row of quotas.
type Quota struct {
	ID     string  `db:"id"`
	Kind   string  `db:"kind"`
	Name   string  `db:"name"`
	Values string  `db:"values_json"`
	Slots  int     `db:"slots"`
	Weight float64 `db:"weight"`
}

// SaveQuota writes a quota in place of the one that counts the same.
func SaveQuota(q Quota) Stmt {
	return Must(`INSERT INTO quotas (id, kind, name, values_json, slots, weight) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (kind, name, values_json) DO UPDATE SET slots = excluded.slots, weight = excluded.weight`,
		q.ID, q.Kind, q.Name, q.Values, q.Slots, q.Weight)
}

// DropQuota removes a quota.
func DropQuota(id string) Stmt { return Must(`DELETE FROM quotas WHERE id = ?`, id) }

// Quotas lists every quota.
func (s *Store) Quotas(ctx context.Context) (qs []Quota, err error) {
	err = s.read.SelectContext(ctx, &qs, `SELECT * FROM quotas ORDER BY kind, name, values_json`)
	return
}

// Preset is a row of presets, with how it was used.
type Preset struct {
	ID        string `db:"id"`
	Name      string `db:"name"`
	Project   string `db:"project"`
	Bundle    string `db:"bundle"`
	Request   string `db:"request_json"`
	MadeBy    string `db:"made_by"`
	MadeAt    int64  `db:"made_at"`
	ChangedBy string `db:"changed_by"`
	ChangedAt int64  `db:"changed_at"`
	Used      int    `db:"used"`
	LastRun   int    `db:"last_run"`
	LastBy    string `db:"last_by"`
	LastAt    int64  `db:"last_at"`
}

// SavePreset writes a preset in place of the one of its name.
func SavePreset(p Preset) Stmt {
	return Must(`INSERT INTO presets (id, name, project, bundle, request_json, made_by, made_at, changed_by, changed_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET project = excluded.project, bundle = excluded.bundle, request_json = excluded.request_json,
		changed_by = excluded.changed_by, changed_at = excluded.changed_at`,
		p.ID, p.Name, p.Project, p.Bundle, p.Request, p.MadeBy, p.MadeAt, p.ChangedBy, p.ChangedAt)
}

// DropPreset removes a preset that no schedule uses.
func DropPreset(id string) Stmt {
	return Must(`DELETE FROM presets WHERE id = ? AND NOT EXISTS (SELECT 1 FROM schedules WHERE preset_id = presets.id)`, id)
}

// Presets lists every preset by name.
func (s *Store) Presets(ctx context.Context) (ps []Preset, err error) {
	err = s.read.SelectContext(ctx, &ps, `SELECT p.*, COUNT(r.number) AS used, COALESCE(MAX(r.number), 0) AS last_run,
		COALESCE((SELECT by_name FROM runs WHERE preset_id = p.id ORDER BY number DESC LIMIT 1), '') AS last_by,
		COALESCE(MAX(r.created_at), 0) AS last_at
		FROM presets p LEFT JOIN runs r ON r.preset_id = p.id GROUP BY p.id ORDER BY p.name`)
	return
}

// Schedule is a row of schedules.
type Schedule struct {
	ID       string `db:"id"`
	Name     string `db:"name"`
	PresetID string `db:"preset_id"`
	Rule     string `db:"rule"`
	StartAt  int64  `db:"start_at"`
	Zone     string `db:"zone"`
	Missed   string `db:"missed"`
	Overlap  string `db:"overlap"`
	Paused   bool   `db:"paused"`
	SeenAt   int64  `db:"seen_at"`
	LastRun  int    `db:"last_run"`
	LastNote string `db:"last_note"`
	MadeBy   string `db:"made_by"`
	MadeAt   int64  `db:"made_at"`
}

// AddSchedule writes a new schedule.
func AddSchedule(x Schedule) Stmt {
	return Must(`INSERT INTO schedules (id, name, preset_id, rule, start_at, zone, missed, overlap, paused, seen_at, made_by, made_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		x.ID, x.Name, x.PresetID, x.Rule, x.StartAt, x.Zone, x.Missed, x.Overlap, x.Paused, x.SeenAt, x.MadeBy, x.MadeAt)
}

// MarkSchedule notes what became of a schedule's occurrences up to a time.
func MarkSchedule(id string, seen int64, run int, note string) Stmt {
	return Do(`UPDATE schedules SET seen_at = ?, last_run = CASE WHEN ? > 0 THEN ? ELSE last_run END, last_note = ? WHERE id = ?`, seen,
		run, run, note, id)
}

// PauseSchedule pauses a schedule, or lets it go on after a time.
func PauseSchedule(id string, paused bool, seen int64) Stmt {
	return Must(`UPDATE schedules SET paused = ?, seen_at = ? WHERE id = ?`, paused, seen, id)
}

// DropSchedule removes a schedule.
func DropSchedule(id string) Stmt { return Must(`DELETE FROM schedules WHERE id = ?`, id) }

// Schedules lists every schedule by name.
func (s *Store) Schedules(ctx context.Context) (xs []Schedule, err error) {
	err = s.read.SelectContext(ctx, &xs, `SELECT * FROM schedules ORDER BY name`)
	return
}

// DrainAgent notes that an agent takes nothing new, or does again.
func DrainAgent(name string, draining bool) Stmt {
	return Must(`UPDATE agents SET draining = ? WHERE name = ?`, draining, name)
}

// KnownSuite is a suite that was run or saved, with its latest files.
type KnownSuite struct {
	Project string `db:"project"`
	Suite   string `db:"suite"`
	Bundle  string `db:"bundle"`
	At      int64  `db:"at"`
}

// Suites lists the suites of runs and presets with their latest bundles.
func (s *Store) Suites(ctx context.Context) (xs []KnownSuite, err error) {
	err = s.read.SelectContext(ctx, &xs, `SELECT project, suite, bundle, MAX(at) AS at FROM (
		SELECT project, suite, bundle, created_at AS at FROM runs WHERE kind = 'script'
		UNION ALL SELECT project, request_json ->> 'suite', bundle, changed_at FROM presets)
		GROUP BY project, suite ORDER BY project, suite`)
	return
}
