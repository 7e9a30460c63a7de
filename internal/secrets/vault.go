package secrets

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/record"
	"parallelpane/internal/store"
)

// maxSecrets is how many a project keeps at most.
const maxSecrets = 500

var nameForm = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,63}$`)

// Vault keeps the secrets of projects. Nothing that it lists shows a value.
type Vault struct {
	store *store.Store
	seal  Seal
	now   func() time.Time
}

// NewVault keeps secrets in the records, sealed.
func NewVault(st *store.Store, seal Seal, now func() time.Time) *Vault { return &Vault{st, seal, now} }

// Secrets lists what a project keeps, by name and environment.
func (v *Vault) Secrets(ctx context.Context, project string) ([]api.Secret, error) {
	rows, err := v.store.Secrets(ctx, project)
	out := make([]api.Secret, len(rows))
	for i, r := range rows {
		out[i] = api.Secret{Name: r.Name, Environment: r.Environment, ChangedBy: r.ChangedBy, ChangedAt: api.At(r.ChangedAt)}
	}
	return out, err
}

// KeepSecret keeps a value, in place of the one of its name and environment.
func (v *Vault) KeepSecret(ctx context.Context, who api.Who, project string, q api.SecretRequest) error {
	switch {
	case !nameForm.MatchString(q.Name):
		return api.Errorf(api.Invalid, "name: expected letters, digits and '_', not beginning with a digit, at most 64, found %.80q", q.Name)
	case q.Environment != "" && !fleet.IsName(q.Environment):
		return api.Errorf(api.Invalid, "environment: expected the name of one, or nothing for every one, found %.80q", q.Environment)
	case len(q.Value) < record.MinSecret:
		return api.Errorf(api.Invalid, "value: shorter than %d bytes it cannot be kept out of logs: lengthen it", record.MinSecret)
	case len(q.Value) > api.MaxSecret:
		return api.Errorf(api.Invalid, "value: it has %d bytes; at most %d are kept", len(q.Value), api.MaxSecret)
	case strings.ContainsRune(q.Value, 0):
		return api.Errorf(api.Invalid, "value: it holds a byte 0, which no variable can hold")
	}
	have, err := v.store.Secrets(ctx, project)
	if err != nil {
		return err
	}
	if len(have) >= maxSecrets && v.find(have, q.Environment, q.Name) < 0 {
		return api.Errorf(api.Conflict, "project %s keeps %d secrets, which is as many as may be: drop one first", project, len(have))
	}
	sealed, err := v.seal.Close(map[string]string{q.Name: q.Value})
	if err != nil {
		return err
	}
	return v.store.Write(store.SaveSecret(store.Secret{Project: project, Environment: q.Environment, Name: q.Name, Sealed: sealed,
		ChangedBy: who.Person(), ChangedAt: v.now().UnixMilli()}))
}

func (v *Vault) find(rows []store.Secret, environment, name string) int {
	return slices.IndexFunc(rows, func(r store.Secret) bool { return r.Environment == environment && r.Name == name })
}

// DropSecret removes a secret.
func (v *Vault) DropSecret(ctx context.Context, project string, q api.SecretName) error {
	if _, err := v.row(ctx, project, q); err != nil {
		return err
	}
	return v.store.Write(store.DropSecret(project, q.Environment, q.Name))
}

// ReadSecret is a secret's value.
func (v *Vault) ReadSecret(ctx context.Context, project string, q api.SecretName) (api.SecretValue, error) {
	r, err := v.row(ctx, project, q)
	if err != nil {
		return api.SecretValue{}, err
	}
	vars, err := v.seal.Open(r.Sealed)
	return api.SecretValue{Value: vars[q.Name]}, err
}

func (v *Vault) row(ctx context.Context, project string, q api.SecretName) (store.Secret, error) {
	rows, err := v.store.Secrets(ctx, project)
	if err != nil {
		return store.Secret{}, err
	}
	if i := v.find(rows, q.Environment, q.Name); i >= 0 {
		return rows[i], nil
	}
	return store.Secret{}, api.Errorf(api.NotFound, "project %s keeps no secret %s for %s: pane secret list shows those it keeps", project,
		q.Name, environmentWords(q.Environment))
}

func environmentWords(name string) string {
	if name == "" {
		return "every environment"
	}
	return "environment " + name
}

// For gives a run what its suite asks for: the environment's secret of a name before that
// of every environment. from says which it was. given are those that come with the run.
func (v *Vault) For(ctx context.Context, project, environment string, names []string, given map[string]string) (values,
	from map[string]string, err error) {
	values, from = map[string]string{}, map[string]string{}
	if len(names) == 0 {
		return values, from, nil
	}
	rows, err := v.store.Secrets(ctx, project)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		if _, there := given[name]; there {
			continue
		}
		i := v.find(rows, environment, name)
		if i < 0 {
			i = v.find(rows, "", name)
		}
		if i < 0 {
			return nil, nil, api.Errorf(api.Conflict, "the suite needs the secret %s, which project %s keeps neither for %s nor for every "+
				"environment: pane secret keep %s, or give it with --secret", name, project, environmentWords(environment), name)
		}
		vars, err := v.seal.Open(rows[i].Sealed)
		if err != nil {
			return nil, nil, fmt.Errorf("secret %s: %w", name, err)
		}
		values[name], from[name] = vars[name], "kept for "+environmentWords(rows[i].Environment)
	}
	return values, from, nil
}
