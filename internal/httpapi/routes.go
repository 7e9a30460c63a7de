package httpapi

import (
	"context"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/link"
)

// none is the input or output of a route that has none.
type none struct{}

type numberIn struct {
	Number int `path:"number" json:"-" description:"number of the run"`
}

type testIn struct {
	Number int `path:"number" json:"-" description:"number of the run"`
	Test   int `path:"test" json:"-" description:"index of the test, from 0"`
}

type filesIn struct {
	Number int    `path:"number" json:"-"`
	Kind   string `query:"kind" json:"-" description:"screenshots, logs, commands, video, network or console"`
}

type nameIn struct {
	Name string `path:"name" json:"-"`
}

type idIn struct {
	ID string `path:"id" json:"-"`
}

type tokenIn struct {
	Name string   `json:"name" required:"true"`
	Role api.Role `json:"role" required:"true" enum:"viewer,runner,admin,agent"`
}

type tokenOut struct {
	api.Token
	Secret string `json:"secret" description:"shown this one time"`
}

type linkOut struct {
	Path string `json:"path" description:"open it under the service's address, once, within ten minutes"`
}

type signInIn struct {
	Token string `json:"token" required:"true"`
}

type versionOut struct {
	Version string `json:"version"`
}

type againIn struct {
	Number    int  `path:"number" json:"-" description:"number of the run"`
	NotPassed bool `json:"not_passed,omitempty" description:"only the tests that did not pass"`
}

type whyIn struct {
	Needs   string `query:"needs" json:"-" description:"needs in words, such as browser=firefox|chromium version=>=140 site=quay"`
	Project string `query:"project" json:"-" description:"whose pools to look in; every agent if not given"`
}

type matrixIn struct {
	Matrix  combo.Matrix `json:"matrix" required:"true"`
	Project string       `json:"project,omitempty"`
}

var agentChanges = map[string]string{"drain": "Have an agent take nothing new", "resume": "Have a drained agent take work again",
	"wake": "End an agent's rest"}

// routes lists the JSON operations of the API.
func (a *server) routes() {
	s := a.service
	add(a, "GET", "/version", "", "The service's version", func(context.Context, api.Who, *none) (versionOut, error) {
		return versionOut{a.version}, nil
	})
	add(a, "GET", "/me", api.Viewer, "Who the token belongs to", func(_ context.Context, who api.Who, _ *none) (api.Who, error) {
		return who, nil
	})
	add(a, "POST", "/links", api.Viewer, "Make a one-time link that signs a browser in", func(_ context.Context,
		who api.Who, _ *none) (linkOut, error) {
		return linkOut{"/enter?code=" + s.SignInCode(who)}, nil
	})
	add(a, "GET", "/tokens", api.Admin, "List tokens", func(ctx context.Context, _ api.Who, _ *none) ([]api.Token, error) {
		return s.Tokens(ctx)
	})
	add(a, "POST", "/tokens", api.Admin, "Make a token", func(_ context.Context, _ api.Who, in *tokenIn) (tokenOut, error) {
		t, secret, err := s.AddToken(in.Name, in.Role)
		return tokenOut{t, secret}, err
	})
	add(a, "DELETE", "/tokens/{id}", api.Admin, "Make a token invalid", func(_ context.Context, _ api.Who, in *idIn) (none, error) {
		return none{}, s.DropToken(in.ID)
	})
	add(a, "GET", "/agents", api.Viewer, "List the fleet", func(context.Context, api.Who, *none) ([]api.Agent, error) {
		return s.Agents(), nil
	})
	add(a, "DELETE", "/agents/{name}", api.Admin, "Remove an agent that is offline", func(_ context.Context,
		_ api.Who, in *nameIn) (none, error) {
		return none{}, s.ForgetAgent(in.Name)
	})
	for path, change := range map[string]func(string) error{
		"drain": func(name string) error { return s.DrainAgent(name, true) }, "resume": func(name string) error {
			return s.DrainAgent(name,
				false)
		}, "wake": func(name string) error { return s.WakeAgent(name) },
	} {
		add(a, "POST", "/agents/{name}/"+path, api.Admin, agentChanges[path], func(_ context.Context, _ api.Who, in *nameIn) (none, error) {
			return none{}, change(in.Name)
		})
	}
	add(a, "GET", "/why", api.Viewer, "Say which agents meet some needs, and what the others lack", func(_ context.Context, _ api.Who,
		in *whyIn) (api.Why, error) {
		return s.Ask(strings.Fields(in.Needs), in.Project)
	})
	add(a, "POST", "/matrix/plan", api.Viewer, "Plan a matrix against the fleet", func(_ context.Context, _ api.Who,
		in *matrixIn) (api.PlannedMatrix, error) {
		return s.PlanMatrix(in.Matrix, in.Project)
	})
	add(a, "POST", "/forecasts", api.Viewer, "Forecast when given tests, or those of a run, would end", func(ctx context.Context,
		_ api.Who, in *api.ForecastRequest) (api.ForecastAnswer, error) {
		return s.Forecast(ctx, *in)
	})
	add(a, "GET", "/suites", api.Viewer, "List suites that were run or saved before, with their latest files", func(ctx context.Context,
		_ api.Who, _ *none) ([]api.KnownSuite, error) {
		return s.Suites(ctx)
	})
	add(a, "GET", "/devices", api.Viewer, "List the emulated devices of the catalogue", func(context.Context, api.Who,
		*none) ([]device.Profile, error) {
		return device.Catalogue, nil
	})
	a.planning()
	add(a, "POST", "/runs", api.Runner, "Start a run", func(ctx context.Context, who api.Who, in *api.RunRequest) (api.Run, error) {
		return s.Submit(ctx, who, *in)
	})
	add(a, "GET", "/runs", api.Viewer, "List runs, newest first", func(ctx context.Context, _ api.Who,
		in *api.RunFilter) ([]api.RunSummary, error) {
		return s.Runs(ctx, *in)
	})
	add(a, "POST", "/runs/preview", api.Viewer, "Work a request out without starting it", func(ctx context.Context, who api.Who,
		in *api.RunRequest) (api.Preview, error) {
		return s.Preview(ctx, who, *in)
	})
	add(a, "GET", "/runs/{number}/timeline", api.Viewer, "When what of a run ran on which slot", func(ctx context.Context, _ api.Who,
		in *numberIn) (api.Timeline, error) {
		return s.Timeline(ctx, in.Number)
	})
	add(a, "POST", "/runs/{number}/again", api.Runner, "Run an ended run again, all of it or what did not pass", func(ctx context.Context,
		who api.Who, in *againIn) (api.Run, error) {
		return s.Again(ctx, who, in.Number, in.NotPassed)
	})
	add(a, "POST", "/runs/{number}/cancel", api.Runner, "End a run before its time", func(ctx context.Context, who api.Who,
		in *numberIn) (api.Run, error) {
		return s.Cancel(ctx, who, in.Number)
	})
	add(a, "GET", "/runs/{number}/tests/{test}", api.Viewer, "One test of a run in every pane, with its attempts",
		func(ctx context.Context, _ api.Who, in *testIn) (api.TestResult, error) {
			return s.TestOfRun(ctx, in.Number, in.Test)
		})
	add(a, "GET", "/runs/{number}/files", api.Viewer, "List the files that a run kept", func(ctx context.Context, _ api.Who,
		in *filesIn) ([]api.RunFile, error) {
		return s.FilesOfRun(ctx, in.Number, in.Kind)
	})
	a.sessionRoutes()
	add(a, "POST", link.HelloPath, api.AgentRole, "An agent introduces itself; the ticket it gets opens its link", func(_ context.Context,
		_ api.Who, in *link.Hello) (link.Welcome, error) {
		return s.Hello(*in)
	})
	add(a, "POST", "/agent/beat", api.AgentRole, "An agent's sign of life", func(_ context.Context, _ api.Who,
		in *link.Beat) (link.BeatAnswer, error) {
		return s.Beat(*in)
	})
	add(a, "POST", "/agent/started", api.AgentRole, "An agent begins a test", func(_ context.Context, _ api.Who,
		in *link.Started) (none, error) {
		return none{}, s.Started(*in)
	})
	add(a, "POST", "/agent/sessions/{id}/files", api.AgentRole, "An agent names the files of a session that ended; the answer, those "+
		"to be sent whole", func(_ context.Context, _ api.Who, in *link.Handover) (link.HandoverAnswer, error) {
		return s.HandOver(*in)
	})
	add(a, "POST", "/agent/results", api.AgentRole, "An agent hands in an attempt's result", func(_ context.Context, _ api.Who,
		in *link.Result) (link.ResultAnswer, error) {
		return s.Result(*in)
	})
}
