package store

import (
	"io/fs"
	"path/filepath"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The tokens of a service from before tokens had owners and ends are good as they were,
// for a year from when they were made; console sessions sign in again, and secrets of
// runs that have ended are gone.
func TestRecordsFromBeforeTokensHadOwners(t *testing.T) {
	dir := t.TempDir()
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(dir, Database))
	require.NoError(t, err)
	sub, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	p, err := goose.NewProvider(goose.DialectSQLite3, db.DB, sub)
	require.NoError(t, err)
	_, err = p.UpTo(t.Context(), 1)
	require.NoError(t, err)
	db.MustExec(`INSERT INTO tokens (id, name, role, hash, created_at) VALUES ('a', 'first admin', 'admin', x'01', 1000),
		('b', 'tern', 'runner', x'02', 2000), ('c', 'tern (console)', 'runner', x'03', 3000)`)
	db.MustExec(`INSERT INTO runs (number, id, kind, project, suite, matrix, environment, by_name, counts_json, created_at, ended_at, bundle,
		base, vars_json, request_json, plan_json, secrets) VALUES (1, 'r', 'script', 'p', 's', 'm', 'e', 'ci', '{}', 1, 2, '', '', '{}',
		'{}', '{}', x'05')`)
	require.NoError(t, db.Close())
	s, err := Open(dir)
	require.NoError(t, err)
	defer s.Close()
	ts, err := s.Tokens(t.Context())
	require.NoError(t, err)
	require.Len(t, ts, 2)
	assert.Equal(t, Token{ID: "b", Name: "tern", Owner: "tern", Rights: `[{"project":"*","role":"runner"}]`, Hash: []byte{2}, CreatedAt: 2000,
		ExpiresAt: 2000 + 365*86400*1000}, ts[1])
	run, err := s.RunByNumber(t.Context(), 1)
	require.NoError(t, err)
	assert.Nil(t, run.Secrets)
}
