package httpapi

import (
	"context"
	"net"
	"net/http"
	"strings"

	"github.com/gofiber/fiber/v3"

	"parallelpane/internal/api"
	"parallelpane/internal/link"
	"parallelpane/internal/service"
)

type (
	relayIn struct {
		Project string `path:"project" json:"-"`
		Name    string `path:"name" json:"-"`
	}
	relayOpenIn struct {
		Project string `query:"project" json:"-" description:"whose runs may use it"`
		Name    string `query:"name" json:"-" description:"by which runs ask for it"`
		Again   string `query:"again" json:"-" description:"yes: its connection was lost, and it is not to open once somebody has ended it"`
		Places  string `query:"places" json:"-" description:"what may be reached, with commas: HOST:PORT, *.DOMAIN, NETWORK/BITS"`
	}
	relayedIn struct {
		Fence int64  `query:"fence" json:"-" description:"of the lease"`
		To    string `query:"to" json:"-" description:"host and port"`
	}
	relaysIn struct {
		Project string `query:"project" json:"-" description:"only this project's"`
		Text    string `query:"text" json:"-" description:"only those with this in their names, owners or places"`
	}
)

func (in *relayIn) project(context.Context, *service.Service) (string, error) { return in.Project, nil }

func (in *relayIn) missing() error {
	return api.Errorf(api.NotFound, "there is no relay %.80q in project %.80q: pane relays lists those that are open", in.Name, in.Project)
}

func (in *relayOpenIn) project(context.Context, *service.Service) (string, error) {
	return in.Project, nil
}

func (in *relayOpenIn) missing() error {
	return api.Errorf(api.NotFound, "there is no project %.80q", in.Project)
}

// relays registers the operations on ways in.
func (a *server) relays() {
	add(a, "GET", "/relays", inAny(api.Viewer), "The relays that are open", func(_ context.Context, who api.Who, in *relaysIn) ([]api.Relay,
		error) {
		out := []api.Relay{}
		for _, r := range seen(who, a.service.Ways.Relays(), func(r api.Relay) string { return r.Project }) {
			all := strings.ToLower(strings.Join(append([]string{r.Name, r.By}, r.Places...), "\n"))
			if (in.Project == "" || in.Project == r.Project) && strings.Contains(all, strings.ToLower(in.Text)) {
				out = append(out, r)
			}
		}
		return out, nil
	})
	add(a, "DELETE", "/relays/{project}/{name}", within(api.Runner).as("relay end"), "End a relay: one's own, or any as the project's admin",
		func(_ context.Context, who api.Who, in *relayIn) (none, error) {
			return none{}, a.service.Ways.End(who, in.Project, in.Name)
		})
}

// relay takes the link of a relay's owner.
func (a *server) relay(c fiber.Ctx, who api.Who, in *relayOpenIn) error {
	q := api.RelayRequest{Project: in.Project, Name: in.Name, Again: in.Again == "yes", Places: strings.FieldsFunc(in.Places,
		func(r rune) bool { return r == ',' })}
	places, err := a.service.Ways.Admit(who, q)
	if err != nil {
		return err
	}
	return a.linked(c, who, "pane relay", func(l *link.Agent) { a.service.Ways.Hold(who, q, places, l) })
}

// relayed leads an agent through a relay.
func (a *server) relayed(c fiber.Ctx, who api.Who, in *relayedIn) error {
	if !strings.EqualFold(c.Get(fiber.HeaderUpgrade), link.RelayProtocol) {
		return fiber.NewError(http.StatusUpgradeRequired, "this address takes agents' connections through a relay only")
	}
	project, name, goes, err := a.service.RelayOf(who.Agent, in.Fence)
	if err != nil {
		return err
	}
	through, err := a.service.Ways.Dial(c.Context(), project, name, in.To, goes)
	if err != nil {
		return err
	}
	c.Status(http.StatusSwitchingProtocols)
	c.Set(fiber.HeaderConnection, "Upgrade")
	c.Set(fiber.HeaderUpgrade, link.RelayProtocol)
	c.RequestCtx().Hijack(func(conn net.Conn) { through.Join(conn) })
	return nil
}
