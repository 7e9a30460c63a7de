//go:build unix && !linux

package process

import (
	"os"
	"os/exec"
	"syscall"
)

func ownGroup(cmd *exec.Cmd)  { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }
func terminate(p *os.Process) { _ = syscall.Kill(-p.Pid, syscall.SIGTERM) }
func kill(p *os.Process)      { _ = syscall.Kill(-p.Pid, syscall.SIGKILL) }

// HastenGroup does nothing here.
func HastenGroup(int) {}

// Sweep does nothing here: without /proc there is no safe way to tell our own
// leftovers from somebody else's processes.
func Sweep(string) int { return 0 }
