package httpapi

import (
	"context"
	"slices"
	"strings"

	"parallelpane/internal/api"
)

type (
	secretsIn struct {
		projectIn
		Text        string `query:"text" json:"-" description:"only those with this in their names"`
		Environment string `query:"environment" json:"-" description:"only those that a run there gets"`
	}
	secretIn struct {
		projectIn
		api.SecretRequest
	}
	secretNameIn struct {
		projectIn
		api.SecretName
	}
	secretDropIn struct {
		projectIn
		Secret      string `path:"secret" json:"-"`
		Environment string `query:"environment" json:"-" description:"that it is for; empty for every one"`
	}
)

// secrets registers the operations on kept secrets. Who runs a suite uses them unseen, a
// keeper writes them, and an admin of the project alone reads them, which is on record.
func (a *server) secrets() {
	s := a.service
	add(a, "GET", "/projects/{name}/secrets", within(api.Runner), "The secrets that a project keeps, without their values",
		func(ctx context.Context, _ api.Who, in *secretsIn) ([]api.Secret, error) {
			all, err := s.Secrets(ctx, in.Name)
			return slices.DeleteFunc(all, func(x api.Secret) bool {
				return !strings.Contains(strings.ToLower(x.Name), strings.ToLower(in.Text)) ||
					in.Environment != "" && x.Environment != "" && x.Environment != in.Environment
			}), err
		})
	add(a, "POST", "/projects/{name}/secrets", within(api.Keeper).as("secret keep"), "Keep a secret, in place of the one of its name",
		func(ctx context.Context, who api.Who, in *secretIn) (none, error) {
			deedIn(ctx).on(in.SecretRequest.Name + " " + in.Environment)
			return none{}, s.KeepSecret(ctx, who, in.projectIn.Name, in.SecretRequest)
		})
	add(a, "POST", "/projects/{name}/secrets/read", within(api.Admin).as("secret read"), "Read a secret; it is on record who did",
		func(ctx context.Context, _ api.Who, in *secretNameIn) (api.SecretValue, error) {
			deedIn(ctx).on(in.SecretName.Name + " " + in.Environment)
			return s.ReadSecret(ctx, in.projectIn.Name, in.SecretName)
		})
	add(a, "DELETE", "/projects/{name}/secrets/{secret}", within(api.Keeper).as("secret drop"), "Forget a secret",
		func(ctx context.Context, _ api.Who, in *secretDropIn) (none, error) {
			deedIn(ctx).on(in.Secret + " " + in.Environment)
			return none{}, s.DropSecret(ctx, in.Name, api.SecretName{Name: in.Secret, Environment: in.Environment})
		})
}
