package notify

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/report"
	"parallelpane/internal/store"
)

// maxOwn bounds what one person may hear of.
const maxOwn = 50

// Hear has somebody with an account hear of something at their own mail address.
func (o *Office) Hear(ctx context.Context, mine api.Account, q api.HearRequest) (api.Subscription, error) {
	if mine.Mail == "" {
		return api.Subscription{}, api.Errorf(api.Conflict, "the account %s has no mail address: the lab's admin gives it one with pane account "+
			"change", mine.Name)
	}
	have, err := o.Store.SubscriptionsOf(ctx, mine.ID)
	if err != nil {
		return api.Subscription{}, err
	}
	if len(have) >= maxOwn {
		return api.Subscription{}, api.Errorf(api.Conflict, "you hear of %d things, as many as anybody may: drop one first", len(have))
	}
	made, err := o.subscribe(store.Subscription{Account: mine.ID, MadeBy: mine.Name, Shown: mine.Name, Host: "mail"},
		api.SubscriptionRequest{Project: q.Project, Suite: q.Suite, Kind: api.MailKind, Of: q.Of},
		map[string]string{"target": ""})
	return made.Subscription, err
}

// Hears lists what an account hears of.
func (o *Office) Hears(ctx context.Context, account string) ([]api.Subscription, error) {
	rows, err := o.Store.SubscriptionsOf(ctx, account)
	out := make([]api.Subscription, len(rows))
	for i, row := range rows {
		out[i] = subscriptionOf(row)
	}
	return out, err
}

// Unhear forgets something that an account hears of.
func (o *Office) Unhear(ctx context.Context, account, id string) error {
	s, err := o.subscription(ctx, id)
	if err == nil && s.Account != account {
		err = NoSubscription(id)
	}
	if err != nil {
		return err
	}
	return o.Store.Write(store.DropSubscription(id)...)
}

// Mention puts into the outbox what those are told whom a note mentions: people with an
// account, a mail address and a look at its project.
func (o *Office) Mention(ctx context.Context, n api.Note) error {
	var batch []store.Stmt
	for _, name := range n.Mentions {
		acc, err := o.Store.AccountNamed(ctx, name)
		if errors.Is(err, store.ErrNotFound) || err == nil && (acc.Name == n.By || !acc.Mentions || acc.Mail == "" || !mayLook(acc, n.Project)) {
			continue
		}
		if err != nil {
			return err
		}
		now := o.Clock().UnixMilli()
		batch = append(batch, store.Post(store.Delivery{ID: acc.ID + ":" + n.ID, Subscription: acc.ID, Of: api.OfMention, Project: n.Project,
			Run: n.Run, Host: "mail", MadeAt: now, NextAt: now}))
	}
	if len(batch) == 0 || o.Mail.Server == "" {
		return nil
	}
	defer o.Kick()
	return o.Store.Write(batch...)
}

// mayLook reports whether an account may look at a project.
func mayLook(acc store.Account, project string) bool {
	var who api.Who
	return json.Unmarshal([]byte(acc.Rights), &who.Rights) == nil && who.May(api.Viewer, project)
}

// addressOf is where mail to an account goes, as long as it may look at a project; "" with
// the reason where it goes nowhere.
func (o *Office) addressOf(ctx context.Context, id, project string) (string, outcome) {
	acc, err := o.Store.Account(ctx, id)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return "", outcome{answer: "the account was dropped", never: true}
	case err != nil:
		return "", outcome{answer: err.Error()}
	case !mayLook(acc, project):
		return "", outcome{answer: acc.Name + " may not look at " + project + " any more", never: true}
	case acc.Mail == "":
		return "", outcome{answer: acc.Name + " has no mail address", never: true}
	}
	return acc.Mail, outcome{}
}

// tellMentioned sends somebody a note that mentions them.
func (o *Office) tellMentioned(ctx context.Context, d store.Delivery) outcome {
	to, got := o.addressOf(ctx, d.Subscription, d.Project)
	if to == "" {
		return got
	}
	note, err := o.noteOf(ctx, d)
	if errors.Is(err, store.ErrNotFound) {
		return outcome{answer: "the note was dropped", never: true}
	}
	if err != nil {
		return outcome{answer: err.Error()}
	}
	m := &message{id: d.ID, of: d.Of, at: store.Time(d.MadeAt).UTC(), source: d.Project, link: o.linkTo("/runs/%d", note.Run)}
	about := note.Title
	switch note.Kind {
	case api.NoteRun:
	case api.NoteSession:
		m.link = o.linkTo("/sessions/%s", url.PathEscape(note.Test))
	default:
		about = fmt.Sprintf("the %s %q, in #%d", note.Kind, note.Title, note.Run)
	}
	m.words.Title = report.Clip(fmt.Sprintf("%s mentions you in a note on %s", note.By, about))
	body := report.Lines(note.Body)
	m.words.Text = m.words.Title + "\n\n" + body + "\n\n" + m.link + "\n"
	m.words.HTML = "<p>" + html.EscapeString(m.words.Title) + `</p><pre style="white-space: pre-wrap">` + html.EscapeString(body) + "</pre>"
	if m.link != "" {
		m.words.HTML += `<p><a href="` + html.EscapeString(m.link) + `">` + html.EscapeString(m.link) + "</a></p>"
	}
	return o.Mail.send(ctx, to, d.ID, m)
}

// noteOf reads the note that a delivery is of: a remark, or what stands at a session.
func (o *Office) noteOf(ctx context.Context, d store.Delivery) (store.Remark, error) {
	_, id, _ := strings.Cut(d.ID, ":")
	of, ok := strings.CutPrefix(id, sessionNote)
	if !ok {
		return o.Store.Remark(ctx, id)
	}
	session, _, _ := strings.Cut(of, "@")
	body, by, err := o.Store.SessionNote(ctx, session)
	return store.Remark{Kind: api.NoteSession, Test: session, Run: d.Run, Title: "a session", Body: body, By: by}, err
}

// sessionNote begins what stands for the note at a session.
const sessionNote = "session:"

// SessionNoted puts into the outbox what those are told whom the note at a session mentions
// and did not mention before.
func (o *Office) SessionNoted(ctx context.Context, s api.Session, by string, mentions []string) error {
	return o.Mention(ctx, api.Note{ID: fmt.Sprintf("%s%s@%d", sessionNote, s.ID, o.Clock().UnixMilli()), Project: s.Project,
		Kind: api.NoteSession,
		Run:  s.Run, By: by, Mentions: mentions})
}

// visible leaves out what others hear of for themselves: that is theirs alone.
func visible(rows []store.Subscription) []store.Subscription {
	return slices.DeleteFunc(rows, func(s store.Subscription) bool { return s.Account != "" })
}
