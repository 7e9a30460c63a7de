// Package work is what those have in common who carry work out on an agent: the
// machine's browsers and places, attempts with their logs, files and recordings,
// bundles, and the sessions that are open now. For each kind of suite there is a
// folder with its Worker.
package work

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"sync/atomic"
	"time"

	"parallelpane/internal/agent/spool"
	"parallelpane/internal/agent/upstream"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/link"
	"parallelpane/internal/place"
	"parallelpane/internal/sessions"
	"parallelpane/internal/sessions/door"
)

// Worker carries out slices of one kind of suite.
type Worker interface {
	// Work carries out the tests of a slice until all are done or the context ends,
	// announces each, and keeps the result of each in the spool. When the last test
	// needs its place no more, it vacates the lease.
	Work(ctx context.Context, s link.Slice)
}

// Leases are the agent's.
type Leases interface {
	// Vacate marks the place of a lease as free; its results may still wait.
	Vacate(fence int64)
	// Drop ends work under a lease that has ended.
	Drop(fence int64)
}

// Floor is what an agent's workers share.
type Floor struct {
	Name    string
	Dir     string // state
	Host    *sessions.Host
	Machine *atomic.Pointer[fleet.Machine] // as it is now
	Up      *upstream.Service
	Spool   *spool.Spool
	Bundles *Bundles
	Meter   *Meter
	Open    *Open
	Leases  Leases
	Log     *slog.Logger
	Every   time.Duration // between pieces of a recording that grows
}

// Way leads to the places of the relay that the work under a lease asks for; nil where
// there are none.
func (f *Floor) Way(places []string, fence int64) (*door.Relay, error) {
	if len(places) == 0 {
		return nil, nil
	}
	all, err := place.All(places)
	if err != nil {
		return nil, fmt.Errorf("the places of the relay: %w", err)
	}
	return &door.Relay{Places: all, Dial: f.Up.Through(fence)}, nil
}

// Browser picks the combination's browser on this machine.
func (f *Floor) Browser(values map[string]string) (fleet.Browser, error) {
	for _, b := range f.Machine.Load().Browsers {
		if b.Serves(values) {
			return b, nil
		}
	}
	return fleet.Browser{}, fmt.Errorf("agent %s has no usable %s %s", f.Name, cmp.Or(values["browser"], values["engine"]), values["version"])
}

// Announce tells the service that a test begins; false when its lease has ended.
func (f *Floor) Announce(ctx context.Context, fence int64, test int) bool {
	err := f.Up.Post(ctx, "/agent/started", link.Started{Fence: fence, Test: test}, nil)
	if upstream.Status(err) == http.StatusConflict {
		f.Leases.Drop(fence)
		return false
	}
	if err != nil {
		f.Log.Debug("start not announced", "error", err)
	}
	return true
}
