package matrix

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix/cover"
)

// Wanted is what combinations are chosen for.
type Wanted struct {
	Groups    []Group
	Languages []string // that the build has
	// Cost is how long a combination takes, in milliseconds of a device.
	Cost   func(g *Group, levels fleet.Levels) int64
	Had    []map[string]string // levels of combinations that have run lately, by factor; what they cover counts
	Effort int                 // see cover.Wish
	Work   *cover.Work         // bounds what may be computed, and ends it; nil for the usual bound
}

// Picked is a combination that is chosen.
type Picked struct {
	Levels []string // in the order of the selection's factors
	Group  int      // position among the groups, -1 where there are none
	Must   bool
}

// NamedLevel is a level with its factor's name.
type NamedLevel = fleet.Level

// Selection is what a grid comes to.
type Selection struct {
	Factors   []Factor
	Picked    []Picked
	Coverage  []Coverage // of strength 1, 2 and 3, as far as that can be counted within bounds
	All       int        // combinations there are, rules aside; at most MaxCombinations+1
	Forbidden []Ruled    // pairs of levels that never meet, at most maxTold
	Dead      []Ruled    // levels that appear in no combination
	LeftOut   []Ruled    // combinations that a rule takes away, where all were asked for; at most maxTold
	Cost      int64      // of all, milliseconds of devices
}

// Bounds on a selection.
const (
	MaxCombinations = 100_000
	maxTold         = 200
	maxCounted      = 20_000_000 // meetings of rows, to tell what they cover
)

// ErrTooMany tells that all combinations are more than are made.
var ErrTooMany = fmt.Errorf("all combinations are more than %d; cover pairs, or leave factors out", MaxCombinations)

// LegOf gives the leg of a combination that is chosen: its levels, and the devices that never run it
// since they lack an ability that a level needs. ok is false where none is left.
func (sel *Selection) LegOf(p Picked, groups []Group) (leg Leg, ok bool) {
	g := &groups[p.Group]
	leg = g.Leg
	leg.Combination.Levels = sel.Levels(p)
	leg.Never = slices.Clone(leg.Never)
	for _, m := range g.Members {
		if slices.ContainsFunc(leg.Combination.Levels, func(l fleet.Level) bool {
			f := fleet.FactorNamed(l.Factor)
			return f.Ability != "" && !f.IsUsual(l.Value) && !slices.Contains(m.Abilities, f.Ability)
		}) {
			leg.Never = append(leg.Never, m.ID)
		} else {
			ok = true
		}
	}
	return leg, ok
}

// Levels gives those of a combination that a device is made to feel, or that scripts read.
func (sel *Selection) Levels(p Picked) fleet.Levels {
	wished := map[string]string{}
	for i, f := range sel.Factors {
		if !fleet.FactorNamed(f.Name).InClass {
			wished[f.Name] = p.Levels[i]
		}
	}
	levels, _ := fleet.UsualLevels(wished) // Check has found them to be levels
	return levels
}

// Choose gives the combinations of a grid that Check has found nothing wrong in. Its errors are a
// *Fault, a *Contradiction, or words.
func Choose(g *Grid, w Wanted) (Selection, error) {
	s, factors, fault := g.lay(&w)
	if fault != nil {
		return Selection{}, fault
	}
	if s.Work = w.Work; s.Work == nil {
		s.Work = &cover.Work{}
	}
	out := Selection{Factors: factors}
	shown := make([]int, s.shown)
	all := 1
	for i := range shown {
		shown[i] = i
		all = min(all*s.Levels[i], MaxCombinations+1)
	}
	out.All = all
	must, err := g.rows(s, g.must())
	if err != nil {
		return out, err
	}
	possible, err := cover.Possible(s.Space)
	if errors.Is(err, cover.ErrNothing) {
		return out, s.contradiction(nil)
	}
	if err != nil {
		return out, err
	}
	if out.Dead, err = s.dead(possible); err != nil {
		return out, err
	}
	var rows [][]int
	if g.strength() == 0 && g.Budget == (Budget{}) {
		rows, err = s.all(&out, w)
	} else {
		rows, err = g.few(s, w, shown, must)
	}
	if err != nil {
		return out, err
	}
	for i, row := range rows {
		p := Picked{Group: -1, Must: i < len(must)}
		for c := range s.shown {
			p.Levels = append(p.Levels, s.levels[c][row[c]])
		}
		if s.group >= 0 {
			p.Group = row[s.group]
		}
		out.Cost += w.cost(s, row)
		out.Picked = append(out.Picked, p)
	}
	sets := 1
	for strength := 1; strength <= min(3, s.shown); strength++ {
		if sets = sets * (s.shown - strength + 1) / strength; sets*len(rows) > maxCounted {
			break
		}
		c, err := cover.Measure(s.Space, strength, shown, rows)
		if errors.Is(err, cover.ErrStopped) {
			return out, err
		}
		if err != nil {
			break // more than can be counted; what is lower has been
		}
		out.Coverage = append(out.Coverage, s.coverage(c))
	}
	out.Forbidden, err = s.forbidden(out.Coverage, possible)
	return out, err
}

// few chooses as few rows as cover what is asked for.
func (g *Grid) few(s *space, w Wanted, shown []int, must [][]int) ([][]int, error) {
	wish := cover.Wish{Strength: max(g.strength(), 1), Over: shown, Must: must, Seed: g.Seed, Effort: w.Effort,
		Rows: g.Budget.Combinations, Weights: make([][]int, len(s.names))}
	if g.strength() == 0 { // all, as far as the budget goes: pairs first
		wish.Strength = min(2, len(shown))
	}
	for f, levels := range g.Weights {
		c := s.column(f)
		weights := make([]int, len(s.levels[c]))
		for l, name := range s.levels[c] {
			if weights[l] = 1; levels[name] != 0 {
				weights[l] = levels[name]
			} else if _, said := levels[name]; said {
				weights[l] = 0
			}
		}
		wish.Weights[c] = weights
	}
	if s.group >= 0 { // where a combination leaves it open, there where most devices are
		wish.Weights[s.group] = make([]int, len(w.Groups))
		for i, gr := range w.Groups {
			wish.Weights[s.group][i] = len(gr.Members)
		}
	}
	for _, m := range w.Had {
		row := make([]int, len(s.names))
		for c := range row {
			row[c] = slices.Index(s.levels[c], m[s.names[c]]) // Any where it has none
		}
		wish.Had = append(wish.Had, row)
	}
	if g.Budget.Minutes > 0 {
		wish.Budget = int64(g.Budget.Minutes) * time.Minute.Milliseconds()
		wish.Cost = func(row []int) int64 { return w.cost(s, row) }
	}
	a, err := cover.Make(s.Space, wish)
	return a.Rows, err
}

func (w *Wanted) cost(s *space, row []int) int64 {
	if w.Cost == nil {
		return 0
	}
	var g *Group
	if s.group >= 0 {
		g = &w.Groups[row[s.group]]
	}
	return w.Cost(g, s.felt(row))
}

// all gives every combination that the rules allow. Columns of what devices have go together: one
// for each way in which groups differ in what is shown.
func (s *space) all(out *Selection, w Wanted) ([][]int, error) {
	var heads [][]int
	own := func(c int) bool { return ofDevices(s.names[c]) }
	if s.group < 0 {
		heads = [][]int{make([]int, len(s.names))}
	}
	seen := map[string]bool{}
	most := make([]int, len(w.Groups))
	for i := range most {
		most[i] = i
	}
	slices.SortStableFunc(most, func(a, b int) int { return len(w.Groups[b].Members) - len(w.Groups[a].Members) })
	byHead := map[string][]int{}
	var keys []string
	for _, i := range most {
		head := make([]int, len(s.names))
		key, known := "", true
		for c := range s.names {
			if own(c) {
				head[c] = slices.Index(s.levels[c], w.Groups[i].has(s.names[c]))
				if known = known && head[c] >= 0; c < s.shown {
					key += fmt.Sprint(head[c], " ")
				}
			}
		}
		if !known {
			continue
		}
		head[s.group] = i
		if !seen[key] {
			seen[key] = true
			keys = append(keys, key)
		}
		byHead[key] = append(byHead[key], len(heads))
		heads = append(heads, head)
	}
	if s.group < 0 {
		keys, byHead = []string{""}, map[string][]int{"": {0}}
	}
	var vary []int
	free := cover.Space{Work: s.Work}
	for c := range s.shown {
		if s.group < 0 || !own(c) {
			vary = append(vary, c)
			free.Levels = append(free.Levels, s.Levels[c])
		}
	}
	if len(vary) == 0 {
		free.Levels = []int{1}
	}
	if free.Product(MaxCombinations)*len(keys) > MaxCombinations {
		return nil, ErrTooMany
	}
	checker := cover.NewChecker(s.Space)
	var rows [][]int
	for _, key := range keys {
		for level := range free.All(MaxCombinations) {
			broken := -1
			var row []int
			for _, h := range byHead[key] {
				try := slices.Clone(heads[h])
				for i, c := range vary {
					try[c] = level[i]
				}
				row = try
				if broken = checker.Broken(try); broken < 0 {
					break
				}
			}
			if broken < 0 {
				rows = append(rows, row)
			} else if len(out.LeftOut) < maxTold {
				group := -1
				if s.group >= 0 {
					group = row[s.group]
				}
				out.LeftOut = append(out.LeftOut, Ruled{s.levelsOf(row[:s.shown]), []string{s.why[broken]}, group})
			}
		}
	}
	if err := s.Work.Err(); err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, s.contradiction(nil)
	}
	return rows, nil
}
