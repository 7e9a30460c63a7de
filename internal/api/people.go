package api

import (
	"cmp"
	"encoding/json"
	"slices"
	"time"
)

// Role is what somebody may do in a project. Each role may do what the one before
// it may, but for agent, which may only do an agent's work.
type Role string

// Roles.
const (
	Viewer    Role = "viewer" // look at everything
	Runner    Role = "runner" // and start and cancel runs, open sessions and judge them
	Keeper    Role = "keeper" // and end, judge and reach into sessions of others
	Admin     Role = "admin"  // and settle what is recorded, and for how long it is kept; in the whole lab: tokens, agents, quotas
	AgentRole Role = "agent"
)

// Roles lists every role.
var Roles = []Role{Viewer, Runner, Keeper, Admin, AgentRole}

// Allows reports whether a role may do what needs another.
func (r Role) Allows(need Role) bool {
	if need == AgentRole || r == AgentRole {
		return r == need
	}
	return slices.Index(Roles, r) >= slices.Index(Roles, need)
}

// Everywhere stands for every project, and for the lab itself.
const Everywhere = "*"

// Right is a role in a project.
type Right struct {
	Project string `json:"project" required:"true" description:"* means every project, and the lab itself"`
	Role    Role   `json:"role" required:"true" enum:"viewer,runner,keeper,admin,agent"`
}

// InLab is a role in every project and in the lab itself.
func InLab(r Role) []Right { return []Right{{Everywhere, r}} }

// Who is somebody who has shown a valid token.
type Who struct {
	TokenID string    `json:"-"`
	Root    string    `json:"-"` // the token from which this one was made; itself if none
	Name    string    `json:"name" description:"of the token"`
	Owner   string    `json:"owner" description:"whose it is"`
	Role    Role      `json:"role" description:"the highest of the rights"`
	Rights  []Right   `json:"rights"`
	Share   *Share    `json:"share" description:"what a share link shows; null for everybody else"`
	Agent   string    `json:"-"` // whose token it is, of an agent's that has joined
	Pool    string    `json:"-"`
	Expires time.Time `json:"-"`
}

// Person is who it is, whichever of their tokens they came with.
func (w Who) Person() string { return cmp.Or(w.Owner, w.Name) }

// May reports whether somebody has a role in a project; Everywhere asks for the lab
// itself.
func (w Who) May(need Role, project string) bool {
	return slices.ContainsFunc(w.Rights, func(r Right) bool {
		return (r.Project == project || r.Project == Everywhere) && r.Role.Allows(need)
	})
}

// Can reports whether somebody has a role in any project.
func (w Who) Can(need Role) bool {
	return slices.ContainsFunc(w.Rights, func(r Right) bool { return r.Role.Allows(need) })
}

// Highest is the highest role among rights.
func Highest(rights []Right) (best Role) {
	for _, r := range rights {
		if best == "" || r.Role.Allows(best) {
			best = r.Role
		}
	}
	return best
}

// Projects are those that somebody may look at; nil means every one.
func (w Who) Projects() []string { return w.Where(Viewer) }

// Where are the projects in which somebody has a role; nil means every one.
func (w Who) Where(need Role) []string {
	if w.May(need, Everywhere) {
		return nil
	}
	out := []string{}
	for _, r := range w.Rights {
		if r.Role.Allows(need) {
			out = append(out, r.Project)
		}
	}
	return out
}

// Token is an access token without its secret.
type Token struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Owner     string     `json:"owner"`
	Rights    []Right    `json:"rights"`
	Console   bool       `json:"console" description:"a browser's that has signed in"`
	Agent     string     `json:"agent" description:"that it belongs to; empty until one has joined with it"`
	Pool      string     `json:"pool" description:"of that agent"`
	CreatedAt *time.Time `json:"created_at"`
	ExpiresAt *time.Time `json:"expires_at"`
	UsedAt    *time.Time `json:"used_at" description:"last, to the minute; null means never"`
	UsedFrom  string     `json:"used_from" description:"the address it last came from"`
}

// TokenRequest asks for a token.
type TokenRequest struct {
	Name      string     `json:"name" required:"true" description:"what it is for"`
	Owner     string     `json:"owner,omitempty" description:"whose it is; its name if not given"`
	Role      Role       `json:"role,omitempty" enum:"viewer,runner,keeper,admin,agent" description:"in every project, instead of rights"`
	Rights    []Right    `json:"rights,omitempty"`
	Agent     string     `json:"agent,omitempty" description:"the one agent it is for; the first that joins with it if not given"`
	Pool      string     `json:"pool,omitempty" description:"of that agent"`
	ExpiresAt *time.Time `json:"expires_at,omitempty" description:"a year from now if not given; ten at most"`
}

// Deed is something that somebody did, or was refused.
type Deed struct {
	Who, Token  string // the owner of the token and its name; "" for somebody who showed no valid one
	From        string // address
	Act, Target string
	Project     string
	Before      any // nil, or what is on record as JSON; nothing that is secret
	After       any
	Refused     string // why; "" when it was done
}

// AuditEntry is something that somebody did or was refused.
type AuditEntry struct {
	ID      int64           `json:"id"`
	At      *time.Time      `json:"at"`
	Who     string          `json:"who" description:"the owner of the token; empty for somebody who showed no valid one"`
	Token   string          `json:"token" description:"its name"`
	From    string          `json:"from" description:"the address that they came from"`
	Act     string          `json:"act" description:"such as run cancel; look for a refused look"`
	Target  string          `json:"target"`
	Project string          `json:"project"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
	Refused string          `json:"refused" description:"why it was not done"`
}

// AuditFilter narrows a list of the audit.
type AuditFilter struct {
	Text    string `query:"text" json:"-" description:"found in who, token, address, act, target, project, what changed or reason"`
	Who     string `query:"who" json:"-"`
	Act     string `query:"act" json:"-"`
	Project string `query:"project" json:"-"`
	Refused string `query:"refused" json:"-" enum:"yes" description:"only what was refused"`
	Since   string `query:"since" json:"-" description:"a day such as 2026-11-23, or a time in RFC 3339"`
	Until   string `query:"until" json:"-" description:"a day, which is included, or a time"`
	Before  int64  `query:"before" json:"-" description:"only entries older than the one of this id"`
	Limit   int    `query:"limit" json:"-" description:"at most this many; 100 if not given, 1000 at most"`
}
