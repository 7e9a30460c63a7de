package process

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// ownGroup makes the program lead a group of its own and die with us.
func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
}

func terminate(p *os.Process) { _ = syscall.Kill(-p.Pid, syscall.SIGTERM) }
func kill(p *os.Process)      { _ = syscall.Kill(-p.Pid, syscall.SIGKILL) }

// hurry is by how much a program that films is put before others, in steps of nice.
const hurry = -10

// HastenGroup puts a group of processes before others, where the system lets us.
func HastenGroup(pid int) { _ = syscall.Setpriority(syscall.PRIO_PGRP, pid, hurry) }

// Sweep kills every process whose environment says PANE_SESSION_DIR=dir or a
// path below it, and what holds a sandbox open over such a path: the children that
// a program killed by force left behind. It returns how many there were.
func Sweep(dir string) int {
	processes, _ := filepath.Glob("/proc/[0-9]*")
	n := 0
	for _, p := range processes {
		pid, _ := strconv.Atoi(filepath.Base(p))
		if pid == os.Getpid() || !livesIn(words(p, "environ"), dir) && !lends(words(p, "cmdline"), dir) {
			continue
		}
		if syscall.Kill(pid, syscall.SIGKILL) == nil {
			n++
		}
	}
	return n
}

func words(process, what string) []string {
	raw, err := os.ReadFile(filepath.Join(process, what))
	if err != nil {
		return nil
	}
	return strings.Split(string(raw), "\x00")
}

func livesIn(environ []string, dir string) bool {
	return slices.ContainsFunc(environ, func(entry string) bool {
		value, ok := strings.CutPrefix(entry, sessionDirKey+"=")
		return ok && within(value, dir)
	})
}

// lends reports whether a command line is that of a sandbox over a path in dir. Its
// first process runs no program of the session and has nothing in its environment.
func lends(args []string, dir string) bool {
	for i, arg := range args[:max(0, len(args)-1)] {
		if arg == "--bind" && within(args[i+1], dir) {
			return true
		}
	}
	return false
}

func within(path, dir string) bool {
	return path == dir || strings.HasPrefix(path, dir+string(filepath.Separator))
}
