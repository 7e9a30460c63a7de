package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"parallelpane/internal/api"
)

// flooders is how many connections of one token ask as fast as they are answered.
const flooders = 64

// flood measures what others have of a service while one token asks as much as it can.
func flood(ctx context.Context, pane string) ([]row, error) {
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	if err := s.aRun(ctx); err != nil {
		return nil, err
	}
	tokens := map[string]string{}
	for _, name := range []string{"flooder", "other"} {
		var made struct{ Secret string }
		if err := s.call(ctx, "POST", "/tokens", s.token, api.TokenRequest{Name: name, Role: api.Runner}, &made); err != nil {
			return nil, err
		}
		tokens[name] = made.Secret
	}
	calm, err := s.looks(ctx, tokens["other"])
	if err != nil {
		return nil, err
	}
	flooding, halt := context.WithCancel(ctx)
	var all sync.WaitGroup
	var asked, refused atomic.Int64
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: flooders}}
	for i := range flooders {
		all.Go(func() {
			paths := []string{"/runs/1", "/runs?limit=200", "/sessions?text=nothing", "/runs/1/timeline", "/agents", "/runs/1/as/junit"}
			for n := i; flooding.Err() == nil; n++ {
				req, _ := http.NewRequestWithContext(flooding, "GET", s.base+"/api/v1"+paths[n%len(paths)], nil)
				req.Header.Set("Authorization", "Bearer "+tokens["flooder"])
				resp, err := client.Do(req)
				if err != nil {
					continue
				}
				_, _ = io.Copy(io.Discard, resp.Body)
				resp.Body.Close()
				asked.Add(1)
				if resp.StatusCode == http.StatusTooManyRequests {
					refused.Add(1)
				}
			}
		})
	}
	time.Sleep(2 * time.Second) // until its burst is used up
	stormy, err := s.looks(ctx, tokens["other"])
	halt()
	all.Wait()
	if err != nil {
		return nil, err
	}
	return []row{
		{"request of one token, nobody else there: p99", fmt.Sprintf("%.1f ms", calm), "–"},
		{fmt.Sprintf("the same while another token floods over %d connections (%d requests, %d of them refused): p99", flooders, asked.Load(),
			refused.Load()), fmt.Sprintf("%.1f ms", stormy), "100 ms"},
	}, nil
}

// aRun has a run of 40 tests on 10 combinations end.
func (s *served) aRun(ctx context.Context) error {
	work, leave, err := s.hands(ctx, outcome)
	if err != nil {
		return err
	}
	defer leave()
	raw, hash, err := wideRun(40, 10)
	if err != nil {
		return err
	}
	if err := s.call(ctx, "PUT", "/bundles/"+hash, s.token, raw, nil); err != nil {
		return err
	}
	if err := s.call(ctx, "POST", "/runs", s.token, map[string]any{"bundle": hash}, nil); err != nil {
		return err
	}
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		select {
		case r := <-work:
			if err := s.call(ctx, "POST", "/agent/results", s.of(r), r, nil); err != nil {
				return err
			}
			continue
		case <-time.After(100 * time.Millisecond):
		}
		var run struct{ State string }
		if err := s.call(ctx, "GET", "/runs/1", s.token, nil, &run); err != nil {
			return err
		}
		if strings.EqualFold(run.State, string(api.Ended)) {
			return nil
		}
	}
	return fmt.Errorf("the run did not end within a minute")
}

// looks is the time of requests of a token, a hundred in a second for five seconds: the
// 99th percentile in milliseconds.
func (s *served) looks(ctx context.Context, token string) (float64, error) {
	var took []float64
	paths := []string{"/runs?limit=20", "/agents", "/me", "/runs/1/timeline", "/sessions?limit=20"}
	t := time.NewTicker(10 * time.Millisecond)
	defer t.Stop()
	for i := range 500 {
		<-t.C
		began := time.Now()
		if err := s.call(ctx, "GET", paths[i%len(paths)], token, nil, nil); err != nil {
			return 0, err
		}
		took = append(took, float64(time.Since(began).Microseconds())/1000)
	}
	slices.Sort(took)
	return took[len(took)*99/100], nil
}
