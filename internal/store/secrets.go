package store

import "context"

// Secret is a row of secrets.
type Secret struct {
	Project     string `db:"project"`
	Environment string `db:"environment"`
	Name        string `db:"name"`
	Sealed      []byte `db:"sealed"`
	ChangedBy   string `db:"changed_by"`
	ChangedAt   int64  `db:"changed_at"`
}

// SaveSecret writes a secret, in place of the one of its name.
func SaveSecret(s Secret) Stmt {
	return Must(`INSERT INTO secrets (project, environment, name, sealed, changed_by, changed_at) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (project, environment, name) DO UPDATE SET sealed = excluded.sealed, changed_by = excluded.changed_by,
		changed_at = excluded.changed_at`, s.Project, s.Environment, s.Name, s.Sealed, s.ChangedBy, s.ChangedAt)
}

// DropSecret removes a secret.
func DropSecret(project, environment, name string) Stmt {
	return Must(`DELETE FROM secrets WHERE project = ? AND environment = ? AND name = ?`, project, environment, name)
}

// Secrets lists a project's secrets, by name and environment.
func (s *Store) Secrets(ctx context.Context, project string) (all []Secret, err error) {
	err = s.read.SelectContext(ctx, &all, `SELECT * FROM secrets WHERE project = ? ORDER BY name, environment`, project)
	return all, err
}
