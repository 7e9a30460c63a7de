package spool

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/link"
)

// Trickle sends what is recorded of a session in pieces while it grows: little
// is left to send at the end, and what an agent recorded before it was lost is
// not lost with it. It belongs to one goroutine at a time.
type Trickle struct {
	up    *upstream.Service
	id    string // of the session
	fence int64
	files map[string]*sent
}

// sent is what the service has of a file.
type sent struct {
	size   int64
	pieces []piece
}

type piece struct {
	at, size int64
	sum      [sha256.Size]byte
}

// NewTrickle sends what is recorded of a session under a lease.
func NewTrickle(up *upstream.Service, session string, fence int64) *Trickle {
	return &Trickle{up: up, id: session, fence: fence, files: map[string]*sent{}}
}

// Has says whether some of a file was sent.
func (t *Trickle) Has(name string) bool { return t.files[name] != nil }

// errAhead means that the service has more of a file than there is: it is sent
// whole.
var errAhead = errors.New("the service has more of it")

// Grow sends what a file has more than the service. The service's answer says
// where it stands, so that nothing depends on what was lost on the way.
func (t *Trickle) Grow(ctx context.Context, name string, f *os.File) error {
	s := t.files[name]
	if s == nil {
		s = &sent{}
		t.files[name] = s
	}
	for {
		info, err := f.Stat()
		if err != nil {
			return err
		}
		n := min(attempt.MaxPiece, info.Size()-s.size)
		if n <= 0 {
			return nil
		}
		buf := make([]byte, n)
		if _, err := f.ReadAt(buf, s.size); err != nil {
			return err
		}
		have, err := t.put(ctx, name, s.size, buf)
		if err != nil {
			return err
		}
		if have == s.size+n {
			s.pieces = append(s.pieces, piece{s.size, n, sha256.Sum256(buf)})
			s.size = have
			continue
		}
		if have >= s.size {
			return fmt.Errorf("%s: %w: %d bytes, not %d", name, errAhead, have, s.size+n)
		}
		*s = sent{} // the service has lost some of it
	}
}

func (t *Trickle) put(ctx context.Context, name string, at int64, contents []byte) (have int64, err error) {
	query := url.Values{"fence": {strconv.FormatInt(t.fence, 10)}, "at": {strconv.FormatInt(at, 10)}}
	var answer link.Grown
	err = t.up.Send(ctx, http.MethodPut, "/agent/sessions/"+t.id+"/files/"+url.PathEscape(name)+"?"+query.Encode(),
		bytes.NewReader(contents), &answer)
	return answer.Have, err
}

// finish brings what the service has of a file to what the file has become:
// pieces that were written over since, and the rest. A file that had not been
// growing is left alone.
func (t *Trickle) finish(ctx context.Context, name, path string) error {
	s := t.files[name]
	if s == nil {
		return nil
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	var buf []byte
	for i, p := range s.pieces {
		buf = slices.Grow(buf[:0], int(p.size))[:p.size]
		if _, err := f.ReadAt(buf, p.at); err != nil {
			return err // it became shorter: it is sent whole
		}
		sum := sha256.Sum256(buf)
		if sum == p.sum {
			continue
		}
		if _, err := t.put(ctx, name, p.at, buf); err != nil {
			return err
		}
		s.pieces[i].sum = sum
	}
	return t.Grow(ctx, name, f)
}
