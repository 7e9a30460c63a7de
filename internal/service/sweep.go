package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/shirou/gopsutil/v4/disk"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/store"
)

const (
	sweepEvery = time.Hour
	sweepParts = 24 // of the shelves, each sweep looks at one of so many for orphans
	maxSwept   = 500
	sweepBatch = 100            // files at once
	orphanLife = 24 * time.Hour // of contents that no record names
)

// sweeper sweeps now and then.
func (s *Service) sweeper() {
	t := time.NewTicker(sweepEvery)
	defer t.Stop()
	for part := 0; ; part = (part + 1) % sweepParts {
		select {
		case <-s.stop:
			return
		case <-t.C:
		}
		if done, err := s.sweep(context.Background(), false, part*blobs.Shelves/sweepParts, (part+1)*blobs.Shelves/sweepParts); err != nil {
			s.log.Error("recordings could not be swept", "error", err)
		} else if done.Count > 0 {
			s.log.Info("recordings swept", "files", done.Count, "bytes", done.Bytes)
		}
	}
}

// Sweep removes the recorded files whose time is over, and every content that no
// record names; a dry one only says which. Verdicts, messages and steps stay.
func (s *Service) Sweep(ctx context.Context, dry bool) (api.Sweep, error) {
	return s.sweep(ctx, dry, 0, blobs.Shelves)
}

// sweep looks for orphans only on some shelves. What it costs follows from what
// goes, not from what is kept.
func (s *Service) sweep(ctx context.Context, dry bool, from, to int) (api.Sweep, error) {
	s.sweeping.Lock() // one at a time
	defer s.sweeping.Unlock()
	out := api.Sweep{Dry: dry}
	projects, err := s.store.Projects(ctx)
	if err != nil {
		return out, err
	}
	policy := retain.Policy{Rules: map[string][]retain.Rule{}, Total: s.keepTotal}
	for _, row := range projects {
		p, err := settingsOf(row)
		if err != nil {
			return out, err
		}
		if len(p.Keep) > 0 {
			policy.Rules[p.Name] = p.Keep
		}
	}
	rows, err := s.store.Heaps(ctx)
	if err != nil {
		return out, err
	}
	heaps := make([]retain.Heap, len(rows))
	for i, h := range rows {
		heaps[i] = retain.Heap{Project: h.Project, Kind: record.Kind(h.Kind), Verdict: verdict.Verdict(h.Verdict), Files: h.Files, Bytes: h.Bytes}
		out.Left, out.Kept = out.Left+h.Files, out.Kept+h.Bytes
	}
	if err := policy.Sweep(s.now(), heaps, &sweeping{s, ctx, &out, map[[2]string]string{}}); err != nil {
		return out, err
	}
	out.Left, out.Kept = out.Left-out.Count, out.Kept-out.Bytes
	for shelf := from; shelf < to; shelf++ {
		if err := s.sweepOrphans(ctx, shelf, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// sweeping is the records under a sweep.
type sweeping struct {
	s    *Service
	ctx  context.Context // of the one sweep
	out  *api.Sweep
	hash map[[2]string]string // of the files that were listed
}

// Oldest implements retain.Records.
func (x *sweeping) Oldest(h retain.Heap, before time.Time, skip int) ([]retain.File, error) {
	rows, err := x.s.store.OldFiles(x.ctx, store.Heap{Project: h.Project, Kind: string(h.Kind), Verdict: string(h.Verdict)}, store.Millis(before), skip, sweepBatch)
	out := make([]retain.File, len(rows))
	for i, f := range rows {
		out[i] = retain.File{Attempt: f.Attempt, Name: f.Name, Project: h.Project, Kind: h.Kind, Verdict: h.Verdict, Size: f.Size, At: store.Time(f.At)}
		x.hash[[2]string{f.Attempt, f.Name}] = f.Hash
	}
	return out, err
}

// Drop implements retain.Records.
func (x *sweeping) Drop(doomed []retain.Doomed) (gone bool, err error) {
	for _, d := range doomed {
		x.out.Count, x.out.Bytes = x.out.Count+1, x.out.Bytes+d.Size
		if len(x.out.Files) < maxSwept {
			x.out.Files = append(x.out.Files, api.SweptFile{Session: d.Attempt, Name: d.Name, Kind: d.Kind, Project: d.Project, Verdict: d.Verdict, Size: d.Size, Why: d.Why})
		}
	}
	if x.out.Dry {
		return false, nil
	}
	return true, x.s.dropFiles(x.ctx, doomed, x.hash)
}

// sweepOrphans removes contents of a shelf that have been here for a while and that
// no record names, a few at a time.
func (s *Service) sweepOrphans(ctx context.Context, shelf int, out *api.Sweep) error {
	old, err := s.blobs.Older(shelf, s.now().Add(-orphanLife))
	if err != nil {
		return err
	}
	for some := range slices.Chunk(slices.Sorted(maps.Keys(old)), sweepBatch) {
		if err := s.dropOrphans(ctx, some, out.Dry, func(hash string) {
			out.Orphans, out.OrphanBytes = out.Orphans+1, out.OrphanBytes+old[hash]
		}); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) dropOrphans(ctx context.Context, hashes []string, dry bool, found func(hash string)) error {
	s.putting.Lock() // nothing with the same contents is just being handed in
	defer s.putting.Unlock()
	used, err := s.store.HashesInUse(ctx, hashes)
	if err != nil {
		return err
	}
	for _, h := range hashes {
		if slices.Contains(used, h) {
			continue
		}
		found(h)
		if !dry {
			if err := s.blobs.Remove(h); err != nil {
				return err
			}
		}
	}
	return nil
}

// dropFiles forgets files and then removes the contents that nothing refers to
// any more: a crash between leaves contents behind, never a file without any.
func (s *Service) dropFiles(ctx context.Context, doomed []retain.Doomed, hash map[[2]string]string) error {
	s.putting.Lock() // no file with the same contents is just being handed in
	defer s.putting.Unlock()
	var batch []store.Stmt
	var hashes []string
	for _, d := range doomed {
		batch = append(batch, store.DropFile(d.Attempt, d.Name))
		key := [2]string{d.Attempt, d.Name}
		hashes = append(hashes, hash[key])
		delete(hash, key)
	}
	if err := s.store.Write(batch...); err != nil {
		return err
	}
	used, err := s.store.HashesInUse(ctx, hashes)
	if err != nil {
		return err
	}
	keep := map[string]bool{}
	for _, h := range used {
		keep[h] = true
	}
	for _, h := range hashes {
		if !keep[h] {
			if err := s.blobs.Remove(h); err != nil {
				return err
			}
		}
	}
	return nil
}

const diskEvery = 5 * time.Second

// measure looks how full the disk is.
func (s *Service) measure() api.Storage {
	st := api.Storage{Need: s.minFree}
	u, err := disk.Usage(s.dir)
	if err != nil {
		return st // it is not known to be full
	}
	st.Free, st.Total = u.Free, u.Total
	if st.Free < st.Need {
		st.Full = fmt.Sprintf("The service's disk is nearly full (%s free, %s needed): no recordings are taken or kept until there is room. Verdicts and steps are kept. pane sweep makes room; pane keep says for how long recordings stay.",
			humanize.IBytes(st.Free), humanize.IBytes(st.Need))
	}
	return st
}

// watchDisk notes whether there is room.
func (s *Service) watchDisk() {
	t := time.NewTicker(diskEvery)
	defer t.Stop()
	for {
		now := s.measure()
		was := s.storage.Swap(&now)
		if (was == nil || was.Full == "") != (now.Full == "") {
			s.log.Warn("room for recordings", "free", now.Free, "needed", now.Need, "full", now.Full != "")
			s.hub.publish(api.Event{Type: "agents"})
		}
		select {
		case <-s.stop:
			return
		case <-t.C:
		}
	}
}

// Storage says how much room there is.
func (s *Service) Storage() api.Storage {
	if st := s.storage.Load(); st != nil {
		return *st
	}
	return s.measure()
}

// recorded is a policy as it can be had: nothing is recorded without room.
func (s *Service) recorded(p record.Policy) record.Policy {
	if s.Storage().Full == "" {
		return p
	}
	off := record.Policy{}
	for _, k := range record.Kinds {
		off[k] = record.Never
	}
	return off
}
