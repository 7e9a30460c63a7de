package agent

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"parallelpane/internal/adb"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/engine"
	"parallelpane/internal/engine/android"
	"parallelpane/internal/engine/find"
)

// Phones joins the phones that hang on an agent's machine to the service, each as an
// agent of its own with one slot, from when it is plugged in until it is pulled out.
type Phones struct {
	Server adb.Server
	// Of is what the machine's own agent is started with.
	Of Config
	// Drivers are those of the machine now.
	Drivers func() []fleet.Driver
	Again   time.Duration // between attempts at what failed, and looks at a phone; 0 means 10 s
}

// handingIn bounds how long the agent of a phone that was pulled out stays for its results.
const handingIn = time.Minute

// Run watches the server until the context ends.
func (p Phones) Run(ctx context.Context) {
	p.Again = cmp.Or(p.Again, 10*time.Second)
	var tasks sync.WaitGroup
	defer tasks.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	there := map[string]*android.Phone{}
	told := map[string]string{}
	keep := func(devices []adb.Device, why error) {
		now := map[string]bool{}
		for _, d := range devices {
			if d.State != adb.Ready {
				if told[d.Serial] != d.State {
					p.Of.Log.Warn("a phone is not offered", "serial", d.Serial, "state", d.State, "remedy", Unready(d.State))
				}
				told[d.Serial] = d.State
				continue
			}
			delete(told, d.Serial)
			if now[d.Serial] = true; there[d.Serial] == nil {
				phone := android.Plugged(p.Server, d.Serial)
				there[d.Serial] = phone
				tasks.Go(func() { p.serve(ctx, phone) })
			}
		}
		for serial, phone := range there {
			if !now[serial] {
				phone.Pulled(why)
				delete(there, serial)
			}
		}
	}
	silent := false
	for ctx.Err() == nil {
		err := p.Server.Track(ctx, func(devices []adb.Device) {
			silent = false
			keep(devices, errors.New("the phone was pulled out"))
		})
		if ctx.Err() != nil {
			break
		}
		keep(nil, err)
		if !silent {
			p.Of.Log.Warn("no phones", "error", err, "remedy", "start the server with adb start-server, or name its address with --phones")
		}
		silent = true
		pause(ctx, p.Again)
	}
	keep(nil, context.Canceled)
}

// Unready says what to do about a phone in a state of adb.Device.
func Unready(state string) string {
	if state == "unauthorized" {
		return "unlock it and allow this computer to debug it"
	}
	return "plug it in anew, and see that it may be debugged over USB"
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// serve has an agent for a phone while it is there, again after an error.
func (p Phones) serve(ctx context.Context, phone *android.Phone) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for ctx.Err() == nil && phone.Gone() == nil {
		if err := p.join(ctx, phone); err != nil && ctx.Err() == nil && phone.Gone() == nil {
			p.Of.Log.Warn("a phone is not offered now", "serial", phone.Serial, "error", err, "again_in", p.Again)
			select {
			case <-phone.Left():
			case <-ctx.Done():
			case <-time.After(p.Again):
			}
		}
	}
}

// NameOf is what the agent of a phone is called after that of its machine: its model and
// the end of its serial number, since there may be two of a model.
func NameOf(m fleet.Machine, serial string) string {
	model := cmp.Or(strings.TrimLeft(m.Model, "._-"), "phone")
	end := noName.ReplaceAllString(serial, "")
	return model[:min(40, len(model))] + "-" + end[max(0, len(end)-4):]
}

var noName = regexp.MustCompile(`[^a-zA-Z0-9]+`)

// join runs the agent of a phone until the phone is gone and its results are handed in.
func (p Phones) join(ctx context.Context, phone *android.Phone) error {
	m, err := phone.Look(ctx, p.Drivers())
	if err != nil {
		return err
	}
	c := p.Of
	c.Phone = NameOf(m, phone.Serial)
	c.Name, c.Machine, c.Families = fleet.PhoneOf(c.Name, c.Phone), &m, []engine.Family{android.Family{Phone: phone}}
	c.Slots, c.Dir = 1, filepath.Join(c.Dir, "phones", url.PathEscape(phone.Serial))
	c.Log = c.Log.With(slog.String("phone", c.Phone))
	a, release, err := New(ctx, c)
	if err != nil {
		return err
	}
	defer release()
	ctx, leave := context.WithCancel(ctx)
	defer leave()
	tried := trials{}
	joined := a.Found()
	tried.of(ctx, a, joined.Browsers)
	a.machine.Store(&joined)
	var tasks sync.WaitGroup
	defer tasks.Wait()
	defer leave()
	tasks.Go(func() {
		p.look(ctx, a, phone, tried)
		a.restock(ctx, find.Found{Browsers: away(a.Found().Browsers, phone.Gone())})
		a.empty(ctx, handingIn)
		leave()
	})
	return a.Run(ctx)
}

// away are the browsers of a phone that is not there.
func away(browsers []fleet.Browser, why error) []fleet.Browser {
	out := append([]fleet.Browser{}, browsers...)
	for i := range out {
		out[i].Fits, out[i].Problem, out[i].Remedy = false, "it is gone", "plug the phone in again"
		if why != nil {
			out[i].Problem = why.Error()
		}
	}
	return out
}

// look tells the service what changes of a phone, a lock or a new version, until it is
// gone.
func (p Phones) look(ctx context.Context, a *Agent, phone *android.Phone, tried trials) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-phone.Left():
			return
		case <-time.After(p.Again):
		}
		back, idle := a.slot(ctx, false)
		if !idle {
			continue
		}
		m, err := phone.Look(ctx, p.Drivers())
		if err == nil {
			tried.of(ctx, a, m.Browsers)
		}
		back()
		switch {
		case ctx.Err() != nil || phone.Gone() != nil:
			return
		case err != nil:
			a.Log.Warn("the phone does not say how it is", "error", err)
		default:
			a.restock(ctx, find.Found{Browsers: m.Browsers})
		}
	}
}

// trials are what came of opening each version of a phone's browsers once.
type trials map[string]fleet.Browser

// of notes with each browser that seems to fit what came of its trial.
func (t trials) of(ctx context.Context, a *Agent, browsers []fleet.Browser) {
	for i := range browsers {
		b := &browsers[i]
		if !b.Fits {
			continue
		}
		key := b.Path + " " + b.Version + " " + b.DriverVersion
		known, done := t[key]
		if !done {
			known = *b
			a.host.Try(ctx, &known)
			if ctx.Err() != nil {
				return
			}
			t[key] = known
		}
		*b = known
	}
}

// empty waits until the agent holds no work, or for a time.
func (a *Agent) empty(ctx context.Context, limit time.Duration) {
	for end := time.Now().Add(limit); len(a.held()) > 0 && time.Now().Before(end) && ctx.Err() == nil; {
		pause(ctx, 50*time.Millisecond)
	}
}
