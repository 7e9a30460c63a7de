package service

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"io"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// The wall of a run that has ended changes no more, but for verdicts that are given
// to its sessions afterwards. It is stored as it is sent. Whenever it is not there it
// is drawn from the records again.

// end is the record of a run's end.
func (r *liveRun) end(now int64) store.Stmt {
	return store.EndRun(r.view.Number, string(r.view.Verdict), store.JSON(r.view.Counts), store.JSON(glances(&r.view)), now)
}

// keepWall stores the wall of a run that has just ended.
func (s *Service) keepWall(r *liveRun) {
	s.mu.Lock()
	if r.view.EndedAt == nil { // it goes on
		s.mu.Unlock()
		return
	}
	v, revised := r.copy(), r.revised
	s.mu.Unlock()
	if _, err := s.storeWall(v, revised); err != nil && !errors.Is(err, store.ErrClosed) {
		s.log.Error("a wall could not be stored: it will be drawn from the records", "run", v.Number, "error", err)
	}
}

// storeWall stores a wall and returns it as it is sent.
func (s *Service) storeWall(v api.Run, revised int) ([]byte, error) {
	api.Fill(&v)
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	var buf bytes.Buffer
	zw, err := gzip.NewWriterLevel(&buf, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	if _, err := zw.Write(raw); err != nil {
		return nil, err
	}
	if err := zw.Close(); err != nil {
		return nil, err
	}
	return buf.Bytes(), s.store.Write(store.KeepWall(v.Number, revised, buf.Bytes()))
}

// Wall returns a run as JSON, compressed with gzip, if it has ended; otherwise the
// run itself.
func (s *Service) Wall(ctx context.Context, number int) (packed []byte, live *api.Run, err error) {
	row, err := s.row(ctx, number)
	if err != nil {
		return nil, nil, err
	}
	s.mu.Lock()
	if r := s.live[row.ID]; r != nil {
		v := r.copy()
		s.mu.Unlock()
		return nil, &v, nil
	}
	s.mu.Unlock()
	packed, err = s.store.Wall(ctx, number)
	if !errors.Is(err, store.ErrNotFound) {
		return packed, nil, err
	}
	w, err := s.store.WholeRun(ctx, number)
	if err != nil {
		return nil, nil, err
	}
	v, err := runOf(row, w)
	if err != nil {
		return nil, nil, err
	}
	packed, err = s.storeWall(v, row.Revised)
	return packed, nil, err
}

// RunID is the id of a run.
func (s *Service) RunID(ctx context.Context, number int) (string, error) {
	row, err := s.row(ctx, number)
	return row.ID, err
}

// Run returns a whole run.
func (s *Service) Run(ctx context.Context, number int) (api.Run, error) {
	packed, live, err := s.Wall(ctx, number)
	if err != nil {
		return api.Run{}, err
	}
	if live != nil {
		return *live, nil
	}
	var v api.Run
	zr, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return v, err
	}
	raw, err := io.ReadAll(zr)
	if err != nil {
		return v, err
	}
	return v, json.Unmarshal(raw, &v)
}
