package store

import "context"

// Stocked is a row of stock.
type Stocked struct {
	ID      string `db:"id"`
	Name    string `db:"name"`
	Needs   string `db:"needs_json"`
	AddedBy string `db:"added_by"`
	AddedAt int64  `db:"added_at"`
}

// StockArchive is a row of stock_archives.
type StockArchive struct {
	Stock string `db:"stock"`
	Place int    `db:"place"`
	Name  string `db:"name"`
	Hash  string `db:"hash"`
	Size  int64  `db:"size"`
}

// AddStock writes an entry with its archives.
func AddStock(s Stocked, archives []StockArchive) []Stmt {
	out := []Stmt{Must(`INSERT INTO stock (id, name, needs_json, added_by, added_at) VALUES (?, ?, ?, ?, ?)`, s.ID, s.Name, s.Needs,
		s.AddedBy, s.AddedAt)}
	for i, a := range archives {
		out = append(out, Must(`INSERT INTO stock_archives (stock, place, name, hash, size) VALUES (?, ?, ?, ?, ?)`, s.ID, i, a.Name,
			a.Hash, a.Size))
	}
	return out
}

// DropStock removes an entry; its archives go with the next sweep.
func DropStock(id string) []Stmt {
	return []Stmt{Do(`DELETE FROM stock_archives WHERE stock = ?`, id), Must(`DELETE FROM stock WHERE id = ?`, id)}
}

// Stock lists every entry, oldest first, and their archives.
func (s *Store) Stock(ctx context.Context) (all []Stocked, archives []StockArchive, err error) {
	if err = s.read.SelectContext(ctx, &all, `SELECT * FROM stock ORDER BY id`); err != nil {
		return
	}
	err = s.read.SelectContext(ctx, &archives, `SELECT * FROM stock_archives ORDER BY stock, place`)
	return
}

// BrowserChange is a row of browser_changes.
type BrowserChange struct {
	ID      int64  `db:"id"`
	At      int64  `db:"at"`
	Agent   string `db:"agent"`
	Browser string `db:"browser"`
	Version string `db:"version"`
	Channel string `db:"channel"`
	Came    bool   `db:"came"`
}

// maxBrowserChanges bounds the changes on record, whatever agents say.
const maxBrowserChanges = 5000

// AddBrowserChange writes that a version came into the lab or left it, and forgets those
// before a time and those that are too many.
func AddBrowserChange(c BrowserChange, before int64) []Stmt {
	return []Stmt{Must(`INSERT INTO browser_changes (at, agent, browser, version, channel, came) VALUES (?, ?, ?, ?, ?, ?)`, c.At, c.Agent,
		c.Browser, c.Version, c.Channel, c.Came), Do(`DELETE FROM browser_changes WHERE at < ? OR id <=
		(SELECT MAX(id) FROM browser_changes) - ?`, before, maxBrowserChanges)}
}

// BrowserChanges lists changes, newest first, at most n.
func (s *Store) BrowserChanges(ctx context.Context, n int) (all []BrowserChange, err error) {
	err = s.read.SelectContext(ctx, &all, `SELECT * FROM browser_changes ORDER BY id DESC LIMIT ?`, n)
	return
}
