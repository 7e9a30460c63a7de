package access

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/store"
)

// Bounds of share links: their time, and how many a project may have.
const (
	longestShare = 366 * 24 * time.Hour
	maxShares    = 1_000
)

// AddShare makes a share link: a token that shows one thing, and its secret, which is not
// kept.
func (a *Access) AddShare(ctx context.Context, who api.Who, s api.Share, until time.Time) (api.ShareLink, string, error) {
	now := a.now()
	if !until.After(now) || until.After(now.Add(longestShare)) {
		return api.ShareLink{}, "", api.Errorf(api.Invalid, "until: expected a time within a year from now, found %s",
			until.UTC().Format(time.RFC3339))
	}
	have, err := a.Shares(ctx, api.ShareFilter{Project: s.Project})
	if err != nil {
		return api.ShareLink{}, "", err
	}
	if len(have) >= maxShares {
		return api.ShareLink{}, "", api.Errorf(api.Conflict, "project %s has %d share links, as many as it may have: end some first", s.Project,
			len(have))
	}
	row := store.Token{Name: "share link", Owner: who.Person(), Rights: store.JSON([]api.Right{{Project: s.Project, Role: api.Viewer}}),
		Share: store.JSON(s), ExpiresAt: store.Millis(until)}
	t, secret, err := a.add(row)
	if err != nil {
		return api.ShareLink{}, "", err
	}
	row.ID, row.CreatedAt = t.ID, store.Millis(now)
	link, err := a.linkOf(row)
	return link, secret, err
}

func (a *Access) linkOf(row store.Token) (api.ShareLink, error) {
	a.mu.Lock()
	used := max(row.UsedAt, a.used[row.ID].at)
	a.mu.Unlock()
	out := api.ShareLink{ID: row.ID, By: row.Owner, MadeAt: api.At(row.CreatedAt), Until: api.At(row.ExpiresAt), UsedAt: api.At(used),
		Ended: store.Millis(a.now()) >= row.ExpiresAt}
	return out, json.Unmarshal([]byte(row.Share), &out.Share)
}

// Shares lists share links, the newest first.
func (a *Access) Shares(ctx context.Context, f api.ShareFilter) ([]api.ShareLink, error) {
	rows, err := a.store.Shares(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.ShareLink{}
	for _, row := range rows {
		x, err := a.linkOf(row)
		if err != nil {
			return nil, err
		}
		if (f.Project == "" || x.Share.Project == f.Project) && (f.Run == 0 || x.Share.Run == f.Run) &&
			(f.Among == nil || slices.Contains(f.Among, x.Share.Project)) {
			out = append(out, x)
		}
	}
	return out, nil
}

// ShareOf finds a share link.
func (a *Access) ShareOf(ctx context.Context, id string) (api.ShareLink, error) {
	row, err := a.store.TokenByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && row.Share == "" {
		return api.ShareLink{}, NoShare(id)
	}
	if err != nil {
		return api.ShareLink{}, err
	}
	return a.linkOf(row)
}

// NoShare says that there is none of an id.
func NoShare(id string) error {
	return api.Errorf(api.NotFound, "there is no share link %.80q: pane share lists them", id)
}

// EndShare withdraws a share link: whoever looks is shown nothing more.
func (a *Access) EndShare(ctx context.Context, id string) error {
	if _, err := a.ShareOf(ctx, id); err != nil {
		return err
	}
	if err := a.store.Write(store.DropToken(id)...); err != nil && !errors.Is(err, store.ErrGuard) {
		return err
	}
	a.end(id)
	return nil
}
