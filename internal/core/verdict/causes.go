package verdict

import (
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Met is a crossing that wants attention: what happened there, and where it was.
type Met struct {
	Suite, Case string
	Leg         int64
	Index       int // of the case in its suite
	Verdict     Verdict
	Flaky       bool
	Kind        string // of the failure: a script.Cause, or "" where only a sentence is known
	Expected    string
	Actual      string
	Step        string
	Line        int
}

// Place is a combination as pairs of factor and level, in the same order for all.
type Place []Level

// Level is one value of one factor, with the words for it.
type Level struct {
	Factor string
	Value  string
	Words  string // as in "only on …"
	// Figure is what the level measures, 0 where it measures nothing; a cause may lie
	// below or above some figure. The words say so, as in "only on …".
	Figure        float64
	Below, Beyond string
}

// Cause is what several crossings failed of.
type Cause struct {
	Met                   // the first one met
	Cases        []string // names, in the order met; two suites may have one of the same name
	Crossings    int
	Flaky        int // crossings that passed in another attempt
	Combinations int // that it was met in
	Of           int // combinations that these cases ran in
	Shared       string
	Each         []Met   // the first of each case
	Legs         []int64 // that it was met in
}

// Causes groups crossings by what they failed of, the heaviest first: those that
// say the same, numbers aside, have one cause. place gives the combination of a
// leg; ran lists every crossing of the run by suite, case and leg.
func Causes(met []Met, place map[int64]Place, ran []Met) []Cause {
	at := map[string]int{}
	var out []Cause
	legs := map[int]map[string]int64{} // of each cause, by combination
	of := map[int]map[[2]string]bool{} // its cases, by suite and name
	which := alike(met, place)
	for n, m := range met {
		k := m.key() + "\x00" + strconv.Itoa(which[n])
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, Cause{Met: m})
			legs[i], of[i] = map[string]int64{}, map[[2]string]bool{}
		}
		c := &out[i]
		if c.Met.Flaky && !m.Flaky {
			c.Met = m // what failed for good speaks for its cause
		}
		c.Crossings++
		if !slices.Contains(c.Legs, m.Leg) {
			c.Legs = append(c.Legs, m.Leg)
		}
		if m.Flaky {
			c.Flaky++
		}
		if one := [2]string{m.Suite, m.Case}; !of[i][one] {
			of[i][one] = true
			c.Cases = append(c.Cases, m.Case)
			c.Each = append(c.Each, m)
		}
		legs[i][place[m.Leg].String()] = m.Leg
	}
	for i := range out {
		c := &out[i]
		c.Combinations = len(legs[i])
		c.Of, c.Shared = shared(legs[i], of[i], place, ran)
	}
	sort.SliceStable(out, func(i, j int) bool {
		a, b := out[i], out[j]
		if wa, wb := a.rank(), b.rank(); wa != wb {
			return wa > wb
		}
		return a.Crossings > b.Crossings
	})
	return out
}

// alike tells apart what failed in the same frame with other words: within a language other words are another
// fault, and from one language to the next the fault that is met as often is the same one.
func alike(met []Met, place map[int64]Place) []int {
	type seen struct {
		words string
		n     int
	}
	languages := map[string]map[string][]*seen{} // by key and language
	of := func(m Met) string {
		for _, l := range place[m.Leg] {
			if l.Factor == "language" {
				return l.Value
			}
		}
		return ""
	}
	for _, m := range met {
		k, l, w := m.key(), of(m), words(m.Actual)
		if languages[k] == nil {
			languages[k] = map[string][]*seen{}
		}
		list := languages[k][l]
		i := slices.IndexFunc(list, func(s *seen) bool { return s.words == w })
		if i < 0 {
			list, i = append(list, &seen{words: w}), len(list)
		}
		list[i].n++
		languages[k][l] = list
	}
	for _, by := range languages {
		for _, list := range by {
			slices.SortStableFunc(list, func(a, b *seen) int { return b.n - a.n })
		}
	}
	out := make([]int, len(met))
	for i, m := range met {
		w := words(m.Actual)
		list := languages[m.key()][of(m)]
		out[i] = slices.IndexFunc(list, func(s *seen) bool { return s.words == w })
	}
	return out
}

// rank puts steady failures first, then flaky ones, then errors, then skips.
func (c Cause) rank() int {
	if c.Flaky == c.Crossings {
		return 3
	}
	return map[Verdict]int{Fail: 4, Error: 2, Skip: 1}[c.Verdict]
}

// key is the same for what failed of the same at the same place: in one suite, at one step, in the same way.
// Flaky crossings count by what they failed of. Figures, amounts and times in words do not tell causes apart,
// and neither do the words that stand in quotes: those are told apart within one language (Causes).
func (m Met) key() string {
	v := m.Verdict
	if m.Flaky {
		v = Fail
	}
	actual := frame(m.Actual)
	if sameAnywhere[m.Kind] { // how it was told depends on what else is on each screen
		actual = ""
	}
	return strings.Join([]string{string(v), m.Suite, blank(m.Step), m.Kind, frame(m.Expected), actual}, "\x00")
}

// sameAnywhere are the kinds of which what was expected says which one it is.
var sameAnywhere = map[string]bool{"ambiguous": true, "never_matched": true, "awaited": true}

// quoted are words that an app shows, in a failure's sentence, and figure what is a number or an amount in
// whatever way a language writes it: with its sign, currency and unit, its grouping and its blanks.
var (
	quoted = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)
	figure = regexp.MustCompile(`(?:[-−–+±]|\p{Sc}|\b(?:[A-Z]{3}|R|kr|zł|Kč))*[\s\x{00a0}\x{202f}\x{2009}]*\p{Nd}(?:[\p{Nd}.,:'’٫٬\x{00a0}\x{202f}\x{2009}]*\p{Nd})?(?:[\s\x{00a0}\x{202f}\x{2009}]*(?:\p{Sc}|%|‰|kr\b|zł|Kč|(?:EUR|GBP|USD|CHF|JPY)\b|[AaPp]\.?[Mm]\b))?`)
)

// blank puts one sign for everything that is a figure.
func blank(s string) string {
	words := strings.Fields(figure.ReplaceAllString(s, " # "))
	// "1 234" is one figure.
	return strings.Join(slices.CompactFunc(words, func(a, b string) bool { return a == "#" && b == "#" }), " ")
}

// frame is a sentence without what an app shows in it.
func frame(s string) string { return blank(quoted.ReplaceAllString(s, `"…"`)) }

// words are what an app shows in a sentence.
func words(s string) string { return blank(strings.Join(quoted.FindAllString(s, -1), " ")) }

func (p Place) String() string {
	var parts []string
	for _, l := range p {
		parts = append(parts, l.Value)
	}
	return strings.Join(parts, "\x00")
}
