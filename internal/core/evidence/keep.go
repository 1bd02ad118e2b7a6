package evidence

import (
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/near"
)

// All stands for every sort, where a rule is written.
const All = "everything"

// Sorts are what rules are about, as people name it, in the order in which they are told.
var Sorts = func() (out []string) {
	for _, k := range Kinds {
		out = append(out, k.Rule)
	}
	return out
}()

// The rules: whether a sort of evidence of a case is kept.
const (
	Always       = "always"
	UnlessPassed = "unless passed"
	Never        = "never"
)

// Rulings are all of them.
var Rulings = []string{Always, UnlessPassed, Never}

// Rules say of sorts, or of everything, whether they are kept. What is not named is left to
// whoever is further away.
type Rules map[string]string

// usual is what nobody has said otherwise about.
func usual(rule string) string {
	if i := slices.Index(Sorts, rule); i >= 0 {
		return Kinds[i].Usual
	}
	return ""
}

// Check says what is wrong with rules, nil where nothing is.
func (r Rules) Check() error {
	for _, sort := range r.sorted() {
		if !slices.Contains(Sorts, sort) && sort != All {
			return unknown(sort, "sort of evidence", append(slices.Clone(Sorts), All))
		}
		if !slices.Contains(Rulings, r[sort]) {
			return unknown(r[sort], "rule of what is kept", Rulings)
		}
	}
	return nil
}

func unknown(word, what string, known []string) error {
	if m := near.Word(word, known); m != "" {
		return fmt.Errorf("%q is no %s; did you mean `%s`?", word, what, m)
	}
	return fmt.Errorf("%q is no %s: there are %s", word, what, strings.Join(known, ", "))
}

func (r Rules) sorted() []string {
	out := make([]string, 0, len(r))
	for sort := range r {
		out = append(out, sort)
	}
	slices.Sort(out)
	return out
}

// of gives what rules say of a sort: of the sort itself before of everything.
func (r Rules) of(sort string) (string, bool) {
	if rule, ok := r[sort]; ok {
		return rule, true
	}
	rule, ok := r[All]
	return rule, ok
}

// Words tells rules as people write them, sort by sort.
func (r Rules) Words() []string {
	var out []string
	for _, sort := range append([]string{All}, Sorts...) {
		if rule, ok := r[sort]; ok {
			out = append(out, sort+" "+rule)
		}
	}
	return out
}

// ReadRule reads one rule as it is written on a line: a sort, white space or `=`, and a rule. Its
// error says what is wrong.
func ReadRule(text string) (sort, rule string, err error) {
	words := strings.Fields(strings.Replace(text, "=", " ", 1))
	if len(words) < 2 {
		return "", "", fmt.Errorf("%q is no rule of what is kept: write a sort and a rule, as in `video always`", text)
	}
	sort, rule = words[0], strings.Join(words[1:], " ")
	return sort, rule, Rules{sort: rule}.Check()
}

// Keeping is what is kept of an attempt: the rules of all who may make some, the nearest first.
type Keeping struct {
	Run   Rules `json:"run,omitempty"`
	Plan  Rules `json:"plan,omitempty"`
	Suite Rules `json:"suite,omitempty"`
}

// Ruling is a rule with who made it.
type Ruling struct {
	Rule string
	By   string // run, plan, suite, or usual
}

// Of gives the rule for a sort. The nearest wins: the run's own, then its plan's, its suite's, and
// what is usual.
func (k Keeping) Of(sort string) Ruling {
	for _, one := range []struct {
		by    string
		rules Rules
	}{{"run", k.Run}, {"plan", k.Plan}, {"suite", k.Suite}} {
		if rule, ok := one.rules.of(sort); ok {
			return Ruling{rule, one.by}
		}
	}
	return Ruling{usual(sort), "usual"}
}

// May tells whether a sort may be kept at all, so that it has to be gathered.
func (k Keeping) May(sort string) bool { return k.Of(sort).Rule != Never }

// Keeps tells whether a sort of a case is kept, and where it is not, why, in words.
func (k Keeping) Keeps(sort string, passed bool) (keep bool, why string) {
	r := k.Of(sort)
	if r.Rule == Always || r.Rule == UnlessPassed && !passed {
		return true, ""
	}
	return false, r.Words(sort)
}

// Words says a rule with who made it.
func (r Ruling) Words(sort string) string {
	by := map[string]string{"run": "the run’s own rule", "plan": "its plan’s rule", "suite": "its suite’s rule",
		"usual": "the usual rule"}[r.By]
	return fmt.Sprintf("%s is `%s %s`", by, sort, r.Rule)
}

// NotKept is a sort of evidence that there is not, with the reason, told where one would look for it.
type NotKept struct {
	Sort string `json:"sort"`
	Why  string `json:"why"`
}
