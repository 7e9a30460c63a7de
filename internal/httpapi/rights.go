package httpapi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/link"
	"parallelpane/internal/service"
)

// need is what an operation asks of whoever comes: a role, and where.
type need struct {
	role   api.Role
	where  where
	act    string // what the audit calls it; "" for what changes nothing
	cost   class
	beside []string // parameters that may be given beside those of its input
	// shares says that it answers somebody with a share link, whatever is shared.
	shares bool
}

type where int

const (
	theLab    where = iota // in the lab itself
	somewhere              // in any project: the operation answers with what its caller may see
	there                  // in the project of what the request names, see place
	anybody                // nobody has to say who they are
)

var open = need{where: anybody}

func inLab(r api.Role) need  { return need{role: r} }
func inAny(r api.Role) need  { return need{role: r, where: somewhere} }
func within(r api.Role) need { return need{role: r, where: there} }

// of says what kind of cost it is.
func (n need) of(c class) need {
	n.cost = c
	return n
}

// as names the deed, as the command line has it.
func (n need) as(act string) need {
	n.act = act
	return n
}

func (n need) String() string {
	switch n.where {
	case theLab:
		return string(n.role) + ", of the whole lab"
	case there:
		return string(n.role) + ", of the project"
	}
	return string(n.role) + ", of any project"
}

// place is the input of an operation within a project. It finds out which that is;
// where there is no such thing, the error is the one that somebody gets who may not
// know of it.
type place interface {
	project(ctx context.Context, s *service.Service) (string, error)
	missing() error
}

// who finds out who is asking and whether they have a role anywhere that would allow
// it.
func (a *server) who(c fiber.Ctx, n need) (api.Who, error) {
	secret, err := presented(c)
	if err != nil {
		return api.Who{}, err
	}
	who, err := a.service.Authenticate(c.Context(), secret, from(c))
	if err != nil {
		var e *api.Error
		if errors.As(err, &e) && e.Kind == api.Unauthorized {
			return who, a.strange(from(c), err)
		}
		return who, err
	}
	if phone := c.Get(link.PhoneHeader); phone != "" && who.Agent != "" {
		who.Agent = fleet.PhoneOf(who.Agent, phone)
		if !fleet.IsAgent(who.Agent) {
			return who, api.Errorf(api.Invalid, "%s: %.80q is no name of a phone: letters, digits, '.', '-' and '_', at most 64",
				link.PhoneHeader, phone)
		}
	}
	deedOf(c).by(who)
	if err := mayShared(c, who, n); err != nil {
		return who, err
	}
	if n.where == theLab && who.May(n.role, api.Everywhere) || n.where != theLab && who.Can(n.role) {
		return who, nil
	}
	project := ""
	if n.where == theLab {
		project = api.Everywhere
	}
	return who, lacking(who, n.role, project)
}

// strange is the answer to an address that did not say who it is, which may do so a few
// times in a minute.
func (a *server) strange(address string, err error) error {
	if weary := a.listens(address); weary != nil {
		return weary
	}
	a.budgets.stranger(address)
	return err
}

// listens reports whether an address has failed too often of late to be listened to.
func (a *server) listens(address string) error {
	if a.budgets.weary(address) {
		return api.Errorf(api.TooMany, "wrong tokens or links came from %s too often: again in a minute", address)
	}
	return nil
}

// presented is the token that comes with a request.
func presented(c fiber.Ctx) (string, error) {
	secret, ok := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer ")
	if _, password, basic := (&http.Request{Header: http.Header{"Authorization": {c.Get(fiber.HeaderAuthorization)}}}).BasicAuth(); basic {
		// A browser that was asked for it once sends it along by itself, from foreign pages too.
		foreign := (c.Get("Sec-Fetch-Site") != "" || c.Get(fiber.HeaderOrigin) != "") && !sameOrigin(c)
		if foreign && c.Method() != http.MethodGet && c.Method() != http.MethodHead {
			return "", notOurs
		}
		secret, ok = password, true
	}
	if !ok {
		if secret = c.Cookies(cookieName); secret != "" && c.Method() != http.MethodGet && !sameOrigin(c) {
			return "", notOurs
		}
	}
	if secret = strings.TrimSpace(secret); secret == "" {
		return "", &api.Error{Kind: api.Unauthorized, Message: "no token: sign in, or send Authorization: Bearer with a token"}
	}
	return secret, nil
}

var notOurs = api.Errorf(api.Forbidden, "this request did not come from the console's own pages")

// sameOrigin tells the console's own requests from those a foreign page makes
// with the console's cookie.
func sameOrigin(c fiber.Ctx) bool {
	if site := c.Get("Sec-Fetch-Site"); site != "" {
		return site == "same-origin"
	}
	origin := c.Get(fiber.HeaderOrigin)
	return origin != "" && origin == c.BaseURL()
}

// allowed reports whether somebody may do within a project what an input asks for.
// What they may not look at does not exist for them.
func (a *server) allowed(ctx context.Context, who api.Who, n need, in any) error {
	if who.Share != nil && !n.shares {
		if is, err := a.inShare(ctx, *who.Share, in); err != nil || !is {
			return cmp.Or(err, error(api.Errorf(api.NotFound, "this link shows %s, and nothing else", who.Share.About)))
		}
	}
	p, ok := in.(place)
	if n.where != there || !ok && who.May(n.role, api.Everywhere) {
		return nil
	}
	if !ok {
		return fmt.Errorf("%T does not say which project it is about", in)
	}
	if who.May(n.role, api.Everywhere) && n.act == "" {
		return nil // nobody needs to know which it is
	}
	project, err := p.project(ctx, a.service)
	if err != nil {
		return err
	}
	deedIn(ctx).Project = project
	switch {
	case !who.May(api.Viewer, project):
		return p.missing()
	case !who.May(n.role, project):
		return lacking(who, n.role, project)
	}
	return nil
}

func lacking(who api.Who, role api.Role, project string) error {
	where := ""
	switch project {
	case "":
	case api.Everywhere:
		where = " in the whole lab"
	default:
		where = " in the project " + project
	}
	return api.Errorf(api.Forbidden, "this needs the role %s%s; the token %q has the role %s", role, where, who.Name, rights(who.Rights))
}

func rights(all []api.Right) string {
	words := make([]string, len(all))
	for i, r := range all {
		words[i] = string(r.Role)
		if r.Project != api.Everywhere {
			words[i] += " in " + r.Project
		}
	}
	return strings.Join(words, ", ")
}

// from is the address of the client: of those that proxies say they forwarded for, the
// last that is none of the proxies. What stands before it anybody can have written.
func from(c fiber.Ctx) string {
	if !c.IsProxyTrusted() {
		return c.IP()
	}
	hops := strings.Split(c.Get(fiber.HeaderXForwardedFor), ",")
	trusted := c.App().Config().TrustProxyConfig.Proxies
	for _, hop := range slices.Backward(hops) {
		if ip := net.ParseIP(strings.TrimSpace(hop)); ip == nil {
			break
		} else if !among(trusted, ip) {
			return ip.String()
		}
	}
	return c.IP()
}

// CheckProxies says what is wrong with a list of addresses and networks.
func CheckProxies(all []string) error {
	for _, p := range all {
		if _, _, err := net.ParseCIDR(p); err != nil && net.ParseIP(p) == nil {
			return fmt.Errorf("expected an address such as 10.0.0.5 or a network such as 10.0.0.0/24, found %q", p)
		}
	}
	return nil
}

func among(proxies []string, ip net.IP) bool {
	return slices.ContainsFunc(proxies, func(p string) bool {
		if _, network, err := net.ParseCIDR(p); err == nil {
			return network.Contains(ip)
		}
		return ip.Equal(net.ParseIP(p))
	})
}

// What requests name, and the project that it belongs to.

type numberIn struct {
	Number int `path:"number" json:"-" description:"number of the run"`
}

func (in *numberIn) project(ctx context.Context, s *service.Service) (string, error) {
	row, err := s.Row(ctx, in.Number)
	return row.Project, err
}

func (in *numberIn) missing() error { return api.Errorf(api.NotFound, "there is no run %d", in.Number) }

type sessionIn struct {
	ID string `path:"id" json:"-"`
}

func (in *sessionIn) project(ctx context.Context, s *service.Service) (string, error) {
	project, _, err := s.WhoseSession(ctx, in.ID)
	return project, err
}

func (in *sessionIn) missing() error {
	return api.Errorf(api.NotFound, "there is no session %.80q", in.ID)
}

type projectIn struct {
	Name string `path:"name" json:"-"`
}

func (in *projectIn) project(context.Context, *service.Service) (string, error) { return in.Name, nil }

func (in *projectIn) missing() error {
	return api.Errorf(api.NotFound, "there is no project %.80q", in.Name)
}

type presetIn struct {
	Name string `path:"name" json:"-"`
}

func (in *presetIn) project(ctx context.Context, s *service.Service) (string, error) {
	p, err := s.Preset(ctx, in.Name)
	return p.Project, err
}

func (in *presetIn) missing() error {
	return api.Errorf(api.NotFound, "there is no preset %q: pane preset list shows those there are", in.Name)
}

type scheduleIn struct {
	Name string `path:"name" json:"-"`
}

func (in *scheduleIn) project(ctx context.Context, s *service.Service) (string, error) {
	return s.ProjectOfSchedule(ctx, in.Name)
}

func (in *scheduleIn) missing() error {
	return api.Errorf(api.NotFound, "there is no schedule %q: pane schedule list shows those there are", in.Name)
}

type attemptIn struct {
	Attempt string `path:"attempt" json:"-"`
	Name    string `path:"name" json:"-"`
}

func (in *attemptIn) project(ctx context.Context, s *service.Service) (string, error) {
	return s.ProjectOfAttempt(ctx, in.Attempt)
}

func (in *attemptIn) missing() error {
	return api.Errorf(api.NotFound, "attempt %.80s has no file %.100q", in.Attempt, in.Name)
}
