package android

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"parallelpane/internal/adb"
	"parallelpane/internal/engine/box"
)

// gate is the adb server as a session's driver sees it: one phone, and of its shell what
// a driver needs to open one browser. Sockets of the browser are offered on the loopback
// of the session's box.
type gate struct {
	phone *Phone
	box   box.Box
	app   string // package of the browser

	ctx   context.Context
	end   context.CancelFunc
	tasks sync.WaitGroup
	mu    sync.Mutex
	open  map[int]net.Listener // of the browser's sockets, by port
}

// newGate serves a driver in a box until close; it answers at the port.
func newGate(p *Phone, b box.Box, app string) (g *gate, port int, err error) {
	l, err := b.Listen()
	if err != nil {
		return nil, 0, err
	}
	g = &gate{phone: p, box: b, app: app, open: map[int]net.Listener{}}
	g.ctx, g.end = context.WithCancel(context.Background())
	g.listen(l, g.serve)
	return g, portOf(l), nil
}

func portOf(l net.Listener) int {
	a, _ := l.Addr().(*net.TCPAddr)
	return a.Port
}

func (g *gate) close() {
	g.end()
	g.tasks.Wait()
}

// maxOpen is how many connections a driver may have at once.
const maxOpen = 64

// listen has a function serve each connection until the gate is closed.
func (g *gate) listen(l net.Listener, serve func(net.Conn)) {
	stop := context.AfterFunc(g.ctx, func() { _ = l.Close() })
	turn := make(chan struct{}, maxOpen)
	g.tasks.Go(func() {
		defer stop()
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			turn <- struct{}{}
			g.tasks.Go(func() {
				defer func() { <-turn }()
				defer c.Close()
				defer context.AfterFunc(g.ctx, func() { _ = c.Close() })()
				serve(c)
			})
		}
	})
}

// serve answers the requests of one connection.
func (g *gate) serve(c net.Conn) {
	request, err := adb.ReadText(c)
	if err != nil {
		return
	}
	mine := "host-serial:" + g.phone.Serial + ":"
	switch {
	case request == "host:version":
		_ = adb.Grant(c, "0029")
	case request == "host:devices":
		_ = adb.Grant(c, g.phone.Serial+"\t"+adb.Ready+"\n")
	case request == "host:transport:"+g.phone.Serial:
		if adb.Grant(c) == nil {
			g.service(c)
		}
	case strings.HasPrefix(request, mine+"forward:"):
		g.forward(c, strings.TrimPrefix(request, mine+"forward:"))
	case strings.HasPrefix(request, mine+"killforward:tcp:"):
		g.unforward(c, strings.TrimPrefix(request, mine+"killforward:tcp:"))
	default:
		_ = adb.Refuse(c, fmt.Sprintf("%.100q is not for sessions", request))
	}
}

// commands are what a driver has a phone's shell do for a browser's package; APP stands
// for it.
var commands = []string{
	`getprop ro\.build\.version\.(?:release|sdk)`,
	`pm path (?:--user cur )?APP`,
	`pm clear (?:--user \w+ )?APP`,
	`pm grant APP android\.permission\.[A-Z_]+`,
	`am set-debug-app --persistent APP`,
	`am clear-debug-app`,
	`am start -W -n APP/[\w.]+(?: -d data:,)?`,
	`am force-stop APP`,
	`dumpsys package APP(?: \| grep -F versionName)?`,
	`ps(?: && ps -A| -A)?`,
	`cat /proc/net/unix`,
	`echo "(?:[^"\\$` + "`" + `]|\\["\\])*" > /data/local/tmp/[\w-]+-command-line; ?echo \$\?`,
}

// may says whether a driver may have the phone's shell run a command.
func (g *gate) may(command string) bool {
	for _, c := range commands {
		if regexp.MustCompile("^" + strings.ReplaceAll(c, "APP", regexp.QuoteMeta(g.app)) + "$").MatchString(command) {
			return true
		}
	}
	return false
}

var commandLine = regexp.MustCompile(`^/data/local/tmp/[\w-]+-command-line,\d+$`)

// service answers the request that follows the choice of the phone: a command of its
// shell, or the file with the browser's command line.
func (g *gate) service(c net.Conn) {
	request, err := adb.ReadText(c)
	if err != nil {
		return
	}
	command, shell := strings.CutPrefix(request, "shell:")
	switch {
	case shell && g.may(command), request == "sync:":
	default:
		_ = adb.Refuse(c, fmt.Sprintf("%.100q is not for sessions", request))
		return
	}
	up, err := g.phone.Server.Stream(g.ctx, g.phone.Serial, request)
	if err != nil {
		_ = adb.Refuse(c, err.Error())
		return
	}
	defer up.Close()
	defer context.AfterFunc(g.ctx, func() { _ = up.Close() })()
	if adb.Grant(c) != nil {
		return
	}
	if shell {
		_, _ = io.Copy(c, up)
		return
	}
	g.tasks.Go(func() {
		_, _ = io.Copy(c, up)
		_ = c.Close()
	})
	if err := copyFile(up, c); err != nil {
		_ = c.Close()
	}
}

// copyFile passes on what a driver sends to the phone's file service, of which it may
// only write a command line.
func copyFile(to io.Writer, from io.Reader) error {
	const most = 64 << 10
	for {
		id, body, err := adb.ReadSync(from, most)
		if err != nil {
			return err
		}
		if id == "SEND" && !commandLine.Match(body) || id != "SEND" && id != "DATA" && id != "DONE" && id != "QUIT" {
			return errors.New("not for sessions")
		}
		if err := adb.WriteSync(to, id, body); err != nil || id == "QUIT" {
			return err
		}
	}
}

var socket = regexp.MustCompile(`^tcp:0;localabstract:[\w.-]*devtools_remote(?:_\d+)?$`)

// forward offers a socket of the browser on the loopback of the box.
func (g *gate) forward(c net.Conn, what string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !socket.MatchString(what) || len(g.open) >= 4 {
		_ = adb.Refuse(c, fmt.Sprintf("%.100q is not for sessions", what))
		return
	}
	l, err := g.box.Listen()
	if err != nil {
		_ = adb.Refuse(c, err.Error())
		return
	}
	name := strings.TrimPrefix(what, "tcp:0;")
	g.open[portOf(l)] = l
	g.listen(l, func(c net.Conn) {
		up, err := g.phone.Server.Stream(g.ctx, g.phone.Serial, name)
		if err != nil {
			return
		}
		defer context.AfterFunc(g.ctx, func() { _ = up.Close() })()
		adb.Join(c, up)
	})
	_ = adb.Grant(c)
	_ = adb.Grant(c, strconv.Itoa(portOf(l)))
}

func (g *gate) unforward(c net.Conn, port string) {
	n, _ := strconv.Atoi(port)
	g.mu.Lock()
	defer g.mu.Unlock()
	l := g.open[n]
	if l == nil {
		_ = adb.Refuse(c, "the port "+strconv.Quote(port)+" leads nowhere")
		return
	}
	_ = l.Close()
	delete(g.open, n)
	_ = adb.Grant(c)
	_ = adb.Grant(c)
}
