package lab

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"parallelpane/internal/api"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/store"
)

func (lab *Lab) takeUpQuotas(ctx context.Context) error {
	rows, err := lab.store.Quotas(ctx)
	if err != nil {
		return err
	}
	lab.mu.Lock()
	defer lab.mu.Unlock()
	good := slices.DeleteFunc(rows, func(r store.Quota) bool {
		_, err := quotasOf([]store.Quota{r})
		if err != nil {
			lab.log.Error("a quota's record cannot be read: it does not bind", "quota", r.Name, "error", err)
		}
		return err != nil
	})
	qs, err := quotasOf(good)
	if err != nil {
		return err
	}
	lab.machine.SetQuotas(lab.now(), qs)
	return nil
}

func quotasOf(rows []store.Quota) (out []dispatch.Quota, err error) {
	for _, r := range rows {
		q := dispatch.Quota{Kind: dispatch.QuotaKind(r.Kind), Name: r.Name, Slots: r.Slots, Weight: r.Weight}
		if err := json.Unmarshal([]byte(r.Values), &q.Values); err != nil {
			return nil, fmt.Errorf("records of quota %s: %w", r.ID, err)
		}
		out = append(out, q)
	}
	return out, nil
}

// Quotas lists the quotas.
func (lab *Lab) Quotas(ctx context.Context) ([]api.Quota, error) {
	rows, err := lab.store.Quotas(ctx)
	if err != nil {
		return nil, err
	}
	out := []api.Quota{}
	for _, r := range rows {
		out = append(out, api.Quota{ID: r.ID, Kind: dispatch.QuotaKind(r.Kind), Name: r.Name, Slots: r.Slots, Weight: r.Weight})
	}
	return out, nil
}

// SetQuota sets a quota in place of the one that counts the same.
func (lab *Lab) SetQuota(ctx context.Context, req api.QuotaRequest) ([]api.Quota, error) {
	values := map[string]string{}
	switch req.Kind {
	case dispatch.OfProject, dispatch.OfOwner:
		if req.Name == "" || len(req.Name) > 100 {
			return nil, api.Errorf(api.Invalid, "name: expected the name of a project or owner")
		}
	case dispatch.OfCombination:
		needs, err := fleet.ParseNeeds(strings.Fields(req.Name))
		if err != nil || len(needs) == 0 {
			return nil, api.Errorf(api.Invalid, "name: expected values of a combination such as \"browser=webkitgtk mode=headed\", found %q",
				req.Name)
		}
		for axis, v := range needs {
			if len(v) != 1 {
				return nil, api.Errorf(api.Invalid, "name: expected one value for %s", axis)
			}
			values[axis] = v[0]
		}
		req.Name = needs.String()
	default:
		return nil, api.Errorf(api.Invalid, "kind: expected project, owner or combination, found %q", req.Kind)
	}
	switch {
	case req.Slots < 0 || req.Slots > 100_000:
		return nil, api.Errorf(api.Invalid, "slots: expected 0 to 100000, found %d", req.Slots)
	case !(req.Weight >= 0 && req.Weight <= 1000):
		return nil, api.Errorf(api.Invalid, "weight: expected 0 to 1000, found %g", req.Weight)
	case req.Weight > 0 && req.Kind != dispatch.OfProject:
		return nil, api.Errorf(api.Invalid, "weight: only projects have one")
	case req.Weight == 0 && req.Slots == 0:
		return nil, api.Errorf(api.Invalid, "expected slots or a weight; DELETE removes a quota")
	}
	row := store.Quota{ID: store.NewID(), Kind: string(req.Kind), Name: req.Name, Values: store.JSON(values),
		Slots: req.Slots, Weight: req.Weight}
	return lab.changeQuotas(ctx, store.SaveQuota(row))
}

// DropQuota removes a quota.
func (lab *Lab) DropQuota(ctx context.Context, id string) error {
	_, err := lab.changeQuotas(ctx, store.DropQuota(id))
	if errors.Is(err, store.ErrGuard) {
		return api.Errorf(api.NotFound, "there is no quota %s", id)
	}
	return err
}

func (lab *Lab) changeQuotas(ctx context.Context, change store.Stmt) ([]api.Quota, error) {
	if err := lab.store.Enqueue(change).Wait(); err != nil {
		return nil, err
	}
	rows, err := lab.store.Quotas(ctx)
	if err != nil {
		return nil, err
	}
	qs, err := quotasOf(rows)
	if err != nil {
		return nil, err
	}
	lab.mu.Lock()
	e := lab.applyLocked(lab.machine.SetQuotas(lab.now(), qs))
	lab.mu.Unlock()
	if err := lab.carryOut(e); err != nil {
		return nil, err
	}
	return lab.Quotas(ctx)
}
