package main

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"time"

	"parallelpane/internal/core/combo"
	"parallelpane/internal/core/fleet"
	"parallelpane/internal/core/plan"
)

// axes makes a matrix of counts of axes with so many values, such as 3^13.
func axes(of string) combo.Matrix {
	m := combo.Matrix{Name: of, Cover: combo.Cover{Strength: 2}}
	for _, part := range strings.Split(of, "·") {
		values, count := 0, 1
		if _, err := fmt.Sscanf(part, "%d^%d", &values, &count); err != nil {
			_, _ = fmt.Sscanf(part, "%d", &values) // the list below is well formed
		}
		for range count {
			a := combo.Axis{Name: fmt.Sprintf("a%d", len(m.Axes))}
			for v := range values {
				a.Values = append(a.Values, fmt.Sprint(v))
			}
			m.Axes = append(m.Axes, a)
		}
	}
	return m
}

// covers sizes the pairs of known problems, at both efforts.
func covers(context.Context, string) (rows []row, _ error) {
	for _, x := range []struct {
		of           string
		normal, high int
	}{{"3^4", 9, 9}, {"3^13", 18, 15}, {"4^15·3^17·2^29", 34, 29}, {"4·3^39·2^35", 26, 21}, {"2^100", 12, 10}, {"10^20", 200, 180}} {
		for _, effort := range []combo.Effort{combo.Normal, combo.High} {
			m := axes(x.of)
			m.Effort = effort
			began := time.Now()
			p, err := m.Plan(nil)
			if err != nil {
				return nil, err
			}
			target := fmt.Sprintf("%d in 2 s", x.normal)
			if effort == combo.High {
				target = fmt.Sprintf("%d in 60 s", x.high)
			}
			fmt.Printf("%s at effort %s: %d\n", x.of, effort, len(p.Combinations)) // this takes minutes
			rows = append(rows, row{fmt.Sprintf("pairs of %s at effort %s: combinations", x.of, effort),
				fmt.Sprintf("%d in %.1f s", len(p.Combinations), time.Since(began).Seconds()), target})
		}
	}
	return rows, nil
}

func hosts(n, slots int, browsers ...string) (out []plan.Host) {
	for i := range n {
		out = append(out, plan.Host{Name: fmt.Sprintf("%s-%d", browsers[0], i), Slots: slots, Facts: fleet.Facts{"browser": browsers}})
	}
	return out
}

// equalParts is what cutting a list into one part for each slot takes.
func equalParts(q plan.Question, slots int) float64 {
	most := 0.0
	for i := range slots {
		sum := 0.0
		for _, t := range q.Tests[i*len(q.Tests)/slots : (i+1)*len(q.Tests)/slots] {
			sum += t.Seconds
		}
		most = max(most, sum)
	}
	return most
}

const seeds = 20

// forecasts compares simulated runs with their lower bound: 2,000 tests of
// log-normal durations on 100 slots.
func forecasts(context.Context, string) (rows []row, _ error) {
	any, unlike := []fleet.Needs{{}}, []fleet.Needs{}
	for _, b := range []string{"kestrel", "osprey", "tern", "heron"} {
		unlike = append(unlike, fleet.Needs{"browser": {b}})
	}
	mixed := slices.Concat(hosts(10, 4, "kestrel", "osprey"), hosts(8, 2, "osprey", "tern"), hosts(5, 6, "tern"),
		hosts(7, 2, "heron", "kestrel"))
	for _, x := range []struct {
		name   string
		sigma  float64
		known  bool
		hosts  []plan.Host
		needs  []fleet.Needs
		target string
	}{
		{"with history, σ 1", 1, true, hosts(25, 4, "kestrel"), any, "1.02"},
		{"without history, σ 0.4", 0.4, false, hosts(25, 4, "kestrel"), any, "1.10"},
		{"without history, σ 0.5", 0.5, false, hosts(25, 4, "kestrel"), any, "1.10"},
		{"without history, σ 1", 1, false, hosts(25, 4, "kestrel"), any, "1.10"},
		{"unlike agents, with history, σ 1", 1, true, mixed, unlike, "1.05"},
	} {
		var ratios, gains []float64
		for seed := range uint64(seeds) {
			rng := rand.New(rand.NewPCG(seed, 7))
			q := plan.Question{Agents: x.hosts, Known: x.known}
			for i := range 2000 {
				q.Tests = append(q.Tests, plan.Test{ID: fmt.Sprint(i), Seconds: 10 * math.Exp(x.sigma*rng.NormFloat64()),
					Needs: x.needs[rng.IntN(len(x.needs))]})
			}
			f, err := q.Run(context.Background())
			if err != nil {
				return nil, err
			}
			ratios = append(ratios, f.Makespan/f.LowerBound)
			gains = append(gains, equalParts(q, len(f.Slots))/f.Makespan)
		}
		rows = append(rows, row{fmt.Sprintf("simulated end over lower bound, %s (median of %d, worst)", x.name, seeds),
			fmt.Sprintf("%.3f, %.3f", median(ratios), slices.Max(ratios)), x.target})
		if len(x.needs) == 1 {
			rows = append(rows, row{"the same list cut into equal parts would take so many times as long (median)",
				fmt.Sprintf("%.2f", median(gains)), "–"})
		}
	}
	return rows, nil
}

var metric = regexp.MustCompile(`([\d.]+) µs/(median|p99)`)

// decisions runs the scheduler's own benchmark.
func decisions(ctx context.Context, _ string) ([]row, error) {
	raw, err := exec.CommandContext(ctx, "go", "test", "-run", "xxx", "-bench", "Decision", "-benchtime", "5000x",
		"./internal/core/dispatch").CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, raw)
	}
	got := map[string]string{}
	for _, m := range metric.FindAllStringSubmatch(string(raw), -1) {
		got[m[2]] = m[1]
	}
	return []row{
		{"scheduler's decision with 10,000 queued tests and 500 agents of 4 slots: median", got["median"] + " µs", "200 µs"},
		{"the same: 99th percentile", got["p99"] + " µs", "2000 µs"},
	}, nil
}
