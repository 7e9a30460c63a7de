package combo

import (
	"fmt"
	"math/rand/v2"
	"slices"
)

// A covering array of strength t has, for every t axes, every tuple of their
// values in at least one row. Building the smallest one is hard; this file
// builds small ones. Rows are made one at a time, each the best of several
// greedy candidates; then rows are taken away and the rest is mended by
// simulated annealing, as long as the budget lasts. Arrays for which algebra
// knows a small form start from that (file algebra.go).
//
// Everything is counted in steps, never in time, so that a seed always gives
// the same rows.

// maxTuples bounds the tuples of a cover.
const maxTuples = 4_000_000

// block is t axes whose tuples have to be covered.
type block struct {
	axes   []int
	stride []int
	offset int // of its tuples in the arrays over all tuples
	size   int
}

// cover is the state of a search.
type cover struct {
	*problem
	blocks []block
	of     [][]int32 // by axis, its blocks
	total  int       // tuples of all blocks
	reach  []bool    // by tuple: the rules allow it
	need   int       // tuples that the rules allow
	times  []int32   // by tuple: rows that have it
	rows   [][]int
	fixed  int // the first rows, which are kept as they are
	rng    *rand.Rand

	open  []int32 // tuples that no row has
	place []int32 // by tuple: its index in open, or -1
}

func newCover(p *problem, strength int, axes []int, seed uint64) (*cover, error) {
	c := &cover{problem: p, of: make([][]int32, len(p.axes)), rng: rand.New(rand.NewPCG(seed, 0x70616e65))}
	var tooMany error
	eachSubset(len(axes), strength, func(pick []int) bool {
		b := block{offset: c.total, size: 1, stride: make([]int, strength)}
		for _, i := range pick {
			b.axes = append(b.axes, axes[i])
		}
		for i := strength - 1; i >= 0; i-- {
			b.stride[i] = b.size
			b.size *= p.sizes[b.axes[i]]
		}
		if c.total += b.size; c.total > maxTuples {
			tooMany = fmt.Errorf("a cover of strength %d over %d axes has more than %d tuples: lower the strength or name fewer axes",
				strength, len(axes), maxTuples)
			return false
		}
		for _, a := range b.axes {
			c.of[a] = append(c.of[a], int32(len(c.blocks)))
		}
		c.blocks = append(c.blocks, b)
		return true
	})
	if tooMany != nil {
		return nil, tooMany
	}
	c.findReachable()
	return c, nil
}

// eachSubset calls f with every k of n indexes in order, until f says stop.
func eachSubset(n, k int, f func([]int) bool) {
	pick := make([]int, k)
	var from func(i, start int) bool
	from = func(i, start int) bool {
		if i == k {
			return f(pick)
		}
		for v := start; v <= n-(k-i); v++ {
			pick[i] = v
			if !from(i+1, v+1) {
				return false
			}
		}
		return true
	}
	from(0, 0)
}

// findReachable asks the rules which tuples can be covered at all.
func (c *cover) findReachable() {
	c.reach = make([]bool, c.total)
	c.times = make([]int32, c.total)
	c.place = make([]int32, c.total)
	row := make([]int, len(c.axes))
	for bi := range c.blocks {
		b := &c.blocks[bi]
		ruled := slices.ContainsFunc(b.axes, func(a int) bool { return len(c.touching[a]) > 0 })
		for i := range b.size {
			t := b.offset + i
			c.reach[t] = true
			if ruled {
				c.spread(row, b, i)
				c.reach[t] = c.possible(row)
			}
			c.place[t] = -1
			if c.reach[t] {
				c.need++
				c.addOpen(int32(t))
			}
		}
	}
}

// spread writes a tuple of a block into an otherwise free row.
func (c *cover) spread(row []int, b *block, tuple int) {
	for i := range row {
		row[i] = free
	}
	for k, a := range b.axes {
		row[a] = tuple / b.stride[k] % c.sizes[a]
	}
}

func (c *cover) addOpen(t int32) {
	c.place[t] = int32(len(c.open))
	c.open = append(c.open, t)
}

func (c *cover) dropOpen(t int32) {
	last := c.open[len(c.open)-1]
	c.open[c.place[t]] = last
	c.place[last] = c.place[t]
	c.open = c.open[:len(c.open)-1]
	c.place[t] = -1
}

func (c *cover) tuple(b *block, row []int) int32 {
	t := b.offset
	for k, a := range b.axes {
		t += row[a] * b.stride[k]
	}
	return int32(t)
}

// count adds d to the times of a tuple and keeps the open ones listed.
func (c *cover) count(t int32, d int32) {
	if !c.reach[t] {
		return
	}
	c.times[t] += d
	if d > 0 && c.times[t] == 1 {
		c.dropOpen(t)
	} else if d < 0 && c.times[t] == 0 {
		c.addOpen(t)
	}
}

func (c *cover) addRow(row []int) {
	c.rows = append(c.rows, row)
	for i := range c.blocks {
		c.count(c.tuple(&c.blocks[i], row), 1)
	}
}

func (c *cover) removeRow(i int) {
	for k := range c.blocks {
		c.count(c.tuple(&c.blocks[k], c.rows[i]), -1)
	}
	c.rows = slices.Delete(c.rows, i, i+1)
}

// set changes one cell of a row.
func (c *cover) set(row []int, axis, value int) {
	old := row[axis]
	if old == value {
		return
	}
	for _, bi := range c.of[axis] {
		b := &c.blocks[bi]
		before := c.tuple(b, row)
		row[axis] = value
		after := c.tuple(b, row)
		row[axis] = old
		c.count(before, -1)
		c.count(after, 1)
	}
	row[axis] = value
}

// gain is how many open tuples a row would cover by giving an axis a value,
// counting only blocks whose other axes have one.
func (c *cover) gain(row []int, axis, value int) (n int) {
	row[axis] = value
next:
	for _, bi := range c.of[axis] {
		b := &c.blocks[bi]
		t := b.offset
		for k, a := range b.axes {
			if row[a] == free {
				continue next
			}
			t += row[a] * b.stride[k]
		}
		if c.place[t] >= 0 {
			n++
		}
	}
	row[axis] = free
	return n
}

// randomOpen picks an open tuple and finds its block in O(log blocks).
func (c *cover) randomOpen() (*block, int) {
	t := int(c.open[c.rng.IntN(len(c.open))])
	i, _ := slices.BinarySearchFunc(c.blocks, t, func(b block, t int) int {
		if t < b.offset {
			return 1
		} else if t >= b.offset+b.size {
			return -1
		}
		return 0
	})
	return &c.blocks[i], t
}

// candidate builds a row around a random open tuple: axes in random order, each
// with the value that covers most.
func (c *cover) candidate() (row []int, covers int) {
	row = make([]int, len(c.axes))
	b, t := c.randomOpen()
	c.spread(row, b, t-b.offset)
	for _, axis := range c.rng.Perm(len(row)) {
		if row[axis] != free {
			continue
		}
		best, most := free, -1
		from := c.rng.IntN(c.sizes[axis])
		for k := range c.sizes[axis] {
			v := (from + k) % c.sizes[axis]
			n := c.gain(row, axis, v)
			if n <= most {
				continue
			}
			if len(c.rules) > 0 {
				row[axis] = v
				ok := c.possible(row)
				row[axis] = free
				if !ok {
					continue
				}
			}
			best, most = v, n
		}
		row[axis] = best
	}
	for i := range c.blocks {
		if c.place[c.tuple(&c.blocks[i], row)] >= 0 {
			covers++
		}
	}
	return row, covers
}

// greedy adds rows until every tuple is covered.
func (c *cover) greedy(candidates int) {
	for len(c.open) > 0 {
		var best []int
		most := 0
		for range candidates {
			if row, n := c.candidate(); n > most {
				best, most = row, n
			}
		}
		c.addRow(best)
	}
}

// shrink takes rows away, one after another, for as long as the rest can be
// mended within the budget of steps.
func (c *cover) shrink(steps int, enough int) {
	for steps > 0 && len(c.rows) > max(enough, c.fixed) {
		kept := make([][]int, len(c.rows))
		for i, r := range c.rows {
			kept[i] = slices.Clone(r)
		}
		c.removeRow(c.weakest())
		used, ok := c.mend(steps)
		steps -= used
		if !ok {
			c.restore(kept)
			return
		}
	}
}

// weakest is the row that alone covers the fewest tuples.
func (c *cover) weakest() int {
	best, fewest := len(c.rows)-1, int(^uint(0)>>1)
	for i := c.fixed; i < len(c.rows); i++ {
		alone := 0
		for k := range c.blocks {
			if t := c.tuple(&c.blocks[k], c.rows[i]); c.times[t] == 1 {
				alone++
			}
		}
		if alone < fewest {
			best, fewest = i, alone
		}
	}
	return best
}

func (c *cover) restore(rows [][]int) {
	for len(c.rows) > 0 {
		c.removeRow(len(c.rows) - 1)
	}
	for _, r := range rows {
		c.addRow(r)
	}
}

// mend changes rows until every tuple is covered: it writes a random open tuple
// into a random row and keeps the change when that leaves fewer tuples open, or
// by chance, less and less often, when not.
func (c *cover) mend(steps int) (used int, ok bool) {
	if len(c.rows) == c.fixed {
		return 0, len(c.open) == 0
	}
	// The temperature is in tuples: at the start a change for the worse by one
	// is taken about one time in five.
	hot, cold := 0.6, 0.12
	undo := make([]int, 0, 8)
	for used = 0; used < steps; used++ {
		if len(c.open) == 0 {
			return used, true
		}
		// It cools in waves, so that a hollow can be left again.
		wave := float64(used%400_000) / 400_000
		heat := hot + (cold-hot)*wave
		b, t := c.randomOpen()
		row := c.rows[c.fixed+c.rng.IntN(len(c.rows)-c.fixed)]
		before := len(c.open)
		undo = undo[:0]
		for k, a := range b.axes {
			undo = append(undo, row[a])
			c.set(row, a, (t-b.offset)/b.stride[k]%c.sizes[a])
		}
		worse := len(c.open) - before
		if c.broken(row, -1) != nil || (worse > 0 && c.rng.Float64() >= chance(worse, heat)) {
			for k, a := range b.axes {
				c.set(row, a, undo[k])
			}
		}
	}
	return used, len(c.open) == 0
}
