package commands

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/outcome"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/engine/box"
	"parallelpane/internal/engine/process"
	"parallelpane/internal/project"
	"parallelpane/internal/sessions"
)

// Limits of one command.
var limits = box.Limits{Tasks: 500, FileSize: 1 << 30, Memory: 256 << 20, Resident: 4 << 30, Disk: 2 << 30}

const (
	maxOutput   = 16 << 20  // bytes of what is kept of what a command prints
	maxPrinted  = 1 << 30   // bytes that it may print
	maxAttached = 32 << 20  // bytes of one file that tests leave
	maxLeft     = 128 << 20 // bytes of all of them
	maxFiles    = 100       // of them
	defaultTime = 10 * time.Minute
)

// run carries the command out in a room of its own and gathers what it leaves.
func (x *execution) run(ctx context.Context, bundle string) (s said) {
	b, err := x.Browser(x.slice.Values)
	if err != nil {
		return said{lab: err}
	}
	s.stood = ranOn{b.Name, b.Version, x.slice.Device.Name}
	home, err := os.MkdirTemp(filepath.Join(x.Dir, "sessions"), "command-")
	if err == nil {
		home, err = filepath.Abs(home) // the command has a directory of its own
	}
	if err != nil {
		return said{lab: err}
	}
	defer os.RemoveAll(home)
	recordings, err := x.recordings()
	if err != nil {
		return said{lab: err}
	}
	s.cleanUp = func() { _ = os.RemoveAll(recordings) }
	way, err := x.Way(x.slice.Relay, x.slice.Fence)
	if err != nil {
		s.lab = err
		return s
	}
	room, err := x.Host.Room(ctx, home, limits, way, present(b.Path, b.Driver)...)
	if err != nil {
		s.lab = fmt.Errorf("a room for the command: %w", err)
		return s
	}
	defer room.Close()
	if base := x.slice.Base; base != "" {
		if err := room.Reach(ctx, base); err != nil {
			s.lab, s.site = err, true
			return s
		}
	}
	from, err := x.prepared(ctx, bundle)
	if err != nil {
		s.lab, s.lacks = err, true
		return s
	}
	if err := lay(from, home, x.combination()); err != nil {
		s.lab = fmt.Errorf("lay the files out: %w", err)
		return s
	}
	if err := launchers(filepath.Join(home, "launchers"), b, x.slice.Values["mode"] == "headed", room.Proxy); err != nil {
		s.lab = fmt.Errorf("launchers: %w", err)
		return s
	}
	l, err := room.Listen()
	if err != nil {
		s.lab = err
		return s
	}
	e := &endpoint{Floor: x.Floor, slice: x.slice, browser: b, mask: x.mask, dir: recordings, note: x.note}
	e.serve(ctx, l)
	s.exit, s.over, s.output, s.lab = x.command(ctx, room, home, "http://"+l.Addr().String(), b)
	e.close()
	s.sessions = e.all
	room.End() // what is left over ends before its files are read
	x.gather(home, &s)
	return s
}

// lay copies a bundle into the home of a command, with the directories that it may fill.
func lay(bundle, home, combination string) error {
	for _, dir := range []string{"results", "attachments"} {
		if err := os.Mkdir(filepath.Join(home, dir), 0o755); err != nil {
			return err
		}
	}
	if err := os.WriteFile(filepath.Join(home, "combination.json"), []byte(combination), 0o644); err != nil {
		return err
	}
	return project.Copy(bundle, filepath.Join(home, "suite"))
}

const resultsFile = "results/results"

// command runs the line and waits for its end; exit is its status.
func (x *execution) command(ctx context.Context, room *sessions.Room, home, endpoint string, b fleet.Browser) (exit int, over,
	output string, lab error) {
	c := x.slice.Command
	in := func(name string) string { return room.Inside(filepath.Join(home, name)) }
	var filled []string // all at once: what stands in a value is no placeholder
	for name, v := range map[string]string{"file": x.file, "results": in(resultsFile), "browser": b.Name, "version": b.Version,
		"device": x.slice.Device.Name, "base": x.slice.Base, "endpoint": endpoint, "attachments": in("attachments"), "name": x.unit} {
		filled = append(filled, "{"+name+"}", quote(v))
	}
	line := strings.NewReplacer(filled...).Replace(c.Line)
	env := append(x.surroundings(room), "PANE_ENDPOINT="+endpoint, "PANE_BROWSER="+b.Name, "PANE_VERSION="+b.Version,
		"PANE_DEVICE="+x.slice.Device.Name, "PANE_BASE="+x.slice.Base, "PANE_COMBINATION="+x.combination(),
		"PANE_COMBINATION_FILE="+in("combination.json"), "PANE_FILE="+x.file, "PANE_CASE="+x.unit, "PANE_RESULTS="+in(resultsFile),
		"PANE_ATTACHMENTS="+in("attachments"), "PANE_RUN="+strconv.Itoa(x.slice.Run), "PANE_PANE="+x.slice.Label,
		"PANE_BROWSER_PATH="+b.Path, "PANE_DRIVER_PATH="+b.Driver, "NO_PROXY="+strings.TrimPrefix(endpoint, "http://"),
		"PATH="+in("launchers")+":"+box.Looks(room.Isolated()))
	for axis, v := range x.slice.Values {
		env = append(env, "PANE_AXIS_"+variable(axis)+"="+v)
	}
	for name, v := range x.slice.Vars {
		env = append(env, "PANE_VAR_"+variable(name)+"="+v)
	}
	for name, v := range x.slice.Secrets {
		env = append(env, "PANE_VAR_"+variable(name)+"="+v)
	}
	if x.row != nil {
		raw, err := json.Marshal(x.row.Values)
		if err != nil {
			return 0, "", "", err
		}
		env = append(env, "PANE_ROW="+string(raw))
		for column, v := range x.row.Values {
			env = append(env, "PANE_ROW_"+variable(column)+"="+v)
		}
	}
	x.note("started: %s", line)
	exit, over, output, lab = x.carryOut(ctx, room, home, line, env)
	if lab == nil && over == "" {
		x.note("ended with exit code %d", exit)
	}
	return exit, over, output, lab
}

// present leaves out what is not there.
func present(paths ...string) []string {
	return slices.DeleteFunc(paths, func(p string) bool { return p == "" })
}

// launchers writes programs of the names under which suites look for a browser and its
// driver, each of which is the pane's.
func launchers(dir string, b fleet.Browser, headed bool, proxy string) error {
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	more := ""
	switch b.Engine {
	case "chromium":
		more = " --no-first-run --disable-quic --proxy-server=" + quote(proxy) + " --proxy-bypass-list='<-loopback>'"
		if !headed {
			more += " --headless=new"
		}
	case "gecko":
		if !headed {
			more = " --headless"
		}
	}
	for path, names := range map[string][]string{b.Path: browserNames[b.Engine], b.Driver: driverNames[b.Engine]} {
		for _, name := range names {
			if path == "" {
				continue
			}
			line := "#!/bin/sh\nexec " + quote(path)
			if path == b.Path {
				line += more
			}
			if err := os.WriteFile(filepath.Join(dir, name), []byte(line+` "$@"`+"\n"), 0o755); err != nil {
				return err
			}
		}
	}
	return nil
}

// Names under which suites start a browser of an engine, or its driver.
var (
	browserNames = map[string][]string{"chromium": {"chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "chrome"},
		"gecko": {"firefox", "firefox-esr"}}
	driverNames = map[string][]string{"chromium": {"chromedriver"}, "webkit": {"WebKitWebDriver"}}
)

// watch waits until the command ends, and says what limit it went over if it did.
func (x *execution) watch(ctx context.Context, room *sessions.Room, p *process.Process, out *printed) string {
	limit := time.Duration(x.slice.Command.LimitMS) * time.Millisecond
	if limit == 0 {
		limit = max(defaultTime, time.Duration(x.slice.TestLimitMS)*time.Millisecond)
	}
	end := time.After(limit)
	t := time.NewTicker(500 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-p.Done():
			return ""
		case <-ctx.Done():
			return ""
		case <-end:
			return fmt.Sprintf("took longer than %s", limit)
		case <-t.C:
		}
		switch u := room.Usage(); {
		case u.Memory > limits.Resident:
			return fmt.Sprintf("took more than %d MB of memory", limits.Resident>>20)
		case u.Disk > limits.Disk:
			return fmt.Sprintf("filled more than %d MB of its disk", limits.Disk>>20)
		case out.all() > maxPrinted:
			return fmt.Sprintf("printed more than %d MB", maxPrinted>>20)
		}
	}
}

// quote makes one word of a POSIX shell of a text.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// variable is a name as an environment has it.
func variable(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
			return r
		}
		return '_'
	}, name)
}

// printed keeps the beginning and the end of what a command prints.
type printed struct {
	most int
	live *live
	mu   sync.Mutex
	head []byte
	tail []byte
	sum  int64
}

func (p *printed) Write(b []byte) (int, error) {
	p.live.write(b)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sum += int64(len(b))
	room := min(len(b), p.most/2-len(p.head))
	p.head = append(p.head, b[:room]...)
	p.tail = append(p.tail, b[room:]...)
	if len(p.tail) > p.most {
		p.tail = slices.Clone(p.tail[len(p.tail)-p.most/2:])
	}
	return len(b), nil
}

func (p *printed) all() int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.sum
}

func (p *printed) text() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := bytes.Clone(p.head)
	tail := p.tail[max(0, len(p.tail)-p.most/2):]
	if left := p.sum - int64(len(p.head)) - int64(len(tail)); left > 0 {
		out = fmt.Appendf(out, "\n… %d bytes are left out …\n", left)
	}
	return strings.ToValidUTF8(string(append(out, tail...)), "\uFFFD")
}

// gather reads what the command left: its results and what its tests attached.
func (x *execution) gather(home string, s *said) {
	how := x.slice.Command.Results
	var err error
	switch {
	case how == suite.Exit:
	case how == suite.TAP && !strings.Contains(x.slice.Command.Line, "{results}"):
		s.results, s.printed = []byte(s.output), true
	default:
		if s.results, err = readWithin(home, resultsFile, outcome.MaxFile); err != nil {
			s.missing = "there is no file at {results}"
			if !errors.Is(err, fs.ErrNotExist) {
				s.missing = err.Error()
			}
		}
	}
	if s.results != nil {
		r := outcome.Read(s.results, time.Local)
		s.report = &r
	}
	s.attached = x.left(home)
}

// left reads the files that tests left, of which none may lead elsewhere.
func (x *execution) left(home string) (out []attached) {
	root, err := os.OpenRoot(filepath.Join(home, "attachments"))
	if err != nil {
		return nil
	}
	defer root.Close()
	seen, room := 0, int64(maxLeft)
	err = fs.WalkDir(root.FS(), ".", func(path string, d fs.DirEntry, err error) error {
		if seen++; err != nil || seen > 10_000 || !d.Type().IsRegular() {
			return nil // what is no plain file, or cannot be read, is not kept
		}
		if len(out) >= maxFiles {
			x.note("more than %d files were left; the others are not kept", maxFiles)
			return fs.SkipAll
		}
		raw, err := readWithin(filepath.Join(home, "attachments"), path, min(maxAttached, room))
		if err != nil {
			x.note("%s is not kept: %v", path, err)
			return nil
		}
		room -= int64(len(raw))
		out = append(out, attached{path, raw})
		return nil
	})
	if err != nil {
		x.note("the attachments could not all be read: %v", err)
	}
	return out
}

// readWithin reads a plain file of at most a size, to which no link leads out of its
// directory.
func readWithin(dir, name string, most int64) ([]byte, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe of theirs would never open
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no plain file", name)
	}
	raw, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(raw)) > most {
		err = fmt.Errorf("%s has more than %d bytes", name, most)
	}
	return raw, err
}
