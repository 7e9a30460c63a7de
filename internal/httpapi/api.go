// Package httpapi is the service's face over HTTP: the API with its OpenAPI
// document, the events, the files, the links of agents and the console. It
// decides nothing; package service does.
package httpapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/valyala/fasthttp"

	"parallelpane/internal/api"
	"parallelpane/internal/core/source"
	"parallelpane/internal/lab"
	"parallelpane/internal/project"
	"parallelpane/internal/service"
)

// Prefix is where the API lives.
const Prefix = "/api/v1"

// MaxJSONBytes bounds a JSON request.
const MaxJSONBytes = 8 << 20

type server struct {
	service *service.Service
	log     *slog.Logger
	version string
	app     *fiber.App
	doc     *document
	budgets *budgets
}

// Config is what the API is built from.
type Config struct {
	Service *service.Service
	Log     *slog.Logger
	Version string
	Console fs.FS    // the built console; nil when it was not built
	Proxies []string // addresses and networks of proxies whose forwarded headers are believed
}

// How long a client may take to say what it asks for, and to send it.
const (
	headLimit = 15 * time.Second
	bodyLimit = 10 * time.Minute
)

// New returns the application, ready to listen.
func New(c Config) *fiber.App {
	a := &server{service: c.Service, log: c.Log, version: c.Version, doc: newDocument(c.Version), budgets: newBudgets()}
	a.app = fiber.New(fiber.Config{
		AppName: "Parallel Pane", ErrorHandler: a.fail, StreamRequestBody: true, BodyLimit: lab.MaxFileBytes,
		DisablePreParseMultipartForm: true, // which would be read, and kept on disk, of anybody
		ReadTimeout:                  headLimit, IdleTimeout: 2 * time.Minute,
		TrustProxy: len(c.Proxies) > 0, TrustProxyConfig: fiber.TrustProxyConfig{Proxies: c.Proxies}, UnescapePath: false, Immutable: true,
	})
	// A link's connection belongs to the link, which closes it; a request on it may
	// still be under way when its handler returns.
	a.app.Server().KeepHijackedConns = true
	a.app.Server().ErrorHandler = notUnderstood
	a.app.Server().HeaderReceived = func(*fasthttp.RequestHeader) fasthttp.RequestConfig {
		return fasthttp.RequestConfig{ReadTimeout: bodyLimit}
	}
	a.app.Use(a.guard)
	a.app.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	a.app.Get("/readyz", func(c fiber.Ctx) error {
		if err := a.service.Ready(c.Context()); err != nil {
			return fiber.NewError(http.StatusServiceUnavailable, "the records are not well: "+err.Error())
		}
		return c.SendString("ready\n")
	})
	metrics := adaptor.HTTPHandler(promhttp.HandlerFor(c.Service.Metrics(), promhttp.HandlerOpts{}))
	a.app.Get("/metrics", func(c fiber.Ctx) error {
		return a.audited(c, "", func() error {
			if _, err := a.who(c, inLab(api.Viewer)); err != nil {
				return err
			}
			return metrics(c)
		})
	})
	a.routes()
	a.streams()
	a.relays()
	a.secrets()
	a.outputs()
	a.session()
	a.remoteEnd()
	a.app.Get(Prefix+"/openapi.json", func(c fiber.Ctx) error {
		c.Set(fiber.HeaderContentType, "application/json")
		return c.Send(a.doc.json())
	})
	a.app.All(Prefix+"/*", func(fiber.Ctx) error {
		return fiber.NewError(http.StatusNotFound, "there is no such address in the API; "+Prefix+"/openapi.json lists what there is")
	})
	a.console(c.Console)
	return a.app
}

// notUnderstood answers what could not be read as a request. It says nothing of it: that
// may hold a token, and goes where anybody's errors go.
func notUnderstood(ctx *fasthttp.RequestCtx, err error) {
	p := Problem{Type: "about:blank", Status: http.StatusBadRequest, Detail: "this could not be read as a request of HTTP/1.1"}
	var timeout net.Error
	switch {
	case errors.As(err, new(*fasthttp.ErrSmallBuffer)):
		p.Status, p.Detail = http.StatusRequestHeaderFieldsTooLarge, "the header is too large"
	case errors.Is(err, fasthttp.ErrBodyTooLarge):
		p.Status, p.Detail = http.StatusRequestEntityTooLarge, "the body is too large"
	case errors.As(err, &timeout) && timeout.Timeout():
		p.Status, p.Detail = http.StatusRequestTimeout, "the request did not come in time"
	}
	p.Title = http.StatusText(p.Status)
	raw, _ := json.Marshal(p)
	ctx.Response.Reset()
	ctx.SetStatusCode(p.Status)
	ctx.SetContentType("application/problem+json")
	ctx.SetBody(raw)
}

// OpenAPI is the API's document.
func OpenAPI(version string) []byte {
	a := &server{doc: newDocument(version), app: fiber.New()}
	a.routes()
	a.streams()
	a.relays()
	a.secrets()
	a.outputs()
	return a.doc.json()
}

// guard sets the headers that every answer carries.
func (a *server) guard(c fiber.Ctx) error {
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("X-Frame-Options", "DENY")
	c.Set("Referrer-Policy", "no-referrer")
	c.Set("X-Robots-Tag", "noindex, nofollow")
	c.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; object-src "+
		"'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'")
	return c.Next()
}

const cookieName = "pane_session"

// add registers a JSON operation and describes it in the OpenAPI document.
func add[In, Out any](a *server, method, path string, n need, summary string, f func(context.Context, api.Who, *In) (Out, error)) {
	list, beside, also := isList(method, any(new(In)), reflect.TypeFor[Out]())
	n.beside = beside
	a.doc.operation(method, path, n, summary, new(In), new(Out), also)
	a.app.Add([]string{method}, Prefix+colons(path), func(c fiber.Ctx) error {
		return a.audited(c, n.act, func() error {
			return admit(a, c, n, func(who api.Who, in *In) error {
				page, err := paged(c, list, in)
				if err != nil {
					return err
				}
				out, err := f(c.Context(), who, in)
				if err != nil {
					return err
				}
				if _, empty := any(out).(none); empty {
					c.Set(fiber.HeaderCacheControl, "no-store")
					return c.SendStatus(http.StatusNoContent)
				}
				api.Fill(&out)
				return answer(c, page.cut(c, out))
			})
		})
	})
}

// admit finds out who asks for what, and whether they may, before f does it. Nothing of
// the body is read before it is known who it is from, and that they may cost that much.
func admit[In any](a *server, c fiber.Ctx, n need, f func(api.Who, *In) error) (err error) {
	var who api.Who
	if n.where != anybody {
		if who, err = a.who(c, n); err != nil {
			return err
		}
		leave, err := a.enter(c, who, n.cost)
		if err != nil {
			return err
		}
		defer leave()
	}
	if err := a.writable(c); err != nil {
		return err
	}
	in := new(In)
	if err := bind(c, in, n.beside...); err != nil {
		return err
	}
	deedOf(c).on(targetOf(c))
	if err := a.allowed(c.Context(), who, n, in); err != nil {
		return err
	}
	return f(who, in)
}

// writable refuses what would change something while nothing can be put on record; what
// only looks, and the signs of life of agents, goes on.
func (a *server) writable(c fiber.Ctx) error {
	if c.Method() == http.MethodGet || c.Method() == http.MethodHead || strings.HasSuffix(c.Path(), "/agent/beat") {
		return nil
	}
	if err := a.service.Trouble(); err != nil {
		return api.Errorf(api.NoRoom, "%v: see to the disk of the service; it goes on by itself when there is room", err)
	}
	return nil
}

// targetOf is what the address names.
func targetOf(c fiber.Ctx) string {
	var words []string
	for _, name := range c.Route().Params {
		words = append(words, c.Params(name))
	}
	return strings.Join(words, " ")
}

// colons turns {name} into the router's :name.
func colons(path string) string {
	return strings.NewReplacer("{", ":", "}", "").Replace(path)
}

func invalid(format string, args ...any) error {
	return &api.Error{Kind: api.Invalid, Message: fmt.Sprintf(format, args...)}
}

// bind fills the input from path, query and JSON body. Unknown fields are
// errors, since a misspelt one would otherwise be silently ignored; parameters beside the
// input's own are read by somebody else.
func bind(c fiber.Ctx, in any, beside ...string) error {
	v := reflect.ValueOf(in).Elem()
	if err := bindFields(c, v, beside); err != nil {
		return err
	}
	if c.Method() != http.MethodPost || v.NumField() == 0 || !hasBody(v.Type()) {
		return nil
	}
	raw, err := body(c, MaxJSONBytes)
	if err != nil {
		return err
	}
	return decode(raw, in)
}

func decode(raw []byte, in any) error {
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(in); err != nil {
		return invalid("the body is not as expected: %v", strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}

func hasBody(t reflect.Type) bool {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Tag.Get("json") != "-" && !(f.Anonymous && f.Type.Kind() == reflect.Struct && !hasBody(f.Type)) {
			return true
		}
	}
	return false
}

func bindFields(c fiber.Ctx, v reflect.Value, beside []string) error {
	known := map[string]bool{}
	if err := bindInto(c, v, known); err != nil {
		return err
	}
	for name := range c.Queries() {
		if !known[name] && !slices.Contains(beside, name) {
			return invalid("unknown parameter %q", name)
		}
	}
	return nil
}

func bindInto(c fiber.Ctx, v reflect.Value, known map[string]bool) error {
	for i := range v.NumField() {
		field := v.Type().Field(i)
		if field.Anonymous && field.Type.Kind() == reflect.Struct {
			if err := bindInto(c, v.Field(i), known); err != nil {
				return err
			}
			continue
		}
		tag := field.Tag
		name, raw := tag.Get("path"), ""
		if name != "" {
			raw = c.Params(name)
		} else if name = tag.Get("query"); name != "" {
			known[name] = true
			raw = c.Query(name)
		}
		if raw == "" {
			continue
		}
		switch f := v.Field(i); f.Kind() {
		case reflect.Int, reflect.Int64:
			n, err := strconv.ParseInt(raw, 10, 64)
			if err != nil {
				return invalid("%s: expected a whole number, found %q", name, raw)
			}
			f.SetInt(n)
		default:
			f.SetString(raw)
		}
	}
	return nil
}

// drained is how much of a body that is too large is read and forgotten, in bytes:
// a client that is still writing when its connection closes never reads why.
const drained = 32 << 20

// body reads the request's body up to a limit.
func body(c fiber.Ctx, limit int) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(stream(c), int64(limit)+1))
	if err != nil {
		return nil, invalid("the body could not be read: %v", err)
	}
	if len(raw) > limit {
		_, _ = io.Copy(io.Discard, io.LimitReader(stream(c), drained))
		return nil, &api.Error{Kind: api.TooLarge, Message: fmt.Sprintf("the body is larger than %d MiB", limit>>20)}
	}
	return raw, nil
}

func stream(c fiber.Ctx) io.Reader {
	if r := c.Request().BodyStream(); r != nil {
		return r
	}
	return bytes.NewReader(c.Request().Body())
}

// Problem is an error answer, RFC 9457.
type Problem struct {
	Type     string           `json:"type"`
	Title    string           `json:"title"`
	Status   int              `json:"status"`
	Detail   string           `json:"detail"`
	Problems []source.Problem `json:"problems,omitempty" description:"places in files, when files are at fault"`
}

var statusOf = map[api.Kind]int{
	api.Invalid: http.StatusUnprocessableEntity, api.Unauthorized: http.StatusUnauthorized, api.Forbidden: http.StatusForbidden,
	api.NotFound: http.StatusNotFound, api.Conflict: http.StatusConflict, api.TooLarge: http.StatusRequestEntityTooLarge,
	api.NoRoom: http.StatusInsufficientStorage, api.TooMany: http.StatusTooManyRequests,
	api.Beyond: http.StatusBadGateway,
}

// fail answers an error.
func (a *server) fail(c fiber.Ctx, err error) error {
	p := Problem{Type: "about:blank", Status: http.StatusInternalServerError}
	if e, ok := errors.AsType[*api.Error](err); ok {
		p.Status, p.Detail, p.Problems = statusOf[e.Kind], e.Message, e.Problems
		a.tooMany(c, e)
	} else if e, ok := errors.AsType[*project.BundleError](err); ok {
		p.Status, p.Detail = http.StatusUnprocessableEntity, e.Error()
	} else if e, ok := errors.AsType[*fiber.Error](err); ok {
		p.Status, p.Detail = e.Code, e.Message
	} else {
		a.log.Error("request failed", "method", c.Method(), "path", shownPath(c), "error", err)
		p.Detail = "the service could not do this; its log says why"
	}
	p.Title = http.StatusText(p.Status)
	c.Status(p.Status)
	c.Set(fiber.HeaderCacheControl, "no-store")
	raw, _ := json.Marshal(p)
	c.Set(fiber.HeaderContentType, "application/problem+json")
	return c.Send(raw)
}
