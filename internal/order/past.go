package order

import (
	"context"
	"fmt"
	"strconv"
	"sync"
	"time"

	"parallelpane/internal/core/plan"
	"parallelpane/internal/store"
)

// past is what the tests of a suite took of late, as it was read at a time.
type past struct {
	rows []store.Estimate
	book *plan.Book
	// stumbles are titles of steps at which tests failed, by test.
	stumbles map[string][]string
	at       time.Time
}

// pasts keeps what was read of suites: previews ask for it again and again.
type pasts struct {
	mu    sync.Mutex
	known map[[2]string]*past // by project and suite
}

const (
	pastAge  = 5 * time.Second // for so long what was read will do
	maxPasts = 16              // suites that are kept
)

// past says what the tests of a suite took of late. While a run of it
// goes on it may be some seconds old.
func (desk *Desk) past(ctx context.Context, projectName, suite string) (*past, error) {
	key := [2]string{projectName, suite}
	desk.pasts.mu.Lock()
	defer desk.pasts.mu.Unlock()
	if p := desk.pasts.known[key]; p != nil && time.Since(p.at) < pastAge {
		return p, nil
	}
	p := &past{at: time.Now()}
	var err error
	if p.rows, err = desk.store.Estimates(ctx, projectName, suite); err != nil {
		return nil, err
	}
	if p.book, err = bookOf(p.rows); err != nil {
		return nil, err
	}
	if p.stumbles, err = desk.store.Stumbles(ctx, projectName, suite); err != nil {
		return nil, err
	}
	if len(desk.pasts.known) >= maxPasts || desk.pasts.known == nil {
		desk.pasts.known = map[[2]string]*past{}
	}
	desk.pasts.known[key] = p
	return p, nil
}

// forget has the past of a suite be read anew: a run of it has ended.
func (x *pasts) forget(projectName, suite string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	delete(x.known, [2]string{projectName, suite})
}

// bookOf makes a book of estimates on record.
func bookOf(rows []store.Estimate) (*plan.Book, error) {
	all := make([]plan.Past, len(rows))
	for i, r := range rows {
		p := plan.Past{Test: r.Test, Combo: r.Key, Browser: r.Browser}
		for end := len(r.Recent); end >= 6; end -= 6 { // oldest first
			ms, err := strconv.ParseInt(r.Recent[end-6:end], 16, 64)
			if err != nil {
				return nil, fmt.Errorf("records of what %s took: %w", r.Test, err)
			}
			p.Seconds = append(p.Seconds, float64(ms)/1000)
		}
		all[i] = p
	}
	return plan.NewBook(all), nil
}
