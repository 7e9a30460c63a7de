package lab

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/link"
	"parallelpane/internal/store"
)

// Bounds of what the service stocks.
const (
	maxStock    = 200
	maxArchives = 20 // of one installation
)

// shelf is what the service stocks. revision changes with it, so that agents know when
// to ask; it begins with the time, since an agent outlives the service.
type shelf struct {
	changing sync.Mutex // held by who adds or drops, while the records are written; taken before the lab's
	items    []api.Stock
	revision int64
}

func (lab *Lab) knowStock(ctx context.Context) error {
	rows, archives, err := lab.store.Stock(ctx)
	if err != nil {
		return err
	}
	lab.shelf.revision = store.Millis(lab.now())
	for _, row := range rows {
		s := api.Stock{ID: row.ID, Name: row.Name, AddedBy: row.AddedBy, AddedAt: api.At(row.AddedAt)}
		if err := json.Unmarshal([]byte(row.Needs), &s.Needs); err != nil {
			lab.log.Error("a stocked browser's record cannot be read: no agent gets it", "stock", row.ID, "error", err)
			continue
		}
		for _, a := range archives {
			if a.Stock == row.ID {
				s.Archives = append(s.Archives, api.StockArchive{Name: a.Name, Hash: a.Hash, Size: a.Size})
			}
		}
		lab.shelf.items = append(lab.shelf.items, s)
	}
	return nil
}

// PutArchive takes an archive that is to be stocked.
func (lab *Lab) PutArchive(hash string, r io.Reader) error {
	return lab.keeper.Take(hash, api.MaxStockArchive, r)
}

// AddStock hands an installation to every agent that matches, those included that join
// later.
func (lab *Lab) AddStock(ctx context.Context, who api.Who, q api.StockRequest) (api.Stock, error) {
	needs, err := fleet.ParseNeeds(q.Needs)
	if err != nil {
		return api.Stock{}, api.Errorf(api.Invalid, "needs: %v", err)
	}
	if len(q.Archives) == 0 || len(q.Archives) > maxArchives {
		return api.Stock{}, api.Errorf(api.Invalid, "archives: expected 1 to %d, found %d", maxArchives, len(q.Archives))
	}
	done := lab.keeper.Naming()
	defer done()
	s := api.Stock{ID: store.NewID(), Name: q.Name, Needs: needs, AddedBy: who.Person(), AddedAt: api.At(store.Millis(lab.now())),
		On: []api.StockOn{}}
	var rows []store.StockArchive
	var names []string
	for i, a := range q.Archives {
		if a.Name == "" || len(a.Name) > 200 || a.Name != path.Base(a.Name) || strings.ContainsAny(a.Name, `\`) {
			return s, api.Errorf(api.Invalid, "archives[%d].name: expected the name of a file, found %.100q", i, a.Name)
		}
		if !blobs.ValidHash(a.Hash) || !lab.blobs.Renew(a.Hash) {
			return s, api.Errorf(api.Invalid, "archives[%d]: %s with the SHA-256 %.64q has not been sent: PUT it to /api/v1/stock/archives first", i,
				a.Name, a.Hash)
		}
		if a.Size, err = lab.sizeOf(a.Hash); err != nil {
			return s, err
		}
		s.Archives = append(s.Archives, a)
		rows = append(rows, store.StockArchive{Name: a.Name, Hash: a.Hash, Size: a.Size})
		names = append(names, a.Name)
	}
	if s.Name == "" {
		s.Name = strings.Join(names, " + ")
	}
	if len(s.Name) > 300 {
		return s, api.Errorf(api.Invalid, "name: expected at most 300 bytes")
	}
	lab.shelf.changing.Lock()
	defer lab.shelf.changing.Unlock()
	lab.mu.Lock()
	have := lab.shelf.items
	lab.mu.Unlock()
	if len(have) >= maxStock {
		return s, api.Errorf(api.Conflict, "%d installations are stocked: drop one first", maxStock)
	}
	for _, other := range have {
		if sameArchives(other, s) && other.Needs.String() == needs.String() {
			return s, api.Errorf(api.Conflict, "%s is stocked already, as %s", s.Name, other.ID)
		}
	}
	row := store.Stocked{ID: s.ID, Name: s.Name, Needs: store.JSON(needs), AddedBy: s.AddedBy, AddedAt: store.Millis(lab.now())}
	if err := lab.store.Enqueue(store.AddStock(row, rows)...).Wait(); err != nil {
		return s, err
	}
	lab.mu.Lock()
	defer lab.mu.Unlock()
	lab.shelf.items = append(slices.Clip(lab.shelf.items), s)
	lab.shelf.revision++
	s.On = lab.stockOnLocked(s)
	return s, nil
}

func sameArchives(a, b api.Stock) bool {
	return slices.EqualFunc(a.Archives, b.Archives, func(x, y api.StockArchive) bool { return x.Hash == y.Hash })
}

func (lab *Lab) sizeOf(hash string) (int64, error) {
	f, err := lab.blobs.Get(hash)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// DropStock takes an installation off the shelf. Agents take it away as soon as no
// session uses it.
func (lab *Lab) DropStock(id string) (api.Stock, error) {
	lab.shelf.changing.Lock()
	defer lab.shelf.changing.Unlock()
	lab.mu.Lock()
	have := lab.shelf.items
	lab.mu.Unlock()
	i := slices.IndexFunc(have, func(s api.Stock) bool { return s.ID == id })
	if i < 0 {
		return api.Stock{}, api.Errorf(api.NotFound, "nothing is stocked as %.100q: pane browsers lists what is", id)
	}
	s := have[i]
	if err := lab.store.Enqueue(store.DropStock(s.ID)...).Wait(); err != nil && !errors.Is(err, store.ErrGuard) {
		return s, err
	}
	lab.mu.Lock()
	defer lab.mu.Unlock()
	lab.shelf.items = slices.Delete(slices.Clone(have), i, i+1)
	lab.shelf.revision++
	return s, nil
}

// gets says whether an agent is one that gets an installation.
func gets(a *agentConn, s api.Stock) bool {
	return !a.machine.StandIn && fleet.Match(s.Needs, a.machine.Facts(a.name)) == nil
}

// Stock lists what an agent is to have.
func (lab *Lab) Stock(agent string) link.Stock {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	out := link.Stock{Revision: lab.shelf.of(), Items: []link.StockItem{}}
	a := lab.agents[agent]
	for _, s := range lab.shelf.items {
		if a == nil || !gets(a, s) {
			continue
		}
		item := link.StockItem{ID: s.ID, Name: s.Name}
		for _, x := range s.Archives {
			item.Archives = append(item.Archives, link.StockArchive{Name: x.Name, Hash: x.Hash, Size: x.Size})
		}
		out.Items = append(out.Items, item)
	}
	return out
}

func (s *shelf) of() string { return strconv.FormatInt(s.revision, 36) }

// Stocks says whether an agent gets an archive.
func (lab *Lab) Stocks(agent, hash string) bool {
	for _, item := range lab.Stock(agent).Items {
		if slices.ContainsFunc(item.Archives, func(x link.StockArchive) bool { return x.Hash == hash }) {
			return true
		}
	}
	return false
}

// Archive opens a stocked archive.
func (lab *Lab) Archive(hash string) (io.ReadSeekCloser, error) { return lab.blobs.Get(hash) }

// stockOnLocked is what became of an installation on the agents that match.
func (lab *Lab) stockOnLocked(s api.Stock) []api.StockOn {
	out := []api.StockOn{}
	for _, name := range slices.Sorted(maps.Keys(lab.agents)) {
		a := lab.agents[name]
		on := api.StockOn{Agent: name, Online: a.link != nil, State: api.StockWaiting}
		for _, x := range s.Archives {
			on.Size += x.Size
		}
		said, known := a.stock[s.ID]
		if !known && !gets(a, s) {
			continue
		}
		switch {
		case known:
			on.State, on.Done, on.Why = api.StockState(said.State), said.Done, said.Why
		case !a.machine.Stocking:
			on.State, on.Why = api.StockUnwilling, "the agent's settings take no browsers from the service"
		}
		out = append(out, on)
	}
	return out
}

// Browsers says which of some agents has which browser, and how far what is stocked has
// come on them.
func (lab *Lab) Browsers(agents []string) api.Browsers {
	lab.mu.Lock()
	defer lab.mu.Unlock()
	agents = slices.DeleteFunc(slices.Sorted(maps.Keys(lab.agents)), func(name string) bool { return !slices.Contains(agents, name) })
	out := api.Browsers{Agents: agents, Rows: []api.BrowserRow{}, Stock: []api.Stock{}}
	at := map[[2]string]int{}
	for _, name := range out.Agents {
		for _, b := range lab.agents[name].machine.Browsers {
			key := [2]string{b.Name, b.Version}
			i, known := at[key]
			if !known {
				i = len(out.Rows)
				at[key] = i
				out.Rows = append(out.Rows, api.BrowserRow{Browser: b.Name, Version: b.Version, Channel: b.Channel, StandIn: true,
					On: map[string]fleet.Browser{}})
			}
			out.Rows[i].StandIn = out.Rows[i].StandIn && lab.agents[name].machine.StandIn
			if had, twice := out.Rows[i].On[name]; !twice || !had.Fits {
				out.Rows[i].On[name] = b
			}
		}
	}
	slices.SortStableFunc(out.Rows, func(a, b api.BrowserRow) int {
		if c := strings.Compare(a.Browser, b.Browser); c != 0 {
			return c
		}
		return combo.CompareVersions(b.Version, a.Version)
	})
	for _, s := range lab.shelf.items {
		s.On = slices.DeleteFunc(lab.stockOnLocked(s), func(on api.StockOn) bool { return !slices.Contains(agents, on.Agent) })
		out.Stock = append(out.Stock, s)
	}
	return out
}

// Restock takes what an agent has now in place of what it had when it joined.
func (lab *Lab) Restock(agent string, m link.Machine) error {
	if err := bounded(agent, m.Machine); err != nil {
		return err
	}
	lab.mu.Lock()
	a := lab.agents[agent]
	if a == nil || a.link == nil || a.instance != m.Instance {
		lab.mu.Unlock()
		return api.Errorf(api.Conflict, "agent %s has not joined", agent)
	}
	changed := lab.changedLocked(agent, a.machine, m.Machine)
	a.machine.Browsers, a.machine.Drivers, a.machine.Stocking = m.Machine.Browsers, m.Machine.Drivers, m.Machine.Stocking
	now := lab.now()
	e := lab.applyLocked(lab.machine.Refit(now, a.forDispatch()), append(changed, store.SaveAgent(store.Agent{Name: a.name,
		Instance: a.instance, Machine: store.JSON(a.machine), FirstSeen: store.Millis(now), LastSeen: store.Millis(now)}))...)
	e.events = append(e.events, api.Event{Type: "agents"})
	lab.mu.Unlock()
	return lab.carryOut(e)
}
