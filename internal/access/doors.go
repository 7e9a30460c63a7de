package access

import (
	"context"
	"crypto/rand"
	"maps"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// SignInCode makes a code that signs a browser in once, within ten minutes, as
// the person who asked for it.
func (a *Access) SignInCode(who api.Who) (string, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now, mine := a.now(), 0
	maps.DeleteFunc(a.codes, func(_ string, c code) bool { return now.After(c.expires) })
	for _, c := range a.codes {
		if c.who.Root == who.Root {
			mine++
		}
	}
	if mine >= maxCodes {
		return "", api.Errorf(api.Conflict, "%d sign-in links of this token have not been used: use one, or wait ten minutes", mine)
	}
	secret := strings.ToLower(rand.Text())
	a.codes[secret] = code{who, now.Add(codeLife)}
	return secret, nil
}

// UseCode takes a sign-in code and makes a console session for the person who asked
// for it. The code is good for this one time, and not after the token it came from.
func (a *Access) UseCode(ctx context.Context, secret, from string) (api.Who, string, error) {
	a.mu.Lock()
	c, ok := a.codes[secret]
	delete(a.codes, secret)
	now := a.now()
	ok = ok && now.Before(c.expires) && now.Before(c.who.Expires) && !a.goneLocked(c.who)
	a.mu.Unlock()
	if !ok {
		return api.Who{}, "", api.Errorf(api.Unauthorized, "this sign-in link was used already, is older than ten minutes, or the token it "+
			"was made with has ended: make a new one with pane link")
	}
	return a.signIn(ctx, c.who, from)
}

// SignIn makes a console session for somebody with a token.
func (a *Access) SignIn(ctx context.Context, token, from string) (api.Who, string, error) {
	who, err := a.Authenticate(ctx, token, from)
	if err != nil {
		return who, "", err
	}
	if !who.Can(api.Viewer) {
		return who, "", api.Errorf(api.Forbidden, "an agent's token does not open the console")
	}
	if who.Share != nil {
		return who, token, nil // it is nobody's session: all who have the link come with it
	}
	return a.signIn(ctx, who, from)
}

// signIn makes a console session: a token of the same rights that ends with the one
// it is made from. The one used longest ago gives way to one too many.
func (a *Access) signIn(ctx context.Context, who api.Who, from string) (api.Who, string, error) {
	if err := a.note(); err != nil { // who was used when decides which gives way
		return who, "", err
	}
	have, err := a.store.ConsoleSessions(ctx, who.Root)
	if err != nil {
		return who, "", err
	}
	now := a.now()
	row := store.Token{Name: who.Name, Owner: who.Owner, Rights: store.JSON(who.Rights), Root: who.Root,
		ExpiresAt: store.Millis(earlier(now.Add(consoleLife), who.Expires)), UsedAt: store.Millis(now), UsedFrom: from}
	_, secret, err := a.add(row)
	if err != nil {
		return who, "", err
	}
	for _, old := range have[:max(0, len(have)+1-maxConsoles)] {
		if err := a.store.Write(store.DropToken(old.ID)...); err == nil {
			a.end(old.ID)
		}
	}
	return who, secret, nil
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

// hold is something that lasts: a stream, a link, a connection.
type hold struct {
	who   api.Who
	ended chan struct{}
}

// Hold gives a channel that is closed when the token with which somebody came ends,
// for what lasts longer than a request. done is to be called when it is over.
func (a *Access) Hold(who api.Who) (ended <-chan struct{}, done func()) {
	h := &hold{who, make(chan struct{})}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.holds[h] = true
	if a.goneLocked(who) || !a.now().Before(who.Expires) {
		a.endLocked(h)
	}
	return h.ended, func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		delete(a.holds, h)
	}
}

func (a *Access) endLocked(h *hold) {
	if a.holds[h] {
		delete(a.holds, h)
		close(h.ended)
	}
}

// HasEnded reports whether a token has ended.
func (a *Access) HasEnded(who api.Who) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.goneLocked(who) || !a.now().Before(who.Expires)
}

// note puts on record when tokens were last used.
func (a *Access) note() error {
	a.mu.Lock()
	used := a.used
	a.used = map[string]use{}
	a.mu.Unlock()
	batch := make([]store.Stmt, 0, len(used))
	for id, u := range used {
		batch = append(batch, store.UseToken(id, u.at, u.from))
	}
	if len(batch) == 0 {
		return nil
	}
	return a.store.Write(batch...)
}

// Mind ends what is held under tokens whose time is over, every second, and keeps
// their records, until stop is closed.
func (a *Access) Mind(stop <-chan struct{}) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	for n := 1; ; n++ {
		select {
		case <-stop:
			if err := a.note(); err != nil {
				a.log.Warn("the last use of tokens is not on record", "error", err)
			}
			return
		case <-t.C:
		}
		a.endHeld()
		if n%int(knownLife.Seconds()) == 0 {
			if err := a.tidy(); err != nil {
				a.log.Warn("records of tokens could not be kept", "error", err)
			}
		}
	}
}

func (a *Access) endHeld() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for h := range a.holds {
		if !a.now().Before(h.who.Expires) {
			a.endLocked(h)
		}
	}
}

func (a *Access) tidy() error {
	now := a.now()
	a.mu.Lock()
	maps.DeleteFunc(a.known, func(_ string, k knownToken) bool { return !now.Before(k.until) })
	a.mu.Unlock()
	if err := a.note(); err != nil {
		return err
	}
	return a.store.Write(store.DropExpired(store.Millis(now), store.Millis(now.Add(-consoleIdle))),
		store.DropAudit(store.Millis(now.Add(-auditLife)), maxAuditRows))
}
