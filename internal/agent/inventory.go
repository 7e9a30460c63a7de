package agent

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"time"

	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine/box"
	"parallelpane/internal/sessions"
)

// Inventory reads this machine. What tools said of themselves is kept in a file, unless it
// is "".
func Inventory(ctx context.Context, h *sessions.Host, version, tools string) fleet.Machine {
	found := h.Found(ctx)
	m := fleet.Machine{
		OS: runtime.GOOS, Arch: runtime.GOARCH, Cores: runtime.NumCPU(), Browsers: found.Browsers, Drivers: found.Drivers,
		Headed: canOpenWindows(), Version: version, StartedAt: time.Now().UTC().Format(time.RFC3339),
	}
	m.Isolation, m.Exposed = isolation(h)
	m.Tools = toolsIn(ctx, filepath.SplitList(box.Looks(m.Isolation == fleet.Sandbox)), tools)
	if m.OS == "darwin" {
		m.OS = "macos"
	}
	if info, err := host.InfoWithContext(ctx); err == nil {
		m.OSVersion = info.Platform + " " + info.PlatformVersion
	}
	if v, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		m.MemoryMB = int(v.Total >> 20)
	}
	return m
}

// isolation says whether sessions have a sandbox, and why they have none.
func isolation(h *sessions.Host) (is, exposed string) {
	if err := h.Isolated(); err != nil {
		return fleet.None, err.Error()
	}
	return fleet.Sandbox, ""
}

func canOpenWindows() bool {
	if runtime.GOOS != "linux" || os.Getenv("DISPLAY") != "" {
		return true
	}
	_, err := exec.LookPath("Xvfb")
	return err == nil
}

// Advice is the number of slots for a machine nothing is known of but its size:
// one a core, as long as each finds 1.5 GB of memory. A browser under test
// keeps about one core busy; more sessions than cores only slow each other.
func Advice(m fleet.Machine) int {
	n := m.Cores
	if m.MemoryMB > 0 {
		n = min(n, m.MemoryMB/1536)
	}
	return max(1, n)
}
