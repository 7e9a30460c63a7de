package httpapi

import (
	"context"
	"errors"
	"strings"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/api"
)

// deed is what a request does, for the audit.
type deed struct{ api.Deed }

type deedKey struct{}

// deedIn is the deed that a request's context carries; one that nobody reads where
// there is none.
func deedIn(ctx context.Context) *deed {
	if d, ok := ctx.Value(deedKey{}).(*deed); ok {
		return d
	}
	return &deed{}
}

// signIn is the act of those who are not known yet.
const signIn = "sign in"

func deedOf(c fiber.Ctx) *deed { return deedIn(c.Context()) }

func (d *deed) by(who api.Who) { d.Who, d.Token = who.Person(), who.Name }

// on says to what something is done, and gives the context on.
func (d *deed) on(target string) *deed {
	d.Target = target
	return d
}

// changed says what was there before and what is there now.
func (d *deed) changed(before, after any) { d.Before, d.After = before, after }

// audited puts what f does on record, done or refused, if the act has a name. What
// nobody does, for want of a valid token, is on record too: within bounds.
func (a *server) audited(c fiber.Ctx, act string, f func() error) error {
	d := &deed{api.Deed{Act: act, From: from(c)}}
	c.SetContext(context.WithValue(c.Context(), deedKey{}, d))
	err := f()
	var e *api.Error
	known := errors.As(err, &e)
	showed := act == signIn || c.Get(fiber.HeaderAuthorization)+c.Cookies(cookieName) != ""
	if known && (e.Kind == api.Forbidden || e.Kind == api.Unauthorized) && showed {
		if d.Act == "" {
			d.Act = "look"
			d.Target = shownPath(c)
		}
		d.Refused = e.Message
	} else if err != nil || d.Act == "" {
		return err // what failed has changed nothing
	}
	a.service.Record(d.Deed)
	return err
}

// shownPath is the path of a request as it may be written down: that of a badge has a secret
// in it.
func shownPath(c fiber.Ctx) string {
	if strings.HasPrefix(c.Path(), badgePath) {
		return badgePath + "…"
	}
	return c.Path()
}
