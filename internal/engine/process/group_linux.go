package process

import (
	"os"
	"os/exec"
	"path/filepath"
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
// path below it: the children that a program killed by force left behind. It
// returns how many there were.
func Sweep(dir string) int {
	environs, _ := filepath.Glob("/proc/[0-9]*/environ")
	n := 0
	for _, f := range environs {
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(f)))
		raw, err := os.ReadFile(f)
		if err != nil || pid == os.Getpid() {
			continue
		}
		for _, entry := range strings.Split(string(raw), "\x00") {
			if value, ok := strings.CutPrefix(entry, sessionDirKey+"="); ok && within(value, dir) {
				if syscall.Kill(pid, syscall.SIGKILL) == nil {
					n++
				}
				break
			}
		}
	}
	return n
}

func within(path, dir string) bool {
	return path == dir || strings.HasPrefix(path, dir+string(filepath.Separator))
}
