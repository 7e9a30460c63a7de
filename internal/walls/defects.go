package walls

import (
	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// DefectOf is a defect as the API shows it.
func DefectOf(d store.Defect) api.Defect {
	return api.Defect{ID: d.ID, Project: d.Project, Suite: d.Suite, Signature: d.Signature, Run: d.Run, Cause: d.Cause, Title: d.Title,
		Tracker: d.Name, TrackerID: d.Tracker, State: d.State, Key: d.Key, Link: d.Link, Status: d.Status, Closed: d.Closed,
		AskedAt: api.At(d.AskedAt), Trouble: d.Trouble, Told: d.Told, By: d.MadeBy, MadeAt: store.Time(d.MadeAt).UTC()}
}
