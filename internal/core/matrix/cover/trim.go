package cover

import (
	"cmp"
	"errors"
	"slices"
)

var errTooMany = errors.New("more rows would be needed than are made; choose a lower strength or a budget")

// begin makes rows that cover everything, by whatever gives the fewest: construction and
// completion for each design that serves, or completion alone.
func (m *maker) begin() error {
	kept := slices.Clone(m.rows)
	reset := func(rows [][]int) {
		for len(m.rows) > 0 {
			m.drop(len(m.rows) - 1)
		}
		for _, row := range rows {
			m.add(row)
		}
	}
	var best [][]int
	for _, d := range append(fewest(m.suited()), design{}) {
		if best != nil && m.work.past(25) {
			break
		}
		// to complete it takes longer than it is worth
		if float64(len(d.rows))*float64(m.each()) > 10*float64(m.wish.Effort) {
			continue
		}
		if best != nil && len(d.rows) >= len(best) {
			continue
		}
		reset(kept)
		if err := m.lay(d); err != nil {
			return err
		}
		if err := m.fill(); err != nil {
			return err
		}
		if m.shed(); best == nil || len(m.rows) < len(best) {
			best = slices.Clone(m.rows)
		}
	}
	reset(best)
	return nil
}

// fewest gives the few designs that begin with the fewest rows.
func fewest(list []design) []design {
	slices.SortStableFunc(list, func(a, b design) int { return cmp.Compare(len(a.rows), len(b.rows)) })
	return list[:min(len(list), 3)]
}

// suited gives the designs for this space: none where rules name a factor, or rows are few.
func (m *maker) suited() []design {
	if len(m.solver.bound) > 0 || m.wish.Budget > 0 || m.fixed > 0 || len(m.wish.Had) > 0 {
		return nil
	}
	levels := make([]int, 0, len(m.space.Levels))
	for _, f := range m.counted() {
		levels = append(levels, m.space.Levels[f])
	}
	return designs(levels, m.tally.strength)
}

// counted gives the factors whose meetings count, those with most levels first.
func (m *maker) counted() (out []int) {
	for _, f := range byLevels(m.space.Levels) {
		if len(m.tally.members[f]) > 0 || m.tally.strength == 1 && m.wish.Over == nil {
			out = append(out, f)
		}
	}
	return out
}

// lay puts a design's rows in: its columns are the factors that it has symbols enough for.
func (m *maker) lay(d design) error {
	if d.rows == nil {
		return nil
	}
	counted := m.counted()
	levels := make([]int, len(counted))
	for i, f := range counted {
		levels[i] = m.space.Levels[f]
	}
	columns := fitting(levels, d.q)
	for _, made := range d.rows {
		row := make([]int, len(m.space.Levels))
		for f := range row {
			row[f] = Any
		}
		for c, at := range columns {
			if f := counted[at]; c < len(made) && made[c] < m.space.Levels[f] {
				row[f] = made[c]
			}
		}
		start := m.solver.start()
		if !m.solver.fix(start, row) {
			continue
		}
		full, err := m.grow(start)
		if err != nil {
			return err
		}
		m.add(full)
	}
	return nil
}

// shed drops rows that have nothing alone.
func (m *maker) shed() {
	for i := len(m.rows) - 1; i >= m.fixed; i-- {
		if m.tally.alone(m.rows[i]) == 0 {
			m.drop(i)
		}
	}
}

// improve takes rows away as long as the search finds levels for the others that cover what they
// had; where rows are bounded and too few, those that add most stay, and it looks for such as miss
// less.
func (m *maker) improve() {
	if len(m.rows) == 0 || len(m.tally.counts) == 0 {
		return
	}
	s := search{maker: m}
	bound := m.wish.Rows
	if n := m.affordable(); n > 0 && (bound == 0 || n < bound) {
		bound = n
		m.wish.Rows = n
	}
	if bound == 0 || len(m.rows) <= bound {
		s.trim(s.wish.Effort)
		return
	}
	s.trim(s.wish.Effort / 2)
	if m.within(); len(m.tally.missing) > 0 {
		s.least(s.wish.Effort)
	}
}

// affordable is how many rows the budget is enough for, where all cost the same; 0 where that cannot
// be said. Rows that the search changes are counted again in the end (within).
func (m *maker) affordable() int {
	if m.wish.Budget == 0 || m.wish.Cost == nil {
		return 0
	}
	each := m.cost(m.rows[0])
	for _, row := range m.rows {
		if m.cost(row) != each {
			return 0
		}
	}
	return int(m.wish.Budget / each)
}

// trim takes rows away until the effort is spent.
func (s *search) trim(effort int) {
	m := s.maker
	floor := m.floor()
	for !s.tired(effort) && len(m.rows) > max(floor, m.fixed+1) {
		before := copyRows(m.rows)
		weakest, alone := -1, 0
		for i := m.fixed; i < len(m.rows); i++ {
			if a := m.tally.alone(m.rows[i]); weakest < 0 || a < alone {
				weakest, alone = i, a
			}
		}
		m.drop(weakest)
		if !s.least(effort) {
			m.restore(before)
			return
		}
	}
}

// floor is a number of rows that there cannot be less than: a row has one tuple of each set of
// factors, so that it takes as many rows as a set has tuples that were not had before.
func (m *maker) floor() (most int) {
	had := map[int]bool{}
	for _, row := range m.wish.Had {
		m.tally.eachOf(row, func(at int) { had[at] = true })
	}
	m.work.take(len(m.tally.counts))
	for _, set := range m.tally.subsets {
		n := 0
		for at := set.base; at < set.base+m.tally.size(set); at++ {
			if m.tally.counts[at] < never/2 && !had[at] {
				n++
			}
		}
		most = max(most, n)
	}
	return most
}

func copyRows(rows [][]int) [][]int {
	out := make([][]int, len(rows))
	for i, r := range rows {
		out[i] = slices.Clone(r)
	}
	return out
}

func (m *maker) restore(rows [][]int) {
	for len(m.rows) > 0 {
		m.drop(len(m.rows) - 1)
	}
	for _, row := range rows {
		m.add(row)
	}
}

// search changes cells of a number of rows so that less is missing: it takes a missing tuple,
// and changes the row in which having it costs least, never the same cell twice within a few
// steps (after Nurmela, "Upper bounds for covering arrays by tabu search", Discrete Applied
// Mathematics 138, 2004). Where a rule is in the way, the rest of the row is mended.
type search struct {
	*maker
	spent int64
	step  int
	until []int // of each cell, the step from which it may change again
}

func (s *search) tired(effort int) bool { return s.spent >= int64(effort) || s.work.past(70) }

// move is a row with other levels.
type move struct {
	row     int
	factor  int // the one that changes, Any where several do
	level   int
	changed []int // the whole row, where several do
}

// least searches until nothing is missing (true) or the effort is spent; the rows that missed
// least stay.
func (s *search) least(effort int) bool {
	k := len(s.space.Levels)
	s.until = make([]int, len(s.rows)*k)
	best, kept := len(s.tally.missing), copyRows(s.rows)
	for len(s.tally.missing) > 0 {
		if s.tired(effort) {
			s.restore(kept)
			return false
		}
		s.step++
		s.spent += 20
		seed := s.tally.tuple(int(s.tally.missing[s.chance.below(len(s.tally.missing))]))
		mv, ok := s.nearest(seed, best)
		if !ok {
			if mv, ok = s.mended(seed); !ok {
				continue
			}
		}
		s.apply(mv)
		if n := len(s.tally.missing); n < best {
			if best = n; n > 0 {
				for i, r := range s.rows {
					copy(kept[i], r)
				}
			}
		}
	}
	return true
}

// nearest finds the best move of one cell that has the tuple.
func (s *search) nearest(t Tuple, best int) (mv move, ok bool) {
	k, least, ties := len(s.space.Levels), 0, 0
	now := len(s.tally.missing)
	s.work.take(len(s.rows))
	for i := s.fixed; i < len(s.rows); i++ {
		row := s.rows[i]
		at := -1
		for j, f := range t.Factors {
			if row[f] != t.Levels[j] {
				if at >= 0 {
					at = -2
					break
				}
				at = j
			}
		}
		if at < 0 {
			continue
		}
		f, l := t.Factors[at], t.Levels[at]
		s.spent += 4 * int64(len(s.solver.of[f]))
		if !s.solver.allowsChange(row, f, l) {
			continue
		}
		more := s.tally.worth(row, f, l)
		s.spent += int64(len(s.tally.members[f]))
		if s.until[i*k+f] > s.step && now+more >= best {
			continue
		}
		if !ok || more < least {
			mv, ok, least, ties = move{row: i, factor: f, level: l}, true, more, 1
		} else if more == least {
			if ties++; s.chance.below(ties) == 0 {
				mv = move{row: i, factor: f, level: l}
			}
		}
	}
	return mv, ok
}

// mended finds the best of a few rows that are made to have the tuple, whatever else has to change.
func (s *search) mended(t Tuple) (mv move, ok bool) {
	if len(s.rows) == s.fixed {
		return mv, false
	}
	least := 0
	for range 4 {
		i := s.fixed + s.chance.below(len(s.rows)-s.fixed)
		row, fits := s.mend(s.rows[i], t)
		if !fits {
			continue
		}
		was := slices.Clone(s.rows[i])
		s.turn(i, row)
		more := len(s.tally.missing)
		s.turn(i, was)
		if !ok || more < least {
			mv, ok, least = move{row: i, factor: Any, changed: row}, true, more
		}
	}
	return mv, ok
}

// mend gives the row with the tuple, and as much of the rest as the rules leave.
func (s *search) mend(row []int, t Tuple) ([]int, bool) {
	out := slices.Clone(row)
	for j, f := range t.Factors {
		out[f] = t.Levels[j]
	}
	if s.solver.broken(out) < 0 {
		return out, true
	}
	d := s.solver.start()
	s.spent += 10 * int64(len(s.solver.rules))
	if !s.solver.propagate(d, nil) {
		return nil, false
	}
	for j, f := range t.Factors {
		if !s.solver.set(d, f, t.Levels[j]) {
			return nil, false
		}
	}
	for _, n := range s.chance.order(len(s.solver.bound)) {
		f := s.solver.bound[n]
		s.spent += 20 + 10*int64(len(s.solver.of[f]))
		next := slices.Clone(d)
		if s.solver.has(d, f, row[f]) && s.solver.set(next, f, row[f]) {
			d = next
		}
	}
	found, err := s.solver.solve(d, s.chance)
	if err != nil {
		return nil, false
	}
	for f := range out {
		if len(s.solver.of[f]) > 0 {
			out[f] = found[f]
		}
	}
	for j, f := range t.Factors {
		out[f] = t.Levels[j]
	}
	return out, true
}

// turn makes a row another, cell by cell.
func (s *search) turn(i int, into []int) {
	for f, l := range into {
		if row := s.rows[i]; row[f] != l {
			s.tally.change(row, f, l)
			row[f] = l
			s.spent += 2 * int64(len(s.tally.members[f]))
		}
	}
}

func (s *search) apply(mv move) {
	k := len(s.space.Levels)
	// long enough that the search does not go round in circles, and by chance a little longer
	until := s.step + cmp.Compare(len(s.rows), 1) + 2 + s.chance.below(8)
	if mv.factor != Any {
		row := s.rows[mv.row]
		s.tally.change(row, mv.factor, mv.level)
		row[mv.factor] = mv.level
		s.spent += 2 * int64(len(s.tally.members[mv.factor]))
		s.until[mv.row*k+mv.factor] = until
		return
	}
	for f, l := range mv.changed {
		if s.rows[mv.row][f] != l {
			s.until[mv.row*k+f] = until
		}
	}
	s.turn(mv.row, mv.changed)
}
