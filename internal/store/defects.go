package store

import "context"

// Tracker is a row of trackers.
type Tracker struct {
	ID      string `db:"id"`
	Project string `db:"project"`
	Name    string `db:"name"`
	Shown   string `db:"shown"`
	Host    string `db:"host"`
	Mapping string `db:"mapping"`
	Sealed  []byte `db:"sealed"`
	MadeBy  string `db:"made_by"`
	MadeAt  int64  `db:"made_at"`
}

// AddTracker writes one, unless its project has one of that name.
func AddTracker(t Tracker) Stmt {
	return Must(`INSERT OR IGNORE INTO trackers (id, project, name, shown, host, mapping, sealed, made_by, made_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, t.ID, t.Project, t.Name, t.Shown, t.Host, t.Mapping, t.Sealed, t.MadeBy, t.MadeAt)
}

// DropTracker forgets one, and what it was still to be sent. Its defects stay, with what was
// last known of them.
func DropTracker(id string) []Stmt {
	return []Stmt{Must(`DELETE FROM trackers WHERE id = ?`, id),
		Do(`UPDATE defects SET state = 'refused', trouble = 'its tracker was dropped' WHERE tracker = ? AND state = 'waiting'`, id),
		Do(`DELETE FROM outbox WHERE subscription = ? AND state = 'waiting'`, id)}
}

// Trackers lists them, of a project or ("") of every one.
func (s *Store) Trackers(ctx context.Context, project string) (ts []Tracker, err error) {
	w := &where{}
	w.add(project != "", "project = ?", project)
	err = s.read.SelectContext(ctx, &ts, `SELECT * FROM trackers WHERE `+w.String()+` ORDER BY project, name`, w.args...)
	return
}

// Tracker finds one.
func (s *Store) Tracker(ctx context.Context, id string) (t Tracker, err error) {
	err = found(s.read.GetContext(ctx, &t, `SELECT * FROM trackers WHERE id = ?`, id))
	return
}

// Defect is a row of defects.
type Defect struct {
	ID        string `db:"id"`
	Project   string `db:"project"`
	Suite     string `db:"suite"`
	Signature string `db:"signature"`
	Tracker   string `db:"tracker"`
	Run       int    `db:"run"`
	Cause     string `db:"cause"`
	Title     string `db:"title"`
	Body      string `db:"body"`
	State     string `db:"state"`
	Key       string `db:"key"`
	Link      string `db:"link"`
	Place     string `db:"place"`
	Status    string `db:"status"`
	Closed    bool   `db:"closed"`
	AskedAt   int64  `db:"asked_at"`
	Trouble   string `db:"trouble"`
	Told      int    `db:"told"`
	MadeBy    string `db:"made_by"`
	MadeAt    int64  `db:"made_at"`
	Name      string `db:"name"` // of its tracker; "" where that is gone
}

// AddDefect writes one in place of one that was refused; a cause that has another keeps it.
func AddDefect(d Defect) []Stmt {
	return []Stmt{
		Do(`DELETE FROM defects WHERE project = ? AND suite = ? AND signature = ? AND state = 'refused'`, d.Project, d.Suite, d.Signature),
		Must(`INSERT OR IGNORE INTO defects (id, project, suite, signature, tracker, run, cause, title, body, state, key, link, place, status,
			closed, asked_at, made_by, made_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?,
			?)`, d.ID, d.Project, d.Suite, d.Signature,
			d.Tracker, d.Run, d.Cause, d.Title, d.Body, d.State, d.Key, d.Link, d.Place, d.Status, d.Closed, d.AskedAt, d.MadeBy, d.MadeAt),
	}
}

// FiledDefect notes what a tracker calls a defect, and how it stands there.
func FiledDefect(id, key, link, place, status string, closed bool, at int64) Stmt {
	return Do(`UPDATE defects SET state = 'filed', key = ?, link = ?, place = ?, status = ?, closed = ?, asked_at = ?, trouble = ''
		WHERE id = ?`, key, link, place, status, closed, at, id)
}

// RefusedDefect notes that a defect was not filed, and why; state is waiting while it is
// tried again.
func RefusedDefect(id, state, why string) Stmt {
	return Do(`UPDATE defects SET state = ?, trouble = ? WHERE id = ? AND state = 'waiting'`, state, why, id)
}

// AskedDefect notes how a defect stands; where the tracker did not say, why.
func AskedDefect(id, status string, closed bool, trouble string, at int64) Stmt {
	return Do(`UPDATE defects SET status = ?, closed = ?, trouble = ?, asked_at = ? WHERE id = ? AND state = 'filed'`, status, closed, trouble,
		at, id)
}

// ToldDefect notes of which run a tracker was told that a defect is back.
func ToldDefect(id string, run int) Stmt {
	return Do(`UPDATE defects SET told = max(told, ?) WHERE id = ?`, run, id)
}

// DropDefect forgets a defect, and what was still to be sent of it.
func DropDefect(id string) []Stmt {
	return []Stmt{Must(`DELETE FROM defects WHERE id = ?`, id),
		Do(`DELETE FROM outbox WHERE state = 'waiting' AND (id = ?1 OR id LIKE ?1 || ':%')`, id)}
}

const defectsOf = `SELECT d.*, COALESCE(t.name, '') AS name FROM defects d LEFT JOIN trackers t ON t.id = d.tracker`

// Defect finds one.
func (s *Store) Defect(ctx context.Context, id string) (d Defect, err error) {
	err = found(s.read.GetContext(ctx, &d, defectsOf+` WHERE d.id = ?`, id))
	return
}

// DefectsOf finds those of some causes of a suite, by signature.
func (s *Store) DefectsOf(ctx context.Context, project, suite string, signatures []string) (out map[string]Defect, err error) {
	var rows []Defect
	err = s.read.SelectContext(ctx, &rows, defectsOf+` WHERE d.project = ? AND d.suite = ?
		AND d.signature IN (SELECT value FROM json_each(?))`, project, suite, JSON(signatures))
	out = make(map[string]Defect, len(rows))
	for _, d := range rows {
		out[d.Signature] = d
	}
	return out, err
}

// DefectFilter narrows a list of defects. Empty fields do not.
type DefectFilter struct {
	Project, Suite, Tracker, State string // waiting, refused, open or closed
	Text                           string
	Before                         string   // only those made before the one of this id
	Among                          []string // projects; nil means every one
	Limit                          int
}

// Defects lists them, the newest first.
func (s *Store) Defects(ctx context.Context, f DefectFilter) (ds []Defect, err error) {
	w := &where{}
	w.add(f.Project != "", "d.project = ?", f.Project)
	w.among("d.project", f.Among)
	w.add(f.Suite != "", "d.suite = ?", f.Suite)
	w.add(f.Tracker != "", "d.tracker = ?", f.Tracker)
	w.add(f.State == "waiting" || f.State == "refused", "d.state = ?", f.State)
	w.add(f.State == "open" || f.State == "closed", "d.state = 'filed' AND d.closed = ?", f.State == "closed")
	w.add(f.Before != "", "d.id < ?", f.Before)
	w.has("(d.title || ' ' || d.key || ' ' || d.made_by || ' ' || d.status)", f.Text)
	err = s.read.SelectContext(ctx, &ds, defectsOf+` WHERE `+w.String()+` ORDER BY d.id DESC LIMIT ?`, append(w.args, f.Limit)...)
	return
}

// ToBeAsked lists defects of which their trackers were not asked since a time, and closed
// ones since another; the longest ago first.
func (s *Store) ToBeAsked(ctx context.Context, since, sinceClosed int64, most int) (ds []Defect, err error) {
	err = s.read.SelectContext(ctx, &ds, defectsOf+` WHERE d.state = 'filed' AND d.place != '' AND t.id IS NOT NULL
		AND d.asked_at < CASE WHEN d.closed THEN ? ELSE ? END ORDER BY d.asked_at LIMIT ?`, sinceClosed, since, most)
	return
}
