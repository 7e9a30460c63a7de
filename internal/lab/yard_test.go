package lab

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"parallelpane/internal/api"
	"parallelpane/internal/blobs"
	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/device"
	"parallelpane/internal/core/dispatch"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/suite"
	"parallelpane/internal/core/verdict"
	"parallelpane/internal/keep"
	"parallelpane/internal/link"
	"parallelpane/internal/results"
	"parallelpane/internal/store"
)

// yard is a lab without a network: the test plays the agents, and whoever gives
// orders. What was is read as the service reads it.
type yard struct {
	*Lab
	*results.Results
	*keep.Keeper
	t      *testing.T
	dir    string
	now    time.Time
	orders recalled
}

// recalled are the terms of the runs, by id.
type recalled map[string]Terms

func (r recalled) Recall(_ context.Context, row store.Run, view api.Run) (Terms, error) {
	t, ok := r[row.ID]
	if !ok {
		return t, errors.New("its files are gone")
	}
	t.Seconds = make([][]float64, len(view.Panes))
	for i := range t.Seconds {
		t.Seconds[i] = make([]float64, len(view.Tests))
	}
	return t, nil
}

func (r recalled) Ended(project, suite string) {}

func openYard(t *testing.T, dir string) *yard {
	y := &yard{t: t, dir: dir, now: time.Date(2026, 3, 2, 6, 0, 0, 0, time.UTC), orders: recalled{}}
	y.open()
	t.Cleanup(func() { _ = y.close() })
	return y
}

// open opens the lab on what is on record.
func (y *yard) open() {
	st, err := store.Open(y.dir)
	require.NoError(y.t, err)
	bl, err := blobs.Open(filepath.Join(y.dir, "blobs"))
	require.NoError(y.t, err)
	log, clock := slog.New(slog.DiscardHandler), func() time.Time { return y.now }
	y.Keeper = keep.New(keep.Config{Store: st, Blobs: bl, Log: log, Now: clock, Dir: y.dir})
	y.Lab, err = New(Config{Store: st, Blobs: bl, Keeper: y.Keeper, Log: log, Clock: clock,
		Dispatch: dispatch.Config{MaxSlice: 4}, SessionLife: time.Hour})
	require.NoError(y.t, err)
	y.Results = results.New(st, bl, y.Lab, func(_, file string) (string, error) { return "name: " + file, nil })
	require.NoError(y.t, y.TakeUp(y.t.Context(), y.orders, time.Hour))
}

func (y *yard) close() error { return errors.Join(y.Lab.Close(), y.store.Close()) }

// reopen kills the lab, as far as its records can tell, and opens it again.
func (y *yard) reopen() {
	require.NoError(y.t, y.close())
	y.open()
}

// submit starts a run of so many tests in so many combinations of each of two
// browsers.
func (y *yard) submit(tests, wide int, req api.RunRequest) api.Run {
	y.t.Helper()
	req.Bundle = strings.Repeat("0", 64)
	o := Order{Row: store.Run{ID: store.NewID(), Kind: api.ScriptKind, Project: "saltmarsh", Suite: "desk", Matrix: "wall",
		Vars: "{}", Bundle: req.Bundle,
		Request: store.JSON(req), Plan: "{}", By: "ci", Counts: store.JSON(verdict.Counts{verdict.Pending: 2 * wide * tests})}}
	for _, browser := range []string{"chromium", "firefox"} {
		for i := range wide {
			values := map[string]string{"browser": browser, "tariff": strconv.Itoa(i)}
			o.Panes = append(o.Panes, store.Pane{Index: len(o.Panes), Key: combo.Key(values), Label: browser, Values: store.JSON(values),
				Needs: store.JSON(fleet.Needs{"browser": {browser}})})
			o.Terms.Seconds = append(o.Terms.Seconds, make([]float64, tests))
			o.Terms.Profiles = append(o.Terms.Profiles, device.Profile{})
		}
	}
	for i := range tests {
		o.Cases = append(o.Cases, suite.Case{Name: fmt.Sprintf("Berth %03d", i)})
	}
	y.orders[o.Row.ID] = o.Terms
	run, err := y.Start(o)
	require.NoError(y.t, err)
	return run
}

// join brings an agent online as Join does, but for the link.
func (y *yard) join(name string, held ...int64) { y.joinAs(name, name, held...) }

// joinAs brings an agent's program online that was started as an instance.
func (y *yard) joinAs(name, instance string, held ...int64) {
	y.mu.Lock()
	_, e, err := y.arriveLocked(link.Hello{Name: name, Instance: instance, Held: held, Machine: fleet.Machine{OS: "linux", Slots: 2,
		Isolation: fleet.Sandbox,
		Browsers:  []fleet.Browser{{Name: "chromium", Fits: true}, {Name: "firefox", Fits: true}}}}, nil)
	y.mu.Unlock()
	require.NoError(y.t, err)
	require.NoError(y.t, y.carryOut(e))
}

// granted lists the live leases of an agent.
func (y *yard) granted(agent string) map[int64]grant {
	y.mu.Lock()
	defer y.mu.Unlock()
	out := map[int64]grant{}
	for fence, x := range y.leases {
		if x.Agent == agent {
			out[fence] = x
		}
	}
	return out
}
