// Package box is where the programs of one browser session run. A box of its own
// (Linux, by bubblewrap) has its own user, processes, network and files, and one
// way out: what the agent listens to for it. Where there is none, an Open box runs
// the programs beside the agent's own and says so.
//
// Arrows: box knows process and nothing of browsers.
package box

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"parallelpane/internal/engine/process"
)

// Box is a place for the programs of one session.
type Box interface {
	// Start starts a program in the box. With the first one the box gets what the
	// agent has put into the session's directory until then. Paths among its arguments and in its
	// environment are such as Inside gives.
	Start(c process.Command) (*process.Process, error)
	// Inside is the name that a path of the session's directory has in the box.
	Inside(path string) string
	// Lend makes a file of the agent's, which is not there yet, one that programs in
	// the box can write, and gives the name by which they do.
	Lend(path string) (string, error)
	// Give puts a file into the session's directory and gives the path by which
	// programs in the box read it. The name is the last part of that path.
	Give(name string, content io.Reader) (string, error)
	// Dial connects to a port on the loopback of the box.
	Dial(ctx context.Context, port int) (net.Conn, error)
	// Listen listens on a free port of the box's loopback.
	Listen() (net.Listener, error)
	// Port is a port of the box's loopback that nothing listens on now.
	Port() (int, error)
	// Usage is what the box takes up now.
	Usage() Usage
	// Isolated says whether a session in the box sees nothing of the machine.
	Isolated() bool
	// Close ends every program in the box.
	Close()
}

// Limits are what one box may cost. Zero means no limit.
type Limits struct {
	Tasks    int   // processes and threads
	FileSize int64 // bytes of one file
	Memory   int64 // bytes of the box's temporary file systems, each
	Resident int64 // bytes that its processes have for themselves; whoever watches Usage ends the session
	Disk     int64 // bytes of the session's directory; the same
}

// Usage is what a box takes up at one moment.
type Usage struct {
	Memory int64 // bytes that its processes have for themselves
	Disk   int64 // bytes of the session's directory
}

// Path is where programs in a box are looked for.
const Path = "/usr/local/bin:/usr/bin:/bin:/usr/games"

// Looks is where programs are looked for, in a box or beside the agent's own.
func Looks(enclosed bool) string {
	if enclosed {
		return Path
	}
	return os.Getenv("PATH")
}

// Usual are limits that leave a browser with a dozen windows in peace.
var Usual = Limits{Tasks: 2000, FileSize: 2 << 30, Memory: 512 << 20, Resident: 6 << 30, Disk: 4 << 30}

// Needs say what a box is made for.
type Needs struct {
	Dir      string   // the session's directory, the only place that it can write to and that lasts while it lives
	Programs []string // what the session starts; where they lie outside the system's directories they are shown to it
	Limits   Limits
}

// Open is no box: programs run beside the agent's own, as the same user.
type Open struct {
	Dir string // the session's directory, by which its programs are known
}

// Start starts a program beside the agent.
func (o Open) Start(c process.Command) (*process.Process, error) {
	if o.Dir != "" {
		c.Env = append(slices.Clip(c.Env), process.SessionEnv(o.Dir))
	}
	return process.Start(c)
}

// Inside is the path itself.
func (Open) Inside(path string) string { return path }

// Lend is the path itself.
func (Open) Lend(path string) (string, error) { return path, nil }

// Give writes the file below the session's directory.
func (o Open) Give(name string, content io.Reader) (string, error) {
	rest, err := give(o.Dir, name, content, nil)
	return filepath.Join(o.Dir, rest), err
}

// give writes a file of that name into a new directory below dir, which strangers
// may have filled: no link of theirs is followed. It returns the path below dir.
func give(dir, name string, content io.Reader, own func(*os.File) error) (path string, err error) {
	defer func() {
		if err != nil {
			err = fmt.Errorf("give %s to the session: %w", name, err)
		}
	}()
	if name = filepath.Base(name); name == "." || name == string(filepath.Separator) {
		return "", errors.New("it has no name")
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", err
	}
	defer root.Close()
	place := "given-" + rand.Text()
	if err := root.Mkdir(place, 0o700); err != nil {
		return "", err
	}
	d, err := root.Open(place)
	if err != nil {
		return "", err
	}
	defer d.Close()
	path = filepath.Join(place, name)
	f, err := root.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	if _, err := io.Copy(f, content); err != nil {
		return "", err
	}
	if own == nil {
		return path, nil
	}
	return path, errors.Join(own(f), own(d))
}

// Usage is not known: nobody can tell a session's programs from others for sure.
func (Open) Usage() Usage { return Usage{} }

// Isolated is false.
func (Open) Isolated() bool { return false }

// Close does nothing: whoever started a program ends it.
func (Open) Close() {}

// Dial connects to a port on the machine's loopback.
func (Open) Dial(ctx context.Context, port int) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", port))
}

// Listen listens on the machine's loopback.
func (Open) Listen() (net.Listener, error) { return net.Listen("tcp", "127.0.0.1:0") }

// Port is a port that was free a moment ago; somebody else may take it meanwhile.
func (o Open) Port() (int, error) {
	l, err := o.Listen()
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// within gives the part of path below dir; false when it is not below it.
func within(path, dir string) (string, bool) {
	rest, err := filepath.Rel(dir, path)
	if err != nil || rest == ".." || strings.HasPrefix(rest, ".."+string(filepath.Separator)) {
		return "", false
	}
	return rest, true
}
