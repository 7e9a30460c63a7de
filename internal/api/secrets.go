package api

import "time"

// MaxSecret is how many bytes a secret has at most.
const MaxSecret = 64 << 10

// Secret is a value that the runs of a project are given and that nobody may see.
type Secret struct {
	Name        string     `json:"name" description:"by which suites ask for it, and scripts and commands know it"`
	Environment string     `json:"environment" description:"that it is for; empty for every one"`
	ChangedBy   string     `json:"changed_by"`
	ChangedAt   *time.Time `json:"changed_at"`
}

// SecretRequest keeps a secret, in place of the one of its name.
type SecretRequest struct {
	Name        string `json:"name" required:"true"`
	Environment string `json:"environment,omitempty" description:"that it is for; empty for every one"`
	Value       string `json:"value" required:"true"`
}

// SecretName says which secret is meant.
type SecretName struct {
	Name        string `json:"name" required:"true"`
	Environment string `json:"environment,omitempty"`
}

// SecretValue is what an admin of a project may read.
type SecretValue struct {
	Value string `json:"value"`
}
