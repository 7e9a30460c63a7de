package main

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/engine/find"
)

// browsers measures what it takes to read a machine with ten installations, to start an
// agent that knows its machine, and to stock three agents with a browser of 200 MB.
func browsers(ctx context.Context, pane string) ([]row, error) {
	cold, warm, err := inventory(ctx)
	if err != nil {
		return nil, err
	}
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	start, err := s.warmStart(ctx, pane)
	if err != nil {
		return nil, err
	}
	took, peak, err := s.stocking(ctx, pane)
	if err != nil {
		return nil, err
	}
	return []row{
		{"inventory of a machine with ten more Chromiums, cold", ms(cold), "10 s"},
		{"the same, warm (median of 11)", ms(warm), "1 s"},
		{"agent with a known machine: from its start until it is online (median of 5)", ms(start), "300 ms"},
		{"a driver of 200 MB: from giving it until three agents offer it", fmt.Sprintf("%.1f s", took.Seconds()), "10 s"},
		{"the same, service resident at most", fmt.Sprintf("%.1f MB", float64(peak)/1000), "100 MB"},
	}, nil
}

// inventory reads a machine that has ten Chromiums besides its own, by links to that.
func inventory(ctx context.Context) (cold, warm time.Duration, err error) {
	dir, err := os.MkdirTemp("/var/tmp", "bench-")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	const from = "/usr/lib/chromium"
	files, err := os.ReadDir(from)
	if err != nil {
		return 0, 0, err
	}
	for i := range 10 {
		to := filepath.Join(dir, "own", fmt.Sprint(i), from)
		if err := os.MkdirAll(to, 0o755); err != nil {
			return 0, 0, err
		}
		for _, f := range files {
			if f.Type().IsRegular() {
				if err := os.Link(filepath.Join(from, f.Name()), filepath.Join(to, f.Name())); err != nil {
					return 0, 0, err
				}
			}
		}
	}
	m := find.Here()
	m.Own, m.Cache = []string{filepath.Join(dir, "own")}, filepath.Join(dir, "cache.json")
	began := time.Now()
	m.Look(ctx)
	cold = time.Since(began)
	var all []time.Duration
	for range 11 {
		began := time.Now()
		m.Look(ctx)
		all = append(all, time.Since(began))
	}
	return cold, median(all), nil
}

// online waits until an agent is online, or is not.
func (s *served) online(ctx context.Context, name string, want bool) error {
	for end := time.Now().Add(time.Minute); ; time.Sleep(2 * time.Millisecond) {
		var all []api.Agent
		if err := s.call(ctx, "GET", "/agents", s.token, nil, &all); err != nil {
			return err
		}
		is := false
		for _, a := range all {
			is = is || a.Name == name && a.Online
		}
		if is == want {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("agent %s: online is not %t", name, want)
		}
	}
}

func (s *served) warmStart(ctx context.Context, pane string) (time.Duration, error) {
	var all []time.Duration
	for i := range 6 { // the first reads the machine
		began := time.Now()
		leave, err := s.join(ctx, pane, "agent", "--name", "warm", "--state", filepath.Join(s.dir, "warm"))
		if err != nil {
			return 0, err
		}
		if err := s.online(ctx, "warm", true); err != nil {
			return 0, err
		}
		if i > 0 {
			all = append(all, time.Since(began))
		}
		leave()
		if err := s.online(ctx, "warm", false); err != nil {
			return 0, err
		}
	}
	return median(all), nil
}

// driverOf makes an archive of a driver and so many bytes that do not shrink.
func driverOf(size int64) ([]byte, error) {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	out := tar.NewWriter(z)
	filler := make([]byte, size)
	if _, err := rand.Read(filler); err != nil {
		return nil, err
	}
	for name, content := range map[string][]byte{"chromedriver": []byte("#!/bin/sh\necho ChromeDriver 1.0.0.0\n"), "filler": filler} {
		if err := out.WriteHeader(&tar.Header{Name: name, Mode: 0o755, Size: int64(len(content))}); err != nil {
			return nil, err
		}
		if _, err := out.Write(content); err != nil {
			return nil, err
		}
	}
	if err := out.Close(); err != nil {
		return nil, err
	}
	err = z.Close()
	return b.Bytes(), err
}

func (s *served) stocking(ctx context.Context, pane string) (took time.Duration, peakKB int64, err error) {
	for i := range 3 {
		name := fmt.Sprintf("stock-%d", i)
		var made struct{ Secret string }
		if err := s.call(ctx, "POST", "/tokens", s.token, map[string]any{"name": name, "role": "agent", "agent": name}, &made); err != nil {
			return 0, 0, err
		}
		first := s.agent
		s.agent = made.Secret
		leave, err := s.join(ctx, pane, "agent", "--name", name, "--label", "stock=yes", "--state", filepath.Join(s.dir, name))
		s.agent = first
		if err != nil {
			return 0, 0, err
		}
		defer leave()
		if err := s.online(ctx, name, true); err != nil {
			return 0, 0, err
		}
	}
	time.Sleep(30 * time.Second) // their browsers have been tried
	raw, err := driverOf(200 << 20)
	if err != nil {
		return 0, 0, err
	}
	sum := sha256.Sum256(raw)
	hash := hex.EncodeToString(sum[:])
	began := time.Now()
	if err := s.call(ctx, "PUT", "/stock/archives/"+hash, s.token, raw, nil); err != nil {
		return 0, 0, err
	}
	q := api.StockRequest{Archives: []api.StockArchive{{Name: "driver.tar.gz", Hash: hash}}, Needs: []string{"stock=yes"}}
	if err := s.call(ctx, "POST", "/stock", s.token, q, nil); err != nil {
		return 0, 0, err
	}
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		peakKB = max(peakKB, residentKB(s.cmd.Process.Pid))
		var all api.Browsers
		if err := s.call(ctx, "GET", "/browsers", s.token, nil, &all); err != nil {
			return 0, 0, err
		}
		offered := 0
		for _, on := range all.Stock[0].On {
			if on.State == api.StockOffered {
				offered++
			}
		}
		if offered == 3 {
			return time.Since(began), peakKB, nil
		}
	}
	return 0, 0, fmt.Errorf("three agents did not offer it within two minutes")
}
