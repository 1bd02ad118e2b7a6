package cover

import (
	"math/bits"
	"slices"
)

// solver tells whether rules leave a row, by what they take away from what each factor may
// still be. A rule in which all terms but one hold for sure takes its levels away from that one.
type solver struct {
	levels []int
	at     []int // where the words of each factor begin
	words  int
	rules  []rule
	of     [][]int32 // rules by factor
	bound  []int     // factors that stand in a rule
	work   *Work
	spent  int64 // of that for the rules alone
}

type rule struct {
	factors []int32
	sets    [][]uint64
}

// domains are the levels that each factor may still have, one bit each.
type domains []uint64

// Bounds: of one search for a row in nodes, of all that is asked about the rules of one space as a part of a hundred of
// its work, and of one inquiry about them in looks.
const (
	maxNodes   = 200_000
	maxRuling  = 50
	maxInquiry = 100_000_000
)

// look counts what is looked at for the rules.
func (v *solver) look(n int) {
	v.spent += 2 * int64(n)
	v.work.take(2 * n)
}

// weary says why no more can be asked about the rules, nil where it can.
func (v *solver) weary() error {
	if err := v.work.Err(); err != nil {
		return err
	}
	if v.spent > v.work.limit()/100*maxRuling {
		return ErrTangled
	}
	return nil
}

func newSolver(s Space) *solver {
	v := &solver{levels: s.Levels, at: make([]int, len(s.Levels)), of: make([][]int32, len(s.Levels)), work: s.work()}
	v.look(len(s.Levels) + 4*len(s.Never))
	for f, n := range s.Levels {
		v.at[f] = v.words
		v.words += (n + 63) / 64
	}
	for _, n := range s.Never {
		sets := map[int][]uint64{} // terms of one factor hold together where its level is in all of them
		r := rule{}
		for _, t := range n {
			set := make([]uint64, (s.Levels[t.Factor]+63)/64)
			for _, l := range t.Levels {
				set[l/64] |= 1 << (l % 64)
			}
			if before, ok := sets[t.Factor]; ok {
				for i := range set {
					before[i] &= set[i]
				}
				continue
			}
			sets[t.Factor] = set
			r.factors = append(r.factors, int32(t.Factor))
		}
		for _, f := range r.factors {
			r.sets = append(r.sets, sets[int(f)])
			v.of[f] = append(v.of[f], int32(len(v.rules)))
		}
		v.rules = append(v.rules, r)
	}
	for f := range v.of {
		if len(v.of[f]) > 0 {
			v.bound = append(v.bound, f)
		}
	}
	return v
}

// start gives every factor all of its levels.
func (v *solver) start() domains {
	d := make(domains, v.words)
	for f, n := range v.levels {
		for i := range n {
			d[v.at[f]+i/64] |= 1 << (i % 64)
		}
	}
	return d
}

func (v *solver) part(d domains, f int) []uint64 { return d[v.at[f] : v.at[f]+(v.levels[f]+63)/64] }

func (v *solver) has(d domains, f, level int) bool {
	return d[v.at[f]+level/64]&(1<<(level%64)) != 0
}

// size is how many levels a factor may still have.
func (v *solver) size(d domains, f int) (n int) {
	for _, w := range v.part(d, f) {
		n += bits.OnesCount64(w)
	}
	return n
}

// only gives the level of a factor that has one left.
func (v *solver) only(d domains, f int) int {
	for i, w := range v.part(d, f) {
		if w != 0 {
			return i*64 + bits.TrailingZeros64(w)
		}
	}
	return Any
}

// set leaves a factor one level, and tells whether the rules leave something.
func (v *solver) set(d domains, f, level int) bool {
	if !v.has(d, f, level) {
		return false
	}
	p := v.part(d, f)
	if v.size(d, f) == 1 {
		return true
	}
	clear(p)
	p[level/64] = 1 << (level % 64)
	return len(v.of[f]) == 0 || v.propagate(d, v.of[f])
}

// take takes a level away, and tells whether the rules leave something.
func (v *solver) take(d domains, f, level int) bool {
	p := v.part(d, f)
	p[level/64] &^= 1 << (level % 64)
	for _, w := range p {
		if w != 0 {
			return len(v.of[f]) == 0 || v.propagate(d, v.of[f])
		}
	}
	return false
}

// fix sets what a partial row says.
func (v *solver) fix(d domains, row []int) bool {
	if !v.propagate(d, nil) {
		return false
	}
	for f, l := range row {
		if l != Any && !v.set(d, f, l) {
			return false
		}
	}
	return true
}

// propagate goes through rules until they take nothing more away; nil stands for all of them.
func (v *solver) propagate(d domains, rules []int32) bool {
	queue := slices.Clone(rules)
	if rules == nil {
		for i := range v.rules {
			queue = append(queue, int32(i))
		}
	}
	for len(queue) > 0 {
		r := &v.rules[queue[len(queue)-1]]
		queue = queue[:len(queue)-1]
		v.look(len(r.factors))
		open := -1
		for i, f := range r.factors {
			if !within(v.part(d, int(f)), r.sets[i]) {
				if open >= 0 {
					open = -2
					break
				}
				open = i
			}
		}
		if open == -1 {
			return false
		}
		if open < 0 {
			continue
		}
		f := int(r.factors[open])
		changed := false
		for i, w := range r.sets[open] {
			p := &d[v.at[f]+i]
			changed = changed || *p&w != 0
			*p &^= w
		}
		if changed {
			queue = append(queue, v.of[f]...)
		}
	}
	return true
}

func within(part, set []uint64) bool {
	for i, w := range part {
		if w&^set[i] != 0 {
			return false
		}
	}
	return true
}

// solve finds a row within domains; chance, where there is one, says which. It fails with
// ErrNothing or ErrTangled.
func (v *solver) solve(d domains, chance *chance) ([]int, error) {
	nodes := 0
	if err := v.weary(); err != nil {
		return nil, err
	}
	v.look(2*v.words + len(v.levels))
	d = slices.Clone(d)
	if !v.propagate(d, nil) {
		return nil, ErrNothing
	}
	found, err := v.search(d, chance, &nodes)
	if err != nil {
		return nil, err
	}
	row := make([]int, len(v.levels))
	for f := range row {
		if row[f] = v.only(found, f); chance != nil && v.size(found, f) > 1 {
			row[f] = v.pick(found, f, chance)
		}
	}
	return row, nil
}

// search fixes the factors that stand in rules, the one with the fewest levels first.
func (v *solver) search(d domains, chance *chance, nodes *int) (domains, error) {
	at, least := -1, 0
	v.look(len(v.bound) + v.words)
	for _, f := range v.bound {
		if n := v.size(d, f); n > 1 && (at < 0 || n < least) {
			at, least = f, n
		}
	}
	if at < 0 {
		return d, nil
	}
	for {
		if *nodes++; *nodes > maxNodes {
			return nil, ErrTangled
		}
		if err := v.weary(); err != nil {
			return nil, err
		}
		l := v.only(d, at)
		if chance != nil {
			l = v.pick(d, at, chance)
		}
		next := slices.Clone(d)
		if v.set(next, at, l) {
			if found, err := v.search(next, chance, nodes); err != ErrNothing {
				return found, err
			}
		}
		if !v.take(d, at, l) {
			return nil, ErrNothing
		}
	}
}

func (v *solver) pick(d domains, f int, chance *chance) int {
	n := chance.below(v.size(d, f))
	for i, w := range v.part(d, f) {
		c := bits.OnesCount64(w)
		if n >= c {
			n -= c
			continue
		}
		for ; n > 0; n-- {
			w &= w - 1
		}
		return i*64 + bits.TrailingZeros64(w)
	}
	return Any
}

// broken gives the first rule that a whole row breaks, -1 where it keeps all.
func (v *solver) broken(row []int) int {
	v.work.take(len(v.rules))
	for i := range v.rules {
		if v.holds(&v.rules[i], row) {
			return i
		}
	}
	return -1
}

func (v *solver) holds(r *rule, row []int) bool {
	for i, f := range r.factors {
		if l := row[f]; r.sets[i][l/64]&(1<<(l%64)) == 0 {
			return false
		}
	}
	return true
}

// allowsChange tells whether a whole row keeps the rules with another level of one factor.
func (v *solver) allowsChange(row []int, f, level int) bool {
	was := row[f]
	v.work.take(len(v.of[f]))
	row[f] = level
	defer func() { row[f] = was }()
	for _, i := range v.of[f] {
		if v.holds(&v.rules[i], row) {
			return false
		}
	}
	return true
}

// Inquiry asks about the rules of a space why something cannot be. All that one asks is bounded
// together.
type Inquiry struct {
	space Space
	work  *Work
}

// Inquire begins one.
func Inquire(s Space) *Inquiry {
	return &Inquiry{space: s, work: &Work{Limit: 100 * maxInquiry / maxRuling, Stop: s.work().Stop}}
}

// Conflict is one question: see Inquiry.Conflict.
func Conflict(s Space, with *Tuple) ([]int, error) { return Inquire(s).Conflict(with) }

// Conflict gives a smallest set of rules (positions in Never, none of which can be left away)
// that leaves nothing of the space, or nothing with a tuple of levels where one is given; nil
// where there is no conflict. It fails with ErrTangled where it cannot be told within bounds.
func (q *Inquiry) Conflict(with *Tuple) ([]int, error) {
	kept := make([]int, len(q.space.Never))
	for i := range kept {
		kept[i] = i
	}
	contradict := func(rules []int) (bool, error) {
		sub := Space{Levels: q.space.Levels, Work: q.work}
		for _, i := range rules {
			sub.Never = append(sub.Never, q.space.Never[i])
		}
		v := newSolver(sub)
		v.spent = q.work.spent // all that one asks is bounded together
		d := v.start()
		if with != nil {
			for i, f := range with.Factors {
				if !v.set(d, f, with.Levels[i]) {
					return true, nil
				}
			}
		}
		_, err := v.solve(d, nil)
		if err == ErrNothing {
			return true, nil
		}
		return false, err
	}
	if yes, err := contradict(kept); err != nil || !yes {
		return nil, err
	}
	// by halves first, so that many rules that have no part in it cost little
	for step := len(kept) / 2; step >= 1; step /= 2 {
		for i := 0; i < len(kept); {
			without := slices.Concat(kept[:i], kept[min(i+step, len(kept)):])
			yes, err := contradict(without)
			if err != nil {
				return nil, err
			}
			if yes {
				kept = without
			} else {
				i += step
			}
		}
	}
	return kept, nil
}

// Possible gives for each factor which of its levels can appear in a row.
func Possible(s Space) ([][]bool, error) {
	s.Work = s.work()
	v := newSolver(s)
	if _, err := v.solve(v.start(), nil); err != nil {
		return nil, err
	}
	out := make([][]bool, len(s.Levels))
	for f, n := range s.Levels {
		out[f] = make([]bool, n)
	}
	for f, n := range s.Levels {
		for l := range n {
			if out[f][l] {
				continue
			}
			d := v.start()
			if !v.set(d, f, l) {
				continue
			}
			row, err := v.solve(d, nil)
			if err != nil && err != ErrNothing {
				return nil, err
			}
			if err == nil {
				for g, m := range row {
					out[g][m] = true
				}
			}
		}
	}
	return out, nil
}

// Checker tells of whole rows whether they keep the rules of a space.
type Checker struct{ solver *solver }

// NewChecker makes one.
func NewChecker(s Space) Checker { return Checker{newSolver(s)} }

// Broken gives the first rule (position in Never) that a row breaks, -1 where it keeps all.
func (c Checker) Broken(row []int) int { return c.solver.broken(row) }
