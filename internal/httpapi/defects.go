package httpapi

import (
	"context"
	"fmt"
	"net/url"
	"slices"

	"parallelpane/internal/api"
	"parallelpane/internal/notify"
	"parallelpane/internal/results"
	"parallelpane/internal/service"
)

// Inputs of operations on causes, defects and trackers.
type (
	causeIn struct {
		numberIn
		Cause string `path:"cause" json:"-" description:"id of a cause of the run"`
	}
	// What is filed of a cause is for the team: share links show none of it.
	causeDefectIn struct {
		Number int    `path:"number" json:"-" description:"number of the run"`
		Cause  string `path:"cause" json:"-" description:"id of a cause of the run"`
	}
	defectFormIn struct {
		causeDefectIn
		Tracker string `query:"tracker" json:"-" description:"id; the project's first if not given"`
	}
	defectFileIn struct {
		causeDefectIn
		api.DefectRequest
	}
	defectIn struct {
		Defect string `path:"defect" json:"-" description:"its id"`
	}
	trackerAddIn struct{ api.TrackerRequest }
	trackerIn    struct {
		Tracker string `path:"tracker" json:"-" description:"its id"`
	}
)

func (in *causeIn) shared(_ context.Context, _ *service.Service, share api.Share) (bool, error) {
	return in.Number == share.Run && (share.Kind == api.ShareRun || share.Kind == api.ShareCause && in.Cause == share.Cause), nil
}

func (in *causeDefectIn) project(ctx context.Context, s *service.Service) (string, error) {
	return (&numberIn{in.Number}).project(ctx, s)
}

func (in *causeDefectIn) missing() error { return (&numberIn{in.Number}).missing() }

func (in *defectIn) project(ctx context.Context, s *service.Service) (string, error) {
	d, err := s.Office.Defect(ctx, in.Defect)
	return d.Project, err
}

func (in *defectIn) missing() error { return notify.NoDefect(in.Defect) }

func (in *trackerAddIn) project(context.Context, *service.Service) (string, error) {
	return in.Project, nil
}

func (in *trackerAddIn) missing() error { return (&projectIn{in.Project}).missing() }

func (in *trackerIn) project(ctx context.Context, s *service.Service) (string, error) {
	return s.Office.TrackerProject(ctx, in.Tracker)
}

func (in *trackerIn) missing() error { return notify.NoTracker(in.Tracker) }

func (a *server) defectRoutes() {
	s := a.service
	add(a, "GET", "/runs/{number}/causes/{cause}", within(api.Viewer), "One cause of a run, with where it is and what was kept of it",
		func(ctx context.Context, who api.Who, in *causeIn) (api.CausePage, error) {
			page, err := s.Cause(ctx, in.Number, in.Cause)
			if who.Share != nil {
				page.Cause.Defect = nil
			}
			if who.Share != nil && who.Share.Kind == api.ShareCause { // of the rest of the run nothing is told
				page.Run.Counts, page.Run.Panes = nil, nil
			}
			return page, err
		})
	add(a, "GET", "/runs/{number}/causes/{cause}/defect", within(api.Runner).of(lasting),
		"A tracker's form, filled in with what is known of a cause",
		func(ctx context.Context, _ api.Who, in *defectFormIn) (api.DefectForm, error) {
			return s.Office.DefectForm(ctx, in.Number, in.Cause, in.Tracker)
		})
	add(a, "POST", "/runs/{number}/causes/{cause}/defect", within(api.Runner).as("defect file").of(lasting),
		"File a defect of a cause, or say which one of the tracker's it is",
		func(ctx context.Context, who api.Who, in *defectFileIn) (api.Defect, error) {
			d, err := s.Office.FileDefect(ctx, who, in.Number, in.Cause, in.DefectRequest)
			if err == nil {
				deedIn(ctx).changed(nil, map[string]any{"defect": d.ID, "key": d.Key, "title": d.Title, "state": d.State})
			}
			return d, err
		})
	add(a, "GET", "/defects", inAny(api.Viewer), "List defects that were filed of causes, the newest first",
		func(ctx context.Context, who api.Who, in *api.DefectFilter) ([]api.Defect, error) {
			in.Among = who.Projects()
			return s.Office.Defects(ctx, *in)
		})
	add(a, "POST", "/defects/{defect}/ask", within(api.Runner).as("defect ask").of(lasting),
		"Ask a tracker now how a defect stands; of one that waits to be filed, file it now",
		func(ctx context.Context, _ api.Who, in *defectIn) (api.Defect, error) {
			return s.Office.AskDefect(ctx, in.Defect)
		})
	add(a, "DELETE", "/defects/{defect}", within(api.Runner).as("defect drop"),
		"Forget a defect; the tracker keeps what it has, and another can be filed of the cause",
		func(ctx context.Context, who api.Who, in *defectIn) (none, error) {
			return none{}, s.Office.DropDefect(ctx, who, in.Defect)
		})
	add(a, "GET", "/trackers", inAny(api.Viewer), "List where defects are filed",
		func(ctx context.Context, who api.Who, in *api.TrackerFilter) ([]api.Tracker, error) {
			in.Among = who.Projects()
			all, err := s.Office.Trackers(ctx, *in)
			for i, t := range all {
				if !who.May(api.Keeper, t.Project) {
					all[i] = t.Shown()
				}
			}
			return all, err
		})
	add(a, "POST", "/trackers", within(api.Keeper).as("tracker add"), "Say where a project's defects are filed",
		func(ctx context.Context, who api.Who, in *trackerAddIn) (api.Tracker, error) {
			t, err := s.Office.AddTracker(ctx, who, in.TrackerRequest)
			deedIn(ctx).on(in.Name + " " + t.Address)
			return t, err
		})
	add(a, "DELETE", "/trackers/{tracker}", within(api.Keeper).as("tracker drop"),
		"Forget a tracker; what was filed there stays on record",
		func(ctx context.Context, _ api.Who, in *trackerIn) (none, error) {
			return none{}, s.Office.DropTracker(ctx, in.Tracker)
		})
}

// causeShared checks a cause that is asked to be shared.
func (a *server) causeShared(ctx context.Context, in *shareIn, out *api.Share) error {
	causes, err := a.service.Causes(ctx, in.Run)
	if err != nil {
		return err
	}
	for _, c := range causes.Causes {
		if c.ID != in.Cause {
			continue
		}
		out.Cause, out.Path, out.About = c.ID, fmt.Sprintf("/runs/%d/causes/%s", in.Run, url.PathEscape(c.ID)),
			fmt.Sprintf("a cause in run #%d", in.Run)
		for _, at := range c.Cells {
			if !slices.Contains(out.Tests, at.Test) {
				out.Tests = append(out.Tests, at.Test)
			}
		}
		return nil
	}
	return results.NoCause(in.Run, in.Cause)
}
