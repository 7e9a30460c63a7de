package httpapi

import (
	"context"

	"parallelpane/internal/api"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/link"
)

type judgeIn struct {
	ID string `path:"id" json:"-"`
	link.SessionVerdict
}

type noteIn struct {
	ID   string `path:"id" json:"-"`
	Note string `json:"note"`
}

type handIn struct {
	ID     string  `path:"id" json:"-"`
	Do     string  `json:"do" required:"true" enum:"take,free,click,scroll,type,key,source"`
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

type projectIn struct {
	Name string `path:"name" json:"-"`
}

type settingsIn struct {
	Name   string        `path:"name" json:"-"`
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
	add(a, "GET", "/sessions", api.Viewer, "List sessions, newest first", func(ctx context.Context, _ api.Who, in *api.SessionFilter) (
		[]api.SessionSummary, error) {
		return s.Sessions(ctx, *in)
	})
	add(a, "GET", "/sessions/{id}", api.Viewer, "A session with what is kept of it", func(ctx context.Context, _ api.Who,
		in *idIn) (api.Session, error) {
		return s.Session(ctx, in.ID)
	})
	add(a, "GET", "/snippets", api.Viewer, "Examples of opening a session, and who could serve it", func(_ context.Context, _ api.Who,
		in *api.SnippetRequest) (api.Snippets, error) {
		return s.Snippets(*in)
	})
	add(a, "POST", "/sessions/{id}/end", api.Runner, "End a session before its time", func(ctx context.Context,
		who api.Who, in *idIn) (none, error) {
		return none{}, s.EndSession(ctx, who, in.ID)
	})
	add(a, "POST", "/sessions/{id}/verdict", api.Runner, "Say how the test of a session went", func(ctx context.Context,
		_ api.Who, in *judgeIn) (none, error) {
		return none{}, s.Judge(ctx, in.ID, in.SessionVerdict)
	})
	add(a, "POST", "/sessions/{id}/note", api.Runner, "Keep a note on a session", func(ctx context.Context,
		_ api.Who, in *noteIn) (none, error) {
		return none{}, s.NoteSession(ctx, in.ID, in.Note)
	})
	add(a, "POST", "/sessions/{id}/hand", api.Runner, "Reach into a session, act in it by hand, and let go", func(_ context.Context,
		who api.Who, in *handIn) (handOut, error) {
		said, err := s.ByHand(who, in.ID, link.Hand{Do: in.Do, X: in.X, Y: in.Y, Text: in.Text, Key: in.Key,
			DeltaX: in.DeltaX, DeltaY: in.DeltaY})
		return handOut{said}, err
	})
	add(a, "POST", "/sweeps", api.Admin, "Remove the recordings whose time is over, or say which would go", func(ctx context.Context,
		_ api.Who, in *sweepIn) (api.Sweep, error) {
		return s.Sweep(ctx, in.Dry)
	})
	add(a, "GET", "/storage", api.Viewer, "How much room there is for recordings", func(context.Context, api.Who, *none) (api.Storage, error) {
		return s.Storage(), nil
	})
	add(a, "GET", "/projects/{name}", api.Viewer, "What was settled for a project", func(ctx context.Context, _ api.Who,
		in *projectIn) (api.ProjectSettings, error) {
		return s.ProjectSettings(ctx, in.Name)
	})
	add(a, "POST", "/projects/{name}", api.Admin, "Settle what is recorded of a project's sessions, and for how long it is kept",
		func(_ context.Context, _ api.Who, in *settingsIn) (none, error) {
			return none{}, s.SetProject(api.ProjectSettings{Name: in.Name, Record: in.Record, Keep: in.Keep})
		})
}
