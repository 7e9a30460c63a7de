package box

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"parallelpane/internal/engine/process"
)

// home is what the session's directory is called in a box.
const home = "/home/pane"

// program is what this program is called in a box, where it is the helper.
const program = "/run/pane/helper"

// system are the parts of the machine that a box shows, to read only; what is not
// there is left out. None of it tells one machine from another.
var system = []string{
	"/usr", "/etc/alternatives", "/etc/fonts", "/etc/ssl/certs", "/etc/ssl/openssl.cnf", "/etc/java-17-openjdk", "/etc/python3",
	"/etc/ld.so.cache", "/etc/ld.so.conf", "/etc/ld.so.conf.d",
	"/etc/localtime", "/etc/timezone", "/etc/mime.types", "/etc/magic", "/etc/protocols", "/etc/services", "/etc/nsswitch.conf",
	"/etc/gtk-3.0", "/etc/gtk-4.0", "/etc/X11", "/etc/chromium", "/etc/chromium.d", "/etc/firefox", "/etc/firefox-esr",
	"/etc/glvnd", "/etc/drirc", "/etc/vulkan", "/var/cache/fontconfig",
}

// enclosed is a box made by bubblewrap. The agent speaks to its helper over one
// socket; what programs print and the sockets themselves come as descriptors, so
// that nothing stands between the agent and a driver, nor between a page and the
// agent's door.
type enclosed struct {
	dir   string
	owner *owner           // nil where the agent's own user is the only one to be had
	wrap  *process.Process // bubblewrap; with it everything in the box ends
	conn  *net.UnixConn
	heard sync.WaitGroup

	mu      sync.Mutex
	last    int                    // id of the last request
	waiting map[int]chan<- replied // by request
	ended   map[int]chan error     // by program, until its end has been told
	owned   bool                   // the directory is the box's
	over    error                  // why nothing is answered any more
}

type replied struct {
	answer
	file *os.File
}

// Find gives bubblewrap's path, or says why there is no box.
func Find() (string, error) {
	path, err := exec.LookPath("bwrap")
	if err != nil {
		return "", errors.New("bubblewrap is not installed (Debian package bubblewrap)")
	}
	return path, nil
}

// Enclose makes a box and returns when its helper is there.
func Enclose(ctx context.Context, n Needs) (Box, error) {
	b, err := enclose(ctx, n)
	if err != nil {
		return nil, fmt.Errorf("make a sandbox: %w", err)
	}
	return b, nil
}

func enclose(ctx context.Context, n Needs) (_ *enclosed, err error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	bwrap, err := Find()
	if err != nil {
		return nil, err
	}
	b := &enclosed{dir: n.Dir, waiting: map[int]chan<- replied{}, ended: map[int]chan error{}}
	defer func() {
		if err != nil {
			b.Close()
		}
	}()
	if b.owner, err = newOwner(); err != nil {
		return nil, err
	}
	if err = b.writeIdentity(); err != nil {
		return nil, err
	}
	ours, theirs, err := pair()
	if err != nil {
		return nil, err
	}
	b.conn = ours
	defer theirs.Close()
	args, err := arguments(n, b.owner)
	if err != nil {
		return nil, err
	}
	told, err := json.Marshal(terms{n.Limits, b.owner.number()})
	if err != nil {
		return nil, err
	}
	if b.wrap, err = start(bwrap, append(args, "--clearenv", "--setenv", helperKey, string(told), "--", program), theirs); err != nil {
		return nil, err
	}
	ready := make(chan struct{})
	b.heard.Go(func() { b.listen(ready) })
	select {
	case <-ready:
		return b, nil
	case <-b.wrap.Done():
		return nil, b.wrap.Gone()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// start starts bubblewrap, with nothing of ours in its environment.
func start(path string, args []string, control *os.File) (*process.Process, error) {
	cmd := exec.Command(path, args...)
	cmd.Env = []string{"PATH=/usr/bin:/bin"}
	cmd.ExtraFiles = []*os.File{control}
	cmd.Dir = "/"
	out := process.NewOutput(nil)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.WaitDelay = time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start bubblewrap: %w", err)
	}
	return process.Attach(path, out, wrapper{cmd}), nil
}

// wrapper is bubblewrap: with it its whole box ends, at once.
type wrapper struct{ *exec.Cmd }

func (w wrapper) PID() int { return w.Process.Pid }

func (w wrapper) Terminate() { w.Kill() }
func (w wrapper) Kill()      { _ = syscall.Kill(-w.Process.Pid, syscall.SIGKILL) }
func (w wrapper) Hasten()    {}

// arguments are what bubblewrap is started with, but for the helper.
func arguments(n Needs, o *owner) ([]string, error) {
	size := fmt.Sprint(max(n.Limits.Memory, 64<<20))
	args := []string{
		"--unshare-pid", "--unshare-ipc", "--unshare-net", "--unshare-uts", "--unshare-cgroup-try",
		"--hostname", "pane", "--die-with-parent", "--new-session",
		"--perms", "0755", "--dir", "/etc", "--perms", "0755", "--dir", "/etc/ssl",
		"--perms", "0755", "--dir", "/var", "--perms", "0755", "--dir", "/var/cache",
		"--perms", "0755", "--dir", "/home", "--perms", "0755", "--dir", "/run", "--perms", "0755", "--dir", "/run/pane",
		"--proc", "/proc", "--dev", "/dev", "--size", size, "--tmpfs", "/dev/shm", "--size", size, "--tmpfs", "/tmp",
		"--chmod", "1777", "/tmp", "--chmod", "1777", "/dev/shm",
	}
	if o != nil { // root makes the box as it is and the helper becomes the owner
		args = append(args, "--cap-drop", "ALL", "--cap-add", "CAP_SETUID", "--cap-add", "CAP_SETGID")
	} else {
		args = append(args, "--unshare-user", "--uid", strconv.Itoa(ownUser), "--gid", strconv.Itoa(ownUser))
	}
	for _, path := range system {
		if info, err := os.Stat(path); err == nil && (info.IsDir() || info.Mode().IsRegular()) {
			args = append(args, "--ro-bind", path, path)
		}
	}
	for _, path := range []string{"/lib", "/lib32", "/lib64", "/bin", "/sbin"} {
		if to, err := os.Readlink(path); err == nil {
			args = append(args, "--symlink", to, path)
		} else if _, err := os.Stat(path); err == nil {
			args = append(args, "--ro-bind", path, path)
		}
	}
	for _, path := range n.Programs {
		dir, err := outside(path)
		if err != nil {
			return nil, err
		}
		if dir != "" {
			args = append(append(args, shown(filepath.Dir(dir))...), "--ro-bind", dir, dir)
		}
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	args = append(args, "--ro-bind", self, program, "--bind", n.Dir, home, "--chdir", "/")
	for name := range identity(o) {
		args = append(args, "--ro-bind", filepath.Join(n.Dir, etc, name), "/etc/"+name)
	}
	return args, nil
}

// shown makes directories, and those above them, that everybody may pass through;
// bubblewrap's own are for its user alone.
func shown(dirs ...string) (args []string) {
	for _, dir := range dirs {
		if dir != "/" {
			args = append(append(args, shown(filepath.Dir(dir))...), "--perms", "0755", "--dir", dir)
		}
	}
	return args
}

// outside gives the directory of a program that the system's directories do not
// hold; "" when they do.
func outside(path string) (string, error) {
	if path == "" || !filepath.IsAbs(path) {
		return "", nil
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", err
	}
	if strings.HasPrefix(real, "/usr/") || strings.HasPrefix(real, "/bin/") {
		return "", nil
	}
	return filepath.Dir(real), nil
}

// etc is where the box's own system files lie in the session's directory.
const etc = ".etc"

// identity are the files by which programs know their user and this machine.
func identity(o *owner) map[string]string {
	id := ownUser
	if o != nil {
		id = int(o.id)
	}
	return map[string]string{
		"passwd": fmt.Sprintf("pane:x:%d:%d:pane:%s:/usr/sbin/nologin\n", id, id, home),
		"group":  fmt.Sprintf("pane:x:%d:\n", id),
		"hosts":  "127.0.0.1 localhost pane\n::1 localhost\n",
	}
}

func (b *enclosed) writeIdentity() error {
	if err := os.Mkdir(filepath.Join(b.dir, etc), 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	for name, text := range identity(b.owner) {
		if err := os.WriteFile(filepath.Join(b.dir, etc, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// own gives the session's directory, with what the agent has put there, to the
// box's user: once, before anything of the session runs that could lead it astray.
func (b *enclosed) own() error {
	b.mu.Lock()
	owned := b.owned || b.owner == nil
	b.owned = true
	b.mu.Unlock()
	if owned {
		return nil
	}
	return filepath.WalkDir(b.dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, int(b.owner.id), int(b.owner.id))
	})
}

// pair makes a connection of which the box gets one end.
func pair() (*net.UnixConn, *os.File, error) {
	fds, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_SEQPACKET|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	ours := os.NewFile(uintptr(fds[0]), "box")
	defer ours.Close()
	theirs := os.NewFile(uintptr(fds[1]), "control")
	conn, err := net.FileConn(ours)
	if err != nil {
		theirs.Close()
		return nil, nil, err
	}
	return conn.(*net.UnixConn), theirs, nil
}

// listen hears what the helper says until the box ends.
func (b *enclosed) listen(ready chan<- struct{}) {
	for {
		a, files, err := receive[answer](b.conn)
		if err != nil {
			b.lost(err)
			return
		}
		var file *os.File
		for i, f := range files {
			if i == 0 {
				file = f
			} else {
				f.Close()
			}
		}
		switch {
		case a.Ready:
			close(ready)
			ready = nil
		case a.Ended:
			b.programEnded(a)
		default:
			b.mu.Lock()
			to := b.waiting[a.ID]
			delete(b.waiting, a.ID)
			b.mu.Unlock()
			if to != nil {
				to <- replied{a, file}
				file = nil
			}
		}
		if file != nil {
			file.Close()
		}
	}
}

func (b *enclosed) programEnded(a answer) {
	var err error
	if a.Error != "" {
		err = errors.New(a.Error)
	}
	b.endOf(a.PID) <- err
}

// endOf is the channel on which the end of a program is told, once. The end may be
// heard of before the answer to the start.
func (b *enclosed) endOf(pid int) chan error {
	b.mu.Lock()
	defer b.mu.Unlock()
	c, ok := b.ended[pid]
	if !ok {
		c = make(chan error, 1)
		b.ended[pid] = c
		if b.over != nil {
			c <- b.over
		}
	}
	return c
}

func (b *enclosed) forget(pid int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.ended, pid)
}

// lost ends everything that waits for the box.
func (b *enclosed) lost(err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.over = fmt.Errorf("the sandbox is gone: %w", err)
	for id, c := range b.waiting {
		close(c)
		delete(b.waiting, id)
	}
	for _, c := range b.ended {
		select {
		case c <- b.over:
		default:
		}
	}
}

// ask sends a request and waits for its answer.
func (b *enclosed) ask(ctx context.Context, r request, files ...*os.File) (replied, error) {
	c := make(chan replied, 1)
	b.mu.Lock()
	if b.over != nil {
		b.mu.Unlock()
		return replied{}, b.over
	}
	b.last++
	r.ID = b.last
	b.waiting[r.ID] = c
	err := send(b.conn, r, files...)
	b.mu.Unlock()
	if err != nil {
		return replied{}, err
	}
	select {
	case a, ok := <-c:
		switch {
		case !ok:
			b.mu.Lock()
			defer b.mu.Unlock()
			return replied{}, b.over
		case a.Error != "":
			return replied{}, errors.New(a.Error)
		}
		return a, nil
	case <-ctx.Done():
		b.mu.Lock()
		delete(b.waiting, r.ID)
		b.mu.Unlock()
		return replied{}, ctx.Err()
	}
}

// Start starts a program in the box.
func (b *enclosed) Start(c process.Command) (*process.Process, error) {
	if err := b.own(); err != nil {
		return nil, fmt.Errorf("start %s: %w", filepath.Base(c.Path), err)
	}
	read, write, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("start %s: %w", filepath.Base(c.Path), err)
	}
	defer write.Close()
	env := append(environment(), c.Env...)
	ctx, done := context.WithTimeout(context.Background(), 20*time.Second)
	defer done()
	a, err := b.ask(ctx, request{Verb: "start", Path: c.Path, Args: c.Args, Env: env, Dir: home}, append([]*os.File{write}, c.Files...)...)
	if err != nil {
		read.Close()
		return nil, fmt.Errorf("start %s: %w", filepath.Base(c.Path), err)
	}
	out := process.NewOutput(c.Log)
	p := &inmate{box: b, pid: a.PID, ended: b.endOf(a.PID), read: read, printed: make(chan struct{})}
	go p.copy(out)
	return process.Attach(c.Path, out, p), nil
}

// environment is what every program in a box starts from.
func environment() []string {
	env := []string{"PATH=" + Path, "HOME=" + home, "USER=pane", "LOGNAME=pane", "TMPDIR=/tmp",
		"XDG_RUNTIME_DIR=/tmp"}
	for _, entry := range process.Inherited() {
		name, _, _ := strings.Cut(entry, "=")
		if name == "LANG" || name == "LANGUAGE" || name == "TZ" || strings.HasPrefix(name, "LC_") {
			env = append(env, entry)
		}
	}
	return env
}

// inmate is a program in the box.
type inmate struct {
	box     *enclosed
	pid     int // as the box counts
	ended   <-chan error
	read    *os.File
	printed chan struct{}
}

func (p *inmate) copy(out io.Writer) {
	defer close(p.printed)
	_, _ = io.Copy(out, p.read)
}

// Wait waits for the program, and a moment for what its children still print.
func (p *inmate) Wait() error {
	err := <-p.ended
	p.box.forget(p.pid)
	select {
	case <-p.printed:
	case <-time.After(2 * time.Second):
	}
	p.read.Close()
	return err
}

// PID is the program's number in the box.
func (p *inmate) PID() int { return p.pid }

// Terminate asks the program's group to end.
func (p *inmate) Terminate() { _ = p.signal("terminate") }

// Kill ends the program's group, and the whole box when its helper does not
// answer: a program of the session can stop it.
func (p *inmate) Kill() {
	if errors.Is(p.signal("kill"), context.DeadlineExceeded) {
		p.box.wrap.Stop(0)
	}
}

func (p *inmate) signal(verb string) error {
	ctx, done := context.WithTimeout(context.Background(), 2*time.Second)
	defer done()
	_, err := p.box.ask(ctx, request{Verb: verb, PID: p.pid})
	return err
}

// Hasten puts the program before others, where the agent may.
func (p *inmate) Hasten() {
	if pid := p.box.onMachine(p.pid); pid != 0 {
		process.HastenGroup(pid)
	}
}

// onMachine is what the machine calls a process that the box calls pid; 0 when it
// is gone.
func (b *enclosed) onMachine(pid int) int {
	all, _ := filepath.Glob("/proc/[0-9]*/status")
	for _, file := range all {
		raw, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		_, line, _ := strings.Cut(string(raw), "\nNSpid:")
		line, _, _ = strings.Cut(line, "\n")
		ids := strings.Fields(line)
		if len(ids) < 2 || ids[len(ids)-1] != strconv.Itoa(pid) {
			continue
		}
		if n, err := strconv.Atoi(ids[0]); err == nil && descends(n, b.wrap.PID()) {
			return n
		}
	}
	return 0
}

// descends says whether a process was started by another, or by one that was.
func descends(pid, from int) bool {
	for range 64 {
		raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil || pid <= 1 {
			return false
		}
		// pid (name) state parent …; the name may hold anything.
		fields := strings.Fields(string(raw[strings.LastIndexByte(string(raw), ')')+1:]))
		if len(fields) < 2 {
			return false
		}
		if pid, err = strconv.Atoi(fields[1]); err != nil {
			return false
		}
		if pid == from {
			return true
		}
	}
	return false
}

// Inside is the name that a path of the session's directory has in the box.
func (b *enclosed) Inside(path string) string {
	if rest, ok := within(path, b.dir); ok {
		return filepath.Join(home, rest)
	}
	return path
}

// Lend gives the file a second name in the session's directory.
func (b *enclosed) Lend(path string) (string, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", fmt.Errorf("lend a file to the sandbox: %w", err)
	}
	defer f.Close()
	name := ".lent-" + rand.Text() + filepath.Ext(path)
	if b.owner != nil {
		err = f.Chown(int(b.owner.id), int(b.owner.id))
	}
	if err = errors.Join(err, os.Link(path, filepath.Join(b.dir, name))); err != nil {
		return "", errors.Join(fmt.Errorf("lend a file to the sandbox: %w", err), os.Remove(path))
	}
	return filepath.Join(home, name), nil
}

// Give writes the file below the session's directory, as the box's user.
func (b *enclosed) Give(name string, content io.Reader) (string, error) {
	own := func(f *os.File) error {
		if b.owner == nil {
			return nil
		}
		return f.Chown(int(b.owner.id), int(b.owner.id))
	}
	rest, err := give(b.dir, name, content, own)
	return filepath.Join(home, rest), err
}

// Isolated is true.
func (b *enclosed) Isolated() bool { return true }

// Dial connects to a port of the box.
func (b *enclosed) Dial(ctx context.Context, port int) (net.Conn, error) {
	a, err := b.ask(ctx, request{Verb: "dial", Port: port})
	if err != nil {
		return nil, err
	}
	if a.file == nil {
		return nil, errors.New("the sandbox brought no connection")
	}
	defer a.file.Close()
	return net.FileConn(a.file)
}

// Listen listens on a free port of the box; connections to it are the agent's.
func (b *enclosed) Listen() (net.Listener, error) {
	ctx, done := context.WithTimeout(context.Background(), 10*time.Second)
	defer done()
	a, err := b.ask(ctx, request{Verb: "listen"})
	if err != nil {
		return nil, err
	}
	if a.file == nil {
		return nil, errors.New("the sandbox brought no listener")
	}
	defer a.file.Close()
	return net.FileListener(a.file)
}

// Port is one that nothing else listens on: the box is a network of its own.
func (b *enclosed) Port() (int, error) {
	l, err := b.Listen()
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Close ends every program in the box, and the box.
func (b *enclosed) Close() {
	if b.wrap != nil {
		b.wrap.Stop(0)
		// bubblewrap's end is the helper's, whose end of the line is heard.
		_ = b.conn.SetReadDeadline(time.Now().Add(2 * time.Second))
		b.heard.Wait()
	}
	if b.conn != nil {
		b.conn.Close()
	}
	b.owner.release()
}
