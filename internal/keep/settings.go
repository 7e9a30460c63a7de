package keep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"parallelpane/internal/api"
	"parallelpane/internal/core/record"
	"parallelpane/internal/core/retain"
	"parallelpane/internal/store"
)

// ProjectSettings returns what was settled for a project; nothing for one that
// nobody has settled anything for.
func (k *Keeper) ProjectSettings(ctx context.Context, name string) (api.ProjectSettings, error) {
	row, err := k.store.ProjectByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return api.ProjectSettings{Name: name, Record: record.Policy{}}, nil
	}
	if err != nil {
		return api.ProjectSettings{}, err
	}
	return settingsOf(row)
}

func settingsOf(row store.Project) (api.ProjectSettings, error) {
	p := api.ProjectSettings{Name: row.Name, Record: record.Policy{}}
	for into, src := range map[any]string{&p.Record: row.Record, &p.Keep: row.Keep} {
		if err := json.Unmarshal([]byte(src), into); err != nil {
			return p, fmt.Errorf("settings of project %q: %w", row.Name, err)
		}
	}
	return p, nil
}

// SetProject settles something for a project.
func (k *Keeper) SetProject(p api.ProjectSettings) error {
	if err := p.Record.Check(); err != nil {
		return api.Errorf(api.Invalid, "record: %v", err)
	}
	for _, r := range p.Keep {
		if err := r.Check(); err != nil {
			return api.Errorf(api.Invalid, "keep: %v", err)
		}
	}
	if p.Keep == nil {
		p.Keep = []retain.Rule{}
	}
	return k.store.Write(store.SaveProject(store.Project{Name: p.Name, Record: store.JSON(p.Record), Keep: store.JSON(p.Keep)}))
}
