// Command bench measures what docs/benchmarks.md says, with the program that
// was built, and writes that file.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/demo/desk"
	"parallelpane/internal/engine/chromium"
	"parallelpane/internal/project"
	"parallelpane/internal/script"
	"parallelpane/internal/script/webdrive"
	"parallelpane/internal/sessions"
)

// row is one line of the document.
type row struct{ what, got, target string }

func main() {
	out := flag.String("out", "docs/benchmarks.md", "file to write")
	pane := flag.String("pane", "bin/pane", "the program")
	only := flag.String("only", "", "measure only this and write no file: "+strings.Join(names(), ", "))
	flag.Parse()
	if err := measure(context.Background(), *out, *pane, *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// measurement is one function with the name that -only knows it by.
type measurement struct {
	name string
	f    func(context.Context, string) ([]row, error)
}

var measurements = []measurement{{"service", service}, {"first", firstResult}, {"steps", stepOverhead}, {"console", consoleSize},
	{"decisions", decisions}, {"forecasts", forecasts}, {"crowd", crowd}, {"results", results}, {"cancel", cancel},
	{"years", years}, {"covers", covers}, {"locators", locators},
	{"exports", exports}, {"commands", commands}, {"sandbox", sandbox}, {"flood", flood}, {"browsers", browsers}, {"suites", suites},
	{"relay", relayed},
	{"recording",
		recordingCost}, {"swarm", swarm}}

func names() (out []string) {
	for _, m := range measurements {
		out = append(out, m.name)
	}
	return out
}

func measure(ctx context.Context, out, pane, only string) error {
	pane, err := filepath.Abs(pane)
	if err != nil {
		return err
	}
	var rows []row
	for _, m := range measurements {
		if only != "" && only != m.name {
			continue
		}
		more, err := m.f(ctx, pane)
		if err != nil {
			return err
		}
		for _, r := range more {
			fmt.Printf("%-62s %-16s (target: %s)\n", r.what, r.got, r.target)
		}
		rows = append(rows, more...)
	}
	if only != "" {
		return nil
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# Benchmarks\n\nMeasured by `make bench` on %s, %s. Each line is of one run of that command.\n\n",
		time.Now().Format("2006-01-02"), machine())
	b.WriteString("| what | measured | target |\n| --- | --- | --- |\n")
	for _, r := range rows {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", r.what, r.got, r.target)
	}
	return os.WriteFile(out, []byte(b.String()), 0o644)
}

func machine() string {
	model := runtime.GOARCH
	if raw, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for _, l := range strings.Split(string(raw), "\n") {
			if name, value, ok := strings.Cut(l, ":"); ok && strings.TrimSpace(name) == "model name" {
				model = strings.TrimSpace(value)
				break
			}
		}
	}
	return fmt.Sprintf("%d cores (%s), %s %s", runtime.NumCPU(), model, runtime.GOOS, runtime.Version())
}

func median[T int64 | float64 | time.Duration](xs []T) T {
	slices.Sort(xs)
	return xs[len(xs)/2]
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// until polls an address until it answers 200.
func until(ctx context.Context, address, token string, ok func(*http.Response) bool) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+token)
		if resp, err := http.DefaultClient.Do(req); err == nil {
			good := resp.StatusCode == http.StatusOK && ok(resp)
			resp.Body.Close()
			if good {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: %w", address, ctx.Err())
		case <-time.After(time.Millisecond):
		}
	}
}

func always(*http.Response) bool { return true }

// service times the start on a fresh data directory and on a used one, and
// reads the resident memory after five idle seconds.
func service(ctx context.Context, pane string) ([]row, error) {
	var fresh, again []time.Duration
	var rss int64
	for i := range 5 {
		dir, err := os.MkdirTemp("", "bench-")
		if err != nil {
			return nil, err
		}
		defer os.RemoveAll(dir)
		for _, into := range []*[]time.Duration{&fresh, &again} {
			address, err := freeAddress()
			if err != nil {
				return nil, err
			}
			cmd := exec.CommandContext(ctx, pane, "serve", "--data", dir, "--listen", address)
			cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+dir)
			began := time.Now()
			if err := cmd.Start(); err != nil {
				return nil, err
			}
			err = until(ctx, "http://"+address+"/readyz", "", always)
			*into = append(*into, time.Since(began))
			if i == 0 && into == &again {
				time.Sleep(5 * time.Second)
				rss = residentKB(cmd.Process.Pid)
			}
			_ = cmd.Process.Signal(os.Interrupt)
			_ = cmd.Wait()
			if err != nil {
				return nil, err
			}
		}
	}
	return []row{
		{"service ready after start, new data directory (median of 5)", fmt.Sprintf("%d ms", median(fresh).Milliseconds()), "300 ms"},
		{"service ready after start, used data directory (median of 5)", fmt.Sprintf("%d ms", median(again).Milliseconds()), "300 ms"},
		{"service resident when idle", fmt.Sprintf("%.1f MB", float64(rss)/1000), "60 MB"},
	}, nil
}

func residentKB(pid int) (kb int64) {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for _, l := range strings.Split(string(raw), "\n") {
		if value, ok := strings.CutPrefix(l, "VmRSS:"); ok {
			fmt.Sscan(value, &kb)
		}
	}
	return kb
}

// firstResult starts the demo and waits for the first verdict.
func firstResult(ctx context.Context, pane string) ([]row, error) {
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	address, err := freeAddress()
	if err != nil {
		return nil, err
	}
	site, err := freeAddress()
	if err != nil {
		return nil, err
	}
	cmd := exec.CommandContext(ctx, pane, "demo", "--once", "--data", dir, "--listen", address, "--site", site)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+dir)
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	defer func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	}()
	if err := until(ctx, "http://"+address+"/readyz", "", always); err != nil {
		return nil, err
	}
	ready := time.Now()
	token, err := os.ReadFile(filepath.Join(dir, "service", "admin.token"))
	if err != nil {
		return nil, err
	}
	err = until(ctx, "http://"+address+"/api/v1/runs", strings.TrimSpace(string(token)), func(r *http.Response) bool {
		var runs []struct{ Counts map[string]int }
		if json.NewDecoder(r.Body).Decode(&runs) != nil || len(runs) == 0 {
			return false
		}
		return runs[0].Counts["passed"]+runs[0].Counts["failed"] > 0
	})
	return []row{{"first result of the demo after the service is ready", fmt.Sprintf("%.1f s", time.Since(ready).Seconds()), "15 s"}}, err
}

// timing is a script.Watcher that books each step's time outside the driver.
type timing struct {
	driver *time.Duration
	last   time.Duration
	step   time.Time
	outer  []time.Duration
}

func (t *timing) StepDone(attempt.Step) {
	now := time.Now()
	t.outer = append(t.outer, now.Sub(t.step)-(*t.driver-t.last))
	t.step, t.last = now, *t.driver
}
func (t *timing) Shot(name string, _ []byte) string { return name }

func (t *timing) Page(string, likeness.Page) string { return "" }

// onDesktop opens a session of the first Chromium here.
func onDesktop(ctx context.Context) (s *sessions.Session, profile device.Profile, end func(), err error) {
	dir, err := os.MkdirTemp("", "bench-")
	if err != nil {
		return nil, profile, nil, err
	}
	host, err := sessions.NewHost(dir, slog.New(slog.DiscardHandler), chromium.Family{})
	if err == nil {
		profile, err = device.Find("")
	}
	if err == nil {
		if browsers := host.Found(ctx).Browsers; len(browsers) == 0 {
			err = errors.New("no chromium here")
		} else {
			s, err = host.Open(ctx, sessions.Request{Browser: browsers[0], Device: profile})
		}
	}
	if err != nil {
		return nil, profile, nil, errors.Join(err, os.RemoveAll(dir))
	}
	return s, profile, func() {
		s.Close()
		_ = os.RemoveAll(dir)
	}, nil
}

// stepOverhead runs the demo's passing scripts in Chromium.
func stepOverhead(ctx context.Context, _ string) ([]row, error) {
	site := httptest.NewServer(desk.New(0))
	defer site.Close()
	root := project.Dir("internal/demo/saltmarsh")
	p, err := project.Load(root)
	if err != nil {
		return nil, err
	}
	suite, err := p.Suite("desk")
	if err != nil {
		return nil, err
	}
	scripts, err := p.Scripts(root, suite)
	if err != nil {
		return nil, err
	}
	env, err := p.Environment("local")
	if err != nil {
		return nil, err
	}
	s, profile, end, err := onDesktop(ctx)
	if err != nil {
		return nil, err
	}
	defer end()
	var driver time.Duration
	s.Client.Observe = func(_, _ string, took time.Duration, _ error) { driver += took }
	var all []time.Duration
	for range 3 {
		for _, sc := range scripts {
			_ = s.DeleteCookies(ctx)
			w := &timing{driver: &driver, last: driver, step: time.Now()}
			script.Run(ctx, sc, webdrive.New(s.Session, s), script.Setting{Base: site.URL, Root: string(root),
				Scope: script.Scope{Browser: "chromium", OS: runtime.GOOS, Device: script.DeviceOf(profile), Vars: env.Vars}}, w)
			all = append(all, w.outer...)
		}
	}
	slices.Sort(all)
	ms := func(d time.Duration) string { return fmt.Sprintf("%.2f ms", float64(d.Microseconds())/1000) }
	return []row{
		{fmt.Sprintf("agent's own time in a script step, waits included (median of %d steps, Chromium)", len(all)), ms(all[len(all)/2]), "5 ms"},
		{"the same, 75th percentile", ms(all[len(all)*3/4]), "–"},
	}, nil
}

// consoleSize adds up what the first page loads.
func consoleSize(context.Context, string) ([]row, error) {
	var total int64
	for _, pattern := range []string{"web/dist/index.html.gz", "web/dist/assets/*.js.gz", "web/dist/assets/*.css.gz", "web/dist/*.svg.gz"} {
		files, err := filepath.Glob(pattern)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			info, err := os.Stat(f)
			if err != nil {
				return nil, err
			}
			total += info.Size()
		}
	}
	if total == 0 {
		return nil, fmt.Errorf("the console is not built")
	}
	return []row{{"console's first load, compressed", fmt.Sprintf("%d kB", total/1000), "300 kB"}}, nil
}
