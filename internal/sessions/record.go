package sessions

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"parallelpane/internal/bidi"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/recording"
	"parallelpane/internal/webdriver"
)

// Recording is what is being kept of a session, or of the part of one that
// serves one test. Its files lie in a directory of its own until they are taken.
type Recording struct {
	s       *Session
	policy  record.Policy
	mask    *recording.Mask
	typing  *recording.Typing // what write has seen of it
	scripts recording.Scripts // that it has written
	began   time.Time
	dir     string
	ctx     context.Context // of the recording's own commands
	cancel  context.CancelFunc
	tasks   sync.WaitGroup

	commands *recording.Lines
	console  *recording.Lines
	network  *recording.Network
	bodies   chan *recording.Done
	video    *video
	off      []func() // take handlers off the connection

	count     int          // of commands
	passing   sync.RWMutex // held to read while an exchange is handed over
	numbering sync.Mutex   // held while an exchange gets its number and its place
	exchanges chan exchange
	written   chan struct{} // closed when all are

	changing atomic.Int64 // grows when a command that may change the page begins, and when it ends

	mu       sync.Mutex
	missing  []Missing
	shots    []string
	lastShot time.Time
	pictured chan struct{} // closed when the picture that is being taken is there; nil when none is
	underWay []*exchange   // commands that are not answered yet
}

// Missing is a kind of recording that cannot be had, with the reason.
type Missing struct {
	Kind   record.Kind `json:"kind"`
	Reason string      `json:"reason"`
}

// Made is a file of a recording.
type Made struct {
	Name  string
	Kind  record.Kind
	Media string
	Path  string
}

// MaxShots bounds the pictures of one recording.
const MaxShots = 300

const shotPause = 2 * time.Second // between pictures of failing commands

// Record begins to record the session into dir, with a clock that began at a
// time. One recording can go on at a time. What cannot be recorded is listed,
// never an error.
func (s *Session) Record(ctx context.Context, policy record.Policy, mask *recording.Mask, dir string, began time.Time) (*Recording, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("record: %w", err)
	}
	r := &Recording{s: s, policy: policy, mask: mask, scripts: recording.Scripts{}, typing: mask.Typing(), began: began, dir: dir}
	r.ctx, r.cancel = context.WithCancel(Quiet(context.WithoutCancel(ctx)))
	var err error
	if policy.Wants(record.Commands) {
		if r.commands, err = recording.CreateLines(filepath.Join(dir, recording.CommandsFile)); err != nil {
			return nil, fmt.Errorf("record: %w", err)
		}
	}
	r.listen()
	if policy.Wants(record.Video) {
		if r.video, err = startVideo(r); err != nil {
			r.lack(record.Video, err.Error())
		}
	}
	r.exchanges, r.written = make(chan exchange, 256), make(chan struct{})
	go func(xs <-chan exchange) {
		defer close(r.written)
		for x := range xs {
			if x.reached != nil {
				close(x.reached)
				continue
			}
			r.write(x)
		}
	}(r.exchanges)
	s.tap.rec.Store(r)
	return r, nil
}

func (r *Recording) lack(kind record.Kind, reason string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !slices.ContainsFunc(r.missing, func(m Missing) bool { return m.Kind == kind }) {
		r.missing = append(r.missing, Missing{kind, reason})
	}
}

// Missing lists what could not be recorded.
func (r *Recording) Missing() []Missing {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.missing)
}

// At is the session's clock now, in milliseconds.
func (r *Recording) At() float64 { return ms(time.Since(r.began)) }

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// listen subscribes to the events of network and console, as far as wanted.
func (r *Recording) listen() {
	network, console := r.policy.Wants(record.Network), r.policy.Wants(record.Console)
	if !network && !console {
		return
	}
	conn := r.s.BiDi
	if conn == nil {
		if console {
			r.openConsole()
			r.lack(record.Console, "the engine has no BiDi connection: only errors that nobody caught, in scripts' sessions")
		}
		switch door := r.s.door; {
		case network && door != nil:
			r.network = recording.NewNetwork(r.began, r.s.Browser.Name, r.s.Browser.Version)
			door.Record(r.network)
			r.off = append(r.off, func() { door.Record(nil) })
			r.lack("network of https", "the session's door sees only that there was a connection")
		case network:
			r.lack(record.Network, "the engine has no BiDi connection")
		}
		return
	}
	ctx, cancel := context.WithTimeout(r.ctx, 5*time.Second)
	defer cancel()
	subscribe := func(kind record.Kind, handle func(bidi.Event), events ...string) {
		for _, method := range events {
			r.off = append(r.off, conn.On(method, handle))
		}
		if err := conn.Subscribe(ctx, events...); err != nil {
			r.lack(kind, err.Error())
			return
		}
		r.off = append(r.off, func() {
			ctx, cancel := context.WithTimeout(r.ctx, time.Second)
			defer cancel()
			_ = conn.Unsubscribe(ctx, events...) // the session may be gone
		})
	}
	if console && r.openConsole() {
		subscribe(record.Console, r.logged, "log.entryAdded")
	}
	if network {
		r.network = recording.NewNetwork(r.began, r.s.Browser.Name, r.s.Browser.Version)
		if collector, err := collect(ctx, conn); err == nil {
			bodies := make(chan *recording.Done, 1000)
			r.bodies = bodies
			r.tasks.Go(func() { r.fetchBodies(conn, collector, bodies) })
		}
		subscribe(record.Network, r.exchanged, recording.NetworkEvents...)
	}
}

func (r *Recording) openConsole() bool {
	var err error
	if r.console, err = recording.CreateLines(filepath.Join(r.dir, recording.ConsoleFile)); err != nil {
		r.lack(record.Console, err.Error())
	}
	return err == nil
}

// collect has the browser keep bodies for a while (BiDi, section 7.8.3
// "network.addDataCollector"); some keep only those of answers.
func collect(ctx context.Context, conn *bidi.Conn) (collector string, err error) {
	var got struct {
		Collector string `json:"collector"`
	}
	for _, types := range [][]string{{"request", "response"}, {"response"}} {
		err = conn.Send(ctx, "network.addDataCollector", map[string]any{"dataTypes": types, "maxEncodedDataSize": recording.MaxBody}, &got)
		if err == nil {
			return got.Collector, nil
		}
	}
	return "", err
}

func (r *Recording) exchanged(e bidi.Event) {
	done, err := r.network.Event(e.Method, e.Params)
	if err != nil || done == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.bodies == nil {
		r.network.Body(done, "", false, "not kept: the engine hands no bodies out")
		return
	}
	select {
	case r.bodies <- done:
	default:
		r.network.Body(done, "", false, "not kept: too many answers at once")
	}
}

// fetchBodies asks for the bodies of answers, one after another, off the
// commands' way.
func (r *Recording) fetchBodies(conn *bidi.Conn, collector string, bodies <-chan *recording.Done) {
	get := func(kind, request string) (text string, binary bool, err error) {
		var got struct {
			Bytes struct {
				Type  string `json:"type"`
				Value string `json:"value"`
			} `json:"bytes"`
		}
		ctx, cancel := context.WithTimeout(r.ctx, 3*time.Second)
		defer cancel()
		err = conn.Send(ctx, "network.getData", map[string]any{"dataType": kind, "request": request, "collector": collector, "disown": true},
			&got)
		return got.Bytes.Value, got.Bytes.Type == "base64", err
	}
	for d := range bodies {
		if d.Method != http.MethodGet && d.Method != http.MethodHead {
			if text, binary, err := get("request", d.Request); err == nil {
				r.network.Sent(d, text, binary)
			}
		}
		switch {
		case !recording.KeepsBody(d.Media):
			r.network.Body(d, "", false, "not kept: "+d.Media)
		case d.Size > recording.MaxBody:
			r.network.Body(d, "", false, fmt.Sprintf("%d bytes, too long to keep", d.Size))
		default:
			text, binary, err := get("response", d.Request)
			why := ""
			if err != nil {
				why = "not kept: " + err.Error()
			}
			r.network.Body(d, text, binary, why)
		}
	}
}

// Deaf reports whether the engine tells nothing of a page's errors by itself, though the
// console is to be recorded.
func (r *Recording) Deaf() bool { return r.s.BiDi == nil && r.console != nil }

// Heard takes an error that nobody in a page caught, in place of the engine.
func (r *Recording) Heard(text, address string, row, column int, at time.Time) {
	text, address = r.mask.Text(text), r.mask.Text(address) // a page says what it likes, as long as it likes
	if len(text) > recording.MaxText {
		text = text[:recording.MaxText] + " …"
	}
	address = address[:min(len(address), recording.MaxText)]
	_ = r.console.Add(recording.Line{AtMS: max(0, ms(at.Sub(r.began))), Level: "error", Source: "javascript", Text: text,
		Address: address, Row: row, Column: column})
}

// logged takes one log.entryAdded (BiDi, section 7.7.4).
func (r *Recording) logged(e bidi.Event) {
	var x struct {
		Type      string  `json:"type"`
		Level     string  `json:"level"`
		Text      string  `json:"text"`
		Timestamp float64 `json:"timestamp"`
		Stack     struct {
			Frames []struct {
				URL    string `json:"url"`
				Line   int    `json:"lineNumber"`
				Column int    `json:"columnNumber"`
			} `json:"callFrames"`
		} `json:"stackTrace"`
	}
	if json.Unmarshal(e.Params, &x) != nil {
		return
	}
	l := recording.Line{AtMS: x.Timestamp - float64(r.began.UnixMicro())/1000, Level: x.Level, Source: x.Type, Text: r.mask.Text(x.Text)}
	if len(l.Text) > recording.MaxText {
		l.Text = l.Text[:recording.MaxText] + " …"
	}
	if len(x.Stack.Frames) > 0 {
		f := x.Stack.Frames[0] // rows and columns are counted from 0 there
		l.Address, l.Row, l.Column = r.mask.Text(f.URL), f.Line+1, f.Column+1
	}
	_ = r.console.Add(l) // a full disk shows when the file is closed
}

// exchange is a command with its answer, as it passed.
type exchange struct {
	method, path, by string
	body             []byte
	at, took         float64 // milliseconds
	answer           Answer
	err              error
	number           int
	shot             string // name of its picture; "" when it has none

	reached chan<- struct{} // instead of a command: closed when all before it are written
}

// coming tells the recording of a command that is about to be given, came that it
// was answered or never given. A command that may change what the page shows waits
// for the picture of the one before it.
func (r *Recording) coming(ctx context.Context, x *exchange) {
	r.mu.Lock()
	r.underWay = append(r.underWay, x)
	pictured := r.pictured
	r.mu.Unlock()
	if x.changes() || x.ends() {
		r.changing.Add(1)
		if pictured != nil {
			select {
			case <-pictured:
			case <-ctx.Done():
			}
		}
	}
	if r.video != nil {
		r.video.firstPage(ctx, r, x)
	}
}

func (x *exchange) changes() bool { return webdriver.CommandOf(x.method, x.path).Changes }

// ends says whether the command ends the session.
func (x *exchange) ends() bool { return x.method == http.MethodDelete && x.path == "" }

// failed says whether the driver answered with an error.
func (x *exchange) failed() bool { return x.err == nil && x.answer.Status != http.StatusOK }

func (r *Recording) came(x *exchange) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.underWay = slices.DeleteFunc(r.underWay, func(o *exchange) bool { return o == x })
}

var errUnanswered = errors.New("the driver had not answered when the recording ended")

// note takes an exchange for the log, where it is no longer under way. Neither the
// command's answer nor the next command waits for its being written.
func (r *Recording) note(x exchange, underWay *exchange) {
	r.passing.RLock()
	defer r.passing.RUnlock()
	if r.exchanges == nil {
		return
	}
	r.came(underWay)
	r.numbering.Lock()
	defer r.numbering.Unlock()
	if x.reached == nil {
		r.count++
		x.number = r.count
		if x.method != overBiDi {
			r.picture(&x)
		}
	}
	r.exchanges <- x
}

// settled waits until every command that was answered is in the log.
func (r *Recording) settled() {
	reached := make(chan struct{})
	r.note(exchange{reached: reached}, nil)
	select {
	case <-reached:
	case <-r.written: // the recording has ended
	}
}

// types reports whether a command types.
func types(name string) bool {
	switch name {
	case "Element Send Keys", "Perform Actions", "Send Alert Text", "input.performActions":
		return true
	}
	return false
}

// write writes an exchange to the log.
func (r *Recording) write(x exchange) {
	command := webdriver.CommandOf(x.method, x.path)
	c := &recording.Command{Number: x.number, Shot: x.shot, AtMS: x.at, TookMS: x.took, Name: command.Name, Method: x.method,
		Path: r.mask.Text(x.path), By: x.by, Status: x.answer.Status}
	if x.method == overBiDi {
		c.Name, c.Path = c.Path, ""
	}
	var a struct {
		Value json.RawMessage `json:"value"`
	}
	switch {
	case x.err != nil:
		c.Error, c.Message = "no answer", r.mask.Text(x.err.Error())
	case json.Unmarshal(x.answer.Body, &a) != nil:
		c.Error = "not an answer of WebDriver"
	case c.Status != http.StatusOK:
		var e webdriver.Error
		_ = json.Unmarshal(a.Value, &e) // without a code it is shown by its status
		c.Error, c.Message = e.Code, r.mask.Text(e.Message)
	case c.Name == "Take Screenshot" || c.Name == "Take Element Screenshot" || c.Name == "Print Page":
		c.Result = recording.Cut(a.Value, 1)
	default:
		c.Result = r.mask.JSON(recording.Cut(a.Value, recording.MaxResult))
	}
	if r.commands == nil {
		return
	}
	if body := bytes.TrimSpace(x.body); len(body) > 2 { // {} says nothing
		if types(c.Name) {
			body = r.typing.Command(body)
		}
		if strings.HasPrefix(c.Name, "Execute ") {
			body = r.scripts.Fold(r.mask.JSON(body), c.Number) // before it is cut, so that no part of a secret stays
		}
		if c.Arguments = r.mask.JSON(recording.Cut(body, recording.MaxArguments)); !json.Valid(c.Arguments) {
			c.Arguments, _ = json.Marshal(r.mask.Text(string(c.Arguments)))
		}
	}
	_ = r.commands.Add(c) // a full disk shows when the file is closed
}

// End stops the recording and returns the files that stay for a session that
// ended with a verdict. The caller removes the directory.
func (r *Recording) End(v verdict.Verdict) []Made {
	r.hangUp()
	r.drain()
	if r.video != nil {
		if err := r.video.end(r); err != nil {
			r.lack(record.Video, err.Error())
		}
	}
	r.cancel()
	r.tasks.Wait()

	x := &ending{r: r, verdict: v}
	x.lines(recording.CommandsFile, r.commands)
	x.lines(recording.ConsoleFile, r.console)
	x.network()
	if r.video != nil && r.video.good {
		x.keep(recording.VideoFile)
	}
	for _, name := range r.shots {
		x.keep(name)
	}
	x.driverLog()
	x.downloads()
	return x.made
}

// hangUp takes the recording off the session: no command and no event reaches it
// any more.
func (r *Recording) hangUp() {
	r.s.tap.rec.CompareAndSwap(r, nil)
	for _, off := range r.off {
		off()
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.bodies != nil {
		close(r.bodies)
		r.bodies = nil
	}
}

// drain writes the commands that are answered, then those that are not, and gives
// pictures and bodies that are on their way a while to come.
func (r *Recording) drain() {
	r.passing.Lock()
	close(r.exchanges)
	r.exchanges = nil
	r.mu.Lock()
	unanswered := slices.Clone(r.underWay)
	r.mu.Unlock()
	r.passing.Unlock()
	<-r.written
	for _, x := range unanswered {
		open := *x
		r.count++
		open.number, open.took, open.err = r.count, r.At()-x.at, errUnanswered
		r.write(open)
	}
	patience := 3 * time.Second
	if r.s.Busy() {
		patience = 0 // nothing more is to be had of a driver that does not answer
	}
	r.waitFor(patience)
}

// ending gathers what stays of a recording.
type ending struct {
	r       *Recording
	verdict verdict.Verdict
	made    []Made
}

// keep lists a file, if files of its kind stay.
func (x *ending) keep(name string) {
	if kind, media, _ := recording.Form(name); x.r.policy.Keeps(kind, x.verdict) {
		x.made = append(x.made, Made{name, kind, media, filepath.Join(x.r.dir, name)})
	}
}

// lines closes a file of lines, if there is one.
func (x *ending) lines(name string, l *recording.Lines) {
	if l == nil {
		return
	}
	kind, _, _ := recording.Form(name)
	if lost, err := l.Close(); err != nil {
		x.r.lack(kind, err.Error())
	} else if lost > 0 {
		x.r.lack(kind, fmt.Sprintf("%d items more than a file holds", lost))
	}
	if x.r.s.BiDi == nil && name == recording.ConsoleFile { // an engine that tells nothing: nothing was heard
		if info, err := os.Stat(filepath.Join(x.r.dir, name)); err == nil && info.Size() == 0 {
			return
		}
	}
	x.keep(name)
}

// network writes what was exchanged with the site.
func (x *ending) network() {
	r := x.r
	if r.network == nil || !r.policy.Keeps(record.Network, x.verdict) {
		return
	}
	raw, err := json.Marshal(r.network.HAR(r.s.Browser.Version))
	if err == nil {
		err = os.WriteFile(filepath.Join(r.dir, recording.NetworkFile), r.mask.JSON(raw), 0o600)
	}
	if err != nil {
		r.lack(record.Network, err.Error())
		return
	}
	x.keep(recording.NetworkFile)
}

// maxDriverLog is how much of the end of a driver's log is kept, in bytes.
const maxDriverLog = 256 << 10

// driverLog writes the end of what driver and browser printed, if they did.
func (x *ending) driverLog() {
	r := x.r
	tail := bytes.TrimSpace(r.s.Log(maxDriverLog))
	if len(tail) == 0 || !r.policy.Keeps(record.Logs, x.verdict) {
		return
	}
	if os.WriteFile(filepath.Join(r.dir, recording.DriverFile), r.mask.Bytes(tail), 0o600) == nil {
		x.keep(recording.DriverFile)
	}
}

// Growing lists the files that are sure to be kept, as far as they have come:
// those of kinds that are kept whatever the verdict.
func (r *Recording) Growing() (names []string) {
	for name, l := range map[string]*recording.Lines{recording.CommandsFile: r.commands, recording.ConsoleFile: r.console} {
		if l != nil && l.Flush() == nil {
			names = append(names, name)
		}
	}
	if r.video != nil {
		names = append(names, recording.VideoFile)
	}
	r.mu.Lock()
	names = append(names, r.shots...)
	r.mu.Unlock()
	return slices.DeleteFunc(names, func(name string) bool {
		kind, _, _ := recording.Form(name)
		return r.policy[kind] != record.Always
	})
}

// waitFor gives the recording's tasks a while to end by themselves.
func (r *Recording) waitFor(limit time.Duration) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		r.tasks.Wait()
	}()
	select {
	case <-done:
	case <-time.After(limit):
		r.cancel()
		<-done
	}
}
