package httpapi

import (
	"context"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"parallelpane/internal/api"

	"github.com/gofiber/fiber/v3"
)

// notBuilt is shown in place of a console that was not built.
const notBuilt = `<!doctype html><meta charset="utf-8"><title>Parallel Pane</title>
<h1>The console is not built</h1><p>This binary was compiled before the console. Run <code>make build</code> in the project's
directory, which builds the console and puts it in, and start the service again. The API and the command line work without it.</p>`

// maxSignIn bounds a sign-in, in bytes: it is read before anybody is known.
const maxSignIn = 4 << 10

// session registers how a browser signs in and out.
func (a *server) session() {
	keep := func(c fiber.Ctx, secret string) {
		c.Cookie(&fiber.Cookie{Name: cookieName, Value: secret, Path: "/", HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode,
			Secure: c.Protocol() == "https", Expires: time.Now().Add(30 * 24 * time.Hour)})
	}
	a.app.Post(Prefix+"/console/session", func(c fiber.Ctx) error {
		return a.audited(c, signIn, func() error {
			if origin := c.Get(fiber.HeaderOrigin); !sameOrigin(c) && (origin != "" || c.Get("Sec-Fetch-Site") != "") {
				return notOurs
			}
			raw, err := body(c, maxSignIn)
			if err != nil {
				return err
			}
			in := new(signInIn)
			if err := decode(raw, in); err != nil {
				return err
			}
			if err := a.listens(from(c)); err != nil {
				return err
			}
			who, secret, err := a.service.SignIn(c.Context(), in.Token, from(c))
			if err != nil {
				return a.strange(from(c), err)
			}
			deedOf(c).by(who)
			keep(c, secret)
			return c.JSON(who)
		})
	})
	a.app.Delete(Prefix+"/console/session", func(c fiber.Ctx) error {
		return a.audited(c, "sign out", func() error {
			who, err := a.who(c, inAny(api.Viewer).toShares())
			if err != nil {
				return err
			}
			c.ClearCookie(cookieName)
			if who.Share != nil {
				return c.SendStatus(http.StatusNoContent) // others have the link too
			}
			if _, err := a.dropToken(c.Context(), who, who.TokenID); err != nil {
				return err
			}
			return c.SendStatus(http.StatusNoContent)
		})
	})
	// A strict cookie does not go with the first request that follows a link from
	// elsewhere, so the page sends the browser on by itself.
	a.app.Get("/enter", func(c fiber.Ctx) error {
		c.Set(fiber.HeaderContentType, "text/html; charset=utf-8")
		c.Set(fiber.HeaderCacheControl, "no-store")
		secret := ""
		err := a.audited(c, signIn, func() error {
			if err := a.listens(from(c)); err != nil {
				return err
			}
			who, made, err := a.service.UseCode(c.Context(), c.Query("code"), from(c))
			if err != nil {
				return a.strange(from(c), err)
			}
			secret = made
			deedOf(c).by(who)
			return nil
		})
		if err != nil {
			c.Status(http.StatusUnauthorized)
			return c.SendString(`<!doctype html><meta charset="utf-8"><title>Parallel Pane</title><h1>This link no longer works</h1>` +
				`<p>A sign-in link is good once, for ten minutes. Make a new one with <code>pane link</code>,` +
				` or <a href="/">sign in with a token</a>.</p>`)
		}
		keep(c, secret)
		return c.SendString(onToTheConsole)
	})
	a.signInBy(keep)
}

// onToTheConsole sends a browser on that has a cookie now.
const onToTheConsole = `<!doctype html><meta charset="utf-8"><meta http-equiv="refresh" content="0;url=/"><title>Parallel Pane</title>
<a href="/">On to the console</a>`

// dropToken ends a token, with everything that goes on under it.
func (a *server) dropToken(ctx context.Context, who api.Who, id string) (api.Token, error) {
	t, err := a.service.DropToken(ctx, who, id)
	if err == nil {
		a.service.EndSessionsOf(id, "its token was dropped by "+who.Person())
	}
	return t, err
}

// console serves the console's files. Addresses without a file are pages of the
// console and get its index.
func (a *server) console(files fs.FS) {
	if files == nil {
		a.app.Get("/*", func(c fiber.Ctx) error {
			c.Set(fiber.HeaderContentType, "text/html; charset=utf-8")
			return c.SendString(notBuilt)
		})
		return
	}
	a.app.Get("/*", func(c fiber.Ctx) error {
		name := strings.TrimPrefix(path.Clean("/"+c.Path()), "/")
		if raw, err := fs.ReadFile(files, name); err == nil && name != "index.html" {
			if strings.HasPrefix(name, "assets/") {
				c.Set(fiber.HeaderCacheControl, "public, max-age=31536000, immutable")
			}
			return sendAsset(c, files, name, raw)
		}
		raw, err := fs.ReadFile(files, "index.html")
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderCacheControl, "no-cache")
		return sendAsset(c, files, "index.html", raw)
	})
}

var mediaOf = map[string]string{".html": "text/html; charset=utf-8", ".js": "text/javascript; charset=utf-8",
	".css": "text/css; charset=utf-8",
	".svg": "image/svg+xml", ".json": "application/json", ".woff2": "font/woff2", ".png": "image/png"}

// sendAsset sends a file, compressed beforehand where the build has done so.
func sendAsset(c fiber.Ctx, files fs.FS, name string, raw []byte) error {
	media := mediaOf[path.Ext(name)]
	if media == "" {
		media = "application/octet-stream"
	}
	c.Set(fiber.HeaderContentType, media)
	if strings.Contains(c.Get(fiber.HeaderAcceptEncoding), "gzip") {
		if packed, err := fs.ReadFile(files, name+".gz"); err == nil {
			c.Set(fiber.HeaderContentEncoding, "gzip")
			c.Set(fiber.HeaderVary, "Accept-Encoding")
			return c.Send(packed)
		}
	}
	return c.Send(raw)
}
