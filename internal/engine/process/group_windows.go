package process

import (
	"os"
	"os/exec"
	"strconv"
	"syscall"
)

func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP}
}

// terminate has no polite form for a windowless process on Windows.
func terminate(p *os.Process) { kill(p) }

func kill(p *os.Process) {
	_ = exec.Command("taskkill", "/T", "/F", "/PID", strconv.Itoa(p.Pid)).Run()
	_ = p.Kill()
}

// HastenGroup does nothing here.
func HastenGroup(int) {}

// Sweep does nothing here; taskkill /T has ended whole trees already.
func Sweep(string) int { return 0 }
