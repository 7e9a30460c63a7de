package term

import (
	"fmt"
	"io"
	"strings"

	"github.com/dustin/go-humanize"

	"parallelpane/internal/api"
	"parallelpane/internal/core/verdict"
)

// Subscriptions lists who hears of what.
func Subscriptions(w io.Writer, all []api.Subscription) {
	if len(all) == 0 {
		fmt.Fprintln(w, "Nobody hears of anything yet: pane notify add mail ADDRESS --project NAME --of changed")
		return
	}
	t := NewTable("who", "by", "of", "hears of", "made by", "id")
	for _, s := range all {
		what := strings.Join(s.Of, ", ")
		if s.Paused {
			what += " (paused)"
		}
		t.Row(Tame(s.Target), s.Kind, Tame(strings.TrimSpace(s.Project+" "+s.Suite)), what, Tame(s.By), Faint(s.ID))
	}
	fmt.Fprintln(w, t)
}

// Deliveries lists what was sent, and what is to be.
func Deliveries(w io.Writer, all []api.Delivery) {
	if len(all) == 0 {
		fmt.Fprintln(w, "Nothing was sent yet that is like that.")
		return
	}
	t := NewTable("to", "of", "about", "", "tries", "made", "answer", "id")
	for _, d := range all {
		about, state := "the day before", Paint(verdict.Passed, d.State)
		if d.Run > 0 {
			about = fmt.Sprintf("#%d", d.Run)
		}
		switch {
		case d.State == api.GivenUp:
			state = Paint(verdict.Failed, "given up")
		case d.State == api.Awaiting && d.Tries > 0:
			state = Paint(verdict.Flaky, "again "+humanize.Time(*d.NextAt))
		case d.State == api.Awaiting:
			state = "waiting"
		}
		t.Row(Tame(d.Target), d.Of, about, state, fmt.Sprint(d.Tries), humanize.Time(*d.MadeAt), Tame(d.Answer), Faint(d.ID))
	}
	fmt.Fprintln(w, t)
}

// Shares lists share links.
func Shares(w io.Writer, all []api.ShareLink) {
	if len(all) == 0 {
		fmt.Fprintln(w, "Nothing is shared: pane share run RUN makes a link.")
		return
	}
	t := NewTable("shows", "of", "until", "last used", "by", "id")
	for _, s := range all {
		used, until := "never", humanize.Time(*s.Until)
		if s.UsedAt != nil {
			used = humanize.Time(*s.UsedAt)
		}
		if s.Ended {
			until = Faint("ended " + until)
		}
		t.Row(Tame(s.Share.About), Tame(s.Share.Project), until, used, Tame(s.By), Faint(s.ID))
	}
	fmt.Fprintln(w, t)
}

// Notes lists notes.
func Notes(w io.Writer, all []api.Note) {
	if len(all) == 0 {
		fmt.Fprintln(w, "Nothing was noted that is like that: pane note add RUN TEXT keeps a note.")
		return
	}
	for i, n := range all {
		if i > 0 {
			fmt.Fprintln(w)
		}
		about := n.Title
		if n.Kind != api.NoteRun {
			about = fmt.Sprintf("%s %q, in run #%d", n.Kind, n.Title, n.Run)
		}
		fmt.Fprintf(w, "%s %s\n", bold.Render(Tame(n.By)), Faint(fmt.Sprintf("on %s, %s, %s", Tame(about), humanize.Time(n.At), n.ID)))
		fmt.Fprintln(w, "  "+strings.ReplaceAll(Tame(n.Body), "\n", "\n  "))
	}
}
