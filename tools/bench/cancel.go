package main

import (
	"context"
	"fmt"
	"time"
)

// cancel ends a run of 1,000 tests on 200 combinations that agents have begun, and
// looks at the service's memory meanwhile.
func cancel(ctx context.Context, pane string) ([]row, error) {
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	_, leave, err := s.hands(ctx, outcome)
	if err != nil {
		return nil, err
	}
	defer leave()
	raw, hash, err := wideRun(1000, 200)
	if err != nil {
		return nil, err
	}
	if err := s.call(ctx, "PUT", "/bundles/"+hash, s.token, raw, nil); err != nil {
		return nil, err
	}
	if err := s.call(ctx, "POST", "/runs", s.token, map[string]any{"bundle": hash}, nil); err != nil {
		return nil, err
	}
	done := make(chan error, 1)
	began := time.Now()
	go func() { done <- s.call(ctx, "POST", "/runs/1/cancel", s.token, nil, nil) }()
	peak := int64(0)
	for {
		peak = max(peak, residentKB(s.cmd.Process.Pid))
		select {
		case err := <-done:
			took := time.Since(began)
			return []row{{"a run of 1,000 tests × 200 combinations is cancelled in", fmt.Sprintf("%.1f s", took.Seconds()), "–"},
				{"the same: service resident at most", fmt.Sprintf("%.0f MB", float64(peak)/1000), "400 MB"}}, err
		case <-time.After(5 * time.Millisecond):
		}
	}
}
