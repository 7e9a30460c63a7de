package work

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/agent/spool"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/core/likeness"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/link"
	"parallelpane/internal/recording"
	"parallelpane/internal/sessions"
)

// Attempt is one execution of one test on its way to a result: what it notes, the
// files that it keeps, what is recorded of its session. Whoever carries a test out
// fills in the rest of the result.
type Attempt struct {
	*Floor
	Test   string // name
	Result link.Result
	Began  time.Time
	Mask   *recording.Mask
	Rec    *sessions.Recording // nil while nothing is recorded

	logMu    sync.Mutex
	log      []note
	clock    time.Time // when the session was open: the zero of everything that is recorded
	captures int
	grown    *spool.Trickle
	quiet    func() // ends the trickle
}

// Begin begins an attempt; r says whose it is.
func (f *Floor) Begin(test string, r link.Result, policy record.Policy, mask *recording.Mask) *Attempt {
	at := &Attempt{Floor: f, Test: test, Result: r, Began: time.Now(), Mask: mask}
	at.Result.Agent, at.Result.StartedAt = f.Name, at.Began.UnixMilli()
	at.Result.Detail, at.Result.Files = attempt.Detail{Steps: []attempt.Step{}, Record: policy}, []attempt.File{}
	return at
}

// Session is the id of the attempt's session. It has one at most: whoever carries it
// out says so in the result once it is open.
func (at *Attempt) Session() string { return attempt.Session(at.Result.ID, 1) }

// Note writes a line of the agent's log of the attempt.
func (at *Attempt) Note(format string, args ...any) {
	at.logMu.Lock()
	defer at.logMu.Unlock()
	at.log = append(at.log, note{time.Now(), at.Mask.Text(fmt.Sprintf(format, args...))})
}

// Note is a line of the agent's log of an attempt.
type note struct {
	at   time.Time
	text string
}

// notes writes the log, with times on the session's clock.
func (at *Attempt) notes() []byte {
	at.logMu.Lock()
	defer at.logMu.Unlock()
	zero := at.clock
	if zero.IsZero() {
		zero = at.Began
	}
	var b bytes.Buffer
	for _, n := range at.log {
		fmt.Fprintf(&b, "%8d ms  %s\n", n.at.Sub(zero).Milliseconds(), strings.ReplaceAll(n.text, "\n", "\n             "))
	}
	return b.Bytes()
}

// End gives the attempt its verdict.
func (at *Attempt) End(v verdict.Verdict, message string) {
	at.Result.Verdict, at.Result.Message = v, at.Mask.Text(message)
	at.Note("%s%s", v, strings.TrimRight(": "+message, ": "))
}

// Record begins to record the attempt's session. What cannot be recorded is
// said, and the attempt goes on.
func (at *Attempt) Record(ctx context.Context, session *sessions.Session, policy record.Policy) {
	var err error
	at.clock = time.Now()
	if at.Rec, err = session.Record(ctx, policy, at.Mask, at.recordings(), at.clock); err != nil {
		at.Note("nothing is recorded: %v", err)
		return
	}
	at.grown = spool.NewTrickle(at.Floor.Up, at.Session(), at.Result.Fence)
	ctx, cancel := context.WithCancel(ctx)
	var running sync.WaitGroup
	running.Go(func() { at.trickle(ctx) })
	at.quiet = func() { cancel(); running.Wait() }
}

// EndRecording keeps what the verdict leaves of the recording.
func (at *Attempt) EndRecording() {
	if at.Rec == nil {
		return
	}
	at.quiet()
	for _, m := range at.Rec.End(at.Result.Verdict) {
		f, err := at.Floor.Spool.Take(at.Result.ID, at.free(m.Name), string(m.Kind), m.Media, m.Path)
		if err != nil {
			at.Note("%s was not kept: %v", m.Name, err)
			continue
		}
		f.Session = 1
		at.Result.Files = append(at.Result.Files, f)
	}
	for _, m := range at.Rec.Missing() {
		at.Result.Detail.Lacking = append(at.Result.Detail.Lacking, attempt.NotRecorded{Kind: m.Kind, Reason: m.Reason})
		at.Note("not recorded: %s (%s)", m.Kind, m.Reason)
	}
	_ = os.RemoveAll(at.recordings()) // the next start of the agent removes what is left
}

// maxCaptures bounds the screenshots that a script takes, so that what is recorded
// has room beside them in a result.
const maxCaptures = 250

// Shot keeps a screenshot that a test took. Two captures of one name get a number.
func (at *Attempt) Shot(name string, png []byte) string {
	if at.captures++; at.captures > maxCaptures && name != "failure" {
		at.Note("%s was not kept: an attempt has at most %d captures", name, maxCaptures)
		return ""
	}
	return at.file(name+".png", "screenshots", "image/png", png)
}

// Page keeps what a page was made of, masked.
func (at *Attempt) Page(name string, page likeness.Page) string {
	raw, err := json.Marshal(page)
	if err != nil {
		at.Note("the page was not kept: %v", err)
		return ""
	}
	if at.Mask != nil {
		raw = at.Mask.JSON(raw)
	}
	if len(raw) > likeness.MaxPage {
		at.Note("the page was not kept: what it is made of has %d bytes; at most %d are kept", len(raw), likeness.MaxPage)
		return ""
	}
	return at.file(name+".page.json", "attachments", "application/json", raw)
}

// Text keeps a text, masked, as a file.
func (at *Attempt) Text(name, text string) {
	if text != "" {
		at.file(name, "logs", "text/plain; charset=utf-8", []byte(at.Mask.Text(text)))
	}
}

// Attached keeps a file that a test made.
func (at *Attempt) Attached(name, media string, contents []byte) {
	at.file(name, "attachments", media, at.Mask.Bytes(contents))
}

// Adopt adds to the attempt a session that was recorded before it was known whose it was:
// what of it stays by the attempt's verdict.
func (at *Attempt) Adopt(made []sessions.Made, missing []sessions.Missing) {
	if at.Result.Sessions == attempt.MaxSessions {
		at.Note("a further session is not told: an attempt has at most %d", attempt.MaxSessions)
		return
	}
	at.Result.Sessions++
	n := at.Result.Sessions
	for _, m := range made {
		if !at.Result.Detail.Record.Keeps(m.Kind, at.Result.Verdict) {
			continue
		}
		f, err := at.Floor.Spool.Take(at.Result.ID, at.free(m.Name), string(m.Kind), m.Media, m.Path)
		if err != nil {
			at.Note("%s was not kept: %v", m.Name, err)
			continue
		}
		f.Session = n
		at.Result.Files = append(at.Result.Files, f)
	}
	for _, m := range missing {
		at.Result.Detail.Lacking = append(at.Result.Detail.Lacking, attempt.NotRecorded{Kind: m.Kind, Reason: m.Reason})
		at.Note("not recorded: %s (%s)", m.Kind, m.Reason)
	}
}

// file keeps a file and returns the name that it has; "" when it could not be
// kept.
func (at *Attempt) file(name, kind, media string, contents []byte) string {
	f, err := at.Floor.Spool.File(at.Result.ID, at.free(name), kind, media, contents)
	if err != nil {
		at.Note("%s was not kept: %v", name, err)
		return ""
	}
	at.Result.Files = append(at.Result.Files, f)
	return f.Name
}

// free is a name that no file of the attempt has: with a number if need be.
func (at *Attempt) free(name string) string {
	name = spool.SafeName(name)
	taken := func(name string) bool {
		return slices.ContainsFunc(at.Result.Files, func(f attempt.File) bool { return f.Name == name })
	}
	ext := filepath.Ext(name)
	for n, try := 2, name; ; n++ {
		if !taken(try) {
			return try
		}
		try = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ext), n, ext)
	}
}

// Forget removes what was kept of an attempt that will have no result.
func (at *Attempt) Forget() {
	at.Floor.Spool.Forget(at.Result.ID)
	if err := os.RemoveAll(at.recordings()); err != nil {
		at.Log.Warn("a recording stays behind until the next start", "attempt", at.Result.ID, "error", err)
	}
}

// Keep puts the result on disk, from where it is handed in.
func (at *Attempt) Keep() {
	if at.Result.TookMS == 0 {
		at.Result.TookMS = time.Since(at.Began).Milliseconds()
	}
	at.file("agent.log", "logs", "text/plain; charset=utf-8", at.notes())
	at.hide()
	if err := at.Floor.Spool.Add(at.Result, at.grown); err != nil {
		at.Log.Error("a result could not be kept", "test", at.Test, "error", err)
	}
}

// hide masks what the result says in words.
func (at *Attempt) hide() {
	if at.Mask == nil {
		return
	}
	raw, err := json.Marshal(at.Result.Detail)
	var hidden attempt.Detail
	if err == nil {
		err = json.Unmarshal(at.Mask.JSON(raw), &hidden)
	}
	if err != nil {
		at.Log.Error("what a result says could not be masked and is left out", "error", err)
		hidden = attempt.Detail{Steps: []attempt.Step{}}
	}
	at.Result.Detail = hidden
	if len(at.Result.Seen) == 0 {
		return
	}
	var seen []attempt.Seen
	if raw, err = json.Marshal(at.Result.Seen); err == nil {
		err = json.Unmarshal(at.Mask.JSON(raw), &seen)
	}
	if err != nil {
		at.Log.Error("what the locators matched could not be masked and is left out", "error", err)
		seen = nil
	}
	at.Result.Seen = seen
}

// trickle sends the attempt's recording until the context ends.
func (at *Attempt) trickle(ctx context.Context) {
	t := time.NewTicker(at.Every)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if err := at.sendGrown(ctx); err != nil && ctx.Err() == nil {
			at.Log.Debug("a piece of a recording was not sent", "session", at.Session(), "error", err)
			if spool.Final(err) {
				return // all of it goes with the result
			}
		}
	}
}

func (at *Attempt) sendGrown(ctx context.Context) error {
	for _, name := range at.Rec.Growing() {
		if at.grown.Has(name) {
			if kind, _, _ := recording.Form(name); kind == record.Screenshots {
				continue // a picture does not grow
			}
		}
		f, err := os.Open(filepath.Join(at.recordings(), name))
		if err != nil {
			continue // the video's first picture is yet to come
		}
		err = at.grown.Grow(ctx, name, f)
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// recordings is where the attempt's recording lies while it grows.
func (at *Attempt) recordings() string {
	return filepath.Join(at.Dir, "recordings", at.Session())
}
