package matrix

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml"

	"yamato/internal/core/document"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/near"
)

// Grid is what people write of the combinations that they want: factors with their levels, rules,
// how much of the combinations is to be covered, and what it may cost.
type Grid struct {
	Factors Factors                   `yaml:"factors" json:"factors,omitempty"`
	Rules   []Rule                    `yaml:"rules,omitempty" json:"rules,omitempty"`
	Cover   string                    `yaml:"cover,omitempty" json:"cover,omitempty"` // a key of Strengths
	Must    []Levels                  `yaml:"must,omitempty" json:"must,omitempty"`
	Weights map[string]map[string]int `yaml:"weights,omitempty" json:"weights,omitempty"`
	Budget  Budget                    `yaml:"budget,omitempty" json:"budget,omitzero"`
	Seed    uint64                    `yaml:"seed,omitempty" json:"seed,omitempty"`
}

// Budget bounds what is chosen; 0 for no bound.
type Budget struct {
	Combinations int `yaml:"combinations,omitempty" json:"combinations,omitempty"`
	Minutes      int `yaml:"minutes,omitempty" json:"minutes,omitempty"` // of devices, in all
}

// Strengths are how much of the combinations can be asked for: how many factors meet in every way.
var Strengths = map[string]int{"all": 0, "each": 1, "pairs": 2, "triples": 3}

// Factor is one that a grid varies.
type Factor struct {
	Name   string   `json:"name"`
	Levels []string `json:"levels,omitempty"` // as written; none where they are taken from somewhere
	From   string   `json:"from,omitempty"`   // "build" for the languages that a build has, "devices" for what there is
}

// Where levels are taken from.
const (
	FromBuild   = "build"
	FromDevices = "devices"
)

// Factors are in the order in which they are written.
type Factors []Factor

// UnmarshalYAML reads `name: [levels]`, `name: level`, `name: from build` and `name: from devices`.
func (f *Factors) UnmarshalYAML(decode func(any) error) error {
	var order yaml.MapSlice
	if err := decode(&order); err != nil {
		return err
	}
	texts := map[string]fleet.Words{}
	if err := decode(&texts); err != nil {
		return err
	}
	for _, item := range order {
		name := fmt.Sprint(item.Key)
		one := Factor{Name: name, Levels: texts[name]}
		if len(one.Levels) == 1 {
			if from, ok := strings.CutPrefix(one.Levels[0], "from "); ok {
				one.Levels, one.From = nil, strings.TrimSpace(from)
			}
		}
		*f = append(*f, one)
	}
	return nil
}

// Levels are levels by their factors: one of them, or any of several.
type Levels map[string]fleet.Words

// Rule says what never meets: Skip, or that whatever is as If is as Then.
type Rule struct {
	Skip Levels `yaml:"skip,omitempty" json:"skip,omitempty"`
	If   Levels `yaml:"if,omitempty" json:"if,omitempty"`
	Then Levels `yaml:"then,omitempty" json:"then,omitempty"`
	Why  string `yaml:"why,omitempty" json:"why,omitempty"`
}

// Words say a rule as people read it.
func (r Rule) Words() string {
	say := func(l Levels) string {
		var parts []string
		for _, f := range sortedKeys(l) {
			parts = append(parts, f+" "+strings.Join(l[f], " or "))
		}
		return strings.Join(parts, ", ")
	}
	words := "skip " + say(r.Skip)
	if len(r.If) > 0 {
		words = "if " + say(r.If) + " then " + say(r.Then)
	}
	if r.Why != "" {
		words += " (" + r.Why + ")"
	}
	return words
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// ofDevices tells whether devices have a factor of themselves, whatever they are made to feel.
func ofDevices(factor string) bool { return fleet.FactorNamed(factor).Of != nil }

// Bounds on a grid.
const (
	maxGridFactors = 60
	maxGridLevels  = 500
	maxGridRules   = 200
	maxMust        = 1000
	maxTerms       = 20
)

// Fault is what is wrong in a grid: where in the document (a path as in $.rules[0].skip), what, and
// what to do.
type Fault struct{ Path, Message, Hint string }

func (f *Fault) Error() string {
	if f.Hint == "" {
		return f.Message
	}
	return f.Message + "; " + f.Hint
}

// In gives the fault with its line in the text of the document.
func (f *Fault) In(text []byte) error {
	if line := document.Line(text, f.Path); line > 0 {
		return fmt.Errorf("line %d: %w", line, f)
	}
	return f
}

func faulty(path, hint, format string, args ...any) *Fault {
	return &Fault{path, fmt.Sprintf(format, args...), hint}
}

// Check gives what is wrong in a grid whatever it is applied to, nil where nothing is.
func (g *Grid) Check() *Fault {
	if len(g.Factors) > maxGridFactors {
		return faulty("$.factors", "", "there are %d factors; at most %d are varied", len(g.Factors), maxGridFactors)
	}
	names := map[string]bool{}
	for i, r := range g.Rules {
		if r.Why != "" && !shown(r.Why, 500) {
			return faulty(fmt.Sprintf("$.rules[%d].why", i), "", "`why` has at most 500 characters that can be shown")
		}
	}
	for _, f := range g.Factors {
		path := "$.factors.'" + f.Name + "'"
		if names[f.Name] {
			return faulty(path, "", "%s is varied already", f.Name)
		}
		names[f.Name] = true
		if fault := f.check(path); fault != nil {
			return fault
		}
	}
	if _, ok := Strengths[cmp.Or(g.Cover, "pairs")]; !ok {
		return faulty("$.cover", meant(g.Cover, []string{"all", "each", "pairs", "triples"}),
			"`cover` is all, each, pairs or "+
				"triples, not %q", g.Cover)
	}
	if len(g.Rules) > maxGridRules || len(g.Must) > maxMust {
		return faulty("$.rules", "", "there are at most %d rules and %d combinations that must be in", maxGridRules,
			maxMust)
	}
	if g.Budget.Combinations < 0 || g.Budget.Minutes < 0 {
		return faulty("$.budget", "", "a budget is a number over 0, or nothing for no bound")
	}
	for i, r := range g.Rules {
		path := fmt.Sprintf("$.rules[%d]", i)
		if (len(r.Skip) > 0) == (len(r.If) > 0 || len(r.Then) > 0) || (len(r.If) > 0) != (len(r.Then) > 0) {
			return faulty(path, "write `skip: {…}`, or `if: {…}` with `then: {…}`",
				"a rule says what to skip, or if … then …")
		}
		for part, levels := range map[string]Levels{"skip": r.Skip, "if": r.If, "then": r.Then} {
			if fault := g.known(path+"."+part, levels); fault != nil {
				return fault
			}
		}
	}
	for i, m := range g.Must {
		if fault := g.known(fmt.Sprintf("$.must[%d]", i), m); fault != nil {
			return fault
		}
		for _, f := range sortedKeys(m) {
			if len(m[f]) != 1 {
				return faulty(fmt.Sprintf("$.must[%d].'%s'", i, f), "",
					"a combination that must be in has one level of each factor")
			}
		}
	}
	for _, f := range sortedKeys(g.Weights) {
		if !names[f] {
			return faulty("$.weights.'"+f+"'", meant(f, sortedKeys(names)), "%s is not varied, so it has no weights", f)
		}
		for _, l := range sortedKeys(g.Weights[f]) {
			if w := g.Weights[f][l]; w < 0 || w > 1_000_000 {
				return faulty("$.weights.'"+f+"'", "", "a weight is 0 to 1000000, not %d", w)
			}
		}
	}
	return nil
}

func (f Factor) check(path string) *Fault {
	own := ofDevices(f.Name)
	switch {
	case f.From == "" && len(f.Levels) == 0:
		return faulty(path, "", "%s has no level", f.Name)
	case f.From == FromBuild && f.Name != feel.Language:
		return faulty(path, "write its levels out", "only the languages are taken from the build")
	case f.From == FromDevices && !own:
		return faulty(path, "write its levels out", "devices have no %s of their own", f.Name)
	case f.From != "" && f.From != FromBuild && f.From != FromDevices:
		return faulty(path, "write `from build` or `from devices`", "levels cannot be taken from %q", f.From)
	case len(f.Levels) > maxGridLevels:
		return faulty(path, "", "%s has %d levels; at most %d are combined", f.Name, len(f.Levels), maxGridLevels)
	}
	for i, l := range f.Levels {
		if slices.Contains(f.Levels[:i], l) {
			return faulty(path, "", "%s has the level %s twice", f.Name, l)
		}
		if !shown(l, 200) {
			return faulty(path, "", "a level has 1 to 200 characters that can be shown")
		}
		if own {
			continue
		}
		if why := fleet.FactorNamed(f.Name).Check(l); why != "" {
			return faulty(path, "", "%s", why)
		}
	}
	return nil
}

// shown tells whether people can be shown a text: it is none that is empty, long, or steers a terminal.
func shown(s string, most int) bool {
	return strings.TrimSpace(s) != "" && len(s) <= most && !strings.ContainsFunc(s, unicode.IsControl)
}

func (g *Grid) factor(name string) (Factor, bool) {
	i := slices.IndexFunc(g.Factors, func(f Factor) bool { return f.Name == name })
	if i < 0 {
		return Factor{}, false
	}
	return g.Factors[i], true
}

// known tells what of levels a grid does not vary.
func (g *Grid) known(path string, levels Levels) *Fault {
	if len(levels) > maxTerms {
		return faulty(path, "", "at most %d factors stand in one rule", maxTerms)
	}
	for _, name := range sortedKeys(levels) {
		f, ok := g.factor(name)
		if !ok {
			if ofDevices(name) {
				continue // devices have it, varied or not
			}
			names := fleet.OfDevices()
			for _, f := range g.Factors {
				names = append(names, f.Name)
			}
			return faulty(path+".'"+name+"'", meant(name, names), "%s is not varied", name)
		}
		for _, l := range levels[name] {
			if f.From == "" && !slices.Contains(f.Levels, l) {
				return faulty(path+".'"+name+"'", meant(l, f.Levels), "%s has no level %s", name, l)
			}
		}
	}
	return nil
}

func meant(word string, known []string) string {
	if m := near.Word(word, known); m != "" {
		return "did you mean `" + m + "`?"
	}
	if len(known) > 0 && len(known) <= 12 {
		return "there are " + strings.Join(known, ", ")
	}
	return ""
}

// strength is how many factors meet in every way; 0 for all combinations.
func (g *Grid) strength() int { return Strengths[cmp.Or(g.Cover, "pairs")] }
