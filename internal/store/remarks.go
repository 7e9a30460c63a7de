package store

import "context"

// Remark is a row of remarks.
type Remark struct {
	ID        string `db:"id"`
	Project   string `db:"project"`
	Suite     string `db:"suite"`
	Kind      string `db:"kind"`
	Run       int    `db:"run"`
	Test      string `db:"test"`
	Signature string `db:"signature"`
	Title     string `db:"title"`
	Body      string `db:"body"`
	Mentions  string `db:"mentions"`
	By        string `db:"by_name"`
	At        int64  `db:"at"`
}

// AddRemark writes one.
func AddRemark(r Remark) Stmt {
	return Must(`INSERT INTO remarks (id, project, suite, kind, run, test, signature, title, body, mentions, by_name, at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.ID, r.Project, r.Suite, r.Kind, r.Run, r.Test, r.Signature, r.Title, r.Body, r.Mentions, r.By, r.At)
}

// DropRemark forgets one.
func DropRemark(id string) Stmt { return Must(`DELETE FROM remarks WHERE id = ?`, id) }

// Remark finds one.
func (s *Store) Remark(ctx context.Context, id string) (r Remark, err error) {
	err = found(s.read.GetContext(ctx, &r, `SELECT * FROM remarks WHERE id = ?`, id))
	return
}

// RemarkFilter narrows a list of remarks.
type RemarkFilter struct {
	Project, Suite string
	Run            int // of a run itself: what was noted of it
	Mentions       string
	Text           string
	Before         string // an id: only older ones
	Limit          int
	Among          []string // projects; nil means every one
}

// Remarks lists them, the newest first.
func (s *Store) Remarks(ctx context.Context, f RemarkFilter) (rs []Remark, err error) {
	w := &where{}
	w.add(f.Project != "", "project = ?", f.Project)
	w.among("project", f.Among)
	w.add(f.Suite != "", "suite = ?", f.Suite)
	w.add(f.Run > 0, "run = ?", f.Run)
	w.add(f.Before != "", "id < ?", f.Before)
	w.has("mentions", mark(f.Mentions))
	w.has("(title || ' ' || body || ' ' || by_name)", f.Text)
	err = s.read.SelectContext(ctx, &rs, `SELECT * FROM remarks WHERE `+w.String()+` ORDER BY id DESC LIMIT ?`, append(w.args,
		f.Limit)...)
	return
}

func mark(name string) string {
	if name == "" {
		return ""
	}
	return " " + name + " "
}

// RemarksBeside lists what was noted of a run, of tests and of causes of its suite.
func (s *Store) RemarksBeside(ctx context.Context, project, suite string, run int, tests, signatures []string, most int) (rs []Remark,
	err error) {
	err = s.read.SelectContext(ctx, &rs, `SELECT * FROM remarks WHERE project = ? AND suite = ? AND (kind = 'run' AND run = ?
		OR kind = 'test' AND test IN (SELECT value FROM json_each(?)) OR kind = 'cause' AND signature IN (SELECT value FROM json_each(?)))
		ORDER BY at DESC, id DESC LIMIT ?`, project, suite, run, JSON(tests), JSON(signatures), most)
	return
}
