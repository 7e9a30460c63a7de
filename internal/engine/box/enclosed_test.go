//go:build linux

package box

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"parallelpane/internal/engine/process"
)

// enclosedIn makes a box of a directory.
func enclosedIn(t *testing.T, dir string, limits Limits) *enclosed {
	t.Helper()
	if _, err := Find(); err != nil && os.Getenv("PANE_REQUIRE_ENGINES") == "" {
		t.Skip(err)
	}
	b, err := enclose(t.Context(), Needs{Dir: dir, Limits: limits})
	require.NoError(t, err)
	t.Cleanup(b.Close)
	return b
}

func TestABoxHasItsOwnUserProcessesFilesAndNetwork(t *testing.T) {
	t.Setenv("PANE_TOKEN", "pane_ours")
	other, err := process.Start(process.Command{Path: "sleep", Args: []string{"1000"}})
	require.NoError(t, err)
	defer other.Stop(0)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	state := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(state, "token"), []byte("pane_ours"), 0o600))
	dir := filepath.Join(state, "session")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "profile"), []byte("of the session"), 0o600))

	b := enclosedIn(t, dir, Usual)
	assert.True(t, b.Isolated())
	out := printed(t, b, "env; id -u; id -un; ps -e 2>/dev/null; ls /proc; cat profile")
	assert.NotContains(t, out, "pane_ours")
	assert.NotContains(t, out, "PANE_")
	assert.Contains(t, out, fmt.Sprintf("%d\npane\n", max(b.owner.number(), 0)))
	assert.NotContains(t, out, fmt.Sprintf("\n%d\n", other.PID()))
	assert.Contains(t, out, "of the session")

	for what, command := range map[string]string{
		"the agent's state":        "ls " + state,
		"the agent's state by way": "cat /proc/1/root" + state + "/token",
		"its way through a file":   "cat /proc/self/fd/*/../token 3</home/pane",
		"other files":              "ls /root /work /var/lib/dpkg /etc/shadow /etc/hostname",
		"the helper":               "cat /proc/2/environ /proc/2/mem",
		"the system":               "touch /usr/x /etc/x /run/pane/x",
		"the kernel's settings":    "echo pane > /proc/sys/kernel/core_pattern",
		"a listener of the agent":  fmt.Sprintf("bash -c 'echo > /dev/tcp/127.0.0.1/%d'", l.Addr().(*net.TCPAddr).Port),
		"devices":                  "ls /dev/mem /dev/sda /dev/vda /dev/kmem",
		"a mount":                  "mount -t tmpfs none /usr",
	} {
		out := printed(t, b, command+" && echo got in")
		assert.NotContains(t, out, "got in", what)
		assert.NotContains(t, out, "pane_ours", what)
	}
	assert.Contains(t, printed(t, b, "echo kept > kept; cat /home/pane/kept"), "kept")
	raw, err := os.ReadFile(filepath.Join(dir, "kept"))
	require.NoError(t, err)
	assert.Equal(t, "kept\n", string(raw), "what a session writes is the agent's to read")
	assert.Equal(t, "/home/pane/profile", b.Inside(filepath.Join(dir, "profile")))
	assert.Equal(t, "/usr/bin/sh", b.Inside("/usr/bin/sh"))
}

func TestTwoBoxesDoNotSeeEachOther(t *testing.T) {
	one, two := t.TempDir(), t.TempDir()
	a, b := enclosedIn(t, one, Usual), enclosedIn(t, two, Usual)
	l, err := a.Listen()
	require.NoError(t, err)
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	assert.Contains(t, printed(t, a, fmt.Sprintf("bash -c 'echo > /dev/tcp/127.0.0.1/%d' && echo got in", port)), "got in")
	assert.NotContains(t, printed(t, b, fmt.Sprintf("bash -c 'echo > /dev/tcp/127.0.0.1/%d' && echo got in", port)), "got in")
	assert.NotContains(t, printed(t, b, "ls "+one+" && echo got in"), "got in")
	if a.owner != nil {
		assert.NotEqual(t, a.owner.id, b.owner.id)
	}
	_, err = b.Dial(t.Context(), port)
	assert.Error(t, err)
}

// A page's connection to the agent's listener and the agent's to a driver are
// plain sockets: nothing is copied on the way.
func TestSocketsLeadInAndOut(t *testing.T) {
	b := enclosedIn(t, t.TempDir(), Usual)
	l, err := b.Listen()
	require.NoError(t, err)
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "the tide turns") })}
	go func() { _ = srv.Serve(l) }()
	defer srv.Close()
	port := l.Addr().(*net.TCPAddr).Port
	fetch := fmt.Sprintf(`exec 5<>/dev/tcp/127.0.0.1/%d; printf 'GET / HTTP/1.0\r\n\r\n' >&5; cat <&5`, port)
	assert.Contains(t, printed(t, b, "bash -c \""+strings.ReplaceAll(fetch, `\r\n`, `\r\n`)+"\""), "the tide turns")
	c, err := b.Dial(t.Context(), port)
	require.NoError(t, err)
	_, err = io.WriteString(c, "GET / HTTP/1.0\r\n\r\n")
	require.NoError(t, err)
	raw, err := io.ReadAll(c)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "the tide turns")
	free, err := b.Port()
	require.NoError(t, err)
	_, err = b.Dial(t.Context(), free)
	assert.ErrorContains(t, err, "refused")
}

func TestProgramsInABoxEndAndSayHow(t *testing.T) {
	b := enclosedIn(t, t.TempDir(), Usual)
	p, err := b.Start(process.Command{Path: "/bin/sh", Args: []string{"-c", "echo cannot open the sluice; exit 3"}})
	require.NoError(t, err)
	<-p.Done()
	assert.ErrorContains(t, p.Gone(), "sh is gone (exit status 3): cannot open the sluice")
	p, err = b.Start(process.Command{Path: "/bin/sh", Args: []string{"-c", "trap '' TERM; echo there; sleep 1000"}})
	require.NoError(t, err)
	_, err = p.WaitLine(t.Context(), func(l string) bool { return l == "there" })
	require.NoError(t, err)
	assert.NotZero(t, b.onMachine(p.PID()))
	p.Stop(10 * time.Millisecond)
	assert.Error(t, p.Gone())
	_, err = b.Start(process.Command{Path: "/no/such/program"})
	assert.ErrorContains(t, err, "start program")
	_, err = b.Start(process.Command{Path: "/bin/true", Args: []string{strings.Repeat("x", maxPacket)}})
	assert.ErrorContains(t, err, "more than a program can be started with")
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer read.Close()
	p, err = b.Start(process.Command{Path: "/bin/sh", Args: []string{"-c", "echo through >&3"}, Files: []*os.File{write}})
	require.NoError(t, err)
	write.Close()
	raw, err := io.ReadAll(read)
	require.NoError(t, err)
	assert.Equal(t, "through\n", string(raw))
	<-p.Done()
}

func TestABoxEndsWithEverythingInIt(t *testing.T) {
	b := enclosedIn(t, t.TempDir(), Usual)
	p, err := b.Start(process.Command{Path: "/bin/sh",
		Args: []string{"-c", "setsid sh -c 'trap \"\" TERM HUP; sleep 1000' & echo there; wait"}})
	require.NoError(t, err)
	_, err = p.WaitLine(t.Context(), func(l string) bool { return l == "there" })
	require.NoError(t, err)
	pid := b.onMachine(p.PID())
	require.NotZero(t, pid)
	b.Close()
	<-p.Done()
	assert.Eventually(t, func() bool {
		_, err := os.Stat(fmt.Sprintf("/proc/%d", pid))
		return os.IsNotExist(err)
	}, 5*time.Second, time.Millisecond)
	_, err = b.Start(process.Command{Path: "/bin/true"})
	assert.ErrorContains(t, err, "the sandbox is gone")
	_, err = b.Dial(t.Context(), 1)
	assert.ErrorContains(t, err, "the sandbox is gone")
}

// A session that stops the helper, which is of its own user, is ended all the same.
func TestAStoppedHelperDoesNotKeepABoxAlive(t *testing.T) {
	b := enclosedIn(t, t.TempDir(), Usual)
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer read.Close()
	p, err := b.Start(process.Command{Files: []*os.File{read}, Path: "/bin/sh",
		Args: []string{"-c", "read go <&3; kill -STOP 2; echo there; sleep 1000"}})
	require.NoError(t, err)
	_, err = io.WriteString(write, "go\n") // the start has been answered
	require.NoError(t, errors.Join(err, write.Close()))
	_, err = p.WaitLine(t.Context(), func(l string) bool { return l == "there" })
	require.NoError(t, err)
	p.Stop(0)
	assert.Error(t, p.Gone())
}

func TestAForkBombStaysInItsBox(t *testing.T) {
	b := enclosedIn(t, t.TempDir(), Limits{Tasks: 60})
	out := printed(t, b, "i=0; while [ $i -lt 1000 ]; do sleep 1 & i=$((i+1)); done 2>&1; echo started $(ls -d /proc/[0-9]* | wc -l)")
	assert.Contains(t, strings.ToLower(out), "cannot fork")
	other := enclosedIn(t, t.TempDir(), Limits{Tasks: 60})
	assert.Contains(t, printed(t, other, "echo still here"), "still here")
}

func TestABoxesOwnFilesAreBounded(t *testing.T) {
	b := enclosedIn(t, t.TempDir(), Limits{FileSize: 1 << 20, Memory: 64 << 20})
	out := printed(t, b, "dd if=/dev/zero of=big bs=1M count=5; ls -l big")
	assert.Contains(t, out, " 1048576 ")
	b = enclosedIn(t, t.TempDir(), Limits{Memory: 64 << 20})
	assert.Contains(t, printed(t, b, "dd if=/dev/zero of=/dev/shm/x bs=1M count=100"), "No space left")
	assert.Contains(t, printed(t, b, "dd if=/dev/zero of=/tmp/x bs=1M count=100"), "No space left")
}

func TestABoxKnowsWhatItTakesUp(t *testing.T) {
	b := enclosedIn(t, t.TempDir(), Usual)
	before := b.Usage()
	p, err := b.Start(process.Command{Path: "/bin/sh",
		Args: []string{"-c", "x=$(head -c 50000000 /dev/zero | tr '\\0' x); head -c 30000000 /dev/zero > file; echo there; sleep 1000"}})
	require.NoError(t, err)
	_, err = p.WaitLine(t.Context(), func(l string) bool { return l == "there" })
	require.NoError(t, err)
	after := b.Usage()
	assert.Greater(t, after.Memory-before.Memory, int64(40_000_000))
	assert.InDelta(t, 30_000_000, after.Disk-before.Disk, 100_000)
}

func TestABoxThatCannotBeMadeSaysWhy(t *testing.T) {
	enclosedIn(t, t.TempDir(), Usual)
	_, err := Enclose(t.Context(), Needs{Dir: "/no/such/directory"})
	assert.ErrorContains(t, err, "make a sandbox")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Enclose(ctx, Needs{Dir: t.TempDir()})
	assert.ErrorIs(t, err, context.Canceled)
	t.Setenv("PATH", t.TempDir())
	_, err = Enclose(t.Context(), Needs{Dir: t.TempDir()})
	assert.ErrorContains(t, err, "bubblewrap is not installed")
}

func BenchmarkEnclose(b *testing.B) {
	for b.Loop() {
		x, err := enclose(b.Context(), Needs{Dir: b.TempDir(), Limits: Usual})
		if err != nil {
			b.Fatal(err)
		}
		x.Close()
	}
}
