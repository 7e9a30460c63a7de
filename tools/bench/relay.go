package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/api"
	"parallelpane/internal/link"
	"parallelpane/internal/place"
	"parallelpane/internal/project"
	"parallelpane/internal/sessions/door"
)

// relayed measures what a relay adds to a session's way to a site on the machine itself: in
// between are the door, the service and the relay's owner, the latter two programs of
// their own.
func relayed(ctx context.Context, pane string) ([]row, error) {
	s, stop, err := serve(ctx, pane)
	if err != nil {
		return nil, err
	}
	defer stop()
	body := make([]byte, 100<<20)
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/large" {
			_, _ = w.Write(body)
		}
	}))
	defer site.Close()
	at := site.Listener.Addr().String()
	owner := exec.CommandContext(ctx, pane, "relay", at, "--name", "pier", "--project", "bench", "--service", s.base)
	owner.Env = append(os.Environ(), "PANE_TOKEN="+s.token)
	if err := owner.Start(); err != nil {
		return nil, err
	}
	defer func() {
		_ = owner.Process.Signal(os.Interrupt)
		_ = owner.Wait()
	}()
	fence, agent, leave, err := s.leased(ctx)
	if err != nil {
		return nil, err
	}
	defer leave()
	places, err := place.All([]string{at})
	if err != nil {
		return nil, err
	}
	up := upstream.New(s.base, agent, nil, "")
	through, closeIt, err := behind(door.Rules{Relay: &door.Relay{Places: places, Dial: up.Through(fence)}})
	if err != nil {
		return nil, err
	}
	defer closeIt()
	straight := &http.Client{Transport: &http.Transport{}}
	var rates [2][]float64
	var times [2][]time.Duration
	for range 5 {
		for i, c := range []*http.Client{straight, through} {
			began := time.Now()
			n, err := fetch(ctx, c, site.URL+"/large")
			if err != nil {
				return nil, err
			}
			rates[i] = append(rates[i], float64(n)/1e6/time.Since(began).Seconds())
			for range 200 {
				began := time.Now()
				if _, err := fetch(ctx, c, site.URL+"/"); err != nil {
					return nil, err
				}
				times[i] = append(times[i], time.Since(began))
			}
		}
	}
	direct, by := median(rates[0]), median(rates[1])
	added := median(times[1]) - median(times[0])
	return []row{
		{"100 MB through a relay, of the same straight from loopback (medians of 5: " + fmt.Sprintf("%.0f of %.0f MB/s)", by, direct),
			fmt.Sprintf("%.0f %%", 100*by/direct), "50 %"},
		{"a request through a relay: added at the median (of 1000)", fmt.Sprintf("%.2f ms", float64(added.Microseconds())/1000), "1 ms"},
	}, nil
}

func fetch(ctx context.Context, c *http.Client, address string) (int64, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return 0, err
	}
	resp, err := c.Do(req)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	return io.Copy(io.Discard, resp.Body)
}

// behind is a client whose way out is a door.
func behind(rules door.Rules) (*http.Client, func(), error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	d := door.Open(l, rules)
	tr := &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: l.Addr().String()})}
	return &http.Client{Transport: tr}, func() {
		tr.CloseIdleConnections()
		d.Close()
	}, nil
}

// leased has a run that names the relay, of which an agent that is played holds a lease.
func (s *served) leased(ctx context.Context) (fence int64, token string, leave func(), err error) {
	got := make(chan int64, 1)
	work, leave, err := s.hands(ctx, func(slice link.Slice, _ link.SliceTest) link.Result {
		select {
		case got <- slice.Fence:
		default:
		}
		return link.Result{}
	})
	if err != nil {
		return 0, "", nil, err
	}
	raw, hash, err := wideRun(1, 1)
	if err == nil {
		err = s.call(ctx, "PUT", "/bundles/"+hash, s.token, raw, nil)
	}
	for range 100 { // until the relay is open
		if err != nil {
			break
		}
		if err = s.call(ctx, "POST", "/runs", s.token, api.RunRequest{Bundle: hash, Relay: "pier"}, nil); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
		err = nil
	}
	if err != nil {
		leave()
		return 0, "", nil, err
	}
	select {
	case fence = <-got:
		return fence, s.of(<-work), leave, nil
	case <-time.After(10 * time.Second):
		leave()
		return 0, "", nil, errors.New("no lease came")
	}
}

// largeBundle measures a suite of 20,000 files and 200 MB.
func largeBundle(ctx context.Context) ([]row, error) {
	const files, size = 20_000, 10_000
	dir, err := os.MkdirTemp("", "bench-bundle-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	from := filepath.Join(dir, "project")
	block := make([]byte, size)
	for i := range files {
		for k := range block {
			block[k] = byte(i*31 + k*7 + k*k*i)
		}
		at := filepath.Join(from, fmt.Sprintf("lib/%d/%d.bin", i/100, i))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(at, block, 0o600); err != nil {
			return nil, err
		}
	}
	if err := os.WriteFile(filepath.Join(from, "a.sh"), []byte("exit 0\n"), 0o600); err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(from, "pane.yaml"), []byte("project: bench\nsuites: {s: {command: \"sh {file}\", cases: a.sh, "+
		"results: exit, files: \"lib/**\"}}\n"), 0o600); err != nil {
		return nil, err
	}
	p, err := project.Load(project.Dir(from))
	if err != nil {
		return nil, err
	}
	began := time.Now()
	raw, _, err := p.Pack(project.Dir(from), p.Suites[0], nil)
	if err != nil {
		return nil, err
	}
	packed := time.Since(began)
	cached := filepath.Join(dir, "cached")
	if err := os.Mkdir(cached, 0o755); err != nil {
		return nil, err
	}
	began = time.Now()
	if err := project.Unpack(bytes.NewReader(raw), cached); err != nil {
		return nil, err
	}
	unpacked := time.Since(began)
	var took []time.Duration
	for i := range 3 {
		began = time.Now()
		if err := project.Copy(cached, filepath.Join(dir, fmt.Sprint("copy", i))); err != nil {
			return nil, err
		}
		took = append(took, time.Since(began))
	}
	return []row{
		{"a bundle of 20,000 files and 200 MB: packed, and unpacked by an agent, once for each content",
			fmt.Sprintf("%.1f s, %.1f s", packed.Seconds(), unpacked.Seconds()), ""},
		{"the same: laid out for a command, out of the cache (median of 3)", fmt.Sprintf("%d ms", median(took).Milliseconds()), "300 ms"},
	}, ctx.Err()
}
