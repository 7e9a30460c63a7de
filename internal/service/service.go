// Package service opens the parts of the service together and closes them: people,
// the disk's keeper, the lab, the desk that takes orders, and what was.
package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"time"

	"parallelpane/internal/access"
	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/keep"
	"parallelpane/internal/lab"
	"parallelpane/internal/notify"
	"parallelpane/internal/order"
	"parallelpane/internal/relay"
	"parallelpane/internal/results"
	"parallelpane/internal/secrets"
	"parallelpane/internal/store"
)

// Config is what a service is opened with.
type Config struct {
	Dir      string // data directory, made if need be
	Log      *slog.Logger
	Clock    func() time.Time // nil means time.Now
	Dispatch dispatch.Config
	Tick     time.Duration // how often the scheduler looks at the clock; 0 means 1 s
	// SessionLife is the longest that a session of somebody else's runner may be
	// open; 0 means 2 h.
	SessionLife time.Duration
	// KeyFile holds the key under which secrets are sealed, made if need be; "" means one
	// in the data directory.
	KeyFile string
	// Exposed lets runners' sessions on agents without a sandbox, too.
	Exposed   bool
	KeepTotal int64  // bytes that all recordings may have together; 0 means no bound
	MinFree   uint64 // bytes that must be free on the disk for recordings to be taken; 0 means 500 MB
	Mail      notify.Mail
	HooksTo   []netip.Prefix  // networks of the service's own surroundings to which hooks may be sent
	SignIn    access.Provider // who signs people in; the zero value is nobody
	Address   string          // of the service, as people reach it; "" is not known
}

// Service is an open service.
type Service struct {
	*access.Access
	*keep.Keeper
	*results.Results
	*lab.Lab
	*order.Desk
	*secrets.Vault
	Ways   *relay.Hub
	Office *notify.Office

	store    *store.Store
	stop     chan struct{}
	stopOnce sync.Once
	tasks    sync.WaitGroup
}

// Open opens the data directory and takes up the runs that had not ended.
func Open(ctx context.Context, c Config) (*Service, error) {
	if c.Clock == nil {
		c.Clock = time.Now
	}
	c.Tick = cmp.Or(c.Tick, time.Second)
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("data directory: %w", err)
	}
	st, err := store.Open(c.Dir)
	if err != nil {
		return nil, err
	}
	s, err := compose(c, st)
	if err != nil {
		return nil, errors.Join(err, st.Close())
	}
	err = s.FirstTokens(ctx, c.Dir)
	if err == nil {
		err = s.TakeUp(ctx, s.Desk, c.Tick)
	}
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	s.tasks.Go(func() { s.Mind(s.stop) })
	s.tasks.Go(func() { s.Ways.Mind(s.stop) })
	s.tasks.Go(func() { s.Office.Mind(s.stop) })
	s.tasks.Go(func() { s.RunDue(s.stop, c.Tick) })
	s.tasks.Go(func() { s.Sweeper(s.stop) })
	s.tasks.Go(func() { s.WatchDisk(s.stop, func() { s.Tell(api.Event{Type: "agents"}) }) })
	return s, nil
}

// compose makes the parts; nothing goes on yet.
func compose(c Config, st *store.Store) (*Service, error) {
	bl, err := blobs.Open(filepath.Join(c.Dir, "blobs"))
	if err != nil {
		return nil, err
	}
	seal, err := secrets.Open(c.Dir, c.KeyFile)
	if err != nil {
		return nil, err
	}
	s := &Service{
		store: st, stop: make(chan struct{}), Access: access.New(st, c.Log, c.Clock),
		Keeper: keep.New(keep.Config{Store: st, Blobs: bl, Log: c.Log, Now: c.Clock, Dir: c.Dir, Total: c.KeepTotal,
			MinFree: cmp.Or(c.MinFree, 500<<20)}),
		Ways: relay.NewHub(c.Clock), Vault: secrets.NewVault(st, seal, c.Clock),
	}
	if s.Lab, err = lab.New(lab.Config{Store: st, Blobs: bl, Keeper: s.Keeper, Log: c.Log, Clock: c.Clock, Dispatch: c.Dispatch,
		SessionLife: cmp.Or(c.SessionLife, 2*time.Hour), Exposed: c.Exposed, Relays: s.Ways}); err != nil {
		return nil, err
	}
	s.Desk = order.New(order.Config{Store: st, Blobs: bl, Lab: s.Lab, Settings: s.Keeper, Seal: seal, Vault: s.Vault,
		Relays: s.Ways, Log: c.Log,
		Clock: c.Clock})
	s.Results = results.New(st, bl, s.Lab, s.Source)
	s.ReadFrom(s.Results)
	s.UseProvider(c.SignIn)
	s.Office = notify.New(notify.Config{Store: st, Seal: seal, Records: s.Results, Log: c.Log, Clock: c.Clock, Mail: c.Mail, Allow: c.HooksTo,
		Address: c.Address})
	return s, nil
}

// Ready reports whether the service can do its work.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// Trouble says why nothing can be put on record at present; nil while all is well.
func (s *Service) Trouble() error { return s.store.Trouble() }

// Storage says how much room there is, and what is switched off for want of it.
func (s *Service) Storage() api.Storage {
	v := s.Keeper.Storage()
	if err := s.Trouble(); err != nil {
		v.Full = err.Error()
	}
	return v
}

// Close ends watches and links and closes the records. Runs that have not ended
// go on at the next start.
func (s *Service) Close() error {
	s.stopOnce.Do(func() { close(s.stop) })
	s.store.GiveUp()
	err := s.Lab.Close()
	s.tasks.Wait()
	return errors.Join(err, s.store.Close())
}
