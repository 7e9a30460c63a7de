package lab

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/store"
)

// asideKey names a test that is set aside.
type asideKey struct{ project, suite, test string }

// Bounds of what is said of a test that is set aside, in bytes, and of its time.
const (
	maxAsideSaid = 500
	longestAside = 366 * 24 * time.Hour
)

// takeUpAside reads which tests are set aside.
func (lab *Lab) takeUpAside(ctx context.Context) error {
	rows, err := lab.store.Asides(ctx)
	if err != nil {
		return err
	}
	lab.mu.Lock()
	defer lab.mu.Unlock()
	lab.aside = make(map[asideKey]store.Aside, len(rows))
	for _, r := range rows {
		lab.aside[asideKey{r.Project, r.Suite, r.Test}] = r
	}
	return nil
}

// asideLocked says whether a test is set aside now.
func (lab *Lab) asideLocked(project, suite, test string) (store.Aside, bool) {
	a, ok := lab.aside[asideKey{project, suite, test}]
	return a, ok && store.Millis(lab.now()) < a.Until
}

// renameAsideLocked has what is set aside stay so under its other name.
func (lab *Lab) renameAsideLocked(project, in string, names []suite.Rename) {
	for key, a := range maps.Clone(lab.aside) {
		now := suite.PresentName(names, key.test)
		if key.project != project || key.suite != in || now == key.test {
			continue
		}
		delete(lab.aside, key)
		key.test, a.Test = now, now
		lab.aside[key] = a
	}
}

// asideOf says which tests of a run are; Lab.mu is held while it is called.
func (lab *Lab) asideOf(v api.Run) func(test string) bool {
	return func(test string) bool {
		_, is := lab.asideLocked(v.Project, v.Suite, test)
		return is
	}
}

// asideWhy says why a failure does not count.
func asideWhy(a store.Aside) string {
	return fmt.Sprintf("set aside until %s, %s looks after it: %s", time.UnixMilli(a.Until).UTC().Format(time.DateOnly), a.Owner, a.Reason)
}

// SetAside has the failures of a test not count until a time. It takes the place of what
// was said of it before.
func (lab *Lab) SetAside(ctx context.Context, who api.Who, q api.AsideRequest) (api.Aside, error) {
	now := lab.now()
	q.Owner, q.Reason = strings.TrimSpace(q.Owner), strings.TrimSpace(q.Reason)
	for _, x := range []struct{ name, value string }{{"suite", q.Suite}, {"test", q.Test}, {"owner", q.Owner}, {"reason", q.Reason}} {
		if x.value == "" || len(x.value) > maxAsideSaid {
			return api.Aside{}, api.Errorf(api.Invalid, "%s: expected 1 to %d bytes, found %d", x.name, maxAsideSaid, len(x.value))
		}
	}
	if !q.Until.After(now) || q.Until.Sub(now) > longestAside {
		return api.Aside{}, api.Errorf(api.Invalid, "until: expected a time within a year from now, found %s", q.Until.UTC().Format(time.RFC3339))
	}
	if known, err := lab.store.Knows(ctx, q.Project, q.Suite, q.Test); err != nil || !known {
		if err == nil {
			err = api.Errorf(api.NotFound, "no run of suite %s of project %s has had a test %q: name it as runs do", q.Suite, q.Project, q.Test)
		}
		return api.Aside{}, err
	}
	row := store.Aside{Project: q.Project, Suite: q.Suite, Test: q.Test, Owner: q.Owner, Reason: q.Reason, Until: store.Millis(q.Until),
		By: who.Person(), At: store.Millis(now)}
	if err := lab.store.Write(store.SetAside(row)); err != nil {
		return api.Aside{}, err
	}
	lab.mu.Lock()
	lab.aside[asideKey{row.Project, row.Suite, row.Test}] = row
	lab.mu.Unlock()
	return asideAs(row, now), nil
}

// EndAside has the failures of a test count again.
func (lab *Lab) EndAside(q api.AsideName) error {
	err := lab.store.Write(store.EndAside(q.Project, q.Suite, q.Test))
	if errors.Is(err, store.ErrGuard) {
		return api.Errorf(api.NotFound, "%q of suite %s is not set aside", q.Test, q.Suite)
	}
	if err != nil {
		return err
	}
	lab.mu.Lock()
	delete(lab.aside, asideKey{q.Project, q.Suite, q.Test})
	lab.mu.Unlock()
	return nil
}

// Asides lists tests that are set aside, by when it ends.
func (lab *Lab) Asides(f api.AsideFilter) []api.Aside {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	now := lab.now()
	out := []api.Aside{}
	text := strings.ToLower(f.Text)
	for _, row := range lab.aside {
		a := asideAs(row, now)
		if f.Project != "" && a.Project != f.Project || f.Suite != "" && a.Suite != f.Suite || !f.Ended && a.Ended ||
			!strings.Contains(strings.ToLower(a.Test+"\n"+a.Owner+"\n"+a.Reason), text) {
			continue
		}
		out = append(out, a)
	}
	slices.SortFunc(out, func(a, b api.Aside) int {
		if c := a.Until.Compare(b.Until); c != 0 {
			return c
		}
		return strings.Compare(a.Project+"\n"+a.Suite+"\n"+a.Test, b.Project+"\n"+b.Suite+"\n"+b.Test)
	})
	return out
}

func asideAs(r store.Aside, now time.Time) api.Aside {
	return api.Aside{AsideRequest: api.AsideRequest{AsideName: api.AsideName{Project: r.Project, Suite: r.Suite, Test: r.Test},
		Owner: r.Owner, Reason: r.Reason, Until: time.UnixMilli(r.Until).UTC()}, By: r.By, At: time.UnixMilli(r.At).UTC(),
		Ended: store.Millis(now) >= r.Until}
}
