package cover

import (
	"slices"
)

// fill adds rows until nothing is missing: each is the best of several that begin with a missing
// tuple and take, factor by factor in a random order, the level that covers most with those taken
// before (after Bryce and Colbourn, "A density-based greedy algorithm for higher strength covering
// arrays", Softw. Test. Verif. Reliab. 19, 2009).
func (m *maker) fill() error {
	tries, most := m.tries(), m.most()
	if most == maxRows && float64(m.floor())*float64(m.each()) > float64(m.work.limit()) {
		return ErrDear
	}
	for len(m.tally.missing) > 0 {
		if len(m.rows) >= most {
			if most < maxRows {
				return nil
			}
			return errTooMany
		}
		if most < maxRows && len(m.rows)-m.fixed >= m.wish.Rows && m.work.past(50) { // enough to choose from
			return nil
		}
		best, gain := []int(nil), 0
		for n := range tries {
			if err := m.work.Err(); err != nil {
				return err
			}
			if n > 0 && m.work.past(40) { // whatever covers something will do
				break
			}
			row, err := m.candidate()
			if err != nil {
				return err
			}
			if g := m.tally.adds(row); g > gain {
				best, gain = row, g
			}
		}
		m.add(best)
	}
	return nil
}

// most is how many rows are made: where few are wanted, more to choose from, and not all.
func (m *maker) most() int {
	if m.wish.Rows == 0 {
		return maxRows
	}
	return min(maxRows, m.fixed+4*m.wish.Rows+200)
}

// each is what a candidate costs, in meetings that are looked at.
func (m *maker) each() (n int) {
	for f := range m.space.Levels {
		n += len(m.tally.members[f]) * m.space.Levels[f]
	}
	return max(n, 1)
}

// tries is how many candidates a row is the best of: so many that all rows take no more than the effort.
func (m *maker) tries() int {
	return min(max(m.wish.Effort/max(1, m.each()*max(m.floor(), 1)), 1), 40)
}

// candidate grows a row from a missing tuple.
func (m *maker) candidate() ([]int, error) {
	t := m.tally
	at := int(t.missing[m.chance.below(len(t.missing))])
	d := m.solver.start()
	seed := t.tuple(at)
	if !m.solver.propagate(d, nil) {
		return nil, ErrNothing
	}
	for i, f := range seed.Factors {
		if !m.solver.set(d, f, seed.Levels[i]) {
			return nil, ErrNothing // newTally has found it to be possible
		}
	}
	return m.grow(d)
}

// grow completes a row within domains.
func (m *maker) grow(from domains) ([]int, error) {
	v, t := m.solver, m.tally
	d := slices.Clone(from)
	row := make([]int, len(m.space.Levels))
	taken := make([]bool, len(row))
	note := func() {
		for f := range row {
			if !taken[f] && v.size(d, f) == 1 {
				row[f], taken[f] = v.only(d, f), true
			}
		}
	}
	note()
	gains := []int{}
	for _, f := range m.chance.order(len(row)) {
		if taken[f] {
			continue
		}
		gains = append(gains[:0], make([]int, m.space.Levels[f])...)
		t.look(len(t.members[f]) * (1 + len(gains)))
		for i := range t.members[f] {
			mem := &t.members[f][i]
			if mem.a != Any && !taken[mem.a] || mem.b != Any && !taken[mem.b] {
				continue
			}
			at := mem.at(row)
			for l := range gains {
				if t.counts[at+l*mem.stride] == 0 {
					gains[l]++
				}
			}
		}
		for !taken[f] {
			l := m.choose(d, f, gains)
			if l == Any {
				break
			}
			if len(v.of[f]) == 0 {
				row[f], taken[f] = l, true
				break
			}
			next := slices.Clone(d)
			if v.set(next, f, l) {
				d = next
				row[f], taken[f] = l, true
				note()
			} else if !v.take(d, f, l) {
				break
			}
		}
		if !taken[f] { // what was taken before leaves nothing: the rules decide the whole row
			return v.solve(from, m.chance)
		}
	}
	if v.broken(row) >= 0 {
		return v.solve(from, m.chance)
	}
	return row, nil
}

// choose gives a level that covers most, of those the one that weighs most, of those one by chance.
func (m *maker) choose(d domains, f int, gains []int) int {
	best, ties := Any, 0
	for l, g := range gains {
		if !m.solver.has(d, f, l) {
			continue
		}
		switch {
		case best == Any || g > gains[best] || g == gains[best] && m.weight(f, l) > m.weight(f, best):
			best, ties = l, 1
		case g == gains[best] && m.weight(f, l) == m.weight(f, best):
			if ties++; m.chance.below(ties) == 0 {
				best = l
			}
		}
	}
	return best
}

func (m *maker) weight(f, level int) int {
	if f >= len(m.wish.Weights) || level >= len(m.wish.Weights[f]) {
		return 1
	}
	return m.wish.Weights[f][level]
}
