package agent

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/record"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
)

const trickleEvery = 2 * time.Second

// trickle sends what is recorded of a session in pieces while it grows: little
// is left to send at the end, and what an agent recorded before it was lost is
// not lost with it. It belongs to one goroutine at a time.
type trickle struct {
	up    *upstream
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

// errAhead means that the service has more of a file than there is: it is sent
// whole.
var errAhead = errors.New("the service has more of it")

// grow sends what a file has more than the service. The service's answer says
// where it stands, so that nothing depends on what was lost on the way.
func (t *trickle) grow(ctx context.Context, name string, f *os.File) error {
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

func (t *trickle) put(ctx context.Context, name string, at int64, contents []byte) (have int64, err error) {
	query := url.Values{"fence": {strconv.FormatInt(t.fence, 10)}, "at": {strconv.FormatInt(at, 10)}}
	var answer link.Grown
	err = t.up.Send(ctx, http.MethodPut, "/agent/sessions/"+t.id+"/files/"+url.PathEscape(name)+"?"+query.Encode(), bytes.NewReader(contents), &answer)
	return answer.Have, err
}

// finish brings what the service has of a file to what the file has become:
// pieces that were written over since, and the rest. A file that had not been
// growing is left alone.
func (t *trickle) finish(ctx context.Context, name, path string) error {
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
	return t.grow(ctx, name, f)
}

// trickle sends the attempt's recording until the context ends.
func (at *execution) trickle(ctx context.Context) {
	t := time.NewTicker(at.agent.Trickle)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if err := at.sendGrown(ctx); err != nil && ctx.Err() == nil {
			at.agent.Log.Debug("a piece of a recording was not sent", "session", at.result.ID, "error", err)
			if content(err) || gone(err) {
				return // all of it goes with the result
			}
		}
	}
}

func (at *execution) sendGrown(ctx context.Context) error {
	for _, name := range at.rec.Growing() {
		if at.grown.files[name] != nil {
			if kind, _, _ := recording.Form(name); kind == record.Screenshots {
				continue // a picture does not grow
			}
		}
		f, err := os.Open(filepath.Join(at.recordings(), name))
		if err != nil {
			continue // the video's first picture is yet to come
		}
		err = at.grown.grow(ctx, name, f)
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// recordings is where the attempt's recording lies while it grows.
func (at *execution) recordings() string {
	return filepath.Join(at.agent.Dir, "recordings", at.result.ID)
}
