package results

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// Bounds of notes: bytes of one, those of a list, people that one mentions.
const (
	maxNoteBytes  = 16 << 10
	maxNotes      = 500
	maxMentioned  = 20
	maxNoteTitles = 200
)

// mention is a name after @, which no letter stands before: an address of mail is none.
var mention = regexp.MustCompile(`(?:^|[^\pL\pN_.@-])@([\pL\pN][\pL\pN_.-]{0,63})`)

// Mentioned are the people that a note mentions, each once, in the order in which it does.
func Mentioned(body string) []string {
	out := []string{}
	for _, m := range mention.FindAllStringSubmatch(body, -1) {
		name := strings.TrimRight(m[1], ".-")
		if name != "" && !slices.Contains(out, name) && len(out) < maxMentioned {
			out = append(out, name)
		}
	}
	return out
}

// AddNote keeps a note on a run, or on a test or a cause of it.
func (r *Results) AddNote(ctx context.Context, who api.Who, number int, q api.NoteRequest, now time.Time) (api.Note, error) {
	body := strings.TrimSpace(strings.ToValidUTF8(q.Body, "\uFFFD"))
	if body == "" || len(q.Body) > maxNoteBytes {
		return api.Note{}, api.Errorf(api.Invalid, "body: a note has 1 to %d bytes, found %d", maxNoteBytes, len(q.Body))
	}
	run, _, err := r.whole(ctx, number)
	if err != nil {
		return api.Note{}, err
	}
	row := store.Remark{ID: store.NewID(), Project: run.Project, Suite: run.Suite, Kind: q.Kind, Run: number, Body: body, By: who.Person(),
		At: store.Millis(now), Mentions: " " + strings.Join(Mentioned(body), " ") + " "}
	switch q.Kind {
	case api.NoteRun:
		row.Title = fmt.Sprintf("run #%d", number)
	case api.NoteTest:
		if q.Test < 0 || q.Test >= len(run.Tests) {
			return api.Note{}, api.Errorf(api.Invalid, "test: run %d has tests 0 to %d, found %d", number, len(run.Tests)-1, q.Test)
		}
		row.Test, row.Title = run.Tests[q.Test].Name, run.Tests[q.Test].Name
	case api.NoteCause:
		causes, err := r.Causes(ctx, number)
		if err != nil {
			return api.Note{}, err
		}
		i := slices.IndexFunc(causes.Causes, func(c api.Cause) bool { return c.ID == q.Cause })
		if i < 0 {
			return api.Note{}, api.Errorf(api.Invalid, "cause: run %d has no cause %.80q: GET /runs/%d/causes has their ids", number, q.Cause,
				number)
		}
		row.Signature, row.Title = causes.Causes[i].Signature, causes.Causes[i].Title
	default:
		return api.Note{}, api.Errorf(api.Invalid, "kind: expected run, test or cause, found %.40q", q.Kind)
	}
	if t := []rune(row.Title); len(t) > maxNoteTitles {
		row.Title = string(t[:maxNoteTitles-1]) + "…"
	}
	return noteOf(row), r.store.Write(store.AddRemark(row))
}

func noteOf(row store.Remark) api.Note {
	return api.Note{ID: row.ID, Project: row.Project, Suite: row.Suite, Kind: row.Kind, Run: row.Run, Title: row.Title, Body: row.Body,
		Mentions: strings.Fields(row.Mentions), By: row.By, At: store.Time(row.At).UTC()}
}

func notesOf(rows []store.Remark) []api.Note {
	out := make([]api.Note, len(rows))
	for i, row := range rows {
		out[i] = noteOf(row)
	}
	return out
}

// Notes lists notes, the newest first.
func (r *Results) Notes(ctx context.Context, f api.NoteFilter) ([]api.Note, error) {
	rows, err := r.store.Remarks(ctx, store.RemarkFilter{Project: f.Project, Suite: f.Suite, Run: f.Run,
		Mentions: strings.TrimPrefix(f.Mentions, "@"),
		Text:     f.Text, Before: f.Before, Limit: f.Size(), Among: f.Among})
	return notesOf(rows), err
}

// NotesOf lists what was noted of a run, and of the tests and causes that it has, in
// whichever run.
func (r *Results) NotesOf(ctx context.Context, number int) ([]api.Note, error) {
	run, _, err := r.whole(ctx, number)
	if err != nil {
		return nil, err
	}
	causes, err := r.Causes(ctx, number)
	if err != nil {
		return nil, err
	}
	tests, signatures := make([]string, len(run.Tests)), make([]string, len(causes.Causes))
	for i, t := range run.Tests {
		tests[i] = t.Name
	}
	for i, c := range causes.Causes {
		signatures[i] = c.Signature
	}
	rows, err := r.store.RemarksBeside(ctx, run.Project, run.Suite, number, tests, signatures, maxNotes)
	return notesOf(rows), err
}

// Note finds one.
func (r *Results) Note(ctx context.Context, id string) (api.Note, error) {
	row, err := r.store.Remark(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return api.Note{}, NoNote(id)
	}
	return noteOf(row), err
}

// NoNote says that there is none of an id.
func NoNote(id string) error {
	return api.Errorf(api.NotFound, "there is no note %.80q: pane note lists them", id)
}

// DropNote forgets a note: one's own, or as a keeper of the project anybody's.
func (r *Results) DropNote(ctx context.Context, who api.Who, id string) error {
	n, err := r.Note(ctx, id)
	if err != nil {
		return err
	}
	if n.By != who.Person() && !who.May(api.Keeper, n.Project) {
		return api.Errorf(api.Forbidden, "the note is %s's: a keeper of %s may drop it", n.By, n.Project)
	}
	return r.store.Write(store.DropRemark(id))
}
