package httpapi

import (
	"context"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/results"
	"parallelpane/internal/service"
)

// Inputs of operations on notes. What people note is for the team: share links show none.
type (
	runNotesIn struct {
		Number int `path:"number" json:"-" description:"number of the run"`
	}
	noteAddIn struct {
		runNotesIn
		api.NoteRequest
	}
	noteDropIn struct {
		Note string `path:"note" json:"-" description:"its id"`
	}
)

func (in *runNotesIn) project(ctx context.Context, s *service.Service) (string, error) {
	return (&numberIn{in.Number}).project(ctx, s)
}

func (in *runNotesIn) missing() error { return (&numberIn{in.Number}).missing() }

func (in *noteDropIn) project(ctx context.Context, s *service.Service) (string, error) {
	n, err := s.Note(ctx, in.Note)
	return n.Project, err
}

func (in *noteDropIn) missing() error { return results.NoNote(in.Note) }

func (a *server) noteRoutes() {
	s := a.service
	add(a, "GET", "/notes", inAny(api.Viewer), "List notes, the newest first",
		func(ctx context.Context, who api.Who, in *api.NoteFilter) ([]api.Note, error) {
			in.Among = who.Projects()
			return s.Notes(ctx, *in)
		})
	add(a, "GET", "/runs/{number}/notes", within(api.Viewer), "List what was noted of a run, and of the tests and causes that it has",
		func(ctx context.Context, _ api.Who, in *runNotesIn) ([]api.Note, error) {
			return s.NotesOf(ctx, in.Number)
		})
	add(a, "POST", "/runs/{number}/notes", within(api.Runner).as("note"), "Keep a note on a run, or on a test or a cause of it",
		func(ctx context.Context, who api.Who, in *noteAddIn) (api.Note, error) {
			note, err := s.AddNote(ctx, who, in.Number, in.NoteRequest, time.Now())
			if err != nil {
				return note, err
			}
			return note, s.Office.Mention(ctx, note)
		})
	add(a, "DELETE", "/notes/{note}", within(api.Runner).as("note drop"), "Forget a note: one's own, or as a keeper anybody's",
		func(ctx context.Context, who api.Who, in *noteDropIn) (none, error) {
			return none{}, s.DropNote(ctx, who, in.Note)
		})
}
