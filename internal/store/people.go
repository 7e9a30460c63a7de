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
	Role      string `db:"role"`
	Hash      []byte `db:"hash"`
	CreatedAt int64  `db:"created_at"`
}

// AddToken writes a token.
func AddToken(t Token) Stmt {
	return Must(`INSERT INTO tokens (id, name, role, hash, created_at) VALUES (?, ?, ?, ?, ?)`, t.ID, t.Name, t.Role, t.Hash, t.CreatedAt)
}

// DropToken removes a token.
func DropToken(id string) Stmt { return Must(`DELETE FROM tokens WHERE id = ?`, id) }

// TokenByHash finds a token by the SHA-256 of its secret.
func (s *Store) TokenByHash(ctx context.Context, hash []byte) (t Token, err error) {
	err = found(s.read.GetContext(ctx, &t, `SELECT * FROM tokens WHERE hash = ?`, hash))
	return
}

// Tokens lists every token, oldest first.
func (s *Store) Tokens(ctx context.Context) (ts []Token, err error) {
	err = s.read.SelectContext(ctx, &ts, `SELECT * FROM tokens ORDER BY created_at, id`)
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
