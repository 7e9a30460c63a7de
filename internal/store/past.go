package store

import "context"

// Past is what a test of a run came to in one of its combinations in the last runs that
// tried it: of each a letter for the verdict (PFYLNSUA: passed, failed, flaky, lab fault,
// ended, skipped, unsupported, aside) and six hexadecimal digits of the run's number, in no
// order that can be relied upon.
type Past struct {
	Pane int
	Test int
	Runs string
}

// PastOf lists that of a run's cells. It reads panes × tests rows by their keys.
func (s *Store) PastOf(ctx context.Context, run int) (all []Past, err error) {
	rows, err := s.read.QueryContext(ctx, `SELECT p.idx, t.idx, x.runs FROM tests t CROSS JOIN panes p
		CROSS JOIN past x ON x.known = t.known AND x.combo = p.combo WHERE t.run = ? AND p.run = ?`, run, run)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var p Past
		if err := rows.Scan(&p.Pane, &p.Test, &p.Runs); err != nil {
			return nil, err
		}
		all = append(all, p)
	}
	return all, rows.Err()
}
