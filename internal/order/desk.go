// Package order makes work of requests: it reads the files of a suite, works out
// what runs where and how long that may take, and hands the lab a run. Presets are
// requests that are kept, schedules say when they are made by themselves.
//
// The lab is all it sees of what goes on: who is there, when a run would end, and
// one call that starts it.
package order

import (
	"context"
	"io"
	"log/slog"
	"sync"
	"time"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/lab"
	"parallelpane/internal/secrets"
	"parallelpane/internal/store"
)

// Settings are what is settled for projects, and who stores what comes.
type Settings interface {
	ProjectSettings(ctx context.Context, name string) (api.ProjectSettings, error)
	Take(hash string, limit int64, r io.Reader) error
}

// Records tell of runs that were, and of those that go on.
type Records interface {
	Run(ctx context.Context, number int) (api.Run, error)
	Row(ctx context.Context, number int) (store.Run, error)
}

// Vault keeps the secrets of projects.
type Vault interface {
	// For gives a run what its suite asks for, besides what is given with the run, and says
	// where each comes from.
	For(ctx context.Context, project, environment string, names []string, given map[string]string) (values, from map[string]string, err error)
}

// Config is what a desk is made with.
type Config struct {
	Store    *store.Store
	Blobs    *blobs.Dir
	Lab      *lab.Lab
	Settings Settings
	Seal     secrets.Seal
	Vault    Vault
	Relays   lab.Relays
	Log      *slog.Logger
	Clock    func() time.Time
}

// Desk takes requests.
type Desk struct {
	store    *store.Store
	blobs    *blobs.Dir
	lab      *lab.Lab
	settings Settings
	records  Records
	seal     secrets.Seal
	vault    Vault
	relays   lab.Relays
	log      *slog.Logger
	now      func() time.Time

	spreading sync.Mutex // held while a run that spreads its tests finds its turn and is submitted
	searching sync.Mutex // held while searches are brought on
	pasts     pasts
	plans     schedules
	tasks     sync.WaitGroup
}

// New makes a desk.
func New(c Config) *Desk {
	desk := &Desk{store: c.Store, blobs: c.Blobs, lab: c.Lab, settings: c.Settings, seal: c.Seal, relays: c.Relays, vault: c.Vault,
		log: c.Log, now: c.Clock}
	desk.plans.opened = desk.now()
	return desk
}

// ReadFrom says where runs are read.
func (desk *Desk) ReadFrom(from Records) { desk.records = from }

// RunDue starts what is due, at every tick until stop is closed; it returns when the
// last of it has been started.
func (desk *Desk) RunDue(stop <-chan struct{}, tick time.Duration) {
	defer desk.tasks.Wait()
	t := time.NewTicker(tick)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			desk.runSchedules()
			desk.stepBisects()
		case <-stop:
			return
		}
	}
}
