package store

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// ErrGuard means that a statement did not change the number of rows it wanted, or broke
// a rule of the records, and that nothing of its batch was written.
var ErrGuard = errors.New("the record is not in the expected state")

// Refused is a batch that the records do not allow, with the statement at fault. It is
// an ErrGuard.
type Refused struct {
	Stmt Stmt
	Err  error
}

func (e *Refused) Error() string {
	args := make([]string, len(e.Stmt.Args))
	for i, a := range e.Stmt.Args {
		switch a := a.(type) {
		case []byte:
			args[i] = fmt.Sprintf("(%d bytes)", len(a))
		default:
			args[i] = fmt.Sprintf("%.80q", fmt.Sprint(a))
		}
	}
	return fmt.Sprintf("%v: %v; statement: %s; arguments: %s", ErrGuard, e.Err, strings.Join(strings.Fields(e.Stmt.SQL), " "),
		strings.Join(args, ", "))
}

func (e *Refused) Unwrap() []error { return []error{ErrGuard, e.Err} }

// Trouble is why nothing can be written at present, and since when.
type Trouble struct {
	Since time.Time
	Err   error
}

func (e *Trouble) Error() string {
	return fmt.Sprintf("nothing can be put on record since %s: %v", e.Since.UTC().Format(time.RFC3339), e.Err)
}

func (e *Trouble) Unwrap() error { return e.Err }

// Trouble says why nothing can be written at present; nil while all is well.
func (s *Store) Trouble() error {
	if t := s.trouble.Load(); t != nil {
		return t
	}
	return nil
}

// Pauses between attempts to write while there is trouble.
const (
	firstPause = 50 * time.Millisecond
	lastPause  = 2 * time.Second
)

// troubled reports whether an error is the disk's or the machine's, and passes with it.
func troubled(err error) bool {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR, sqlite3.SQLITE_READONLY, sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED,
		sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_NOMEM:
		return true
	}
	return false
}
