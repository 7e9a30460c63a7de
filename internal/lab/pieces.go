package lab

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/record"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/store"
	"parallelpane/internal/walls"
)

// growsLocked says whether a session is open under a lease.
func (lab *Lab) growsLocked(agent, session string, fence int64) bool {
	if x := lab.remotes[session]; x != nil {
		return x.row.Fence == fence && x.row.Agent == agent
	}
	x, ok := lab.scripts[session]
	return ok && x.fence == fence && x.agent == agent
}

// Grow takes a piece of a file of an open session, to go at a place in bytes
// from its beginning.
func (lab *Lab) Grow(agent, session string, fence int64, name string, at int64, r io.Reader) (link.Grown, error) {
	if !fileName.MatchString(name) {
		return link.Grown{}, api.Errorf(api.Invalid, "%q is not a name for a file", name)
	}
	if _, _, ok := recording.Form(name); !ok {
		return link.Grown{}, api.Errorf(api.Invalid, "%s is not a file of a recording", name)
	}
	if full := lab.keeper.Storage().Full; full != "" {
		return link.Grown{}, api.Errorf(api.NoRoom, "%s", full)
	}
	piece, err := io.ReadAll(io.LimitReader(r, attempt.MaxPiece+1))
	if err != nil {
		return link.Grown{}, fmt.Errorf("piece of %s: %w", name, err)
	}
	if len(piece) > attempt.MaxPiece {
		return link.Grown{}, api.Errorf(api.TooLarge, "a piece has at most %d bytes", attempt.MaxPiece)
	}
	lab.mu.Lock()
	open := lab.growsLocked(agent, session, fence)
	lab.mu.Unlock()
	if !open {
		return link.Grown{}, api.Errorf(api.NotFound, "session %.80q is not open under lease %d", session, fence)
	}
	if at == 0 {
		if all, err := lab.grown.Of(session); err != nil || len(all) > attempt.MaxFiles {
			return link.Grown{}, errors.Join(err, api.Errorf(api.Invalid, "a session has at most %d files", attempt.MaxFiles))
		}
	}
	have, err := lab.grown.Put(session, name, at, MaxFileBytes, piece)
	if large, ok := errors.AsType[*blobs.TooLarge](err); ok {
		return link.Grown{}, api.Errorf(api.TooLarge, "%s is %v", name, large)
	}
	return link.Grown{Have: have}, err
}

// HandOver ends the growing of a session's files and says which of them are
// still to be sent, whole.
func (lab *Lab) HandOver(agent string, in link.Handover) (link.HandoverAnswer, error) {
	answer := link.HandoverAnswer{Lacking: []string{}}
	if len(in.Files) > attempt.MaxFiles {
		return answer, api.Errorf(api.Invalid, "a session has at most %d files", attempt.MaxFiles)
	}
	lab.mu.Lock()
	open := lab.growsLocked(agent, in.Session, in.Fence)
	lab.mu.Unlock()
	for _, f := range in.Files {
		if !fileName.MatchString(f.Name) || !blobs.ValidHash(f.Hash) {
			return answer, api.Errorf(api.Invalid, "%q is not a name for a file, or %q not its SHA-256", f.Name, f.Hash)
		}
		if lab.blobs.Has(f.Hash) {
			continue
		}
		if open {
			_, _, err := lab.grown.Settle(in.Session, f.Name, f.Hash)
			if err == nil {
				continue
			}
			if !errors.Is(err, blobs.ErrHash) && !errors.Is(err, fs.ErrNotExist) {
				return answer, err
			}
		}
		answer.Lacking = append(answer.Lacking, f.Name)
	}
	return answer, nil
}

// dropGrown removes what was growing for a session whose result is there.
func (lab *Lab) dropGrown(session string) {
	if err := lab.grown.Drop(session); err != nil {
		lab.log.Warn("pieces of a recording stay behind until the next start", "session", session, "error", err)
	}
}

// lostSession is one that ends without a result of its agent.
type lostSession struct {
	id     string
	detail attempt.Detail // as it is on record
}

// adopt gives a session that was lost with its agent what had come of its files.
func (lab *Lab) adopt(l lostSession) {
	defer lab.keeper.Naming()()
	all, err := lab.grown.Of(l.id)
	var batch []store.Stmt
	came := map[record.Kind]bool{}
	for _, f := range all {
		kind, media, ok := recording.Form(f.Name)
		if !ok || f.Size == 0 {
			continue
		}
		hash, size, settled := lab.grown.Settle(l.id, f.Name, "")
		if settled != nil {
			err = errors.Join(err, settled)
			continue
		}
		came[kind] = true
		batch = append(batch, store.AddFile(store.File{Attempt: attempt.Of(l.id), Session: attempt.NumberOf(l.id), Name: f.Name,
			Kind: string(kind), Media: media, Hash: hash, Size: size}))
	}
	l.detail.Lacking = lostRecordings(l.detail.Record, came)
	err = errors.Join(err, lab.store.Write(append(batch, store.Amend(attempt.Of(l.id), walls.Pack(l.detail))...)...))
	if err = errors.Join(err, lab.grown.Drop(l.id)); err != nil {
		lab.log.Error("what had come of a lost session's recording is not whole", "session", l.id, "error", err)
	}
	lab.hub.publish(api.Event{Type: "sessions"})
}

// lostRecordings says why there is nothing of kinds that were to be recorded.
func lostRecordings(p record.Policy, came map[record.Kind]bool) (out []attempt.NotRecorded) {
	for _, kind := range record.Kinds {
		switch {
		case !p.Wants(kind) || came[kind] || kind == record.Downloads: // of which most sessions have none
		case p[kind] == record.Always && slices.Contains(recording.Streamed, kind):
			out = append(out, attempt.NotRecorded{Kind: kind, Reason: "its agent was lost before any of it had come"})
		default:
			out = append(out, attempt.NotRecorded{Kind: kind, Reason: "its agent was lost, and this is handed in at the end"})
		}
	}
	return out
}

// forgetGrown removes what was growing for sessions that are not open any more.
func (lab *Lab) forgetGrown() error {
	owners, err := lab.grown.Owners()
	for _, o := range owners {
		if lab.remotes[o] == nil {
			err = errors.Join(err, lab.grown.Drop(o))
		}
	}
	return err
}
