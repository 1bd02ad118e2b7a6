package cover

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
)

// Space is what there is to combine: how many levels each factor has, and what never meets.
type Space struct {
	Levels []int
	Never  []Nogood
	Work   *Work // what counts what is computed over it; nil for each call its own
}

// Nogood is a set of levels that never meet: a row in which every term holds is forbidden.
type Nogood []Term

// Term holds where a factor has one of some levels.
type Term struct {
	Factor int
	Levels []int
}

// Any is the level of a partial row that may be anything.
const Any = -1

// Wish is what is wanted of the rows.
type Wish struct {
	Strength int     // how many factors meet: 1, 2 or 3
	Over     []int   // the factors whose meetings count; all where nil
	Must     [][]int // rows, whole or with Any, that are among the result in any case
	Had      [][]int // rows that have been tried already: what they cover counts, they are not in the result
	Weights  [][]int // of each level, where levels are not alike; nil where all of a factor are
	Rows     int     // at most so many rows; 0 for as many as it takes
	Cost     func(row []int) int64
	Budget   int64 // at most so much of Cost in all; 0 for no bound
	Seed     uint64
	Effort   int // how many cells the search may try to change; 0 for Usual
}

// Usual is an effort of some tenths of a second.
const Usual = 20_000_000

// Array is the outcome.
type Array struct {
	Rows     [][]int // those of Must first, then by what each adds
	Coverage Coverage
}

// Coverage says what rows cover, in tuples of levels.
type Coverage struct {
	Strength  int
	Possible  int // tuples that the rules allow
	Forbidden int // and that they do not
	Covered   int
	Missing   []Tuple // of the possible ones, at most MaxMissing
	Meetings  []Meeting
}

// Meeting is the coverage of one set of factors.
type Meeting struct {
	Factors                      []int
	Possible, Forbidden, Covered int
}

// MaxMissing bounds the tuples that are told one by one.
const MaxMissing = 2000

// Tuple is a level of each of some factors.
type Tuple struct {
	Factors []int
	Levels  []int
}

// Bounds on a space.
const (
	MaxFactors = 400
	MaxLevels  = 4096
	MaxRules   = 20_000
	maxTuples  = 3_000_000
	maxSubsets = 1_000_000 // of factors, counted once for each member
	maxRows    = 100_000
)

// Errors of a wish.
var (
	ErrNothing = errors.New("the rules leave no combination at all")
	ErrTangled = errors.New("the rules are too tangled to tell within bounds whether they leave anything")
)

// Make chooses rows. It fails with ErrNothing where the rules contradict each other, with
// ErrTangled where that cannot be told, and with words where something is out of bounds or a row
// of Must breaks a rule.
func Make(s Space, w Wish) (Array, error) {
	if w.Effort == 0 {
		w.Effort = Usual
	}
	if err := s.check(w); err != nil {
		return Array{}, err
	}
	s.Work = s.work()
	v := newSolver(s)
	if _, err := v.solve(v.start(), nil); err != nil {
		return Array{}, err
	}
	t, err := newTally(s, w, v)
	if err != nil {
		return Array{}, err
	}
	m := maker{work: s.Work, space: s, wish: w, solver: v, tally: t, chance: &chance{w.Seed}}
	for _, row := range w.Had {
		t.had(row)
	}
	if err := m.must(); err != nil {
		return Array{}, err
	}
	if err := m.begin(); err != nil {
		return Array{}, err
	}
	m.improve()
	m.within()
	m.even()
	m.arrange()
	if s.Work.stopped {
		return Array{}, ErrStopped
	}
	return Array{Rows: m.rows, Coverage: t.coverage()}, nil
}

// work is what counts the work over a space.
func (s Space) work() *Work {
	if s.Work != nil {
		return s.Work
	}
	return &Work{}
}

// maker is a space on the way to its rows; the tally counts what rows cover, always.
type maker struct {
	work   *Work
	space  Space
	wish   Wish
	solver *solver
	tally  *tally
	chance *chance
	rows   [][]int
	fixed  int // rows at the front that stay as they are
}

func (s Space) check(w Wish) error {
	if len(s.Levels) == 0 {
		return errors.New("there is no factor")
	}
	if len(s.Levels) > MaxFactors {
		return fmt.Errorf("there are %d factors; at most %d are combined", len(s.Levels), MaxFactors)
	}
	if len(s.Never) > MaxRules {
		return fmt.Errorf("there are %d rules; at most %d are kept", len(s.Never), MaxRules)
	}
	for f, n := range s.Levels {
		if n < 1 || n > MaxLevels {
			return fmt.Errorf("factor %d has %d levels; 1 to %d are possible", f, n, MaxLevels)
		}
	}
	for _, n := range s.Never {
		for _, t := range n {
			if t.Factor < 0 || t.Factor >= len(s.Levels) {
				return fmt.Errorf("a rule names factor %d; there are %d", t.Factor, len(s.Levels))
			}
			for _, l := range t.Levels {
				if l < 0 || l >= s.Levels[t.Factor] {
					return fmt.Errorf("a rule names level %d of factor %d, which has %d", l, t.Factor,
						s.Levels[t.Factor])
				}
			}
		}
	}
	if w.Strength < 1 || w.Strength > 3 {
		return fmt.Errorf("the strength is 1, 2 or 3, not %d", w.Strength)
	}
	for _, row := range append(slices.Clone(w.Must), w.Had...) {
		if len(row) != len(s.Levels) {
			return fmt.Errorf("a row has %d levels; there are %d factors", len(row), len(s.Levels))
		}
		for f, l := range row {
			if l < Any || l >= s.Levels[f] {
				return fmt.Errorf("a row has level %d of factor %d, which has %d", l, f, s.Levels[f])
			}
		}
	}
	return nil
}

// must puts the rows in that are there in any case. A partial one is filled by what it adds.
func (m *maker) must() error {
	for _, row := range m.wish.Must {
		d := m.solver.start()
		if !m.solver.fix(d, row) {
			return fmt.Errorf("a row that must be there breaks the rules: %v", row)
		}
		full, err := m.grow(d)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(m.rows, func(r []int) bool { return slices.Equal(r, full) }) {
			continue
		}
		m.add(full)
	}
	m.fixed = len(m.rows)
	return nil
}

func (m *maker) add(row []int) {
	m.rows = append(m.rows, row)
	m.tally.count(row, 1)
}

func (m *maker) drop(at int) {
	m.tally.count(m.rows[at], -1)
	m.rows = slices.Delete(m.rows, at, at+1)
}

// within cuts the rows down to the budget: those that add most (for what they cost) stay.
func (m *maker) within() {
	w := m.wish
	most := len(m.rows)
	if w.Rows > 0 {
		most = max(min(most, w.Rows), m.fixed)
	}
	if most == len(m.rows) && (w.Budget == 0 || w.Cost == nil) {
		return
	}
	var spent int64
	m.work.take(2 * len(m.rows) * len(m.tally.subsets))
	pool := slices.Clone(m.rows[m.fixed:])
	for len(m.rows) > m.fixed {
		m.drop(len(m.rows) - 1)
	}
	for _, row := range m.rows {
		spent += m.cost(row)
	}
	if m.dear(most, len(pool)) { // those that were made first add most, by and large
		for _, row := range pool {
			if c := m.cost(row); len(m.rows) < most && (w.Budget == 0 || spent+c <= w.Budget) {
				spent += c
				m.add(row)
			}
		}
		return
	}
	for len(m.rows) < most {
		best, gain, price := -1, 0, int64(1)
		for i, row := range pool {
			c := m.cost(row)
			if w.Budget > 0 && spent+c > w.Budget {
				continue
			}
			// gain/price is larger than what is best so far, without dividing
			if g := m.tally.adds(row); g > 0 && (best < 0 || int64(g)*price > int64(gain)*c) {
				best, gain, price = i, g, c
			}
		}
		if best < 0 {
			break
		}
		spent += price
		m.add(pool[best])
		pool = slices.Delete(pool, best, best+1)
	}
}

// dear tells whether it takes too long to choose so many rows of others by what each adds.
func (m *maker) dear(rows, of int) bool {
	return float64(rows)*float64(of)*float64(len(m.tally.subsets)) > float64(m.work.limit())/5 || m.work.past(80)
}

func (m *maker) cost(row []int) int64 {
	if m.wish.Cost == nil || m.wish.Budget == 0 {
		return 1
	}
	return max(m.wish.Cost(row), 1)
}

// even gives cells that cover nothing alone to the levels that weigh most and have least.
func (m *maker) even() {
	if m.wish.Weights == nil {
		return
	}
	for f := range m.space.Levels {
		if f >= len(m.wish.Weights) || m.wish.Weights[f] == nil {
			continue
		}
		weight := m.wish.Weights[f]
		has := make([]int, m.space.Levels[f])
		for _, row := range m.rows {
			has[row[f]]++
		}
		for i := m.fixed; i < len(m.rows); i++ {
			if m.work.take(len(has)); m.work.past(95) {
				return
			}
			row := m.rows[i]
			was := row[f]
			best := was
			for l := range has {
				// (has+1)/weight is smaller, without dividing; a level leaves what it has
				mine := has[best]
				if best != was {
					mine++
				}
				if l != best && weight[l] > 0 && (has[l]+1)*max(weight[best], 0) < mine*weight[l] &&
					m.tally.spare(row, f) && m.solver.allowsChange(row, f, l) {
					best = l
				}
			}
			if best != was {
				m.tally.change(row, f, best)
				row[f] = best
				has[was]--
				has[best]++
			}
		}
	}
}

// arrange orders the rows: each next one adds most to those before it, so that what ends early
// has covered as much as it could.
func (m *maker) arrange() {
	rest := slices.Clone(m.rows[m.fixed:])
	for len(m.rows) > m.fixed {
		m.drop(len(m.rows) - 1)
	}
	if m.dear(len(rest), len(rest)) { // they stand as they were made
		for _, row := range rest {
			m.add(row)
		}
		return
	}
	for len(rest) > 0 {
		best, gain := 0, -1
		for i, row := range rest {
			if g := m.tally.adds(row); g > gain || g == gain && slices.Compare(row, rest[best]) < 0 {
				best, gain = i, g
			}
		}
		m.add(rest[best])
		rest = slices.Delete(rest, best, best+1)
	}
}

// Measure says what rows cover, for any strength, whoever made them.
func Measure(s Space, strength int, over []int, rows [][]int) (Coverage, error) {
	w := Wish{Strength: strength, Over: over}
	if err := s.check(w); err != nil {
		return Coverage{}, err
	}
	s.Work = s.work()
	v := newSolver(s)
	if _, err := v.solve(v.start(), nil); err != nil {
		return Coverage{}, err
	}
	t, err := newTally(s, w, v)
	if err != nil {
		return Coverage{}, err
	}
	for _, row := range rows {
		if err := s.Work.Err(); err != nil {
			return Coverage{}, err
		}
		t.count(row, 1)
	}
	return t.coverage(), nil
}

// Product is how many combinations there are, rules aside; at most most+1.
func (s Space) Product(most int) int {
	n := 1
	for _, l := range s.Levels {
		if n = n * l; n > most {
			return most + 1
		}
	}
	return n
}

// All gives every combination in order, and for each the first rule (position in Never) that
// forbids it, -1 where none does; at most most combinations are gone through.
func (s Space) All(most int) func(yield func(row []int, rule int) bool) {
	return func(yield func([]int, int) bool) {
		s.Work = s.work()
		v := newSolver(s)
		row := make([]int, len(s.Levels))
		for range min(s.Product(most), most) {
			if s.Work.Err() != nil {
				return
			}
			if !yield(row, v.broken(row)) {
				return
			}
			for f := len(row) - 1; f >= 0; f-- {
				if row[f]++; row[f] < s.Levels[f] {
					break
				}
				row[f] = 0
			}
		}
	}
}

func byLevels(levels []int) []int {
	out := make([]int, len(levels))
	for i := range out {
		out[i] = i
	}
	slices.SortStableFunc(out, func(a, b int) int { return cmp.Compare(levels[b], levels[a]) })
	return out
}
