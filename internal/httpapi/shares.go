package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/access"
	"parallelpane/internal/api"
	"parallelpane/internal/core/attempt"
	"parallelpane/internal/report"
	"parallelpane/internal/service"
)

// Whoever comes with a share link may look at what it shows, and at nothing else: an
// operation answers only if it looks, is about something within a project, and its input says
// whether that belongs to what is shared. An input that does not say so is not answered.
type sharable interface {
	shared(ctx context.Context, s *service.Service, share api.Share) (bool, error)
}

// toShares lets an operation answer somebody with a share link though it is about no run.
func (n need) toShares() need {
	n.shares = true
	return n
}

// mayShared reports whether somebody with a share link may ask for an operation at all.
func mayShared(c fiber.Ctx, who api.Who, n need) error {
	looks := c.Method() == http.MethodGet || c.Method() == http.MethodHead
	if who.Share == nil || n.shares || looks && n.where == there && n.role == api.Viewer {
		return nil
	}
	return api.Errorf(api.Forbidden, "this link shows %s, and nothing else", who.Share.About)
}

// inShare reports whether what an input is about belongs to what a link shows.
func (a *server) inShare(ctx context.Context, share api.Share, in any) (bool, error) {
	s, ok := in.(sharable)
	if !ok {
		return false, nil
	}
	return s.shared(ctx, a.service, share)
}

func (in *numberIn) shared(_ context.Context, _ *service.Service, share api.Share) (bool, error) {
	return share.Kind == api.ShareRun && in.Number == share.Run, nil
}

func (in *testIn) shared(_ context.Context, _ *service.Service, share api.Share) (bool, error) {
	return in.Number == share.Run && share.Shows(in.Test), nil
}

func (in *sessionIn) shared(ctx context.Context, s *service.Service, share api.Share) (bool, error) {
	if share.Kind == api.ShareSession {
		return in.ID == share.Session, nil
	}
	return ofAttempt(ctx, s, attempt.Of(in.ID), share)
}

func (in *attemptIn) shared(ctx context.Context, s *service.Service, share api.Share) (bool, error) {
	if share.Kind == api.ShareSession {
		return attempt.Of(in.Attempt) == attempt.Of(share.Session), nil
	}
	return ofAttempt(ctx, s, in.Attempt, share)
}

func ofAttempt(ctx context.Context, s *service.Service, id string, share api.Share) (bool, error) {
	run, test, err := s.PlaceOfAttempt(ctx, id)
	return run == share.Run && share.Shows(test), err
}

// Inputs of operations on share links.
type (
	shareIn    struct{ api.ShareRequest }
	shareEndIn struct {
		Share string `path:"share" json:"-" description:"its id"`
	}
)

func (in *shareIn) project(ctx context.Context, s *service.Service) (string, error) {
	if in.Kind == api.ShareBadge {
		return in.Project, nil
	}
	if in.Kind == api.ShareSession {
		project, _, err := s.WhoseSession(ctx, in.Session)
		return project, err
	}
	row, err := s.Row(ctx, in.Run)
	return row.Project, err
}

func (in *shareIn) missing() error {
	if in.Kind == api.ShareBadge {
		return (&projectIn{in.Project}).missing()
	}
	if in.Kind == api.ShareSession {
		return (&sessionIn{ID: in.Session}).missing()
	}
	return (&numberIn{Number: in.Run}).missing()
}

func (in *shareEndIn) project(ctx context.Context, s *service.Service) (string, error) {
	x, err := s.ShareOf(ctx, in.Share)
	return x.Share.Project, err
}

func (in *shareEndIn) missing() error { return access.NoShare(in.Share) }

func (a *server) shareRoutes() {
	s := a.service
	a.app.Get(badgePath+":secret", func(c fiber.Ctx) error {
		return a.audited(c, "", func() error { return a.badge(c) })
	})
	add(a, "GET", "/shares", inAny(api.Runner), "List share links, with their ends and last use",
		func(ctx context.Context, who api.Who, in *api.ShareFilter) ([]api.ShareLink, error) {
			in.Among = who.Projects()
			return s.Shares(ctx, *in)
		})
	add(a, "POST", "/shares", within(api.Runner).as("share"),
		"Make a link that shows a run, a test, a cause or a session to whoever has it, and nothing else",
		func(ctx context.Context, who api.Who, in *shareIn) (api.NewShare, error) {
			share, err := a.whatIsShared(ctx, in)
			if err != nil {
				return api.NewShare{}, err
			}
			link, secret, err := s.AddShare(ctx, who, share, in.Until)
			deedIn(ctx).on(share.About)
			address := "/shared#" + secret
			if share.Kind == api.ShareBadge {
				address = badgePath + secret + ".svg"
			}
			return api.NewShare{ShareLink: link, Address: strings.TrimRight(s.Office.Address, "/") + address}, err
		})
	add(a, "DELETE", "/shares/{share}", within(api.Runner).as("share end"), "Withdraw a share link",
		func(ctx context.Context, _ api.Who, in *shareEndIn) (none, error) {
			return none{}, s.EndShare(ctx, in.Share)
		})
}

// badgePath is where badges are.
const badgePath = "/badge/"

// badge draws how a suite stands, for pages elsewhere: whoever has its address sees the
// verdict of its newest run and what its tests came to.
func (a *server) badge(c fiber.Ctx) error {
	if err := a.listens(from(c)); err != nil {
		return err
	}
	secret, _ := strings.CutSuffix(c.Params("secret"), ".svg")
	who, err := a.service.Authenticate(c.Context(), secret, from(c))
	if err != nil {
		return a.strange(from(c), err)
	}
	if who.Share == nil || who.Share.Kind != api.ShareBadge {
		return api.Errorf(api.NotFound, "there is no badge here")
	}
	leave, err := a.enter(c, who, working)
	if err != nil {
		return err
	}
	defer leave()
	share := who.Share
	runs, err := a.service.Runs(c.Context(), api.RunFilter{Project: share.Project, Suite: share.Suite, State: "ended", Limit: 1})
	if err != nil {
		return err
	}
	var newest *api.RunSummary
	if len(runs) > 0 {
		newest = &runs[0]
	}
	c.Set(fiber.HeaderContentType, "image/svg+xml")
	c.Set(fiber.HeaderCacheControl, "max-age=60")
	c.Set("Cross-Origin-Resource-Policy", "cross-origin")
	return report.Badge(c.Response().BodyWriter(), share.Project+" "+share.Suite, newest)
}

// whatIsShared checks what is asked to be shared.
func (a *server) whatIsShared(ctx context.Context, in *shareIn) (api.Share, error) {
	out := api.Share{Kind: in.Kind, Run: in.Run}
	var err error
	if out.Project, err = in.project(ctx, a.service); err != nil {
		return out, err
	}
	switch in.Kind {
	case api.ShareRun:
		out.Path, out.About = fmt.Sprintf("/runs/%d", in.Run), fmt.Sprintf("run #%d", in.Run)
	case api.ShareCause:
		err = a.causeShared(ctx, in, &out)
	case api.ShareTest:
		run, err := a.service.Run(ctx, in.Run)
		if err != nil {
			return out, err
		}
		if in.Test < 0 || in.Test >= len(run.Tests) {
			return out, api.Errorf(api.Invalid, "test: run %d has tests 0 to %d, found %d", in.Run, len(run.Tests)-1, in.Test)
		}
		out.Test, out.Path = in.Test, fmt.Sprintf("/runs/%d/tests/%d", in.Run, in.Test)
		out.About = fmt.Sprintf("the test %q of run #%d", run.Tests[in.Test].Name, in.Run)
	case api.ShareSession:
		out.Session, out.Path, out.About = in.Session, "/sessions/"+url.PathEscape(in.Session), "the session "+in.Session
		out.Run, _, err = a.service.PlaceOfAttempt(ctx, attempt.Of(in.Session))
	case api.ShareBadge:
		out.Suite, out.About = in.Suite, fmt.Sprintf("the badge of %s %s", in.Project, in.Suite)
		var runs []api.RunSummary
		runs, err = a.service.Runs(ctx, api.RunFilter{Project: in.Project, Suite: in.Suite, Limit: 1})
		if err == nil && (in.Suite == "" || len(runs) == 0) {
			err = api.Errorf(api.Invalid, "suite: no run of %s has a suite %.80q", in.Project, in.Suite)
		}
	default:
		err = api.Errorf(api.Invalid, "kind: expected run, test, cause, session or badge, found %.40q", in.Kind)
	}
	return out, err
}
