package matrix

import (
	"errors"
	"slices"
	"strings"

	"yamato/internal/core/matrix/cover"
)

// Ruled are levels that never meet (or one that never appears), with what rules that out.
type Ruled struct {
	Levels []NamedLevel `json:"levels"`
	Why    []string     `json:"why"`
	Group  int          `json:"-"` // of a combination, -1 where there is none
}

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

// Contradiction tells that rules leave nothing: the smallest set of them that contradicts.
type Contradiction struct{ Rules []string }

func (c *Contradiction) Error() string {
	return "no combination is left: these contradict each other: " + strings.Join(c.Rules, "; ")
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
	asked := cover.Inquire(s.Space)
	for c := range s.shown {
		for l, ok := range possible[c] {
			if ok || len(out) == maxTold {
				continue
			}
			rules, err := asked.Conflict(&cover.Tuple{Factors: []int{c}, Levels: []int{l}})
			if errors.Is(err, cover.ErrTangled) { // that they are dead is known; why, of these
				return out, nil
			}
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
	asked := cover.Inquire(s.Space)
	for _, m := range counted[1].Meetings {
		a, b := s.column(m.Factors[0]), s.column(m.Factors[1])
		if m.Forbidden == 0 || ofDevices(s.names[a]) && ofDevices(s.names[b]) {
			continue
		}
		for x := range s.levels[a] {
			for y := range s.levels[b] {
				if !possible[a][x] || !possible[b][y] {
					continue
				}
				t := cover.Tuple{Factors: []int{a, b}, Levels: []int{x, y}}
				rules, err := asked.Conflict(&t)
				if errors.Is(err, cover.ErrTangled) { // the first ones are told
					return out, nil
				}
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
