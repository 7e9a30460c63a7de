package sessions

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"parallelpane/internal/core/record"
)

// picture takes a picture after a command, if one is wanted: for the pictures that
// are kept, for the film, or for both. The command's answer does not wait for it;
// the next command that may change what the page shows does, so that a picture
// shows what its own command did.
func (r *Recording) picture(x *exchange) {
	changed := x.changes() && x.err == nil
	if changed {
		r.changing.Add(1)
	}
	keep := r.policy[record.Screenshots]
	kept := (keep == record.Always && (changed || x.failed())) || (keep == record.UnlessPassed && x.failed())
	filmed := changed && r.video != nil && r.video.pictures != nil
	if x.ends() || !(kept || filmed) {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.pictured != nil {
		return
	}
	if kept = kept && len(r.shots) < MaxShots && (changed || time.Since(r.lastShot) >= shotPause); kept {
		r.lastShot = time.Now()
		x.shot = fmt.Sprintf("command-%05d.jpg", x.number)
		if r.s.BiDi == nil {
			x.shot = fmt.Sprintf("command-%05d.png", x.number)
		}
	} else if !filmed {
		return
	}
	name, from, there := x.shot, x.at+x.took, make(chan struct{})
	r.pictured = there
	r.tasks.Go(func() {
		ctx, cancel := context.WithTimeout(r.ctx, 10*time.Second)
		defer cancel()
		shown, err := r.s.Picture(ctx)
		if err == nil && filmed {
			r.video.show(shown, from)
		}
		if err == nil && kept {
			err = os.WriteFile(filepath.Join(r.dir, name), shown, 0o600)
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		close(there)
		r.pictured = nil
		if err == nil && kept {
			r.shots = append(r.shots, name)
		}
	})
}

var (
	errDialog = errors.New("a dialog is open")
	errBehind = errors.New("the window is behind another")
)

// dialogLooks is how often it is looked whether a dialog keeps a picture from
// coming.
const dialogLooks = 200 * time.Millisecond

// unlessDialog takes a picture unless a dialog opens meanwhile: none comes before
// it is closed, and commands that would close it may wait for the picture. take is
// then left to end by itself, for not every driver survives a request that is taken
// back. free is called once when the driver is free for other commands: when take has
// ended, or when a dialog is open, which such a command is to close.
func (s *Session) unlessDialog(ctx context.Context, free func(), take func(context.Context) ([]byte, error)) ([]byte, error) {
	free = sync.OnceFunc(free)
	type taken struct {
		picture []byte
		err     error
	}
	got := make(chan taken, 1)
	patient, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	s.left.Go(func() {
		defer cancel()
		defer free()
		picture, err := take(patient)
		got <- taken{picture, err}
	})
	t := time.NewTicker(dialogLooks)
	defer t.Stop()
	for {
		select {
		case x := <-got:
			return x.picture, x.err
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-t.C:
			if _, err := s.AlertText(Beside(patient)); err == nil {
				free()
				return nil, errDialog
			}
		}
	}
}

// Picture is what the session shows now: a JPEG where the engine has BiDi, a
// PNG elsewhere.
func (s *Session) Picture(ctx context.Context) ([]byte, error) {
	if s.BiDi != nil {
		return s.unlessDialog(ctx, func() {}, s.captured)
	}
	if err := s.tap.take(ctx); err != nil { // it is a command of its own, and the driver has one at a time
		return nil, err
	}
	return s.unlessDialog(ctx, func() { <-s.tap.turn }, func(ctx context.Context) ([]byte, error) {
		// A dialog that is open would be closed by the command for a picture, as section
		// 11 "User prompts" has it; asking for its text leaves it alone.
		if _, err := s.AlertText(Beside(ctx)); err == nil {
			return nil, errDialog
		}
		if !s.painted(Beside(ctx)) {
			return nil, errBehind
		}
		return s.Screenshot(Beside(ctx))
	})
}

// captured is a picture over BiDi.
func (s *Session) captured(ctx context.Context) ([]byte, error) {
	ctx = Quiet(ctx)
	contexts, err := s.BiDi.TopContexts(ctx)
	if err != nil {
		return nil, err
	}
	if len(contexts) == 0 {
		return nil, errors.New("no window is open")
	}
	shown := contexts[0]
	if len(contexts) > 1 {
		if window, err := s.Window(ctx); err == nil && slices.Contains(contexts, window) {
			shown = window
		}
	}
	var got struct {
		Data string `json:"data"`
	}
	err = s.BiDi.Send(ctx, "browsingContext.captureScreenshot", map[string]any{"context": shown,
		"format": map[string]any{"type": "image/jpeg", "quality": 0.7}}, &got)
	if err != nil {
		return nil, err
	}
	return base64.StdEncoding.DecodeString(got.Data)
}

// paintLimit is how long a page is waited for to be painted, frames how long two
// frames take at least. It is not asked more often: WebKit's driver never answers
// again when a dialog opens in the moment that a script begins.
const (
	paintLimit = 2 * time.Second
	frames     = 34 * time.Millisecond
)

// patience is how long a driver may take to answer a script of the lab's, which
// does not wait for anything: longer than a script may take that has the usual time
// limit (section 9 "Timeouts", 30 s), after which the standard wants an answer.
const patience = 35 * time.Second

// Two scripts with which a page says that what it shows now has been painted: the
// second frame is asked for only when the first is on the display. They end at
// once, for drivers lose sight of windows that are closed under a script.
const (
	askFrames = `const k = Symbol.for("pane painted"); document[k] = false;
requestAnimationFrame(() => requestAnimationFrame(() => { document[k] = true; })); return !document.hidden`
	hadFrames = `return document[Symbol.for("pane painted")] === true`
)

// painted waits until what a page shows is on its display as well. Engines that
// take pictures on request paint for them; a display shows what has been painted.
// It reports whether the page is shown at all: a driver may wait for ever for the
// picture of a window that is behind another.
func (s *Session) painted(ctx context.Context) (shown bool) {
	if err := s.Execute(ctx, askFrames, &shown); err != nil {
		return true // a page that cannot be asked is not waited for
	}
	for began := time.Now(); shown && time.Since(began) < paintLimit; {
		select {
		case <-ctx.Done():
			return true
		case <-time.After(frames):
		}
		var done bool
		if err := s.Execute(ctx, hadFrames, &done); err != nil || done {
			return true
		}
	}
	return shown
}

// onDisplay waits, where a display is filmed, until what a command did is to be
// seen: its answer says when.
func (r *Recording) onDisplay(ctx context.Context, x *exchange) {
	if r.video == nil || r.s.inst.Display == nil || !x.changes() {
		return
	}
	ctx = Quiet(context.WithoutCancel(ctx)) // not every driver survives a request that is taken back
	stuck := time.AfterFunc(r.s.patience, func() {
		r.s.inst.Fail(fmt.Errorf("%s does not answer any more: a dialog opened just as the page was asked whether it is painted",
			filepath.Base(r.s.Browser.Driver)))
	})
	defer stuck.Stop()
	if _, err := r.s.AlertText(ctx); err != nil { // a dialog that is open would be closed by the next command
		r.s.painted(ctx)
	}
}

// Last takes the picture that a session leaves behind, if pictures are kept.
// Call it before the session is deleted.
func (r *Recording) Last() {
	if r == nil || r.s.Busy() || !r.policy.Wants(record.Screenshots) {
		return
	}
	ctx, cancel := context.WithTimeout(r.ctx, 5*time.Second)
	defer cancel()
	picture, err := r.s.Picture(ctx)
	if err != nil {
		return
	}
	name := "last.png"
	if bytes.HasPrefix(picture, []byte{0xff, 0xd8}) {
		name = "last.jpg"
	}
	if os.WriteFile(filepath.Join(r.dir, name), picture, 0o600) == nil {
		r.mu.Lock()
		r.shots = append(r.shots, name)
		r.mu.Unlock()
	}
}
