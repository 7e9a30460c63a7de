package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"parallelpane/internal/core/device"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/sessions"
	"parallelpane/internal/sessions/door"
	"parallelpane/internal/webdriver"
)

// sandbox compares sessions in a sandbox, behind their door, with sessions that
// have neither, taking turns, on Chromium.
func sandbox(ctx context.Context, _ string) ([]row, error) {
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	var hosts [2]*sessions.Host // without and with
	for k := range hosts {
		if hosts[k], err = sessions.NewHost(filepath.Join(dir, fmt.Sprint(k)), slog.New(slog.DiscardHandler), chromium.Family{}); err != nil {
			return nil, err
		}
		hosts[k].Bare = k == 0
	}
	if err := hosts[1].Isolated(); err != nil {
		return nil, err
	}
	browser := hosts[0].Found(ctx).Browsers[0]
	profile, err := device.Find("")
	if err != nil {
		return nil, err
	}
	var starts [2][]time.Duration
	for i := range 20 {
		for side := range 2 {
			k := (i + side) % 2
			began := time.Now()
			s, err := hosts[k].Open(ctx, sessions.Request{Browser: browser, Device: profile, Asked: webdriver.Capabilities{}, Bare: true})
			if err != nil {
				return nil, err
			}
			starts[k] = append(starts[k], time.Since(began))
			s.Close()
			time.Sleep(500 * time.Millisecond) // the browser before is really gone
		}
	}
	pages, err := manyFiles(ctx, dir, hosts[1], engine.Options{Browser: browser, Device: profile, Asked: webdriver.Capabilities{}})
	if err != nil {
		return nil, err
	}
	rate, err := throughDoor(ctx)
	if err != nil {
		return nil, err
	}
	with, without := median(starts[1]), median(starts[0])
	through, direct := median(pages[1]), median(pages[0])
	return []row{
		{"session start on Chromium without a sandbox (median of 20)", ms(without), "–"},
		{"the same in a sandbox, behind its door", fmt.Sprintf("%s (+ %d ms)", ms(with), (with - without).Milliseconds()), "+ 60 ms"},
		{"page of 100 small files without a door (median of 41)", ms(direct), "–"},
		{"the same through the door of a sandbox", fmt.Sprintf("%s (%+.0f %%)", ms(through), 100*(float64(through)/float64(direct)-1)), "+ 5 %"},
		{"one large file through a door", fmt.Sprintf("%.0f MB/s", rate), "300 MB/s"},
	}, nil
}

func ms(d time.Duration) string { return fmt.Sprintf("%d ms", d.Milliseconds()) }

// manyFiles times a page with a hundred small files in two browsers, one that
// reaches it by itself and one through a sandbox's door.
func manyFiles(ctx context.Context, dir string, host *sessions.Host, o engine.Options) (times [2][]time.Duration, err error) {
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		if strings.HasPrefix(r.URL.Path, "/file") {
			w.Header().Set("Content-Type", "text/javascript")
			_, _ = io.WriteString(w, "window.berths = (window.berths || 0) + 1;"+strings.Repeat(" ", 2000))
			return
		}
		w.Header().Set("Content-Type", "text/html")
		_, _ = io.WriteString(w, "<!doctype html><title>Quay</title>")
		for i := range 100 {
			fmt.Fprintf(w, "<script async src=/file%d></script>", i)
		}
	}))
	defer site.Close()
	s, err := host.Open(ctx, sessions.Request{Browser: o.Browser, Device: o.Device, Asked: webdriver.Capabilities{}, Bare: true})
	if err != nil {
		return times, err
	}
	defer s.Close()
	if o.Dir, err = os.MkdirTemp(dir, "direct-"); err != nil {
		return times, err
	}
	inst, err := chromium.Family{}.Launch(ctx, o)
	if err != nil {
		return times, err
	}
	defer inst.Close()
	direct, err := webdriver.NewClient(inst.URL, nil).New(ctx, inst.Caps)
	if err != nil {
		return times, err
	}
	for i := range 44 {
		for side := range 2 {
			k := (i + side) % 2
			x := direct
			if k == 1 {
				x = s.Session
			}
			began := time.Now()
			if err := x.Navigate(ctx, site.URL+"/"); err != nil {
				return times, err
			}
			if i >= 3 { // the first ones open connections
				times[k] = append(times[k], time.Since(began))
			}
		}
	}
	return times, nil
}

// throughDoor is how many megabytes a second one large file takes through a door.
func throughDoor(ctx context.Context) (float64, error) {
	body := make([]byte, 64<<20)
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(body) }))
	defer site.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	d := door.Open(l, door.Rules{})
	defer d.Close()
	tr := &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: l.Addr().String()})}
	defer tr.CloseIdleConnections()
	began, n := time.Now(), int64(0)
	for range 16 {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, site.URL, nil)
		if err != nil {
			return 0, err
		}
		resp, err := tr.RoundTrip(req)
		if err != nil {
			return 0, err
		}
		k, err := io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		if err != nil {
			return 0, err
		}
		n += k
	}
	return float64(n) / 1e6 / time.Since(began).Seconds(), nil
}
