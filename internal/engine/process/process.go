// Package process starts the programs a browser session needs (drivers,
// browsers, virtual displays), each in a process group of its own, and ends the
// whole group without exception.
package process

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"
)

// sessionDirKey is the environment variable by which Sweep knows the programs
// of a session, however deep in the tree they are.
const sessionDirKey = "PANE_SESSION_DIR"

// SessionEnv is the environment entry that marks a program as a session's.
func SessionEnv(dir string) string { return sessionDirKey + "=" + dir }

// Process is a running program and its group.
type Process struct {
	Name string
	cmd  *exec.Cmd
	done chan struct{}
	err  error
	tail *tail
}

// Start runs a program with extra environment entries ("KEY=value"). Its output
// goes to log, which may be nil.
func Start(log io.Writer, env []string, name string, args ...string) (*Process, error) {
	return StartWith(log, env, nil, name, args...)
}

// StartWith is Start with further files, which the program sees from descriptor
// 3 on.
func StartWith(log io.Writer, env []string, files []*os.File, name string, args ...string) (*Process, error) {
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), env...)
	cmd.ExtraFiles = files
	t := &tail{}
	var out io.Writer = t
	if log != nil {
		out = io.MultiWriter(t, log)
	}
	cmd.Stdout, cmd.Stderr = out, out
	cmd.WaitDelay = 2 * time.Second
	ownGroup(cmd)
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start %s: %w", filepath.Base(name), err)
	}
	p := &Process{Name: filepath.Base(name), cmd: cmd, done: make(chan struct{}), tail: t}
	go func() {
		p.err = cmd.Wait()
		close(p.done)
	}()
	return p, nil
}

// Done is closed when the program has ended.
func (p *Process) Done() <-chan struct{} { return p.done }

// PID is the process id, which is its group's as well.
func (p *Process) PID() int { return p.cmd.Process.Pid }

// Hasten puts the program before others where the system lets us: one that takes
// little time, but has to have it when it is due.
func (p *Process) Hasten() { hasten(p.cmd.Process) }

// Gone says how the program ended, with its last words; nil while it runs.
func (p *Process) Gone() error {
	select {
	case <-p.done:
	default:
		return nil
	}
	how := "ended"
	if p.err != nil {
		how = p.err.Error()
	}
	if last := p.tail.last(); last != "" {
		return fmt.Errorf("%s is gone (%s): %s", p.Name, how, last)
	}
	return fmt.Errorf("%s is gone (%s)", p.Name, how)
}

// Ask asks the group politely to end, and does not wait.
func (p *Process) Ask() { terminate(p.cmd.Process) }

// Stop ends the group: politely first, by force after grace.
func (p *Process) Stop(grace time.Duration) {
	terminate(p.cmd.Process)
	select {
	case <-p.done:
	case <-time.After(grace):
	}
	kill(p.cmd.Process)
	<-p.done
}

// WaitLine waits until the program has printed a line that match accepts, and
// returns it.
func (p *Process) WaitLine(ctx context.Context, match func(line string) bool) (string, error) {
	for {
		line, more := p.tail.find(match)
		if line != "" {
			return line, nil
		}
		select {
		case <-more:
		case <-p.done:
			return "", p.Gone()
		case <-ctx.Done():
			return "", fmt.Errorf("%s did not get ready: %w", p.Name, ctx.Err())
		}
	}
}

// tail keeps the last lines a program printed.
type tail struct {
	mu    sync.Mutex
	lines []string
	part  string
	more  chan struct{}
}

const tailLines = 200

func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.part += string(b)
	for {
		line, rest, ok := strings.Cut(t.part, "\n")
		if !ok {
			break
		}
		t.lines, t.part = append(t.lines, strings.TrimRight(line, "\r")), rest
	}
	if len(t.part) > 64<<10 {
		t.part = t.part[len(t.part)-64<<10:]
	}
	t.lines = t.lines[max(0, len(t.lines)-tailLines):]
	if t.more != nil {
		close(t.more)
		t.more = nil
	}
	return len(b), nil
}

func (t *tail) find(match func(string) bool) (string, <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, l := range t.lines {
		if match(l) {
			return l, nil
		}
	}
	if t.more == nil {
		t.more = make(chan struct{})
	}
	return "", t.more
}

func (t *tail) last() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i := len(t.lines) - 1; i >= 0; i-- {
		if l := strings.TrimSpace(t.lines[i]); l != "" {
			return l
		}
	}
	return strings.TrimSpace(t.part)
}

// Display is a virtual X display.
type Display struct {
	Name          string // for the variable DISPLAY, for example ":101"
	Width, Height int    // in pixels
	*Process
}

// StartDisplay starts Xvfb on a free display number. Sizes are in pixels.
func StartDisplay(ctx context.Context, log io.Writer, width, height int) (*Display, error) {
	path, err := exec.LookPath("Xvfb")
	if err != nil {
		return nil, errors.New("no virtual display: Xvfb is not installed (Debian package xvfb)")
	}
	r, w, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("start Xvfb: %w", err)
	}
	defer r.Close()
	p, err := StartWith(log, nil, []*os.File{w}, path, "-displayfd", "3", "-screen", "0",
		fmt.Sprintf("%dx%dx24", width, height), "-nolisten", "tcp", "-noreset")
	w.Close()
	if err != nil {
		return nil, err
	}
	line := make(chan string, 1)
	go func() {
		s, _ := bufio.NewReader(r).ReadString('\n')
		line <- strings.TrimSpace(s)
	}()
	select {
	case number := <-line:
		if _, err := strconv.Atoi(number); err == nil {
			return &Display{Name: ":" + number, Width: width, Height: height, Process: p}, nil
		}
		err = p.Gone()
		p.Stop(0)
		return nil, fmt.Errorf("start Xvfb: no display number: %w", err)
	case <-ctx.Done():
		p.Stop(0)
		return nil, fmt.Errorf("start Xvfb: %w", ctx.Err())
	}
}
