package matrix

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix/cover"
)

// Group are devices that a combination does not tell apart: those of a class, at one site where the
// sites are varied. One leg runs on any of them.
type Group struct {
	Leg
	Form, Site string
	Members    []Member
}

// Member is a device of a group.
type Member struct {
	ID        int64
	Abilities []string
}

// Groups makes the groups of what a matrix found to be able to run: one for each leg, or for each
// leg at each site.
func Groups(legs []Leg, devices []Candidate, bySite bool) []Group {
	var out []Group
	for _, leg := range legs {
		sites := map[string]int{}
		for _, d := range devices {
			if fleet.ClassOf(d.Device) != leg.Combination.Class || leg.Device != 0 && leg.Device != d.ID ||
				slices.Contains(leg.Never, d.ID) {
				continue
			}
			site := ""
			if bySite {
				site = d.Site
			}
			at, ok := sites[site]
			if !ok {
				at = len(out)
				sites[site] = at
				out = append(out, Group{Leg: leg, Form: d.Form, Site: site})
			}
			out[at].Members = append(out[at].Members, Member{d.ID, d.Abilities})
		}
	}
	if bySite { // a leg at a site is for the devices there alone
		for i, g := range out {
			never := slices.Clone(g.Never)
			for _, d := range devices {
				if fleet.ClassOf(d.Device) == g.Combination.Class && d.Site != g.Site && !slices.Contains(never, d.ID) {
					never = append(never, d.ID)
				}
			}
			out[i].Never = never
		}
	}
	return out
}

// has gives what a group is as a level of a factor that devices have.
func (g *Group) has(factor string) string {
	c := g.Combination.Class
	switch factor {
	case DeviceClass:
		return c.Label()
	case Platform:
		return c.Platform
	case Kind:
		return c.Kind
	case Model:
		return c.Model
	case OS:
		return c.OS
	case Form:
		return g.Form
	case fleet.Site:
		return g.Site
	}
	return ""
}

// able tells whether a device of the group has an ability.
func (g *Group) able(ability string) bool {
	return slices.ContainsFunc(g.Members, func(m Member) bool { return slices.Contains(m.Abilities, ability) })
}

// Wanted is what combinations are chosen for.
type Wanted struct {
	Groups    []Group
	Languages []string // that the build has
	// Cost is how long a combination takes, in milliseconds of a device.
	Cost   func(g *Group, levels fleet.Levels) int64
	Had    []map[string]string // levels of combinations that have run lately, by factor; what they cover counts
	Effort int                 // see cover.Wish
}

// Picked is a combination that is chosen.
type Picked struct {
	Levels []string // in the order of the selection's factors
	Group  int      // position among the groups, -1 where there are none
	Must   bool
}

// Ruled are levels that never meet (or one that never appears), with what rules that out.
type Ruled struct {
	Levels []NamedLevel `json:"levels"`
	Why    []string     `json:"why"`
	Group  int          `json:"-"` // of a combination, -1 where there is none
}

// NamedLevel is a level with its factor's name.
type NamedLevel = fleet.Level

// Meeting is how the levels of some factors meet in what is chosen.
type Meeting struct {
	Factors   []string `json:"factors"`
	Possible  int      `json:"possible"`
	Forbidden int      `json:"forbidden"`
	Covered   int      `json:"covered"`
}

// Coverage is how much of what is possible is covered, of one strength.
type Coverage struct {
	Strength  int            `json:"strength"`
	Possible  int            `json:"possible"`
	Forbidden int            `json:"forbidden"`
	Covered   int            `json:"covered"`
	Missing   [][]NamedLevel `json:"missing,omitempty"`
	Meetings  []Meeting      `json:"meetings,omitempty"`
}

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
)

// Contradiction tells that rules leave nothing: the smallest set of them that contradicts.
type Contradiction struct{ Rules []string }

func (c *Contradiction) Error() string {
	return "no combination is left: these contradict each other: " + strings.Join(c.Rules, "; ")
}

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
			return f.Ability != "" && l.Value != f.Usual && !slices.Contains(m.Abilities, f.Ability)
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
		if !slices.Contains(ofDevices, f.Name) || f.Name == fleet.Site {
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
	for strength := 1; strength <= min(3, s.shown); strength++ {
		c, err := cover.Measure(s.Space, strength, shown, rows)
		if err != nil {
			break // more than can be counted; what is lower has been
		}
		out.Coverage = append(out.Coverage, s.coverage(c))
	}
	out.Forbidden, err = s.forbidden(out.Coverage, possible)
	return out, err
}

// lay makes numbers of a grid: a column for each factor, and behind them one for the groups.
func (g *Grid) lay(w *Wanted) (*space, []Factor, *Fault) {
	factors := slices.Clone([]Factor(g.Factors))
	ownFactor := slices.ContainsFunc(factors, func(f Factor) bool { return slices.Contains(ofDevices, f.Name) })
	if len(w.Groups) > 0 && !ownFactor {
		factors = append([]Factor{{Name: DeviceClass, From: FromDevices}}, factors...)
	}
	groups := w.Groups
	s := &space{group: -1}
	for i, f := range factors {
		path := "$.factors.'" + f.Name + "'"
		switch f.From {
		case FromBuild:
			if factors[i].Levels = w.Languages; len(w.Languages) == 0 {
				return nil, nil, faulty(path, "write them out: language: [en-GB, de-DE]", "the build does not tell its languages")
			}
		case FromDevices:
			if len(groups) == 0 {
				return nil, nil, faulty(path, "write its levels out, or name `devices`", "there is no device to take levels of %s from",
					f.Name)
			}
			seen := map[string]bool{}
			for _, gr := range groups {
				if l := gr.has(f.Name); !seen[l] {
					seen[l] = true
					factors[i].Levels = append(factors[i].Levels, l)
				}
			}
		}
		s.add(f.Name, factors[i].Levels)
	}
	if len(factors) == 0 {
		return nil, nil, faulty("$.factors", "write `factors:` with a line for each", "nothing is varied")
	}
	s.shown = len(factors)
	if len(groups) > 0 {
		s.link(g, w)
	}
	for i, r := range g.Rules {
		if name, ok := s.lacks(r.Skip, r.If, r.Then); !ok {
			return nil, nil, faulty(fmt.Sprintf("$.rules[%d]", i), "vary it, or name devices", "nothing has a %s", name)
		}
		s.rule(i, r)
	}
	return s, factors, nil
}

func (s *space) lacks(levels ...Levels) (string, bool) {
	for _, l := range levels {
		for name := range l {
			if s.column(name) < 0 {
				return name, false
			}
		}
	}
	return "", true
}

// link puts the groups in: what each is, and what each can do.
func (s *space) link(g *Grid, w *Wanted) {
	named := map[string]bool{} // by rules and combinations that must be in
	for _, r := range g.Rules {
		for _, l := range []Levels{r.Skip, r.If, r.Then} {
			for f := range l {
				named[f] = true
			}
		}
	}
	for _, m := range g.Must {
		for f := range m {
			named[f] = true
		}
	}
	for _, f := range ofDevices {
		if named[f] && s.column(f) < 0 {
			seen := map[string]bool{}
			var levels []string
			for _, gr := range w.Groups {
				if l := gr.has(f); !seen[l] {
					seen[l] = true
					levels = append(levels, l)
				}
			}
			s.add(f, levels)
		}
	}
	labels := make([]string, len(w.Groups))
	for i := range labels {
		labels[i] = w.Groups[i].Combination.Class.Label()
	}
	s.group = s.add("", labels)
	groups := func(test func(gr *Group) bool) (t cover.Term) {
		t.Factor = s.group
		for i := range w.Groups {
			if test(&w.Groups[i]) {
				t.Levels = append(t.Levels, i)
			}
		}
		return t
	}
	for _, f := range ofDevices {
		c := s.column(f)
		if c < 0 {
			continue
		}
		for l, level := range s.levels[c] {
			s.never(-1, thereAre, cover.Term{Factor: c, Levels: []int{l}},
				groups(func(gr *Group) bool { return gr.has(f) != level }))
		}
		if t := groups(func(gr *Group) bool { return !slices.Contains(s.levels[c], gr.has(f)) }); len(t.Levels) > 0 {
			s.never(-1, "the levels of "+f, t)
		}
	}
	for c := range s.shown {
		f := fleet.FactorNamed(s.names[c])
		if f.Ability == "" {
			continue
		}
		t := groups(func(gr *Group) bool { return !gr.able(f.Ability) })
		if len(t.Levels) == 0 {
			continue
		}
		for l, level := range s.levels[c] {
			if level != f.Usual {
				s.never(-1, "devices without the ability `"+f.Ability+"`", cover.Term{Factor: c, Levels: []int{l}}, t)
			}
		}
	}
}

// must gives the combinations that must be in, a level a factor.
func (g *Grid) must() (out []map[string]string) {
	for _, m := range g.Must {
		one := map[string]string{}
		for f, l := range m {
			one[f] = l[0]
		}
		out = append(out, one)
	}
	return out
}

// rows makes rows of levels by factor; what is not named may be anything.
func (g *Grid) rows(s *space, list []map[string]string) (out [][]int, err error) {
	for i, m := range list {
		row := make([]int, len(s.names))
		for c := range row {
			row[c] = cover.Any
		}
		for _, f := range sortedKeys(m) {
			c := s.column(f)
			if c < 0 {
				return nil, faulty(fmt.Sprintf("$.must[%d]", i), "", "nothing has a %s", f)
			}
			l := slices.Index(s.levels[c], m[f])
			if l < 0 {
				return nil, faulty(fmt.Sprintf("$.must[%d].'%s'", i, f), meant(m[f], s.levels[c]), "%s has no level %s", f, m[f])
			}
			row[c] = l
		}
		conflict, err := cover.Conflict(s.Space, tupleOf(row))
		if err != nil {
			return nil, err
		}
		if conflict != nil {
			return nil, faulty(fmt.Sprintf("$.must[%d]", i), "", "it cannot be: %s", strings.Join(s.reasons(conflict), "; "))
		}
		out = append(out, row)
	}
	return out, nil
}

func tupleOf(row []int) *cover.Tuple {
	t := &cover.Tuple{}
	for f, l := range row {
		if l != cover.Any {
			t.Factors, t.Levels = append(t.Factors, f), append(t.Levels, l)
		}
	}
	return t
}

// reasons give rules in words, each once.
func (s *space) reasons(rules []int) (out []string) {
	for _, i := range rules {
		if !slices.Contains(out, s.why[i]) {
			out = append(out, s.why[i])
		}
	}
	if at := slices.Index(out, thereAre); at >= 0 && len(out) > 1 { // the others say more
		out = slices.Delete(out, at, at+1)
	}
	return out
}

// thereAre is the rule that keeps levels to what devices have.
const thereAre = "which devices there are"

func (s *space) contradiction(with *cover.Tuple) error {
	rules, err := cover.Conflict(s.Space, with)
	if err != nil {
		return err
	}
	return &Contradiction{s.reasons(rules)}
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

// felt gives the levels of a row that a device is made to feel, or that scripts read.
func (s *space) felt(row []int) fleet.Levels {
	wished := map[string]string{}
	for c := range s.shown {
		if !slices.Contains(ofDevices, s.names[c]) || s.names[c] == fleet.Site {
			wished[s.names[c]] = s.levels[c][row[c]]
		}
	}
	levels, _ := fleet.UsualLevels(wished) // Check has found them to be levels
	return levels
}

// all gives every combination that the rules allow. Columns of what devices have go together: one
// for each way in which groups differ in what is shown.
func (s *space) all(out *Selection, w Wanted) ([][]int, error) {
	var heads [][]int
	own := func(c int) bool { return slices.Contains(ofDevices, s.names[c]) }
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
	free := cover.Space{}
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
	if len(rows) == 0 {
		return nil, s.contradiction(nil)
	}
	return rows, nil
}

func (s *space) levelsOf(row []int) (out []NamedLevel) {
	for c, l := range row {
		out = append(out, NamedLevel{Factor: s.names[c], Value: s.levels[c][l]})
	}
	return out
}

func (s *space) named(t cover.Tuple) (out []NamedLevel) {
	for i, f := range t.Factors {
		out = append(out, NamedLevel{Factor: s.names[f], Value: s.levels[f][t.Levels[i]]})
	}
	return out
}

func (s *space) coverage(c cover.Coverage) Coverage {
	out := Coverage{Strength: c.Strength, Possible: c.Possible, Forbidden: c.Forbidden, Covered: c.Covered}
	for _, t := range c.Missing[:min(len(c.Missing), maxTold)] {
		out.Missing = append(out.Missing, s.named(t))
	}
	if c.Strength > 2 {
		return out
	}
	for _, m := range c.Meetings {
		one := Meeting{Possible: m.Possible, Forbidden: m.Forbidden, Covered: m.Covered}
		for _, f := range m.Factors {
			one.Factors = append(one.Factors, s.names[f])
		}
		out.Meetings = append(out.Meetings, one)
	}
	return out
}

// dead gives the levels that appear nowhere, with the smallest set of rules that has it so.
func (s *space) dead(possible [][]bool) (out []Ruled, err error) {
	for c := range s.shown {
		for l, ok := range possible[c] {
			if ok || len(out) == maxTold {
				continue
			}
			rules, err := cover.Conflict(s.Space, &cover.Tuple{Factors: []int{c}, Levels: []int{l}})
			if err != nil {
				return nil, err
			}
			out = append(out, Ruled{[]NamedLevel{{Factor: s.names[c], Value: s.levels[c][l]}}, s.reasons(rules), -1})
		}
	}
	return out, nil
}

// forbidden gives the pairs of levels that never meet, and why, of those that appear at all: of
// what devices are not themselves made of.
func (s *space) forbidden(counted []Coverage, possible [][]bool) (out []Ruled, err error) {
	if len(counted) < 2 || counted[1].Forbidden == 0 {
		return nil, nil
	}
	for _, m := range counted[1].Meetings {
		a, b := s.column(m.Factors[0]), s.column(m.Factors[1])
		if m.Forbidden == 0 || slices.Contains(ofDevices, s.names[a]) && slices.Contains(ofDevices, s.names[b]) {
			continue
		}
		for x := range s.levels[a] {
			for y := range s.levels[b] {
				if !possible[a][x] || !possible[b][y] {
					continue
				}
				t := cover.Tuple{Factors: []int{a, b}, Levels: []int{x, y}}
				rules, err := cover.Conflict(s.Space, &t)
				if err != nil {
					return nil, err
				}
				if rules != nil {
					if out = append(out, Ruled{s.named(t), s.reasons(rules), -1}); len(out) == maxTold {
						return out, nil
					}
				}
			}
		}
	}
	return out, nil
}
