package store

import (
	"context"
	"database/sql"
	"errors"
)

// ErrNotFound means that there is no such record.
var ErrNotFound = errors.New("not found")

func found(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// Token is a row of tokens.
type Token struct {
	ID        string `db:"id"`
	Name      string `db:"name"`
	Owner     string `db:"owner"`
	Rights    string `db:"rights_json"`
	Root      string `db:"root"` // of a console session: the token that signed in
	Agent     string `db:"agent"`
	Pool      string `db:"pool"`
	Hash      []byte `db:"hash"`
	CreatedAt int64  `db:"created_at"`
	ExpiresAt int64  `db:"expires_at"`
	UsedAt    int64  `db:"used_at"`
	UsedFrom  string `db:"used_from"`
	Share     string `db:"share_json"` // what it shows, of a share link; "" for others
}

// AddToken writes a token.
func AddToken(t Token) Stmt {
	return Must(`INSERT INTO tokens (id, name, owner, rights_json, root, agent, pool, hash, created_at, expires_at, used_at, used_from,
		share_json) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?,
		?)`, t.ID, t.Name, t.Owner, t.Rights, t.Root, t.Agent, t.Pool, t.Hash, t.CreatedAt,
		t.ExpiresAt, t.UsedAt, t.UsedFrom, t.Share)
}

// Shares lists the tokens of share links, the newest first.
func (s *Store) Shares(ctx context.Context) (ts []Token, err error) {
	err = s.read.SelectContext(ctx, &ts, `SELECT * FROM tokens WHERE share_json != '' ORDER BY created_at DESC, id DESC`)
	return
}

// DropToken removes a token and the console sessions that were made from it.
func DropToken(id string) []Stmt {
	return []Stmt{Must(`DELETE FROM tokens WHERE id = ?`, id), Do(`DELETE FROM tokens WHERE root = ?`, id)}
}

// DropExpired removes the console sessions whose time is over.
func DropExpired(now, idleSince int64) Stmt {
	return Do(`DELETE FROM tokens WHERE root != '' AND (expires_at < ? OR used_at < ?)`, now, idleSince)
}

// UseToken notes when a token was last used, and from where.
func UseToken(id string, at int64, from string) Stmt {
	return Do(`UPDATE tokens SET used_at = max(used_at, ?), used_from = ? WHERE id = ?`, at, from, id)
}

// BindToken gives an agent's token to the agent that joins with it, unless it belongs
// to another, or the name to another token.
func BindToken(id, agent, pool string) Stmt {
	return Must(`UPDATE tokens SET agent = ?1, pool = ?2 WHERE id = ?3 AND (agent = ?1 OR agent = '' AND NOT EXISTS
		(SELECT 1 FROM tokens WHERE agent = ?1)) AND (pool = '' OR pool = ?2)`, agent, pool, id)
}

// TokenByHash finds a token by the SHA-256 of its secret.
func (s *Store) TokenByHash(ctx context.Context, hash []byte) (t Token, err error) {
	err = found(s.read.GetContext(ctx, &t, `SELECT * FROM tokens WHERE hash = ?`, hash))
	return
}

// TokenByID finds a token.
func (s *Store) TokenByID(ctx context.Context, id string) (t Token, err error) {
	err = found(s.read.GetContext(ctx, &t, `SELECT * FROM tokens WHERE id = ?`, id))
	return
}

// Tokens lists every token, oldest first.
func (s *Store) Tokens(ctx context.Context) (ts []Token, err error) {
	err = s.read.SelectContext(ctx, &ts, `SELECT * FROM tokens WHERE share_json = '' ORDER BY created_at, id`)
	return
}

// ConsoleSessions lists the console sessions made from a token, that used longest ago
// first.
func (s *Store) ConsoleSessions(ctx context.Context, root string) (ts []Token, err error) {
	err = s.read.SelectContext(ctx, &ts, `SELECT * FROM tokens WHERE root = ? ORDER BY used_at, created_at`, root)
	return
}

// Agent is a row of agents.
type Agent struct {
	Name      string `db:"name"`
	Instance  string `db:"instance"`
	Machine   string `db:"machine_json"`
	FirstSeen int64  `db:"first_seen"`
	LastSeen  int64  `db:"last_seen"`
	Draining  bool   `db:"draining"`
}

// SaveAgent writes what an agent said of itself when it joined.
func SaveAgent(a Agent) Stmt {
	return Do(`INSERT INTO agents (name, instance, machine_json, first_seen, last_seen) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET instance = excluded.instance, machine_json = excluded.machine_json, last_seen = excluded.last_seen`,
		a.Name, a.Instance, a.Machine, a.FirstSeen, a.LastSeen)
}

// SawAgent notes when an agent was last there.
func SawAgent(name string, at int64) Stmt {
	return Do(`UPDATE agents SET last_seen = ? WHERE name = ?`, at, name)
}

// DropAgent removes an agent.
func DropAgent(name string) Stmt { return Must(`DELETE FROM agents WHERE name = ?`, name) }

// Agents lists every agent by name.
func (s *Store) Agents(ctx context.Context) (as []Agent, err error) {
	err = s.read.SelectContext(ctx, &as, `SELECT * FROM agents ORDER BY name`)
	return
}

// Project is a row of projects: what was settled for one.
type Project struct {
	Name   string `db:"name"`
	Record string `db:"record_json"`
	Keep   string `db:"keep_json"`
}

// SaveProject writes what was settled for a project.
func SaveProject(p Project) Stmt {
	return Do(`INSERT INTO projects (name, record_json, keep_json) VALUES (?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET record_json = excluded.record_json, keep_json = excluded.keep_json`, p.Name, p.Record, p.Keep)
}

// ProjectByName finds what was settled for a project.
func (s *Store) ProjectByName(ctx context.Context, name string) (p Project, err error) {
	err = found(s.read.GetContext(ctx, &p, `SELECT * FROM projects WHERE name = ?`, name))
	return
}

// Projects lists what was settled for projects.
func (s *Store) Projects(ctx context.Context) (ps []Project, err error) {
	err = s.read.SelectContext(ctx, &ps, `SELECT * FROM projects ORDER BY name`)
	return
}

// Audit is a row of audit.
type Audit struct {
	ID      int64  `db:"id"`
	At      int64  `db:"at"`
	Who     string `db:"who"`
	Token   string `db:"token"`
	Origin  string `db:"origin"`
	Act     string `db:"act"`
	Target  string `db:"target"`
	Project string `db:"project"`
	Before  string `db:"before"`
	After   string `db:"after"`
	Refused string `db:"refused"`
}

// AddAudit writes what somebody did.
func AddAudit(a Audit) Stmt {
	return Do(`INSERT INTO audit (at, who, token, origin, act, target, project, before, after, refused) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		a.At, a.Who, a.Token, a.Origin, a.Act, a.Target, a.Project, a.Before, a.After, a.Refused)
}

// DropAudit removes what is older than a time or more than n rows, a thousand at a
// time.
func DropAudit(before int64, n int) Stmt {
	return Do(`DELETE FROM audit WHERE id IN (SELECT id FROM audit WHERE at < ?1 OR id <= (SELECT max(id) FROM audit) - ?2
		ORDER BY id LIMIT 1000)`, before, n)
}

// AuditFilter narrows a list of the audit. Empty fields do not.
type AuditFilter struct {
	Text, Who, Act, Project string
	Refused                 bool
	Among                   []string // projects; nil means every one, and what belongs to none
	Since, Until            int64    // milliseconds since 1970
	Before                  int64    // ids below this one
	Limit                   int
}

// Audit lists who did what, newest first.
func (s *Store) Audit(ctx context.Context, f AuditFilter) (rows []Audit, err error) {
	w := &where{}
	w.has(`(who || ' ' || token || ' ' || origin || ' ' || act || ' ' || target || ' ' || project || ' ' || before || ' ' || after
		|| ' ' || refused)`, f.Text)
	w.add(f.Who != "", "who = ?", f.Who)
	w.add(f.Act != "", "act = ?", f.Act)
	w.add(f.Project != "", "project = ?", f.Project)
	w.add(f.Refused, "refused != ''")
	w.among("project", f.Among)
	w.add(f.Since > 0, "at >= ?", f.Since)
	w.add(f.Until > 0, "at < ?", f.Until)
	w.add(f.Before > 0, "id < ?", f.Before)
	err = s.read.SelectContext(ctx, &rows, `SELECT * FROM audit WHERE `+w.String()+` ORDER BY id DESC LIMIT ?`, append(w.args, f.Limit)...)
	return
}
