package dispatch

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/verdict"
)

// busyMachine has 500 agents of 4 slots in 5 kinds, all busy, and 10,000 queued
// tests in 20 runs of 10 panes for 4 projects.
func busyMachine() (*Machine, []Lease) {
	m := New(Config{LeaseTTL: time.Hour, MaxSlice: 1}, 0)
	rng := rand.New(rand.NewPCG(1, 2))
	browsers := []string{"kestrel", "osprey", "tern", "heron", "gannet"}
	var leases []Lease
	gather := func(ds []Decision) {
		for _, d := range ds {
			if l, ok := d.(Lease); ok {
				leases = append(leases, l)
			}
		}
	}
	for i := range 20 {
		r := Run{ID: fmt.Sprintf("r%d", i), Project: fmt.Sprintf("p%d", i%4)}
		for k := range 10 {
			p := Pane{Needs: fleet.Needs{"browser": {browsers[k%5]}, "mode": {[]string{"headless", "headed"}[k/5]}}, Tests: make([]Test, 60)}
			for j := range p.Tests {
				p.Tests[j].Seconds = 5 + 20*rng.ExpFloat64()
			}
			r.Panes = append(r.Panes, p)
		}
		gather(m.Submit(t0, r))
	}
	for i := range 500 {
		gather(m.Join(t0, Agent{Name: fmt.Sprintf("a%03d", i), Slots: 4, Facts: fleet.Facts{
			"mode": {"headless", "headed"}, "browser": {browsers[i%5], browsers[(i+1)%5], browsers[(i+3)%5]}}}, nil))
	}
	return m, leases
}

// BenchmarkDecision times a result and the lease it leads to, and reports the
// median and the 99th percentile.
func BenchmarkDecision(b *testing.B) {
	m, leases := busyMachine()
	queued, _ := m.Depth()
	if queued < 9000 {
		b.Fatalf("only %d are queued", queued)
	}
	took := make([]time.Duration, 0, b.N)
	next := 0
	for b.Loop() {
		if next == len(leases) {
			b.StopTimer()
			m, leases = busyMachine()
			next = 0
			b.StartTimer()
		}
		l := leases[next]
		next++
		began := time.Now()
		_, ds := m.Result(t0, l.Fence, l.Tests[0], Outcome{Verdict: verdict.Passed})
		took = append(took, time.Since(began))
		for _, d := range ds {
			if l, ok := d.(Lease); ok {
				leases = append(leases, l)
			}
		}
		if queued, _ := m.Depth(); queued < 9000 {
			next = len(leases)
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds()), "µs/median")
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds()), "µs/p99")
}
