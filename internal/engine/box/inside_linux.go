package box

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// helperKey in the environment makes any program that knows this package the
// helper of a box: it starts the session's programs and opens its sockets, and
// does nothing else. Its value is its terms.
const helperKey = "PANE_BOX"

func init() {
	if told, yes := os.LookupEnv(helperKey); yes {
		if err := inside(told); err != nil {
			fmt.Fprintln(os.Stderr, "box:", err)
			os.Exit(1)
		}
		os.Exit(0)
	}
}

// control is the descriptor over which the agent is heard.
const control = 3

// inside runs in the box until the agent hangs up.
func inside(raw string) error {
	var t terms
	if err := json.Unmarshal([]byte(raw), &t); err != nil {
		return err
	}
	// Nothing that is open here is the session's.
	if err := unix.CloseRange(control, 1<<20, unix.CLOSE_RANGE_CLOEXEC); err != nil {
		return err
	}
	if err := become(t.User); err != nil {
		return err
	}
	if err := bound(t.Limits); err != nil {
		return err
	}
	file := os.NewFile(control, "control")
	conn, err := net.FileConn(file)
	if err != nil {
		return err
	}
	file.Close()
	h := &helper{conn: conn.(*net.UnixConn)}
	if err := h.say(answer{Ready: true}, nil); err != nil {
		return err
	}
	for {
		r, files, err := receive[request](h.conn)
		if err != nil {
			return nil // the agent has hung up
		}
		h.do(r, files)
	}
}

// become gives up being root for good: with the user go all capabilities.
func become(user int) error {
	if user == 0 {
		return nil
	}
	return errors.Join(syscall.Setgroups(nil), syscall.Setresgid(user, user, user), syscall.Setresuid(user, user, user))
}

// bound sets what the helper and every program after it may cost.
func bound(l Limits) error {
	// When memory is short, a session ends before anything else does.
	_ = os.WriteFile("/proc/self/oom_score_adj", []byte("800"), 0)
	for _, r := range []struct {
		what  int
		limit int64
	}{{unix.RLIMIT_CORE, 0}, {unix.RLIMIT_NPROC, int64(l.Tasks)}, {unix.RLIMIT_FSIZE, l.FileSize}} {
		if r.limit == 0 && r.what != unix.RLIMIT_CORE {
			continue
		}
		if err := unix.Setrlimit(r.what, &unix.Rlimit{Cur: uint64(r.limit), Max: uint64(r.limit)}); err != nil {
			return fmt.Errorf("limit %d: %w", r.what, err)
		}
	}
	// The session's programs are of the same user: they may not look into the helper.
	return unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
}

type helper struct {
	conn *net.UnixConn
	mu   sync.Mutex // of writing
}

func (h *helper) say(a answer, file *os.File) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if file != nil {
		return send(h.conn, a, file)
	}
	return send(h.conn, a)
}

func (h *helper) do(r request, files []*os.File) {
	reply := answer{ID: r.ID}
	var brought *os.File
	var err error
	switch r.Verb {
	case "start":
		reply.PID, err = h.start(r, files)
	case "terminate":
		err = syscall.Kill(-r.PID, syscall.SIGTERM)
	case "kill":
		err = syscall.Kill(-r.PID, syscall.SIGKILL)
	case "listen":
		brought, err = listen()
	case "dial":
		go func() { // it may take its time
			c, err := dial(r.Port)
			if err != nil {
				reply.Error = err.Error()
			}
			_ = h.say(reply, c)
			if c != nil {
				c.Close()
			}
		}()
		return
	default:
		err = fmt.Errorf("no verb %q", r.Verb)
	}
	for _, f := range files {
		f.Close()
	}
	if err != nil {
		reply.Error = err.Error()
	}
	_ = h.say(reply, brought)
	if brought != nil {
		brought.Close()
	}
}

// start starts a program that leads a group of its own, and says later how it
// ended.
func (h *helper) start(r request, files []*os.File) (int, error) {
	if len(files) == 0 {
		return 0, errors.New("nowhere to print to")
	}
	cmd := exec.Command(r.Path, r.Args...)
	cmd.Env, cmd.Dir = r.Env, r.Dir
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = files[0], files[0], files[1:]
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return 0, err
	}
	go func() {
		a := answer{PID: cmd.Process.Pid, Ended: true}
		if err := cmd.Wait(); err != nil {
			a.Error = err.Error()
		}
		_ = h.say(a, nil)
	}()
	return cmd.Process.Pid, nil
}

func listen() (*os.File, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer l.Close()
	return l.(*net.TCPListener).File()
}

func dial(port int) (*os.File, error) {
	c, err := net.DialTimeout("tcp", "127.0.0.1:"+strconv.Itoa(port), 10*time.Second)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return c.(*net.TCPConn).File()
}

// send writes one message with the files that go with it.
func send(c *net.UnixConn, message any, files ...*os.File) error {
	raw, err := json.Marshal(message)
	if err != nil {
		return err
	}
	if len(raw) > maxPacket {
		return fmt.Errorf("%d bytes of switches and settings are more than a program can be started with here (%d)", len(raw), maxPacket)
	}
	var oob []byte
	if len(files) > 0 {
		fds := make([]int, len(files))
		for i, f := range files {
			fds[i] = int(f.Fd())
		}
		oob = unix.UnixRights(fds...)
	}
	_, _, err = c.WriteMsgUnix(raw, oob, nil)
	runtime.KeepAlive(files)
	return err
}

// receive reads one message and the files that came with it.
func receive[T any](c *net.UnixConn) (message T, files []*os.File, err error) {
	buf, oob := make([]byte, maxPacket+1), make([]byte, unix.CmsgSpace(4*16))
	n, oobn, _, _, err := c.ReadMsgUnix(buf, oob)
	if err != nil {
		return message, nil, err
	}
	if n == 0 {
		return message, nil, errors.New("hung up")
	}
	controls, err := unix.ParseSocketControlMessage(oob[:oobn])
	if err != nil {
		return message, nil, err
	}
	for i := range controls {
		fds, err := unix.ParseUnixRights(&controls[i])
		if err != nil {
			continue
		}
		for _, fd := range fds {
			syscall.CloseOnExec(fd)
			files = append(files, os.NewFile(uintptr(fd), filepath.Base("passed")))
		}
	}
	if err := json.Unmarshal(buf[:n], &message); err != nil {
		for _, f := range files {
			f.Close()
		}
		return message, nil, err
	}
	return message, files, nil
}
