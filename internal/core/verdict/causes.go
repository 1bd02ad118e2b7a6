package verdict

import (
	"fmt"
	"slices"
	"sort"
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
}

// Causes groups crossings by what they failed of, the heaviest first: those that
// say the same, numbers aside, have one cause. place gives the combination of a
// leg; ran lists every crossing of the run by suite, case and leg.
func Causes(met []Met, place map[int64]Place, ran []Met) []Cause {
	at := map[string]int{}
	var out []Cause
	legs := map[int]map[string]int64{} // of each cause, by combination
	of := map[int]map[[2]string]bool{} // its cases, by suite and name
	for _, m := range met {
		k := m.key()
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
		if m.Flaky {
			c.Flaky++
		}
		if one := [2]string{m.Suite, m.Case}; !of[i][one] {
			of[i][one] = true
			c.Cases = append(c.Cases, m.Case)
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

// rank puts steady failures first, then flaky ones, then errors, then skips.
func (c Cause) rank() int {
	if c.Flaky == c.Crossings {
		return 3
	}
	return map[Verdict]int{Fail: 4, Error: 2, Skip: 1}[c.Verdict]
}

// key is the same for what failed of the same: flaky crossings count by what they
// failed of, figures and numbers in words do not tell causes apart.
func (m Met) key() string {
	v := m.Verdict
	if m.Flaky {
		v = Fail
	}
	actual := blank(m.Actual)
	if sameAnywhere[m.Kind] { // how it was told depends on what else is on each screen
		actual = ""
	}
	return strings.Join([]string{string(v), m.Kind, blank(m.Expected), actual}, "\x00")
}

// sameAnywhere are the kinds of which what was expected says which one it is.
var sameAnywhere = map[string]bool{"ambiguous": true, "never_matched": true, "awaited": true}

// blank puts one sign for every run of digits.
func blank(s string) string {
	var b strings.Builder
	in := false
	for _, r := range s {
		digit := r >= '0' && r <= '9' || in && (r == '.' || r == ',')
		if !digit {
			b.WriteRune(r)
		} else if !in {
			b.WriteByte('#')
		}
		in = digit
	}
	return b.String()
}

func (p Place) String() string {
	var parts []string
	for _, l := range p {
		parts = append(parts, l.Value)
	}
	return strings.Join(parts, "\x00")
}

// shared says in words what the combinations of a cause have in common, and in
// how many combinations its cases ran.
func shared(legs map[string]int64, cases map[[2]string]bool, place map[int64]Place, ran []Met) (of int, words string) {
	all := map[string]Place{}
	for _, m := range ran {
		if cases[[2]string{m.Suite, m.Case}] {
			all[place[m.Leg].String()] = place[m.Leg]
		}
	}
	of = len(all)
	switch {
	case len(legs) == of && of == 1:
		return of, "in the only combination it ran in"
	case len(legs) == of:
		return of, fmt.Sprintf("in all %d combinations", of)
	}
	var always, common []string
	var first Place
	for k := range legs {
		first = all[k]
	}
	for i, level := range first {
		if words := bound(i, legs, all); words != "" {
			always = append(always, words)
			continue
		}
		in, out := 0, 0
		for k, p := range all {
			if p[i].Value != level.Value {
				continue
			}
			if _, failed := legs[k]; failed {
				in++
			} else {
				out++
			}
		}
		switch {
		case in == len(legs) && out == 0:
			if level.Words != "" {
				always = append(always, level.Words)
			}
		case in == len(legs) && in > 1 && in+out < of: // what all combinations have says nothing
			if level.Words != "" {
				common = append(common, level.Words)
			}
		}
	}
	switch {
	case len(always) > 0:
		if len(always) > 2 { // the first ones say most
			always = always[:2]
		}
		return of, "only, and always, on " + strings.Join(always, " and ")
	}
	if words := together(legs, all, len(first)); words != "" {
		return of, "only, and always, on " + words
	}
	if but := spared(legs, all, len(first)); but != "" {
		return of, fmt.Sprintf("in %d of %d combinations: always but on %s", len(legs), of, but)
	}
	switch {
	case len(legs) == 1:
		var where []string
		for _, l := range first {
			if l.Words != "" {
				where = append(where, l.Words)
			}
		}
		return of, "only on " + strings.Join(where, ", ")
	case len(common) > 0:
		return of, fmt.Sprintf("in %d of %d combinations, all on %s", len(legs), of, strings.Join(common, " and "))
	}
	return of, fmt.Sprintf("in %d of %d combinations that have nothing in common", len(legs), of)
}

// spared gives the level that all others have and no combination of a cause does.
func spared(legs map[string]int64, all map[string]Place, levels int) string {
factors:
	for i := range levels {
		value, words := "", ""
		for k, p := range all {
			if _, met := legs[k]; met {
				continue
			}
			if words != "" && p[i].Value != value {
				continue factors
			}
			if value, words = p[i].Value, p[i].Words; words == "" {
				continue factors
			}
		}
		for k := range legs {
			if all[k][i].Value == value {
				continue factors
			}
		}
		return words
	}
	return ""
}

// property is something that all combinations of a cause have, and not all others.
type property struct {
	words string
	has   func(p Place) bool
}

// together gives the fewest properties, two or three, that a combination has if and only if it is one
// of a cause, as in "screens at most 324 dp wide and de-DE"; "" where there are none.
func together(legs map[string]int64, all map[string]Place, levels int) string {
	if len(legs) == len(all) {
		return ""
	}
	var props []property
	for i := range levels {
		props = append(props, propertiesOf(i, legs, all)...)
	}
	passes := map[int][]string{} // of each property, the others that have it
	for n, p := range props {
		for k, place := range all {
			if _, met := legs[k]; !met && p.has(place) {
				passes[n] = append(passes[n], k)
			}
		}
	}
	none := func(which ...int) bool {
		for _, k := range passes[which[0]] {
			if !slices.ContainsFunc(which[1:], func(n int) bool { return !props[n].has(all[k]) }) {
				return false
			}
		}
		return true
	}
	for a := range props {
		for b := a + 1; b < len(props); b++ {
			if none(a, b) {
				return props[a].words + " and " + props[b].words
			}
		}
	}
	for a := range props {
		for b := a + 1; b < len(props); b++ {
			for c := b + 1; c < len(props); c++ {
				if none(a, b, c) {
					return props[a].words + ", " + props[b].words + " and " + props[c].words
				}
			}
		}
	}
	return ""
}

// propertiesOf gives what the combinations of a cause have in common in one factor: its level, or
// that a figure lies below or above what is met.
func propertiesOf(i int, legs map[string]int64, all map[string]Place) (out []property) {
	var top, low Level
	same, value, words := true, "", ""
	n := 0
	for k := range legs {
		l := all[k][i]
		if n == 0 {
			top, low, value, words = l, l, l.Value, l.Words
		}
		n++
		same = same && l.Value == value
		if l.Figure > top.Figure {
			top = l
		}
		if l.Figure < low.Figure {
			low = l
		}
	}
	if same && words != "" {
		out = append(out, property{words, func(p Place) bool { return p[i].Value == value }})
	}
	if low.Figure != 0 {
		out = append(out, property{top.Below, func(p Place) bool { return p[i].Figure <= top.Figure }},
			property{low.Beyond, func(p Place) bool { return p[i].Figure >= low.Figure }})
	}
	return slices.DeleteFunc(out, func(p property) bool { // what all have says nothing
		for _, place := range all {
			if !p.has(place) {
				return false
			}
		}
		return true
	})
}

// bound tells whether a figure parts the combinations of a cause from the others:
// all of one kind lie below all of the other. Of several it takes the widest word.
func bound(i int, legs map[string]int64, all map[string]Place) string {
	var in, out []float64
	var below, beyond string
	top, low := 0.0, 0.0
	for k, p := range all {
		l := p[i]
		if l.Figure == 0 {
			return ""
		}
		if _, met := legs[k]; !met {
			out = append(out, l.Figure)
			continue
		}
		in = append(in, l.Figure)
		if l.Figure > top {
			top, below = l.Figure, l.Below
		}
		if low == 0 || l.Figure < low {
			low, beyond = l.Figure, l.Beyond
		}
	}
	switch {
	case len(in) == 0 || len(out) == 0:
		return ""
	case slices.Max(in) < slices.Min(out):
		return below
	case slices.Min(in) > slices.Max(out):
		return beyond
	}
	return ""
}
