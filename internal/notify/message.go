package notify

import (
	"context"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/report"
	"parallelpane/internal/store"
)

// message is what is told: of a run, or of a day.
type message struct {
	id     string // of the delivery: the same whenever it is sent
	of     string
	at     time.Time
	words  api.Words
	link   string // in the console; "" where that is not known
	run    *api.Run
	causes api.Causes
	was    string // verdict of the run before; "" for none
	runs   []api.RunSummary
	day    string
	source string // the project
}

// maxDay bounds the runs of a day that are looked at.
const maxDay = 200

// message makes what a delivery says, of the records as they are now.
func (o *Office) message(ctx context.Context, d store.Delivery) (*message, error) {
	m := &message{id: d.ID, of: d.Of, at: store.Time(d.MadeAt).UTC(), source: d.Project}
	if d.Of == api.OfDaily {
		return m, o.ofDay(ctx, d, m)
	}
	run, err := o.Records.Run(ctx, d.Run)
	if err != nil {
		return nil, err
	}
	if m.causes, err = o.Records.Causes(ctx, d.Run); err != nil {
		return nil, err
	}
	before, err := o.Records.Runs(ctx, api.RunFilter{Project: run.Project, Suite: run.Suite, Matrix: run.Matrix, Environment: run.Environment,
		State: "ended", Before: run.Number, Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(before) > 0 {
		m.was = string(before[0].Verdict)
	}
	m.run, m.link = &run, o.linkTo("/runs/%d", run.Number)
	m.words = report.Words(run, m.causes, m.link)
	return m, nil
}

// ofDay tells of the day before the delivery was put into the outbox.
func (o *Office) ofDay(ctx context.Context, d store.Delivery, m *message) error {
	to := m.at.Truncate(24 * time.Hour)
	from := to.Add(-24 * time.Hour)
	s, err := o.Store.Subscription(ctx, d.Subscription)
	if err != nil {
		return err
	}
	for before := 0; ; {
		runs, err := o.Records.Runs(ctx, api.RunFilter{Project: d.Project, Suite: s.Suite, State: "ended", Before: before, Limit: maxDay})
		if err != nil {
			return err
		}
		for _, r := range runs {
			if r.CreatedAt != nil && !r.CreatedAt.Before(from) && r.CreatedAt.Before(to) {
				m.runs = append(m.runs, r)
			}
			before = r.Number
		}
		if len(runs) < maxDay || runs[len(runs)-1].CreatedAt.Before(from) || len(m.runs) >= maxDay {
			break
		}
	}
	m.day, m.link = from.Format(time.DateOnly), o.linkTo("/runs")
	m.words = report.Day(d.Project, from.Format("2 January"), m.runs, func(run int) string { return o.linkTo("/runs/%d", run) })
	return nil
}

// subject is the line that a mail has above it.
func (m *message) subject() string {
	if m.of == api.OfTrial {
		return "A try: " + m.words.Title
	}
	if m.of == api.OfChanged && m.run != nil && m.was != "" {
		return m.words.Title + " (was " + m.was + ")"
	}
	return m.words.Title
}
