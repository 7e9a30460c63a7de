package combo

import (
	"fmt"
	"slices"
)

// Plan is what a matrix comes to.
type Plan struct {
	Combinations []Combination `json:"combinations"`
	Missing      []Missing     `json:"missing"`
	Cover        Covered       `json:"cover"`
}

// Missing is a combination, or a tuple of values of a cover, that the rules
// leave out.
type Missing struct {
	Values map[string]string `json:"values"`
	Reason string            `json:"reason"`
}

// Covered says what the combinations cover. For a full product the tuples are
// its points.
type Covered struct {
	Strength int `json:"strength"`
	Tuples   int `json:"tuples"`  // that the rules allow
	Covered  int `json:"covered"` // of those
	Left     int `json:"left"`    // missing ones not listed, beyond MaxMissing
}

// MaxMissing bounds the list of what is missing.
const MaxMissing = 10_000

// budget is what an effort may cost: candidates for each row, and steps of
// mending for a problem in which a step changes about 200 tuples.
func (e Effort) budget() (candidates, steps int, err error) {
	switch e {
	case "", Normal:
		return 20, 150_000, nil
	case High:
		return 100, 8_000_000, nil
	}
	return 0, 0, fmt.Errorf("unknown effort %q: expected %s or %s", e, Normal, High)
}

// CheckRules reports the first rule, cover or effort that cannot be used,
// without expanding anything.
func (m Matrix) CheckRules() error {
	p, err := newProblem(m, nil)
	if err != nil {
		return err
	}
	if _, err := m.coverAxes(p); err != nil {
		return fmt.Errorf("matrix %q: cover: %w", m.Name, err)
	}
	return nil
}

// Plan expands the matrix. The same matrix gives the same plan. A product of
// more than MaxPoints is never built; a cover of it may be asked for.
//
// With a lab, version selectors become the versions they mean there. A cover
// then keeps to what some agent can do; a whole product keeps what none can,
// with the reason in Impossible. Without one (nil), selectors stay as they are.
func (m Matrix) Plan(lab Lab) (Plan, error) {
	if err := m.Check(); err != nil {
		return Plan{}, err
	}
	p, err := newProblem(m, lab)
	if err != nil {
		return Plan{}, err
	}
	plan := Plan{Combinations: []Combination{}, Missing: []Missing{}}
	if m.Cover.Strength == 0 {
		err = m.planAll(p, &plan)
	} else {
		err = m.planCover(p, &plan)
	}
	if err == nil && lab != nil {
		err = m.freeze(lab, &plan)
	}
	return plan, err
}

// freeze puts the lab's versions in place of selectors. Combinations that come
// to the same are kept once.
func (m Matrix) freeze(lab Lab, plan *Plan) error {
	seen := map[string]string{}
	kept := plan.Combinations[:0]
	for _, c := range plan.Combinations {
		values, err := frozen(lab, c.Values)
		if err != nil {
			plan.miss(c.Values, err.Error())
			continue
		}
		f := m.combination(values)
		if first, twice := seen[f.Key]; twice {
			plan.miss(c.Values, "the same as "+first)
			continue
		}
		seen[f.Key] = f.Label
		f.Impossible = lab.Lacks(values)
		kept = append(kept, f)
	}
	plan.Combinations = kept
	if len(kept) == 0 && len(plan.Missing) > 0 {
		return fmt.Errorf("matrix %q: nothing is left: %s", m.Name, plan.Missing[0].Reason)
	}
	return nil
}

func (plan *Plan) miss(values map[string]string, reason string) {
	if len(plan.Missing) == MaxMissing {
		plan.Cover.Left++
		return
	}
	plan.Missing = append(plan.Missing, Missing{values, reason})
}

// add puts the must-haves in front.
func (m Matrix) add(plan *Plan) (seen map[string]bool) {
	seen = map[string]bool{}
	for _, values := range m.Add {
		if c := m.combination(values); !seen[c.Key] {
			seen[c.Key] = true
			plan.Combinations = append(plan.Combinations, c)
		}
	}
	return seen
}

func (m Matrix) planAll(p *problem, plan *Plan) error {
	if m.Points() > MaxPoints {
		return fmt.Errorf("matrix %q has more than %d combinations: ask for a cover such as pairs, or drop an axis or some values", m.Name,
			MaxPoints)
	}
	seen := m.add(plan)
	plan.Cover.Strength = len(m.Axes)
	allowed := 0
	m.eachPoint(func(point []int) {
		c := m.combination(m.values(point))
		if r := p.broken(point, -1); r != nil {
			if !seen[c.Key] {
				plan.miss(c.Values, r.reason(point))
			}
			return
		}
		allowed++
		if !seen[c.Key] {
			plan.Combinations = append(plan.Combinations, c)
		}
	})
	plan.Cover.Tuples, plan.Cover.Covered = allowed, allowed
	if len(plan.Combinations) == 0 {
		return m.unsatisfied(p)
	}
	return nil
}

func (m Matrix) unsatisfied(p *problem) error {
	nothing := slices.Repeat([]int{free}, len(m.Axes))
	return fmt.Errorf("matrix %q: nothing satisfies its rules; the last straw is %s", m.Name, p.culprit(nothing))
}

func (m Matrix) planCover(p *problem, plan *Plan) error {
	candidates, steps, err := m.Effort.budget()
	if err != nil {
		return fmt.Errorf("matrix %q: %w", m.Name, err)
	}
	axes, err := m.coverAxes(p)
	if err != nil {
		return fmt.Errorf("matrix %q: cover: %w", m.Name, err)
	}
	strength := min(m.Cover.Strength, len(axes))
	if strength < 1 || strength > MaxStrength {
		return fmt.Errorf("matrix %q: the strength of a cover is 1 to %d, not %d", m.Name, MaxStrength, m.Cover.Strength)
	}
	possible := p.possible(slices.Repeat([]int{free}, len(m.Axes)))
	if p.spent() {
		return fmt.Errorf("matrix %q: %w", m.Name, ErrTooHard)
	}
	if !possible {
		if len(m.Add) == 0 {
			return m.unsatisfied(p)
		}
		m.add(plan)
		return nil
	}
	c, err := newCover(p, strength, axes, m.Seed)
	if err != nil {
		return fmt.Errorf("matrix %q: %w", m.Name, err)
	}
	seen := m.add(plan)
	for _, values := range m.Add { // what a must-have covers need not be covered again
		if row, ok := p.point(values); ok {
			c.addRow(row)
			c.fixed++
		}
	}
	c.solve(candidates, steps)
	if p.spent() {
		return fmt.Errorf("matrix %q: %w", m.Name, ErrTooHard)
	}
	for _, row := range c.rows[c.fixed:] {
		if k := m.combination(m.values(row)); !seen[k.Key] {
			seen[k.Key] = true
			plan.Combinations = append(plan.Combinations, k)
		}
	}
	plan.Cover.Strength, plan.Cover.Tuples, plan.Cover.Covered = strength, c.need, c.need-len(c.open)
	c.explain(m, plan)
	return nil
}

func (m Matrix) coverAxes(p *problem) (axes []int, err error) {
	if len(m.Cover.Axes) == 0 {
		for i := range p.axes {
			axes = append(axes, i)
		}
		return axes, nil
	}
	for _, name := range m.Cover.Axes {
		i, err := p.axis(name)
		if err != nil {
			return nil, err
		}
		axes = append(axes, i)
	}
	slices.Sort(axes)
	return slices.Compact(axes), nil
}

// point writes values as numbers, when they are a point of the product.
func (p *problem) point(values map[string]string) ([]int, bool) {
	row := make([]int, len(p.axes))
	for i, a := range p.axes {
		if row[i] = slices.Index(a.Values, values[a.Name]); row[i] < 0 {
			return nil, false
		}
	}
	return row, len(values) == len(p.axes)
}

// solve fills the cover: from algebra where it knows a good start, from greedy
// rows otherwise, and then by shrinking. steps are scaled to the size of the
// problem, so that the time spent hardly depends on it.
func (c *cover) solve(candidates, steps int) {
	begin := slices.Clone(c.rows)
	algebra := c.algebraicRows()
	for _, r := range algebra {
		c.addRow(r)
	}
	c.greedy(candidates) // nothing is left to it after algebra, unless cells were free
	if algebra != nil {
		if slices.Max(c.sizes) == 2 {
			return // proven to be the smallest
		}
		first := slices.Clone(c.rows)
		c.restore(begin)
		if c.greedy(3); len(first) <= len(c.rows) {
			c.restore(first)
		}
	}
	if len(c.blocks) > 0 {
		each := len(c.blocks[0].axes) * 2 * len(c.of[c.blocks[0].axes[0]]) // tuples that a step looks at
		c.shrink(steps*200/max(20, each), c.bound())
	}
}

// bound is a lower bound of the rows: the largest block needs one for each
// tuple.
func (c *cover) bound() int {
	most := 0
	for _, b := range c.blocks {
		n := 0
		for i := range b.size {
			if c.reach[b.offset+i] {
				n++
			}
		}
		most = max(most, n)
	}
	return most
}

// algebraicRows are rows of a known construction for pairs over all axes
// without rules; free cells are filled by chance.
func (c *cover) algebraicRows() (rows [][]int) {
	if len(c.rules) > 0 || c.fixed > 0 || len(c.blocks) == 0 || len(c.blocks[0].axes) != 2 {
		return nil
	}
	low, high := slices.Min(c.sizes), slices.Max(c.sizes)
	if high > 2*low { // very unlike axes waste most of a uniform array
		return nil
	}
	for _, row := range algebraic(len(c.axes), high, c.rng.Uint64()) {
		for i, v := range row {
			if v == free || v >= c.sizes[i] {
				row[i] = c.rng.IntN(c.sizes[i])
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// explain lists the tuples that the rules leave out.
func (c *cover) explain(m Matrix, plan *Plan) {
	row := make([]int, len(c.axes))
	for bi := range c.blocks {
		b := &c.blocks[bi]
		for i := range b.size {
			if c.reach[b.offset+i] {
				continue
			}
			if len(plan.Missing) == MaxMissing {
				plan.Cover.Left++
				continue
			}
			c.spread(row, b, i)
			plan.miss(m.values(row), c.culprit(row))
		}
	}
}
