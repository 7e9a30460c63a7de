package httpapi

import (
	"context"
	"crypto/subtle"
	"errors"
	"html"
	"net/http"
	"time"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/access"
	"parallelpane/internal/api"
	"parallelpane/internal/notify"
	"parallelpane/internal/service"
)

// Inputs of operations on accounts.
type (
	accountIn       struct{ accountPath }
	accountChangeIn struct {
		accountPath
		api.AccountRequest
	}
	accountPath struct {
		Account string `path:"account" json:"-" description:"its id"`
	}
	hearIn   struct{ api.HearRequest }
	unhearIn struct {
		Subscription string `path:"subscription" json:"-" description:"its id"`
	}
)

func (in *hearIn) project(context.Context, *service.Service) (string, error) { return in.Project, nil }

func (in *hearIn) missing() error { return (&projectIn{in.Project}).missing() }

func (a *server) accountRoutes() {
	s := a.service
	add(a, "GET", "/sign-in", open, "The ways in besides tokens and links", func(context.Context, api.Who, *none) (api.SignInWays, error) {
		return s.SignInWays(), nil
	})
	add(a, "GET", "/accounts", inAny(api.Viewer), "List people with an account: their names, and to the lab's admin all of it",
		func(ctx context.Context, who api.Who, _ *none) ([]api.Account, error) {
			return s.Accounts(ctx, who)
		})
	add(a, "POST", "/accounts", inLab(api.Admin).as("account add"), "Make an account",
		func(ctx context.Context, who api.Who, in *api.AccountRequest) (api.Account, error) {
			made, err := s.AddAccount(ctx, who, *in)
			deedIn(ctx).on(in.Name).changed(nil, made.Rights)
			return made, err
		})
	add(a, "POST", "/accounts/{account}", inLab(api.Admin).as("account change"),
		"Give an account another mail address or other rights; whoever is signed in with it signs in again",
		func(ctx context.Context, _ api.Who, in *accountChangeIn) (api.Account, error) {
			was, is, err := s.ChangeAccount(ctx, in.Account, in.AccountRequest)
			deedIn(ctx).on(is.Name).changed(was.Rights, is.Rights)
			return is, err
		})
	add(a, "DELETE", "/accounts/{account}", inLab(api.Admin).as("account drop"),
		"Forget an account, with its tokens and what it was to hear of",
		func(ctx context.Context, _ api.Who, in *accountIn) (none, error) {
			gone, err := s.DropAccount(ctx, in.Account)
			deedIn(ctx).on(gone.Name).changed(gone.Rights, nil)
			return none{}, err
		})
	add(a, "GET", "/me/account", inAny(api.Viewer), "One's own account, with what one hears of",
		func(ctx context.Context, who api.Who, _ *none) (out api.MyAccount, err error) {
			if out.Account, err = s.MyAccount(ctx, who); err == nil && out.Account != nil {
				out.Hears, err = s.Office.Hears(ctx, out.Account.ID)
			}
			return out, err
		})
	add(a, "POST", "/me/account", inAny(api.Viewer).as("hear mentions"), "Say whether one hears by mail of notes that mention one",
		func(ctx context.Context, who api.Who, in *api.MyAccountRequest) (none, error) {
			return none{}, s.HearMentions(ctx, who, in.Mentions)
		})
	add(a, "POST", "/me/hears", within(api.Viewer).as("hear"), "Hear of something at one's own mail address",
		func(ctx context.Context, who api.Who, in *hearIn) (api.Subscription, error) {
			mine, err := a.mine(ctx, who)
			if err != nil {
				return api.Subscription{}, err
			}
			return s.Office.Hear(ctx, *mine, in.HearRequest)
		})
	add(a, "DELETE", "/me/hears/{subscription}", inAny(api.Viewer).as("hear no more"), "Hear of something no more",
		func(ctx context.Context, who api.Who, in *unhearIn) (none, error) {
			mine, err := s.MyAccount(ctx, who)
			if err == nil && mine == nil {
				err = notify.NoSubscription(in.Subscription)
			}
			if err != nil {
				return none{}, err
			}
			return none{}, s.Office.Unhear(ctx, mine.ID, in.Subscription)
		})
}

// mine is the account of somebody who has one.
func (a *server) mine(ctx context.Context, who api.Who) (*api.Account, error) {
	mine, err := a.service.MyAccount(ctx, who)
	if err == nil && mine == nil {
		err = access.NoAccount(who)
	}
	return mine, err
}

// stateCookie ties a sign-in to the browser in which it was begun: without it somebody
// could be signed in as another by a link.
const stateCookie = "pane_sign_in"

// signInBy registers how a browser signs in with the lab's OpenID provider: to it, and back.
func (a *server) signInBy(keep func(c fiber.Ctx, secret string)) {
	a.app.Get("/sign-in/with", func(c fiber.Ctx) error {
		c.Set(fiber.HeaderCacheControl, "no-store")
		if err := a.listens(from(c)); err != nil {
			return notIn(c, err)
		}
		address, state, err := a.service.BeginSignIn(c.Context(), from(c))
		if err != nil {
			return notIn(c, err)
		}
		// Lax, for it has to come back with the provider's redirect.
		c.Cookie(&fiber.Cookie{Name: stateCookie, Value: state, Path: "/sign-in", HTTPOnly: true, SameSite: fiber.CookieSameSiteLaxMode,
			Secure: c.Protocol() == "https", Expires: time.Now().Add(10 * time.Minute)})
		return c.Redirect().Status(http.StatusSeeOther).To(address)
	})
	a.app.Get("/sign-in/back", func(c fiber.Ctx) error {
		c.Set(fiber.HeaderCacheControl, "no-store")
		secret := ""
		err := a.audited(c, signIn, func() error {
			if err := a.listens(from(c)); err != nil {
				return err
			}
			state := c.Query("state")
			if held := c.Cookies(stateCookie); held == "" || subtle.ConstantTimeCompare([]byte(held), []byte(state)) != 1 {
				return a.strange(from(c), api.Errorf(api.Unauthorized, "this sign-in was not begun in this browser: begin again"))
			}
			if c.Query("error") != "" {
				return api.Errorf(api.Unauthorized, "the provider did not sign you in: %.60q", c.Query("error"))
			}
			who, made, err := a.service.EndSignIn(c.Context(), state, c.Query("code"), from(c))
			if e, ok := errors.AsType[*api.Error](err); ok && e.Kind == api.Unauthorized {
				return a.strange(from(c), err)
			}
			if err != nil {
				return err
			}
			deedOf(c).by(who)
			secret = made
			return nil
		})
		if err != nil {
			return notIn(c, err)
		}
		c.Cookie(&fiber.Cookie{Name: stateCookie, Path: "/sign-in", HTTPOnly: true, Expires: time.Unix(1, 0)})
		keep(c, secret)
		c.Set(fiber.HeaderContentType, "text/html; charset=utf-8")
		return c.SendString(onToTheConsole)
	})
}

// notIn says in a page why somebody is not signed in.
func notIn(c fiber.Ctx, err error) error {
	e, ok := errors.AsType[*api.Error](err)
	if !ok {
		return err
	}
	c.Status(statusOf[e.Kind])
	c.Set(fiber.HeaderContentType, "text/html; charset=utf-8")
	return c.SendString(`<!doctype html><meta charset="utf-8"><title>Parallel Pane</title><h1>You are not signed in</h1><p>` +
		html.EscapeString(e.Message) + `</p><p><a href="/">Back to signing in</a></p>`)
}
