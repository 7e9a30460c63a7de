package lab

import (
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
)

// stats are the numbers behind /metrics.
type stats struct {
	registry *prometheus.Registry
	attempts *prometheus.CounterVec
	runs     *prometheus.CounterVec
}

func newStats(lab *Lab) *stats {
	st := &stats{
		registry: prometheus.NewRegistry(),
		attempts: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "pane_attempts_total", Help: "Attempts by verdict."},
			[]string{"verdict"}),
		runs: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "pane_runs_total", Help: "Ended runs by verdict."}, []string{"verdict"}),
	}
	gauge := func(name, help string, read func() float64) prometheus.Collector {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, func() float64 {
			lab.mu.Lock()
			defer lab.mu.Unlock()
			return read()
		})
	}
	st.registry.MustRegister(st.attempts, st.runs,
		collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		gauge("pane_runs_open", "Runs that have not ended.", func() float64 { return float64(len(lab.live)) }),
		gauge("pane_tests_queued", "Tests waiting for a slot.", func() float64 { q, _ := lab.machine.Depth(); return float64(q) }),
		gauge("pane_leases", "Slices that agents work on.", func() float64 { _, l := lab.machine.Depth(); return float64(l) }),
		gauge("pane_agents_online", "Agents with a link.", func() float64 {
			n := 0
			for _, a := range lab.agents {
				if a.link != nil {
					n++
				}
			}
			return float64(n)
		}),
	)
	return st
}

// Metrics is where the service's numbers are gathered.
func (lab *Lab) Metrics() prometheus.Gatherer { return lab.stats.registry }
