package commands

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/engine/process"
	"parallelpane/internal/sessions"
)

// preparing is held while a bundle is prepared: one at a time, since the cores are the
// browsers'.
var preparing sync.Mutex

// prepared is where the suite's files lie once its preparing command has gone through
// them: it runs once for what the bundle holds and how the command reads.
func (x *execution) prepared(ctx context.Context, bundle string) (dir string, err error) {
	line := x.slice.Command.Prepare
	if line == "" {
		return bundle, nil
	}
	preparing.Lock()
	defer preparing.Unlock()
	dir = filepath.Join(x.Dir, "bundles", fmt.Sprintf("prepared-%x", sha256.Sum256([]byte(x.slice.Bundle+"\n"+line))))
	if _, err := os.Stat(dir); err == nil {
		now := time.Now()
		return dir, os.Chtimes(dir, now, now) // those that are not used go first
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	home, err := os.MkdirTemp(filepath.Join(x.Dir, "sessions"), "prepare-")
	if err == nil {
		home, err = filepath.Abs(home)
	}
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(home)
	way, err := x.Way(x.slice.Relay, x.slice.Fence)
	if err != nil {
		return "", err
	}
	room, err := x.Host.Room(ctx, home, limits, way)
	if err != nil {
		return "", fmt.Errorf("a room for the preparing command: %w", err)
	}
	defer room.Close()
	if err := lay(bundle, home, x.combination()); err != nil {
		return "", fmt.Errorf("lay the files out: %w", err)
	}
	began := time.Now()
	x.note("preparing: %s", line)
	exit, over, output, err := x.carryOut(ctx, room, home, line, x.surroundings(room))
	switch {
	case err != nil:
		return "", err
	case over != "":
		return "", fmt.Errorf("the preparing command %s: %s", over, lastLine(output))
	case ctx.Err() != nil:
		return "", ctx.Err()
	case exit != 0:
		return "", fmt.Errorf("the preparing command ended with exit code %d: %s", exit, lastLine(output))
	}
	room.End()
	x.note("prepared in %s", time.Since(began).Round(time.Millisecond))
	return dir, os.Rename(filepath.Join(home, "suite"), dir)
}

// surroundings are the variables that every command of a suite has, which say nothing of
// the pane.
func (x *execution) surroundings(room *sessions.Room) []string {
	proxy := "http://" + room.Proxy
	env := []string{"HTTP_PROXY=" + proxy, "HTTPS_PROXY=" + proxy, "http_proxy=" + proxy, "https_proxy=" + proxy,
		"HOME=" + room.Inside(room.Dir()),
		"CI=1"}
	for name, v := range x.slice.Command.Env {
		env = append(env, name+"="+v)
	}
	return env
}

// carryOut runs a line of a shell in the suite's directory, and waits for its end; exit is
// its status, over the limit that it went over.
func (x *execution) carryOut(ctx context.Context, room *sessions.Room, home, line string, env []string) (exit int, over, output string,
	lab error) {
	in := func(name string) string { return room.Inside(filepath.Join(home, name)) }
	out := &printed{most: maxOutput, live: x.live}
	// The status is written down by a shell around the line, so that it is known whatever the line's own does.
	p, err := room.Start(process.Command{Path: "/bin/sh", Env: env, Log: out,
		Args: []string{"-c", `cd "$1" && /bin/sh -c "$2"; echo "$?" > "$3"`, "sh", in("suite"), line, in("results/status")}})
	if err != nil {
		return 0, "", "", fmt.Errorf("start the command: %w", err)
	}
	over = x.watch(ctx, room, p, out)
	p.Stop(time.Second)
	output = out.text()
	if over == "" && ctx.Err() == nil {
		raw, err := readWithin(home, "results/status", 16)
		if err == nil {
			_, err = fmt.Sscanf(strings.TrimSpace(string(raw)), "%d", &exit)
		}
		if err != nil {
			return 0, "", output, fmt.Errorf("the command was ended from outside: %w", p.Gone())
		}
	}
	return exit, over, output, nil
}
