package httpapi

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/link"
)

// none is the input or output of a route that has none.
type none struct{}

type testIn struct {
	numberIn
	Test int `path:"test" json:"-" description:"index of the test, from 0"`
}

type filesIn struct {
	numberIn
	Kind string `query:"kind" json:"-" description:"screenshots, logs, commands, video, network, console or downloads"`
}

type nameIn struct {
	Name string `path:"name" json:"-"`
}

type idIn struct {
	ID string `path:"id" json:"-"`
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
	numberIn
	api.AgainRequest
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
	add(a, "GET", "/version", open, "The service's version", func(context.Context, api.Who, *none) (versionOut, error) {
		return versionOut{a.version}, nil
	})
	add(a, "GET", "/me", inAny(api.Viewer).toShares(), "Who the token belongs to", func(_ context.Context, who api.Who, _ *none) (api.Who,
		error) {
		return who, nil
	})
	add(a, "POST", "/links", inAny(api.Viewer).as("link"), "Make a one-time link that signs a browser in", func(_ context.Context,
		who api.Who, _ *none) (linkOut, error) {
		code, err := s.SignInCode(who)
		return linkOut{"/enter?code=" + code}, err
	})
	add(a, "GET", "/tokens", inAny(api.Viewer), "List one's own tokens; to the lab's admin, every one", func(ctx context.Context,
		who api.Who, _ *none) ([]api.Token, error) {
		return s.Tokens(ctx, who)
	})
	add(a, "POST", "/tokens", inLab(api.Admin).as("token add"), "Make a token", func(ctx context.Context, _ api.Who,
		in *api.TokenRequest) (tokenOut, error) {
		t, secret, err := s.AddToken(ctx, *in)
		deedIn(ctx).on(in.Name).changed(nil, t)
		return tokenOut{t, secret}, err
	})
	add(a, "DELETE", "/tokens/{id}", inAny(api.Viewer).as("token drop"), "Make a token invalid, and what was made from it",
		func(ctx context.Context, who api.Who, in *idIn) (none, error) {
			t, err := a.dropToken(ctx, who, in.ID)
			deedIn(ctx).on(t.Name).changed(t, nil)
			return none{}, err
		})
	add(a, "GET", "/audit", inAny(api.Admin), "Who did what, newest first", func(ctx context.Context, who api.Who,
		in *api.AuditFilter) ([]api.AuditEntry, error) {
		return s.Audit(ctx, *in, who.Where(api.Admin))
	})
	add(a, "GET", "/agents", inAny(api.Viewer), "List the fleet", func(_ context.Context, who api.Who, _ *none) ([]api.Agent, error) {
		return seenAgents(who, s.Agents()), nil
	})
	add(a, "DELETE", "/agents/{name}", inLab(api.Admin).as("agents forget"), "Remove an agent that is offline", func(_ context.Context,
		_ api.Who, in *nameIn) (none, error) {
		return none{}, s.ForgetAgent(in.Name)
	})
	for path, change := range map[string]func(string) error{
		"drain": func(name string) error { return s.DrainAgent(name, true) }, "resume": func(name string) error {
			return s.DrainAgent(name,
				false)
		}, "wake": func(name string) error { return s.WakeAgent(name) },
	} {
		add(a, "POST", "/agents/{name}/"+path, inLab(api.Admin).as("agents "+path), agentChanges[path], func(_ context.Context, _ api.Who,
			in *nameIn) (none, error) {
			return none{}, change(in.Name)
		})
	}
	add(a, "GET", "/why", inAny(api.Viewer), "Say which agents meet some needs, and what the others lack", func(_ context.Context, who api.Who,
		in *whyIn) (api.Why, error) {
		project, err := lookedAt(who, in.Project)
		if err != nil {
			return api.Why{}, err
		}
		return s.Ask(who, strings.Fields(in.Needs), project)
	})
	add(a, "POST", "/matrix/plan", inAny(api.Viewer), "Plan a matrix against the fleet", func(_ context.Context, who api.Who,
		in *matrixIn) (api.PlannedMatrix, error) {
		project, err := lookedAt(who, in.Project)
		if err != nil {
			return api.PlannedMatrix{}, err
		}
		return s.PlanMatrix(who, in.Matrix, project)
	})
	add(a, "POST", "/forecasts", inAny(api.Viewer), "Forecast when given tests, or those of a run, would end", func(ctx context.Context,
		who api.Who, in *api.ForecastRequest) (api.ForecastAnswer, error) {
		if in.Run != 0 {
			if err := a.allowed(ctx, who, within(api.Viewer), &numberIn{in.Run}); err != nil {
				return api.ForecastAnswer{}, err
			}
		}
		return s.Forecast(ctx, *in)
	})
	add(a, "GET", "/suites", inAny(api.Viewer), "List suites that were run or saved before, with their latest files", func(ctx context.Context,
		who api.Who, _ *none) ([]api.KnownSuite, error) {
		all, err := s.Suites(ctx)
		return seen(who, all, func(x api.KnownSuite) string { return x.Project }), err
	})
	add(a, "GET", "/devices", inAny(api.Viewer), "List the emulated devices of the catalogue", func(_ context.Context, _ api.Who,
		in *device.Wanted) ([]device.Profile, error) {
		found, err := device.Search(device.Catalogue, *in)
		if err != nil {
			return nil, api.Errorf(api.Invalid, "%v", err)
		}
		return found, nil
	})
	a.planning()
	add(a, "POST", "/runs", inAny(api.Runner).as("run"), "Start a run", func(ctx context.Context, who api.Who,
		in *api.RunRequest) (api.Run, error) {
		run, err := s.Submit(ctx, who, *in)
		return started(ctx, run), err
	})
	add(a, "GET", "/runs", inAny(api.Viewer), "List runs, newest first", func(ctx context.Context, who api.Who,
		in *api.RunFilter) ([]api.RunSummary, error) {
		in.Among = who.Projects()
		return s.Runs(ctx, *in)
	})
	add(a, "POST", "/runs/preview", inAny(api.Viewer), "Work a request out without starting it", func(ctx context.Context, who api.Who,
		in *api.RunRequest) (api.Preview, error) {
		return s.Preview(ctx, who, *in)
	})
	add(a, "GET", "/runs/{number}/timeline", within(api.Viewer), "When what of a run ran on which slot", func(ctx context.Context, _ api.Who,
		in *numberIn) (api.Timeline, error) {
		return s.Timeline(ctx, in.Number)
	})
	add(a, "POST", "/runs/{number}/again", within(api.Runner).as("again"), "Run an ended run again, all of it or what did not pass",
		func(ctx context.Context,
			who api.Who, in *againIn) (api.Run, error) {
			run, err := s.Again(ctx, who, in.Number, in.AgainRequest)
			return started(ctx, run), err
		})
	add(a, "POST", "/runs/{number}/cancel", within(api.Runner).as("cancel").of(lasting), "End a run before its time", func(ctx context.Context,
		who api.Who,
		in *numberIn) (api.Run, error) {
		return s.Cancel(ctx, who, in.Number)
	})
	add(a, "GET", "/runs/{number}/tests/{test}", within(api.Viewer), "One test of a run in every pane, with its attempts",
		func(ctx context.Context, who api.Who, in *testIn) (api.TestResult, error) {
			got, err := s.TestOfRun(ctx, in.Number, in.Test)
			if who.Share != nil && who.Share.Kind != api.ShareRun { // of the others nothing is told
				got.Run.Counts, got.Run.Panes = nil, nil
				got.Tests = slices.DeleteFunc(slices.Clone(got.Tests), func(t api.Test) bool { return !who.Share.Shows(t.Index) })
			}
			return got, err
		})
	add(a, "GET", "/runs/{number}/files", within(api.Viewer), "List the files that a run kept", func(ctx context.Context, _ api.Who,
		in *filesIn) ([]api.RunFile, error) {
		return s.FilesOfRun(ctx, in.Number, in.Kind)
	})
	a.bisectRoutes()
	a.triageRoutes()
	a.exportRoutes()
	a.notifyRoutes()
	a.shareRoutes()
	a.noteRoutes()
	a.defectRoutes()
	a.accountRoutes()
	a.sessionRoutes()
	add(a, "GET", "/browsers", inAny(api.Viewer), "Which agent has which browser, and how far what is stocked has come",
		func(ctx context.Context, who api.Who, _ *struct{}) (api.Browsers, error) {
			var names []string
			for _, agent := range seenAgents(who, s.Agents()) {
				names = append(names, agent.Name)
			}
			all := s.Browsers(names)
			var err error
			all.Changes, err = s.BrowserChanges(ctx, func(agent string) bool { return slices.Contains(names, agent) })
			return all, err
		})
	add(a, "POST", "/stock", inLab(api.Admin).as("stock a browser"), "Hand a browser to every agent that matches",
		func(ctx context.Context, who api.Who, in *api.StockRequest) (api.Stock, error) {
			made, err := s.AddStock(ctx, who, *in)
			if err == nil {
				deedIn(ctx).on(made.Name).changed(nil, map[string]any{"id": made.ID, "needs": made.Needs, "archives": made.Archives})
			}
			return made, err
		})
	add(a, "DELETE", "/stock/{id}", inLab(api.Admin).as("drop a browser"), "Take a stocked browser away from every agent",
		func(ctx context.Context, _ api.Who, in *idIn) (none, error) {
			gone, err := s.DropStock(in.ID)
			if err == nil {
				deedIn(ctx).on(gone.Name).changed(map[string]any{"id": gone.ID, "needs": gone.Needs}, nil)
			}
			return none{}, err
		})
	agents := inLab(api.AgentRole)
	add(a, "POST", link.HelloPath, agents.as("agent join").of(passing), "An agent introduces itself; the ticket it gets opens its link",
		func(ctx context.Context, who api.Who, in *link.Hello) (link.Welcome, error) {
			if deedIn(ctx).on(in.Name); who.Agent == in.Name {
				deedIn(ctx).Act = "" // it joined before
			}
			if err := s.MayJoin(*in); err != nil {
				return link.Welcome{}, err
			}
			if err := s.Bind(who, in.Name, in.Machine.Pool); err != nil {
				return link.Welcome{}, err
			}
			return s.Hello(who.TokenID, *in)
		})
	add(a, "POST", "/agent/beat", agents.of(passing), "An agent's sign of life", func(_ context.Context, who api.Who,
		in *link.Beat) (link.BeatAnswer, error) {
		return s.Beat(who.Agent, *in)
	})
	add(a, "POST", "/agent/machine", agents.of(passing), "An agent says what its machine has now", func(_ context.Context, who api.Who,
		in *link.Machine) (none, error) {
		return none{}, s.Restock(who.Agent, *in)
	})
	add(a, "GET", "/agent/stock", agents.of(passing), "What an agent is to have of the browsers that the service stocks",
		func(_ context.Context, who api.Who, _ *struct{}) (link.Stock, error) {
			return s.Stock(who.Agent), nil
		})
	add(a, "POST", "/agent/started", agents.of(passing), "An agent begins a test", func(_ context.Context, who api.Who,
		in *link.Started) (none, error) {
		return none{}, s.Started(who.Agent, *in)
	})
	add(a, "POST", "/agent/found", agents.of(passing), "An agent came upon tests while it worked; the answer, those that are its own now",
		func(_ context.Context, who api.Who, in *link.Found) (link.FoundAnswer, error) {
			return s.Found(who.Agent, *in)
		})
	add(a, "POST", "/agent/sessions/{id}/files", agents, "An agent names the files of a session that ended; the answer, those "+
		"to be sent whole", func(_ context.Context, who api.Who, in *link.Handover) (link.HandoverAnswer, error) {
		return s.HandOver(who.Agent, *in)
	})
	add(a, "POST", "/agent/recall", agents, "An agent asks what a locator matched when its test last passed",
		func(ctx context.Context, who api.Who, in *link.Recall) (link.Recalled, error) {
			return s.RecallLocator(ctx, who.Agent, *in)
		})
	add(a, "POST", "/agent/results", agents, "An agent hands in an attempt's result", func(_ context.Context, who api.Who,
		in *link.Result) (link.ResultAnswer, error) {
		return s.Result(who.Agent, *in)
	})
}

// started notes which run was started.
func started(ctx context.Context, run api.Run) api.Run {
	if run.Number > 0 {
		d := deedIn(ctx).on(strconv.Itoa(run.Number))
		d.Project = run.Project
		d.changed(nil, map[string]any{"suite": run.Suite, "matrix": run.Matrix, "environment": run.Environment, "panes": len(run.Panes)})
	}
	return run
}

// seen leaves out what belongs to projects that somebody may not look at.
func seen[T any](who api.Who, all []T, project func(T) string) []T {
	return slices.DeleteFunc(all, func(x T) bool { return !who.May(api.Viewer, project(x)) })
}

// lookedAt is the project whose fleet somebody sees: the one that they name, or, for
// want of a look at every one, one of theirs.
func lookedAt(who api.Who, project string) (string, error) {
	if mine := who.Projects(); mine != nil {
		if project == "" {
			return mine[0], nil
		}
		if !slices.Contains(mine, project) {
			return "", (&projectIn{project}).missing()
		}
	}
	return project, nil
}

// seenAgents are the agents that serve the projects which somebody may look at, with
// what they do for others left unsaid.
func seenAgents(who api.Who, all []api.Agent) []api.Agent {
	all = slices.DeleteFunc(all, func(x api.Agent) bool {
		return x.Machine.Pool != "" && x.Machine.Pool != fleet.Shared && !who.May(api.Viewer, x.Machine.Pool)
	})
	for _, x := range all {
		for i, w := range x.Work {
			if !who.May(api.Viewer, w.Project) {
				x.Work[i] = api.AgentWork{Tests: w.Tests}
			}
		}
	}
	return all
}
