package httpapi

import (
	"context"
	"slices"

	"parallelpane/internal/api"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/link"
	"parallelpane/internal/results"
)

type judgeIn struct {
	sessionIn
	link.SessionVerdict
}

type noteIn struct {
	sessionIn
	Note string `json:"note"`
}

type handIn struct {
	sessionIn
	Do     string  `json:"do" required:"true" enum:"reach,let-go,click,scroll,type,key,source"`
	X      float64 `json:"x,omitempty" description:"part of the picture's width, from 0 to 1"`
	Y      float64 `json:"y,omitempty" description:"part of the picture's height, from 0 to 1"`
	Text   string  `json:"text,omitempty"`
	Key    string  `json:"key,omitempty" description:"Enter, Tab, Backspace and the like"`
	DeltaX float64 `json:"dx,omitempty" description:"CSS pixels"`
	DeltaY float64 `json:"dy,omitempty" description:"CSS pixels"`
}

type handOut struct {
	Said string `json:"said" description:"with source: the page's"`
}

type settingsIn struct {
	projectIn
	Record record.Policy `json:"record" required:"true"`
	Keep   []retain.Rule `json:"keep" required:"true"`
}

type sweepIn struct {
	Dry bool `json:"dry,omitempty" description:"only say what would go"`
}

// sessionRoutes lists the JSON operations on sessions and on what is kept of
// them.
func (a *server) sessionRoutes() {
	s := a.service
	add(a, "GET", "/sessions", inAny(api.Viewer), "List sessions, newest first", func(ctx context.Context, who api.Who,
		in *api.SessionFilter) ([]api.SessionSummary, error) {
		in.Among = who.Projects()
		return s.Sessions(ctx, *in)
	})
	add(a, "GET", "/sessions/{id}", within(api.Viewer), "A session with what is kept of it", func(ctx context.Context, who api.Who,
		in *sessionIn) (api.Session, error) {
		v, err := s.Session(ctx, in.ID)
		if v.Facts != nil {
			seenAgents(who, []api.Agent{*v.Facts})
		}
		return v, err
	})
	add(a, "GET", "/snippets", inAny(api.Viewer), "Examples of opening a session, and who could serve it", func(_ context.Context, who api.Who,
		in *api.SnippetRequest) (out api.Snippets, err error) {
		if in.Project, err = lookedAt(who, in.Project); err != nil {
			return out, err
		}
		return s.Snippets(who, *in)
	})
	add(a, "POST", "/sessions/{id}/end", within(api.Runner).as("session end").of(lasting), "End a session before its time",
		func(ctx context.Context,
			who api.Who, in *sessionIn) (none, error) {
			if err := a.minds(ctx, who, in.ID); err != nil {
				return none{}, err
			}
			return none{}, s.EndSession(ctx, who, in.ID)
		})
	add(a, "POST", "/sessions/{id}/verdict", within(api.Runner).as("session verdict").of(lasting), "Say how the test of a session went",
		func(ctx context.Context, who api.Who, in *judgeIn) (none, error) {
			if err := a.minds(ctx, who, in.ID); err != nil {
				return none{}, err
			}
			before, err := s.Session(ctx, in.ID)
			if err != nil {
				return none{}, err
			}
			in.Message = s.Masked(in.ID, in.Message)
			deedIn(ctx).changed(map[string]any{"verdict": before.Verdict, "message": before.Message}, in.SessionVerdict)
			return none{}, s.Judge(ctx, who, in.ID, in.SessionVerdict)
		})
	add(a, "POST", "/sessions/{id}/note", within(api.Runner).as("session note"), "Keep a note on a session", func(ctx context.Context,
		who api.Who, in *noteIn) (none, error) {
		before, err := s.Session(ctx, in.ID)
		if err != nil {
			return none{}, err
		}
		in.Note = s.Masked(in.ID, in.Note)
		deedIn(ctx).changed(before.Note, in.Note)
		if err := s.NoteSession(ctx, who, in.ID, in.Note); err != nil {
			return none{}, err
		}
		had := results.Mentioned(before.Note)
		fresh := slices.DeleteFunc(results.Mentioned(in.Note), func(name string) bool { return slices.Contains(had, name) })
		return none{}, s.Office.SessionNoted(ctx, before, who.Person(), fresh)
	})
	add(a, "POST", "/sessions/{id}/hand", within(api.Runner).as("session reach").of(lasting),
		"Reach into a session, act in it by hand, and let go",
		func(ctx context.Context, who api.Who, in *handIn) (handOut, error) {
			if err := a.minds(ctx, who, in.ID); err != nil {
				return handOut{}, err
			}
			if in.Do != "reach" && in.Do != "let-go" {
				deedIn(ctx).Act = "" // the session's own log has it
			}
			said, err := s.ByHand(who, in.ID, link.Hand{Do: in.Do, X: in.X, Y: in.Y, Text: in.Text, Key: in.Key,
				DeltaX: in.DeltaX, DeltaY: in.DeltaY})
			return handOut{said}, err
		})
	add(a, "POST", "/sweeps", inLab(api.Admin).as("sweep"), "Remove the recordings whose time is over, or say which would go",
		func(ctx context.Context, _ api.Who, in *sweepIn) (api.Sweep, error) {
			out, err := s.Sweep(ctx, in.Dry)
			deedIn(ctx).changed(nil, map[string]any{"dry": in.Dry, "files": out.Count, "bytes": out.Bytes})
			return out, err
		})
	add(a, "GET", "/storage", inAny(api.Viewer), "How much room there is for recordings", func(context.Context, api.Who,
		*none) (api.Storage, error) {
		return s.Storage(), nil
	})
	add(a, "GET", "/projects/{name}", within(api.Viewer), "What was settled for a project", func(ctx context.Context, _ api.Who,
		in *projectIn) (api.ProjectSettings, error) {
		return s.ProjectSettings(ctx, in.Name)
	})
	add(a, "POST", "/projects/{name}", within(api.Admin).as("keep"), "Settle what is recorded of a project's sessions, and for how long "+
		"it is kept", func(ctx context.Context, _ api.Who, in *settingsIn) (none, error) {
		before, err := s.ProjectSettings(ctx, in.Name)
		if err != nil {
			return none{}, err
		}
		after := api.ProjectSettings{Name: in.Name, Record: in.Record, Keep: in.Keep}
		deedIn(ctx).changed(before, after)
		return none{}, s.SetProject(after)
	})
}

// minds reports whether somebody may end, judge and reach into a session: its owner and
// the keepers of its project may.
func (a *server) minds(ctx context.Context, who api.Who, id string) error {
	project, by, err := a.service.WhoseSession(ctx, id)
	if err != nil || by == who.Person() || who.May(api.Keeper, project) {
		return err
	}
	return api.Errorf(api.Forbidden, "session %s is of %s: its owner and those with the role keeper in the project %s may do that", id, by,
		project)
}
