// Package store keeps records in SQLite. Reads go through a pool; writes go
// through one goroutine that groups them into transactions. A write is a batch
// of statements with their arguments, applied whole, that never reads in its
// middle: a guard goes into a statement's WHERE and its wanted row count.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver "sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrClosed means that the store no longer takes writes.
var ErrClosed = errors.New("the store is closed")

// Stmt is one statement of a batch.
type Stmt struct {
	SQL  string
	Args []any
	Want int64 // rows it must change; -1 means any number
}

// Do is a statement that may change any number of rows.
func Do(query string, args ...any) Stmt { return Stmt{query, args, -1} }

// Must is a statement that has to change just one row.
func Must(query string, args ...any) Stmt { return Stmt{query, args, 1} }

// Pending is a write on its way.
type Pending struct{ done chan error }

// Wait returns when the write is on disk, or why it is not.
func (p *Pending) Wait() error {
	err := <-p.done
	p.done <- err // for the next to ask
	return err
}

type job struct {
	batch   []Stmt
	pending *Pending
}

// Store is an open database.
type Store struct {
	path  string
	read  *sqlx.DB
	write *sqlx.DB
	done  chan struct{}

	mu     sync.Mutex
	some   *sync.Cond // a job has come, or none will any more
	jobs   []job
	closed bool

	trouble  atomic.Pointer[Trouble]
	giveUp   chan struct{} // closed when trouble is no longer waited out
	giveOnce sync.Once
}

// maxGroup bounds how many batches one transaction takes.
const maxGroup = 256

// Open opens or creates the database in a directory and brings its schema up to
// date.
func Open(dir string) (*Store, error) {
	path := filepath.Join(dir, Database)
	open := func(mode string, conns int) (*sqlx.DB, error) {
		q := url.Values{"_pragma": {"busy_timeout(10000)", "foreign_keys(1)", "synchronous(NORMAL)", "journal_mode(WAL)",
			"temp_store(MEMORY)", "cache_size(-4000)", "secure_delete(FAST)"}}
		if mode == "read" {
			q.Add("_pragma", "query_only(1)")
		}
		q.Set("_txlock", "immediate")
		db, err := sqlx.Open("sqlite", "file:"+path+"?"+q.Encode())
		if err != nil {
			return nil, err
		}
		db.SetMaxOpenConns(conns)
		return db, nil
	}
	w, err := open("write", 1)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	if err := migrate(w.DB); err != nil {
		w.Close()
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	r, err := open("read", 4)
	if err != nil {
		w.Close()
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	s := &Store{path: path, read: r, write: w, done: make(chan struct{}), giveUp: make(chan struct{})}
	s.some = sync.NewCond(&s.mu)
	go s.writer()
	return s, nil
}

func migrate(db *sql.DB) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		return err
	}
	_, err = p.Up(context.Background())
	return err
}

// Close finishes the writes that were taken and closes the database.
func (s *Store) Close() error {
	s.GiveUp()
	s.mu.Lock()
	if s.closed {
		s.mu.Unlock()
		return nil
	}
	s.closed = true
	s.some.Signal()
	s.mu.Unlock()
	<-s.done
	return errors.Join(s.read.Close(), s.write.Close())
}

// GiveUp has writes that meet trouble fail from now on, instead of waiting until it is
// over: the service stops.
func (s *Store) GiveUp() { s.giveOnce.Do(func() { close(s.giveUp) }) }

// Enqueue takes a batch for writing. Batches are written in the order in which
// they were taken.
func (s *Store) Enqueue(batch ...Stmt) *Pending {
	p := &Pending{done: make(chan error, 1)}
	if len(batch) == 0 {
		p.done <- nil
		return p
	}
	s.queue(job{batch, p})
	return p
}

func (s *Store) queue(j job) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		j.pending.done <- ErrClosed
		return
	}
	s.jobs = append(s.jobs, j)
	s.some.Signal()
}

// Sync returns when everything that was taken before is on disk. Whoever decides
// on a read that a queued write could change calls it first. While nothing can be
// written it says so at once.
func (s *Store) Sync() error {
	if err := s.Trouble(); err != nil {
		return err
	}
	p := &Pending{done: make(chan error, 1)}
	s.queue(job{nil, p})
	return p.Wait()
}

// Write takes a batch and waits until it is on disk.
func (s *Store) Write(batch ...Stmt) error { return s.Enqueue(batch...).Wait() }

func (s *Store) writer() {
	defer close(s.done)
	for group := s.next(); len(group) > 0; group = s.next() {
		s.commit(group)
	}
}

// next waits for jobs; there are none any more when the store is closed.
func (s *Store) next() []job {
	s.mu.Lock()
	defer s.mu.Unlock()
	for len(s.jobs) == 0 && !s.closed {
		s.some.Wait()
	}
	n := min(len(s.jobs), maxGroup)
	group := s.jobs[:n:n]
	if s.jobs = s.jobs[n:]; len(s.jobs) == 0 {
		s.jobs = nil
	}
	return group
}

// commit writes a group in one transaction. A batch that fails is undone alone. Trouble
// with the disk is nobody's fault: the group is written when it is over.
func (s *Store) commit(group []job) {
	errs := make([]error, len(group))
	err := s.try(group, errs)
	for wait := firstPause; troubled(err); wait = min(2*wait, lastPause) {
		s.trouble.CompareAndSwap(nil, &Trouble{time.Now(), err})
		select {
		case <-time.After(wait):
			err = s.try(group, errs)
			continue
		case <-s.giveUp:
		}
		break
	}
	if err == nil {
		s.trouble.Store(nil)
	}
	for i, j := range group {
		if err != nil {
			errs[i] = fmt.Errorf("write records: %w", err)
		}
		j.pending.done <- errs[i]
	}
}

// try writes a group once; errs has what is wrong with batches by themselves.
func (s *Store) try(group []job, errs []error) error {
	return s.inTx(func(tx *sqlx.Tx) error {
		for i, j := range group {
			if _, err := tx.Exec("SAVEPOINT batch"); err != nil {
				return err
			}
			end := "RELEASE batch"
			if errs[i] = apply(tx, j.batch); errs[i] != nil {
				if troubled(errs[i]) {
					return errs[i]
				}
				end = "ROLLBACK TO batch; RELEASE batch"
			}
			if _, err := tx.Exec(end); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *Store) inTx(f func(*sqlx.Tx) error) error {
	tx, err := s.write.Beginx()
	if err != nil {
		return err
	}
	if err := f(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

func apply(tx *sqlx.Tx, batch []Stmt) error {
	for _, st := range batch {
		res, err := tx.Exec(st.SQL, st.Args...)
		if troubled(err) {
			return err
		}
		if err != nil {
			return &Refused{st, err}
		}
		if st.Want >= 0 {
			if n, err := res.RowsAffected(); err != nil || n != st.Want {
				return &Refused{st, errors.Join(fmt.Errorf("it changed %d rows, not %d", n, st.Want), err)}
			}
		}
	}
	return nil
}

// JSON writes a value for a *_json column. It panics on a value that cannot be
// written, which is a mistake in the program.
func JSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("store: %T cannot be written as JSON: %v", v, err))
	}
	return string(b)
}

// List writes a list of words; an empty one for nil.
func List(words []string) string { return JSON(append([]string{}, words...)) }

// Millis is the stored form of a time; 0 for the zero time.
func Millis(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

// Time is the inverse of Millis.
func Time(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}

// Ping checks that the database answers, and can be written.
func (s *Store) Ping(ctx context.Context) error {
	return errors.Join(s.read.PingContext(ctx), s.Trouble())
}
