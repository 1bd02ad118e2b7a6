package matrix

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix/cover"
)

// space makes numbers of a grid.
type space struct {
	cover.Space
	names  []string // of the factors, a column each
	levels [][]string
	shown  int      // columns that people see; behind them what is needed to know them apart
	group  int      // the column of the groups of devices, -1 where there are none
	why    []string // for each of Never
	rules  []int    // of each of Never, its position in the grid's rules, -1 for what devices say
}

func (s *space) column(name string) int { return slices.Index(s.names, name) }

func (s *space) add(name string, levels []string) int {
	s.names, s.levels = append(s.names, name), append(s.levels, levels)
	s.Levels = append(s.Levels, len(levels))
	return len(s.names) - 1
}

func (s *space) never(rule int, why string, terms ...cover.Term) {
	s.Never, s.rules, s.why = append(s.Never, terms), append(s.rules, rule), append(s.why, why)
}

// term holds where a factor has one of some levels (or, with not, none of them).
func (s *space) term(name string, not bool, levels ...string) cover.Term {
	t := cover.Term{Factor: s.column(name)}
	for i, l := range s.levels[t.Factor] {
		if slices.Contains(levels, l) != not {
			t.Levels = append(t.Levels, i)
		}
	}
	return t
}

// rule puts a rule of the grid in.
func (s *space) rule(at int, r Rule) {
	why := "rule " + fmt.Sprint(at+1) + ": " + r.Words()
	terms := func(l Levels) (out []cover.Term) {
		for _, f := range sortedKeys(l) {
			out = append(out, s.term(f, false, l[f]...))
		}
		return out
	}
	if len(r.Skip) > 0 {
		s.never(at, why, terms(r.Skip)...)
		return
	}
	for _, f := range sortedKeys(r.Then) {
		s.never(at, why, append(terms(r.If), s.term(f, true, r.Then[f]...))...)
	}
}

// lay makes numbers of a grid: a column for each factor, and behind them one for the groups.
func (g *Grid) lay(w *Wanted) (*space, []Factor, *Fault) {
	factors := slices.Clone([]Factor(g.Factors))
	ownFactor := slices.ContainsFunc(factors, func(f Factor) bool { return ofDevices(f.Name) })
	if len(w.Groups) > 0 && !ownFactor {
		factors = append([]Factor{{Name: "device", From: FromDevices}}, factors...)
	}
	groups := w.Groups
	s := &space{group: -1}
	for i, f := range factors {
		path := "$.factors.'" + f.Name + "'"
		switch f.From {
		case FromBuild:
			if factors[i].Levels = w.Languages; len(w.Languages) == 0 {
				return nil, nil, faulty(path, "write them out: language: [en-GB, de-DE]",
					"the build does not tell its languages")
			}
		case FromDevices:
			if len(groups) == 0 {
				return nil, nil, faulty(path, "write its levels out, or name `devices`",
					"there is no device to take levels of %s from",
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
	for _, f := range fleet.OfDevices() {
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
	groups := func(test func(i int) bool) (t cover.Term) {
		t.Factor = s.group
		for i := range w.Groups {
			if test(i) {
				t.Levels = append(t.Levels, i)
			}
		}
		return t
	}
	for _, f := range fleet.OfDevices() {
		c := s.column(f)
		if c < 0 {
			continue
		}
		is := make([]string, len(w.Groups))
		for i := range w.Groups {
			is[i] = w.Groups[i].has(f)
		}
		for l, level := range s.levels[c] {
			s.never(-1, thereAre, cover.Term{Factor: c, Levels: []int{l}},
				groups(func(i int) bool { return is[i] != level }))
		}
		if t := groups(func(i int) bool { return !slices.Contains(s.levels[c], is[i]) }); len(t.Levels) > 0 {
			s.never(-1, "the levels of "+f, t)
		}
	}
	for c := range s.shown {
		f := fleet.FactorNamed(s.names[c])
		if f.Ability == "" {
			continue
		}
		t := groups(func(i int) bool { return !w.Groups[i].able(f.Ability) })
		if len(t.Levels) == 0 {
			continue
		}
		for l, level := range s.levels[c] {
			if !f.IsUsual(level) {
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
				return nil, faulty(fmt.Sprintf("$.must[%d].'%s'", i, f), meant(m[f], s.levels[c]), "%s has no level %s",
					f, m[f])
			}
			row[c] = l
		}
		conflict, err := cover.Conflict(s.Space, tupleOf(row))
		if err != nil {
			return nil, err
		}
		if conflict != nil {
			return nil, faulty(fmt.Sprintf("$.must[%d]", i), "", "it cannot be: %s", strings.Join(s.reasons(conflict),
				"; "))
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

// felt gives the levels of a row that a device is made to feel, or that scripts read.
func (s *space) felt(row []int) fleet.Levels {
	wished := map[string]string{}
	for c := range s.shown {
		if !fleet.FactorNamed(s.names[c]).InClass {
			wished[s.names[c]] = s.levels[c][row[c]]
		}
	}
	levels, _ := fleet.UsualLevels(wished) // Check has found them to be levels
	return levels
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
