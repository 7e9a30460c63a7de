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
	run  Running
	done chan struct{}
	err  error
	out  *Output
}

// Running is a program that has been started, wherever it runs.
type Running interface {
	Wait() error // until it has ended and what it printed has been read; called once
	Terminate()  // asks its group to end
	Kill()       // ends its group
	Hasten()     // puts its group before others, where the system lets us
	PID() int    // which is its group's as well
}

// Command is what to start.
type Command struct {
	Log   io.Writer  // what it prints goes there; may be nil
	Env   []string   // further entries of its environment, "KEY=value"
	Files []*os.File // what it sees from descriptor 3 on
	Path  string
	Args  []string
}

// Start runs a program here, with the environment that Inherited gives it.
func Start(c Command) (*Process, error) {
	cmd := exec.Command(c.Path, c.Args...)
	cmd.Env = append(Inherited(), c.Env...)
	cmd.ExtraFiles = c.Files
	out := NewOutput(c.Log)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.WaitDelay = 2 * time.Second
	ownGroup(cmd)
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start %s: %w", filepath.Base(c.Path), err)
	}
	return Attach(c.Path, out, local{cmd}), nil
}

// Attach makes a Process of a program that was started and prints to out.
func Attach(path string, out *Output, run Running) *Process {
	p := &Process{Name: filepath.Base(path), run: run, done: make(chan struct{}), out: out}
	go func() {
		p.err = run.Wait()
		close(p.done)
	}()
	return p
}

// local is a program of this machine's that nothing is between.
type local struct{ cmd *exec.Cmd }

func (l local) Wait() error { return l.cmd.Wait() }
func (l local) Terminate()  { terminate(l.cmd.Process) }
func (l local) Kill()       { kill(l.cmd.Process) }
func (l local) Hasten()     { HastenGroup(l.cmd.Process.Pid) }
func (l local) PID() int    { return l.cmd.Process.Pid }

// Done is closed when the program has ended.
func (p *Process) Done() <-chan struct{} { return p.done }

// PID is the process id where the program runs: in a box, as the box counts.
func (p *Process) PID() int { return p.run.PID() }

// Hasten puts the program before others where the system lets us: one that takes
// little time, but has to have it when it is due.
func (p *Process) Hasten() { p.run.Hasten() }

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
	if last := p.out.last(); last != "" {
		return fmt.Errorf("%s is gone (%s): %s", p.Name, how, last)
	}
	return fmt.Errorf("%s is gone (%s)", p.Name, how)
}

// Ask asks the group politely to end, and does not wait.
func (p *Process) Ask() { p.run.Terminate() }

// Stop ends the group: politely first, by force after grace.
func (p *Process) Stop(grace time.Duration) {
	p.run.Terminate()
	select {
	case <-p.done:
	case <-time.After(grace):
	}
	p.run.Kill()
	<-p.done
}

// WaitLine waits until the program has printed a line that match accepts, and
// returns it.
func (p *Process) WaitLine(ctx context.Context, match func(line string) bool) (string, error) {
	for {
		line, more := p.out.find(match)
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

// Output passes on what a program prints and keeps the last lines of it.
type Output struct {
	log   io.Writer
	mu    sync.Mutex
	lines []string
	part  string
	more  chan struct{}
}

const tailLines = 200

// NewOutput returns an output that passes on to log, which may be nil.
func NewOutput(log io.Writer) *Output { return &Output{log: log} }

func (t *Output) Write(b []byte) (int, error) {
	if t.log != nil {
		_, _ = t.log.Write(b) // a full disk must not stop the program
	}
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

func (t *Output) find(match func(string) bool) (string, <-chan struct{}) {
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

func (t *Output) last() string {
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

// StartDisplay starts Xvfb, by start, on a free display number. Sizes are in
// pixels.
func StartDisplay(ctx context.Context, start func(Command) (*Process, error), width, height int) (*Display, error) {
	path, err := exec.LookPath("Xvfb")
	if err != nil {
		return nil, errors.New("no virtual display: Xvfb is not installed (Debian package xvfb)")
	}
	r, w, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("start Xvfb: %w", err)
	}
	defer r.Close()
	p, err := start(Command{Files: []*os.File{w}, Path: path, Args: []string{"-displayfd", "3", "-screen", "0",
		fmt.Sprintf("%dx%dx24", width, height), "-nolisten", "tcp", "-noreset"}})
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
