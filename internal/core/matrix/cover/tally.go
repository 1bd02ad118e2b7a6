package cover

import (
	"fmt"
	"slices"
)

// tally counts how often each tuple of levels stands in the rows. The tuples of one set of
// factors lie side by side: the tuple (a, b, c) of a set is at base + a·s0 + b·s1 + c.
type tally struct {
	work     *Work
	levels   []int
	strength int
	subsets  []subset
	members  [][]member // of each factor, the sets that it is in
	counts   []int32
	missing  []int32 // tuples that are possible and that no row has, in no order
	where    []int32 // of each tuple, its place in missing; -1 where it is not there
	possible int
	none     int // tuples that the rules forbid
}

type subset struct {
	base    int
	factors [3]int // the first `strength` of them
	strides [3]int
}

// member is a set of factors as one of them sees it: that one's stride, and the others'.
type member struct {
	base, stride int
	a, b         int // the other factors, Any where there is none
	sa, sb       int
}

// look counts looks at meetings here and there: each costs more where the counts are larger than what a processor has
// at hand.
func (t *tally) look(n int) {
	switch {
	case len(t.counts) > 1_000_000:
		n *= 5
	case len(t.counts) > 300_000:
		n *= 4
	}
	t.work.take(n)
}

// never is the count of a tuple that rules forbid: it is never missing.
const never = 1 << 28

func newTally(s Space, w Wish, v *solver) (*tally, error) {
	over := w.Over
	if over == nil {
		for f := range s.Levels {
			over = append(over, f)
		}
	}
	t := &tally{work: s.work(), levels: s.Levels, strength: min(w.Strength, len(over)), members: make([][]member,
		len(s.Levels))}
	if err := t.lay(over); err != nil {
		return nil, err
	}
	t.work.take(8 * len(t.counts))
	t.where = make([]int32, len(t.counts))
	if err := t.rule(v); err != nil {
		return nil, err
	}
	for i, c := range t.counts {
		t.where[i] = -1
		if c != never {
			t.possible++
			t.where[i] = int32(len(t.missing))
			t.missing = append(t.missing, int32(i))
		}
	}
	t.none = len(t.counts) - t.possible
	return t, nil
}

// lay gives every set of factors its place.
func (t *tally) lay(over []int) error {
	n, sets, total := len(over), 1, 0
	for i := range t.strength {
		sets = sets * (n - i) / (i + 1)
	}
	if sets*t.strength > maxSubsets {
		return fmt.Errorf("%d factors meet in too many ways at strength %d; leave some out, or choose a lower strength",
			n, t.strength)
	}
	pick := make([]int, t.strength)
	for i := range pick {
		pick[i] = i
	}
	for {
		set := subset{base: total, factors: [3]int{Any, Any, Any}}
		size := 1
		for i := t.strength - 1; i >= 0; i-- {
			set.factors[i], set.strides[i] = over[pick[i]], size
			size *= t.levels[over[pick[i]]]
		}
		if total += size; total > maxTuples {
			return fmt.Errorf("there are more than %d meetings of levels at strength %d; leave some out, or choose a "+
				"lower strength", maxTuples, t.strength)
		}
		t.subsets = append(t.subsets, set)
		at := t.strength - 1
		for at >= 0 && pick[at] == n-t.strength+at {
			at--
		}
		if at < 0 {
			break
		}
		pick[at]++
		for i := at + 1; i < t.strength; i++ {
			pick[i] = pick[i-1] + 1
		}
	}
	t.counts = make([]int32, total)
	for _, set := range t.subsets {
		for i := range t.strength {
			m := member{base: set.base, stride: set.strides[i], a: Any, b: Any}
			for j := range t.strength {
				switch {
				case j == i:
				case m.a == Any:
					m.a, m.sa = set.factors[j], set.strides[j]
				default:
					m.b, m.sb = set.factors[j], set.strides[j]
				}
			}
			t.members[set.factors[i]] = append(t.members[set.factors[i]], m)
		}
	}
	return nil
}

// rule marks the tuples that the rules forbid. Each row that is found on the way shows many
// others to be possible.
func (t *tally) rule(v *solver) error {
	ruled := make([]bool, len(t.levels))
	for _, f := range v.bound {
		ruled[f] = true
	}
	seen := make([]bool, len(t.counts))
	root := v.start()
	if !v.propagate(root, nil) {
		return ErrNothing
	}
	// rows by chance show most of what is possible, as long as each still shows something new
	chance := &chance{1}
	for news := len(t.subsets); news > len(t.subsets)/64; {
		row, err := v.solve(root, chance)
		if err != nil {
			return err
		}
		news = 0
		t.each(row, func(at int) {
			if !seen[at] {
				seen[at] = true
				news++
			}
		})
	}
	for _, set := range t.subsets {
		some := false
		for _, f := range set.factors[:t.strength] {
			some = some || ruled[f]
		}
		if !some {
			continue
		}
		for i := range t.size(set) {
			if seen[set.base+i] {
				continue
			}
			if err := t.work.Err(); err != nil {
				return err
			}
			d := append(domains(nil), root...)
			ok := true
			for j := range t.strength {
				f := set.factors[j]
				ok = ok && v.set(d, f, i/set.strides[j]%t.levels[f])
			}
			if ok {
				row, err := v.solve(d, chance)
				if err != nil && err != ErrNothing {
					return err
				}
				if ok = err == nil; ok {
					t.each(row, func(at int) { seen[at] = true })
				}
			}
			if !ok {
				t.counts[set.base+i] = never
			}
		}
	}
	return nil
}

func (t *tally) size(set subset) int {
	return set.strides[0] * t.levels[set.factors[0]]
}

// index gives where the tuple of a set in a row is.
func (set *subset) index(row []int, strength int) int {
	at := set.base
	for j := range strength {
		at += row[set.factors[j]] * set.strides[j]
	}
	return at
}

func (t *tally) each(row []int, do func(at int)) {
	t.look(len(t.subsets))
	for i := range t.subsets {
		do(t.subsets[i].index(row, t.strength))
	}
}

// at gives where the tuple of a member's set is, without the part of the factor itself.
func (m *member) at(row []int) int {
	at := m.base
	if m.a != Any {
		at += row[m.a] * m.sa
	}
	if m.b != Any {
		at += row[m.b] * m.sb
	}
	return at
}

func (t *tally) bump(at int, by int32) {
	c := &t.counts[at]
	if *c >= never/2 {
		return
	}
	was := *c
	*c += by
	switch {
	case was == 0 && *c > 0:
		last := t.missing[len(t.missing)-1]
		t.missing[t.where[at]], t.where[last] = last, t.where[at]
		t.missing = t.missing[:len(t.missing)-1]
		t.where[at] = -1
	case was > 0 && *c == 0:
		t.where[at] = int32(len(t.missing))
		t.missing = append(t.missing, int32(at))
	}
}

// count puts a row in (1) or takes it out (-1).
func (t *tally) count(row []int, by int32) {
	t.each(row, func(at int) { t.bump(at, by) })
}

// had counts a row of before, which may be partial or break the rules.
func (t *tally) had(row []int) { t.eachOf(row, func(at int) { t.bump(at, 1) }) }

// eachOf goes through the tuples that a row has, which may be partial.
func (t *tally) eachOf(row []int, do func(at int)) {
	t.look(len(t.subsets))
sets:
	for i := range t.subsets {
		for _, f := range t.subsets[i].factors[:t.strength] {
			if row[f] == Any {
				continue sets
			}
		}
		do(t.subsets[i].index(row, t.strength))
	}
}

// change counts another level of one factor in a row, which itself stays as it is.
func (t *tally) change(row []int, f, level int) {
	was := row[f]
	t.look(2 * len(t.members[f]))
	for i := range t.members[f] {
		m := &t.members[f][i]
		at := m.at(row)
		t.bump(at+was*m.stride, -1)
		t.bump(at+level*m.stride, 1)
	}
}

// worth is how many more tuples would be missing after that change.
func (t *tally) worth(row []int, f, level int) (more int) {
	was := row[f]
	t.look(len(t.members[f]))
	for i := range t.members[f] {
		m := &t.members[f][i]
		at := m.at(row)
		if t.counts[at+was*m.stride] == 1 {
			more++
		}
		if t.counts[at+level*m.stride] == 0 {
			more--
		}
	}
	return more
}

// adds is how many missing tuples a row has.
func (t *tally) adds(row []int) (n int) {
	t.look(len(t.subsets))
	for i := range t.subsets {
		if t.counts[t.subsets[i].index(row, t.strength)] == 0 {
			n++
		}
	}
	return n
}

// alone is how many tuples no row but this one has.
func (t *tally) alone(row []int) (n int) {
	t.look(len(t.subsets))
	for i := range t.subsets {
		if t.counts[t.subsets[i].index(row, t.strength)] == 1 {
			n++
		}
	}
	return n
}

// spare tells whether a row's level of a factor is in no tuple that this row has alone.
func (t *tally) spare(row []int, f int) bool {
	t.look(len(t.members[f]))
	for i := range t.members[f] {
		m := &t.members[f][i]
		if t.counts[m.at(row)+row[f]*m.stride] == 1 {
			return false
		}
	}
	return true
}

// set gives the set of factors that a tuple is of.
func (t *tally) set(at int) *subset {
	low, high := 0, len(t.subsets)
	for high-low > 1 {
		if mid := (low + high) / 2; t.subsets[mid].base <= at {
			low = mid
		} else {
			high = mid
		}
	}
	return &t.subsets[low]
}

func (t *tally) tuple(at int) Tuple {
	set := t.set(at)
	out := Tuple{}
	for j, f := range set.factors[:t.strength] {
		out.Factors = append(out.Factors, f)
		out.Levels = append(out.Levels, (at-set.base)/set.strides[j]%t.levels[f])
	}
	return out
}

func (t *tally) coverage() Coverage {
	t.work.take(4 * len(t.counts))
	c := Coverage{Strength: t.strength, Possible: t.possible, Forbidden: t.none, Covered: t.possible - len(t.missing)}
	for at := range t.counts { // in order, whatever order they went missing in
		if t.where[at] >= 0 {
			c.Missing = append(c.Missing, t.tuple(at))
			if len(c.Missing) == MaxMissing {
				break
			}
		}
	}
	for _, set := range t.subsets {
		one := Meeting{Factors: slices.Clone(set.factors[:t.strength])}
		for i := range t.size(set) {
			switch at := set.base + i; {
			case t.counts[at] >= never/2:
				one.Forbidden++
			case t.where[at] < 0:
				one.Covered++
				one.Possible++
			default:
				one.Possible++
			}
		}
		c.Meetings = append(c.Meetings, one)
	}
	return c
}
