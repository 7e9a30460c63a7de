// Package standin is a server of the Android Debug Bridge with phones that do not exist.
// Their browser is a Chromium of this machine without a window; what is not needed to
// open it, their shell does not know. They say of themselves that they stand in.
package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/adb"
	"parallelpane/internal/engine/android"
	"parallelpane/internal/engine/process"
)

// Phone is one of the phones.
type Phone struct {
	Serial  string `json:"serial"`
	Model   string `json:"model"`
	Android string `json:"android"` // version of the system
	Width   int    `json:"width"`   // of the screen, in its own pixels
	Height  int    `json:"height"`
	Dots    int    `json:"dots"`    // an inch
	Version string `json:"version"` // of its Chrome
}

// Phones are two to start with.
var Phones = []Phone{
	{Serial: "STANDIN0007", Model: "Quay 7", Android: "16", Width: 1080, Height: 2400, Dots: 420},
	{Serial: "STANDIN0003", Model: "Jolle mini", Android: "13", Width: 720, Height: 1520, Dots: 320},
}

// Server is a server with its phones, all plugged in at first.
type Server struct {
	Browser string // the Chromium that phones open
	Dir     string // for what they keep

	mu       sync.Mutex
	phones   map[string]*phone
	order    []string
	trackers map[chan struct{}]bool
	conns    map[net.Conn]bool
	tasks    sync.WaitGroup
}

// phone is a phone as it is now.
type phone struct {
	Phone
	state   string // "" is pulled out
	locked  bool
	args    []string // of the browser's command line
	browser *process.Process
	port    int // of the browser's protocol
	reverse map[int]net.Listener
	conns   map[net.Conn]bool
}

const app = "com.android.chrome"

// New is a server for phones whose Chrome has the version of the Chromium that opens.
func New(browser, version, dir string, phones ...Phone) *Server {
	s := &Server{Browser: browser, Dir: dir, phones: map[string]*phone{}, trackers: map[chan struct{}]bool{}, conns: map[net.Conn]bool{}}
	for _, p := range phones {
		if p.Version == "" {
			p.Version = version
		}
		s.phones[p.Serial] = &phone{Phone: p, state: adb.Ready, reverse: map[int]net.Listener{}, conns: map[net.Conn]bool{}}
		s.order = append(s.order, p.Serial)
	}
	return s
}

// Serve answers on a listener until the context ends; then everything is ended.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		if err != nil {
			s.close()
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		s.mu.Lock()
		s.conns[c] = true
		s.mu.Unlock()
		s.tasks.Go(func() {
			defer func() {
				_ = c.Close()
				s.mu.Lock()
				delete(s.conns, c)
				s.mu.Unlock()
			}()
			s.answer(c)
		})
	}
}

func (s *Server) close() {
	for _, serial := range s.order {
		s.Set(serial, "")
	}
	s.mu.Lock()
	for c := range s.conns {
		_ = c.Close()
	}
	for t := range s.trackers {
		close(t)
	}
	clear(s.trackers)
	s.mu.Unlock()
	s.tasks.Wait()
}

// Set puts a phone into a state of adb.Device; "" pulls it out, which ends what it does.
func (s *Server) Set(serial, state string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.phones[serial]
	if p == nil {
		return
	}
	if p.state = state; state == "" {
		for c := range p.conns {
			_ = c.Close()
		}
		for port, l := range p.reverse {
			_ = l.Close()
			delete(p.reverse, port)
		}
		p.stop()
	}
	s.changedLocked()
}

// Lock puts a lock on a phone's screen, or takes it away.
func (s *Server) Lock(serial string, locked bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p := s.phones[serial]; p != nil {
		p.locked = locked
	}
}

func (s *Server) changedLocked() {
	for t := range s.trackers {
		select {
		case t <- struct{}{}:
		default:
		}
	}
}

// stop ends the browser.
func (p *phone) stop() {
	if p.browser != nil {
		p.browser.Stop(0)
		p.browser = nil
	}
}

func (s *Server) list() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var b strings.Builder
	for _, serial := range s.order {
		if p := s.phones[serial]; p.state != "" {
			fmt.Fprintf(&b, "%-22s %s", serial, p.state)
			if p.state == adb.Ready {
				fmt.Fprintf(&b, " product:standin model:%s device:standin", strings.ReplaceAll(p.Model, " ", "_"))
			}
			b.WriteString("\n")
		}
	}
	return b.String()
}

func (s *Server) answer(c net.Conn) {
	request, err := adb.ReadText(c)
	if err != nil {
		return
	}
	serial, chosen := strings.CutPrefix(request, "host:transport:")
	switch {
	case request == "host:version":
		_ = adb.Grant(c, "0029")
	case request == "host:devices-l" || request == "host:devices":
		_ = adb.Grant(c, s.list())
	case request == "host:track-devices-l" || request == "host:track-devices":
		s.track(c)
	case chosen:
		s.mu.Lock()
		p := s.phones[serial]
		state := ""
		if p != nil {
			state = p.state
		}
		if state == adb.Ready {
			p.conns[c] = true
		}
		s.mu.Unlock()
		switch {
		case state == "":
			_ = adb.Refuse(c, "device '"+serial+"' not found")
		case state != adb.Ready:
			_ = adb.Refuse(c, "device "+state)
		case adb.Grant(c) == nil:
			s.service(c, p)
		}
		if p != nil {
			s.mu.Lock()
			delete(p.conns, c)
			s.mu.Unlock()
		}
	default:
		_ = adb.Refuse(c, "a stand-in does not know "+request)
	}
}

func (s *Server) track(c net.Conn) {
	more := make(chan struct{}, 1)
	s.mu.Lock()
	s.trackers[more] = true
	s.mu.Unlock()
	err := adb.Grant(c, s.list())
	gone := make(chan struct{})
	go func() {
		_, _ = io.Copy(io.Discard, c) // which ends when the client hangs up
		close(gone)
	}()
	for err == nil {
		select {
		case _, open := <-more:
			if !open {
				return
			}
			err = adb.WriteText(c, s.list())
		case <-gone:
			err = io.EOF
		}
	}
	s.mu.Lock()
	delete(s.trackers, more)
	s.mu.Unlock()
}

// service answers the request that follows the choice of a phone.
func (s *Server) service(c net.Conn, p *phone) {
	request, err := adb.ReadText(c)
	if err != nil {
		return
	}
	kind, rest, _ := strings.Cut(request, ":")
	switch kind {
	case "shell":
		if adb.Grant(c) == nil {
			command, echo := strings.CutSuffix(rest, `; echo "$?"`)
			out, status := s.shell(p, command)
			if echo {
				out += strconv.Itoa(status) + "\n"
			}
			_, _ = io.WriteString(c, out)
		}
	case "sync":
		if adb.Grant(c) == nil {
			s.files(c, p)
		}
	case "localabstract":
		s.mu.Lock()
		port := p.port
		running := p.browser != nil && p.browser.Gone() == nil
		s.mu.Unlock()
		if rest != "chrome_devtools_remote" || !running {
			_ = adb.Refuse(c, "no socket is called "+rest)
			return
		}
		to, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			_ = adb.Refuse(c, err.Error())
			return
		}
		if adb.Grant(c) == nil {
			adb.Join(c, to)
		}
	case "reverse":
		s.reverse(c, p, rest)
	default:
		_ = adb.Refuse(c, "a stand-in does not know "+request)
	}
}

// reverse makes a port of this machine one of the phone's, whose loopback is this
// machine's too.
func (s *Server) reverse(c net.Conn, p *phone, what string) {
	if adb.Grant(c) != nil { // the server; what follows is the phone
		return
	}
	var from, to int
	if _, err := fmt.Sscanf(what, "forward:tcp:%d;tcp:%d", &from, &to); err == nil {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", from))
		if err != nil {
			_ = adb.Refuse(c, err.Error())
			return
		}
		from = l.Addr().(*net.TCPAddr).Port
		s.mu.Lock()
		p.reverse[from] = l
		s.mu.Unlock()
		s.tasks.Go(func() {
			for {
				in, err := l.Accept()
				if err != nil {
					return
				}
				s.tasks.Go(func() {
					defer in.Close()
					if out, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", to)); err == nil {
						adb.Join(in, out)
					}
				})
			}
		})
		_ = adb.Grant(c, strconv.Itoa(from))
		return
	}
	if _, err := fmt.Sscanf(what, "killforward:tcp:%d", &from); err == nil {
		s.mu.Lock()
		l := p.reverse[from]
		delete(p.reverse, from)
		s.mu.Unlock()
		if l == nil {
			_ = adb.Refuse(c, "listener not found")
			return
		}
		_ = l.Close()
		_ = adb.Grant(c)
		return
	}
	_ = adb.Refuse(c, "a stand-in does not know reverse:"+what)
}

// files takes files: the browser's command line, and those that are given to pages.
func (s *Server) files(c net.Conn, p *phone) {
	var name string
	var content []byte
	for {
		id, body, err := adb.ReadSync(c, 64<<10)
		if err != nil {
			return
		}
		switch id {
		case "SEND":
			name, _, _ = strings.Cut(string(body), ",")
			content = nil
		case "DATA":
			if content = append(content, body...); len(content) > 64<<20 {
				return
			}
		case "DONE":
			if err := s.keep(p, name, content); err != nil {
				_ = adb.WriteSync(c, "FAIL", []byte(err.Error()))
				return
			}
			_ = adb.WriteSync(c, "OKAY", nil)
		default:
			return
		}
	}
}

func (s *Server) keep(p *phone, name string, content []byte) error {
	if strings.HasSuffix(name, "/chrome-command-line") {
		s.mu.Lock()
		p.args = words(string(content))
		s.mu.Unlock()
		return nil
	}
	if !filepath.IsAbs(name) || filepath.Clean(name) != name || filepath.Dir(filepath.Dir(name)) != s.Dir {
		return errors.New("a stand-in keeps no such file")
	}
	return os.WriteFile(name, content, 0o644)
}

// words are those of a command line, of which double quotes hold some together.
func words(line string) (out []string) {
	word, quoted, any := "", false, false
	for _, r := range strings.TrimSpace(line) {
		switch {
		case r == '"':
			quoted, any = !quoted, true
		case (r == ' ' || r == '\n') && !quoted:
			if any {
				out = append(out, word)
			}
			word, any = "", false
		default:
			word, any = word+string(r), true
		}
	}
	if any {
		out = append(out, word)
	}
	return out
}

// shell is what the phone's shell says to a command, and its status.
func (s *Server) shell(p *phone, command string) (string, int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	is := strings.HasPrefix
	switch {
	case command == "getprop":
		return fmt.Sprintf("[ro.build.version.release]: [%s]\n[ro.product.cpu.abi]: [arm64-v8a]\n[ro.product.manufacturer]: [%s]\n"+
			"[ro.product.model]: [%s]\n", p.Android, android.StandInMaker, p.Model), 0
	case command == "getprop ro.build.version.release":
		return p.Android + "\n", 0
	case command == "nproc":
		return "8\n", 0
	case command == "cat /proc/meminfo":
		return "MemTotal:        7812340 kB\nMemFree:          412340 kB\n", 0
	case command == "wm size":
		return fmt.Sprintf("Physical size: %dx%d\n", p.Width, p.Height), 0
	case command == "wm density":
		return fmt.Sprintf("Physical density: %d\n", p.Dots), 0
	case command == "pm list packages":
		return "package:com.android.settings\npackage:" + app + "\n", 0
	case is(command, "pm path ") && strings.HasSuffix(command, " "+app):
		return "package:/data/app/" + app + "/base.apk\n", 0
	case is(command, "dumpsys package "+app):
		return "Packages:\n  Package [" + app + "]:\n    versionCode=1 minSdk=29\n    versionName=" + p.Version + "\n", 0
	case command == "dumpsys window policy":
		return fmt.Sprintf("  KeyguardServiceDelegate\n    showing=%t\n    secure=%[1]t\n", p.locked), 0
	case is(command, "input keyevent "), command == "wm dismiss-keyguard", is(command, "svc power stayon "),
		is(command, "am set-debug-app "), is(command, "pm grant "):
		return "", 0
	case is(command, "pm clear "):
		return "Success\n", 0
	case is(command, "am start "):
		if err := s.startLocked(p); err != nil {
			return "Error: " + err.Error() + "\n", 1
		}
		return "Starting: Intent { cmp=" + app + " }\nStatus: ok\nComplete\n", 0
	case is(command, "am force-stop "):
		p.stop()
		return "", 0
	case command == "mktemp -d /data/local/tmp/pane-XXXXXXXXXX": // in a directory of this machine
		dir, err := os.MkdirTemp(s.Dir, "pane-")
		if err != nil {
			return err.Error() + "\n", 1
		}
		return dir + "\n", 0
	case is(command, "chmod 755 "):
		return "", 0
	case is(command, "rm -rf "):
		if dir := strings.TrimPrefix(command, "rm -rf "); filepath.Dir(dir) == s.Dir {
			_ = os.RemoveAll(dir) // what stays goes with the server's directory
		}
		return "", 0
	}
	return "/system/bin/sh: a stand-in does not know: " + command + "\n", 127
}

// startLocked starts the browser that the phone opens.
func (s *Server) startLocked(p *phone) error {
	if p.locked {
		return errors.New("the keyguard is showing")
	}
	p.stop()
	if s.Browser == "" {
		return errors.New("a stand-in needs a Chromium on this machine")
	}
	profile, err := os.MkdirTemp(s.Dir, "phone-")
	if err != nil {
		return err
	}
	args := []string{"--headless=new", "--disable-gpu", "--remote-debugging-port=0", "--user-data-dir=" + profile,
		fmt.Sprintf("--window-size=%d,%d", p.Width*160/p.Dots, p.Height*160/p.Dots), "--touch-events=enabled",
		"--user-agent=Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/" +
			strings.Split(p.Version, ".")[0] + ".0.0.0 Mobile Safari/537.36"}
	if os.Geteuid() == 0 {
		args = append(args, "--no-sandbox")
	}
	if len(p.args) > 0 {
		args = append(args, p.args[1:]...)
	}
	b, err := process.Start(process.Command{Path: s.Browser, Args: append(args, "about:blank")})
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	line, err := b.WaitLine(ctx, listening.MatchString)
	if err != nil {
		b.Stop(0)
		return err
	}
	p.port, _ = strconv.Atoi(listening.FindStringSubmatch(line)[1])
	p.browser = b
	s.tasks.Go(func() {
		<-b.Done()
		_ = os.RemoveAll(profile) // what is left of it goes with the server's directory
	})
	return nil
}

var listening = regexp.MustCompile(`DevTools listening on ws://127\.0\.0\.1:(\d+)/`)

// VersionOf asks a Chromium for its version.
func VersionOf(browser string) (string, error) {
	out, err := exec.Command(browser, "--version").Output()
	if err != nil {
		return "", fmt.Errorf("%s --version: %w", browser, err)
	}
	if v := regexp.MustCompile(`\d+(?:\.\d+){3}`).Find(out); v != nil {
		return string(v), nil
	}
	return "", fmt.Errorf("%s --version says no version: %.80q", browser, out)
}
