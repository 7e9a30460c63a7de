// Package spool keeps what an agent has to hand in until the service has it: results
// with their files, on disk, and recordings that grow, which go in pieces.
package spool

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/link"
)

// Spool keeps results and their files on disk until the service has them. A
// result is a file NAME.json beside a directory of blobs; it is written last
// and under a temporary name first, so a crash leaves no half of one.
type Spool struct {
	dir  string
	more chan struct{} // has an element when there is something new to send

	mu      sync.Mutex
	waiting map[string]int64    // name of the result's file -> fence
	grown   map[string]*Trickle // by result: what the service has of its files already
}

// Open takes up what an earlier agent left in a directory.
func Open(dir string) (*Spool, error) {
	s := &Spool{dir: dir, more: make(chan struct{}, 1), waiting: map[string]int64{}, grown: map[string]*Trickle{}}
	if err := os.MkdirAll(filepath.Join(dir, "blobs"), 0o700); err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	names, err := filepath.Glob(filepath.Join(dir, "*.json"))
	if err != nil {
		return nil, fmt.Errorf("spool: %w", err)
	}
	for _, n := range names {
		if r, err := readResult(n); err == nil {
			s.waiting[filepath.Base(n)] = r.Fence
		}
	}
	return s, s.tidy()
}

// refusedLife is for how long a verdict that was set aside is kept, to be looked
// at.
const refusedLife = 7 * 24 * time.Hour

// tidy removes what an agent that was killed has left: files of no result, and
// what was half written.
func (s *Spool) tidy() error {
	halves, err := filepath.Glob(filepath.Join(s.dir, ".new-*"))
	aside, err2 := filepath.Glob(filepath.Join(s.dir, "*"+refusedSuffix))
	blobs, err3 := os.ReadDir(filepath.Join(s.dir, "blobs"))
	err = errors.Join(err, err2, err3)
	for _, path := range halves {
		err = errors.Join(err, os.Remove(path))
	}
	for _, path := range aside {
		if info, statErr := os.Stat(path); statErr == nil && time.Since(info.ModTime()) > refusedLife {
			err = errors.Join(err, os.Remove(path))
		}
	}
	for _, b := range blobs {
		id := b.Name()[:max(0, len(b.Name())-hex.EncodedLen(sha256.Size)-1)]
		if _, waits := s.waiting[id+".json"]; !waits {
			err = errors.Join(err, os.Remove(filepath.Join(s.dir, "blobs", b.Name())))
		}
	}
	if err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	return nil
}

// Forget removes the files of a result that was not added.
func (s *Spool) Forget(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, waits := s.waiting[id+".json"]; waits || id == "" {
		return
	}
	left, _ := filepath.Glob(filepath.Join(s.dir, blob(id, "*")))
	for _, path := range left {
		_ = os.Remove(path) // the next start removes what is left
	}
}

func readResult(path string) (link.Result, error) {
	var r link.Result
	raw, err := os.ReadFile(path)
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(raw, &r)
}

// blob is where a result's file lies. Each result has its own copy, so that
// one can be dropped without a thought for the others.
func blob(id, hash string) string { return filepath.Join("blobs", id+"-"+hash) }

// File keeps contents for a result and describes them.
func (s *Spool) File(id, name, kind, media string, contents []byte) (attempt.File, error) {
	sum := sha256.Sum256(contents)
	f := attempt.File{Name: name, Kind: kind, Media: media, Hash: hex.EncodeToString(sum[:]), Size: int64(len(contents))}
	if err := s.write(blob(id, f.Hash), contents); err != nil {
		return f, err
	}
	return f, nil
}

// Take moves a file into a result and describes it.
func (s *Spool) Take(id, name, kind, media, path string) (attempt.File, error) {
	f := attempt.File{Name: name, Kind: kind, Media: media}
	in, err := os.Open(path)
	if err != nil {
		return f, fmt.Errorf("spool: %w", err)
	}
	sum := sha256.New()
	f.Size, err = io.Copy(sum, in)
	in.Close()
	f.Hash = hex.EncodeToString(sum.Sum(nil))
	if err == nil {
		err = os.Rename(path, filepath.Join(s.dir, blob(id, f.Hash)))
	}
	if err != nil {
		return f, fmt.Errorf("spool: %w", err)
	}
	return f, nil
}

// write writes a file whole or not at all.
func (s *Spool) write(name string, contents []byte) error {
	path := filepath.Join(s.dir, name)
	tmp, err := os.CreateTemp(filepath.Dir(path), ".new-")
	if err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	_, err = tmp.Write(contents)
	if err = errors.Join(err, tmp.Close()); err == nil {
		err = os.Rename(tmp.Name(), path)
	}
	if err != nil {
		_ = os.Remove(tmp.Name())
		return fmt.Errorf("spool: %w", err)
	}
	return nil
}

// Add keeps a result for sending. Some of its files may be with the service
// already, as far as they had grown.
func (s *Spool) Add(r link.Result, grown *Trickle) error {
	raw, err := json.Marshal(r.Fit())
	if err != nil {
		return fmt.Errorf("spool: %w", err)
	}
	name := r.ID + ".json"
	if err := s.write(name, raw); err != nil {
		return err
	}
	s.mu.Lock()
	s.waiting[name] = r.Fence
	if grown != nil && len(grown.files) > 0 {
		s.grown[name] = grown
	}
	s.mu.Unlock()
	s.Kick()
	return nil
}

// Kick has what waits sent once more.
func (s *Spool) Kick() {
	select {
	case s.more <- struct{}{}:
	default:
	}
}

// More has an element when there is something new to send.
func (s *Spool) More() <-chan struct{} { return s.more }

// Holds says whether a result of a lease waits.
func (s *Spool) Holds(fence int64) bool { return slices.Contains(s.Fences(), fence) }

// Fences lists the leases of which results wait.
func (s *Spool) Fences() []int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []int64
	for _, f := range s.waiting {
		if !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	return out
}

// Discard drops the results of a lease.
func (s *Spool) Discard(fence int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for name, f := range s.waiting {
		if f == fence {
			s.removeLocked(name)
		}
	}
}

func (s *Spool) removeLocked(name string) {
	path := filepath.Join(s.dir, name)
	r, err := readResult(path)
	_ = os.Remove(path)
	delete(s.waiting, name)
	delete(s.grown, name)
	if err == nil {
		for _, f := range r.Files {
			_ = os.Remove(filepath.Join(s.dir, blob(r.ID, f.Hash)))
		}
	}
}

// Send hands in every waiting result, oldest first, and returns the error that
// made it stop. Of a result that the service refuses for what it holds the verdict
// is sent alone; if that is refused as well it is set aside.
func (s *Spool) Send(ctx context.Context, up *upstream.Service, log *slog.Logger, sent func(fence int64)) error {
	for {
		s.mu.Lock()
		var names []string
		for n := range s.waiting {
			names = append(names, n)
		}
		s.mu.Unlock()
		if len(names) == 0 {
			return nil
		}
		slices.Sort(names) // ids sort by time
		r, err := readResult(filepath.Join(s.dir, names[0]))
		if err == nil {
			err = s.sendOne(ctx, up, r)
		} else if errors.Is(err, fs.ErrNotExist) {
			err = nil // discarded meanwhile
		}
		if content(err) {
			log.Error("the service refused a result; its verdict is sent alone", "test", r.Test, "fence", r.Fence, "error", err)
			err = up.Post(ctx, "/agent/results", r.Bare(fmt.Sprintf("status %d: %v", upstream.Status(err), err)), new(link.ResultAnswer))
		}
		if content(err) {
			log.Error("the service refused a verdict; it is set aside", "test", r.Test, "fence", r.Fence, "error", err)
			err = os.Rename(filepath.Join(s.dir, names[0]), filepath.Join(s.dir, names[0]+refusedSuffix))
		}
		if err != nil {
			return err
		}
		s.mu.Lock()
		s.removeLocked(names[0])
		s.mu.Unlock()
		sent(r.Fence)
	}
}

func (s *Spool) sendOne(ctx context.Context, up *upstream.Service, r link.Result) error {
	lacking, err := s.handOver(ctx, up, r)
	if err != nil {
		return err
	}
	kept := r.Files[:0]
	for _, f := range r.Files {
		if lacking != nil && !slices.Contains(lacking, f.Name) {
			kept = append(kept, f)
			continue
		}
		contents, err := os.Open(filepath.Join(s.dir, blob(r.ID, f.Hash)))
		if errors.Is(err, fs.ErrNotExist) {
			continue // the disk lost it; the verdict counts all the same
		}
		if err != nil {
			return err
		}
		err = up.Send(ctx, http.MethodPut, fmt.Sprintf("/agent/files/%s?fence=%d", f.Hash, r.Fence), contents, nil)
		contents.Close()
		if upstream.Status(err) == http.StatusInsufficientStorage {
			continue // the service has no room for files; the verdict counts all the same
		}
		if Final(err) {
			r.Detail.Cut = append(r.Detail.Cut, fmt.Sprintf("the file %s: the service refused it: %v", f.Name, err))
			continue
		}
		if err != nil {
			return err
		}
		kept = append(kept, f)
	}
	r.Files = kept
	var answer link.ResultAnswer
	return up.Post(ctx, "/agent/results", r, &answer)
}

// handOver completes the files that had been growing and says which of the
// result's files are to be sent whole; nil means all.
func (s *Spool) handOver(ctx context.Context, up *upstream.Service, r link.Result) ([]string, error) {
	s.mu.Lock()
	grown := s.grown[r.ID+".json"]
	s.mu.Unlock()
	if grown == nil {
		return nil, nil
	}
	for _, f := range r.Files {
		if err := grown.finish(ctx, f.Name, filepath.Join(s.dir, blob(r.ID, f.Hash))); err != nil && !errors.Is(err, io.EOF) &&
			!errors.Is(err, fs.ErrNotExist) && !errors.Is(err, errAhead) {
			if content(err) || gone(err) {
				return nil, nil
			}
			return nil, err
		}
	}
	answer := link.HandoverAnswer{}
	err := up.Post(ctx, "/agent/sessions/"+grown.id+"/files", link.Handover{Fence: r.Fence, Files: r.Files}, &answer)
	if answer.Lacking == nil {
		answer.Lacking = []string{}
	}
	return answer.Lacking, err
}

// SafeName makes a file's name of anything.
func SafeName(s string) string {
	return strings.Map(func(r rune) rune {
		if r < 128 && (r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' || r == '.') {
			return r
		}
		return '-'
	}, s)
}

// refusedSuffix ends the names of verdicts that the service would not have.
const refusedSuffix = ".refused"

// content says whether an error is a refusal of what was sent, which will be none
// the better for being sent again. Anything else may pass.
func content(err error) bool {
	status := upstream.Status(err)
	return status == http.StatusBadRequest || status == http.StatusRequestEntityTooLarge || status == http.StatusUnprocessableEntity
}

// Final says whether an error is a refusal that trying again does not change.
func Final(err error) bool { return content(err) || gone(err) }

// gone says whether what was asked for is not there: a session that the service
// no longer has open, most often.
func gone(err error) bool {
	return upstream.Status(err) == http.StatusNotFound
}
