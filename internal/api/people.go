package api

import (
	"slices"
	"strings"
	"time"
)

// Role is what a token may do. Each role may do what the one before it may,
// but for agent, which may only do an agent's work.
type Role string

// Roles.
const (
	Viewer    Role = "viewer" // look at everything
	Runner    Role = "runner" // and start and cancel runs
	Admin     Role = "admin"  // and manage tokens and agents
	AgentRole Role = "agent"
)

// Roles lists every role.
var Roles = []Role{Viewer, Runner, Admin, AgentRole}

// Allows reports whether a role may do what needs another.
func (r Role) Allows(need Role) bool {
	if need == AgentRole || r == AgentRole {
		return r == need || (r == Admin && need == AgentRole)
	}
	return slices.Index(Roles, r) >= slices.Index(Roles, need)
}

// Who is somebody who has shown a valid token.
type Who struct {
	TokenID string `json:"-"`
	Name    string `json:"name"`
	Role    Role   `json:"role"`
}

// ConsoleSuffix marks the tokens of console sessions in the list of tokens.
const ConsoleSuffix = " (console)"

// Person is who it is, whether they came by the console or not.
func (w Who) Person() string { return strings.TrimSuffix(w.Name, ConsoleSuffix) }

// Token is an access token without its secret.
type Token struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Role      Role       `json:"role"`
	CreatedAt *time.Time `json:"created_at"`
}
