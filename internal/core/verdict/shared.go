package verdict

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"sort"
	"strings"
)

// What the combinations of a cause share is the hypothesis that separates them best from the others: a level, what
// is not of a level, a figure below or above which they lie, two levels together, or one of two. Each says that a
// combination fails with one chance where it holds and with another, smaller one where it does not; the one under
// which what was met is likeliest is taken, less what it costs to have chosen among so many of its kind. It is named
// only where chance would not do as well: by Fisher's exact test (R. A. Fisher, Statistical Methods for Research
// Workers, 5th ed., 21.02), for as many hypotheses as there are (Bonferroni).

// surely bounds how often something is named where there is nothing, and shares how much of that each kind of
// hypothesis may take: the simple ones are met more often.
const surely = 0.02

var shares = [kinds]float64{ofLevel: 0.4, ofNot: 0.1, ofFigure: 0.15, ofBoth: 0.25, ofEither: 0.1}

// The kinds of hypotheses, simpler ones first: of those that say the same the first is taken.
const (
	ofLevel = iota
	ofNot
	ofFigure
	ofBoth
	ofEither
	kinds
)

// set is a set of combinations by number.
type set []uint64

func newSet(n int) set  { return make(set, (n+63)/64) }
func (s set) add(i int) { s[i/64] |= 1 << (i % 64) }
func (s set) key() string {
	b := make([]byte, 0, 8*len(s))
	for _, w := range s {
		b = binary.LittleEndian.AppendUint64(b, w)
	}
	return string(b)
}
func (s set) count() (n int) {
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

func (s set) and(o set) set {
	out := make(set, len(s))
	for i := range s {
		out[i] = s[i] & o[i]
	}
	return out
}

func (s set) or(o set) set {
	out := make(set, len(s))
	for i := range s {
		out[i] = s[i] | o[i]
	}
	return out
}

// hypothesis is something that a combination may have, with those that have it.
type hypothesis struct {
	kind  int
	words string
	holds set
}

// hypotheses gives all that there are over combinations, each that holds of others once, by the simplest words.
func hypotheses(places []Place) []hypothesis {
	n := len(places)
	if n == 0 {
		return nil
	}
	known := map[string]bool{}
	var out []hypothesis
	note := func(h hypothesis) {
		if c := h.holds.count(); c == 0 || c == n || h.words == "" {
			return
		}
		if k := h.holds.key(); !known[k] {
			known[k] = true
			out = append(out, h)
		}
	}
	type simple struct {
		hypothesis
		factor int
	}
	var levels, figures []simple
	for f := range places[0] {
		by, words := map[string]set{}, map[string]string{}
		var values []string
		for i, p := range places {
			v := p[f].Value
			if by[v] == nil {
				by[v], words[v] = newSet(n), p[f].Words
				values = append(values, v)
			}
			by[v].add(i)
		}
		for _, v := range values {
			if words[v] != "" && len(values) > 1 {
				levels = append(levels, simple{hypothesis{ofLevel, words[v], by[v]}, f})
			}
		}
		figures = append(figures, toSimple(bounds(places, f), func(h hypothesis) simple { return simple{h, f} })...)
	}
	for _, l := range levels {
		note(l.hypothesis)
	}
	for _, l := range levels {
		rest := newSet(n)
		for i := range n {
			if l.holds[i/64]&(1<<(i%64)) == 0 {
				rest.add(i)
			}
		}
		note(hypothesis{ofNot, "all but " + l.words, rest})
	}
	for _, f := range figures {
		note(f.hypothesis)
	}
	parts := append(slices.Clone(levels), figures...)
	for a := range parts {
		for b := a + 1; b < len(parts); b++ {
			if x, y := parts[a], parts[b]; x.factor != y.factor {
				note(hypothesis{ofBoth, x.words + " and " + y.words, x.holds.and(y.holds)})
			}
		}
	}
	for a := range levels {
		for b := a + 1; b < len(levels); b++ {
			note(hypothesis{ofEither, levels[a].words + " or " + levels[b].words, levels[a].holds.or(levels[b].holds)})
		}
	}
	return out
}

func toSimple[T, U any](list []T, f func(T) U) (out []U) {
	for _, one := range list {
		out = append(out, f(one))
	}
	return out
}

// bounds are the figures of a factor that part combinations: at most so much, at least so much.
func bounds(places []Place, f int) (out []hypothesis) {
	by := map[float64]Level{}
	for _, p := range places {
		if p[f].Figure == 0 {
			return nil
		}
		by[p[f].Figure] = p[f]
	}
	figures := make([]float64, 0, len(by))
	for v := range by {
		figures = append(figures, v)
	}
	sort.Float64s(figures)
	for i, v := range figures {
		below, beyond := newSet(len(places)), newSet(len(places))
		for j, p := range places {
			if p[f].Figure <= v {
				below.add(j)
			}
			if p[f].Figure >= v {
				beyond.add(j)
			}
		}
		if i < len(figures)-1 {
			out = append(out, hypothesis{ofFigure, by[v].Below, below})
		}
		if i > 0 {
			out = append(out, hypothesis{ofFigure, by[v].Beyond, beyond})
		}
	}
	return out
}

// best gives the hypothesis that separates what failed from the rest, with how many of those in which it holds
// failed, and whether it is more than chance.
func best(places []Place, failed set) (h hypothesis, in, of int, sure bool) {
	all := hypotheses(places)
	n, f := len(places), failed.count()
	number := [kinds]int{}
	for _, one := range all {
		number[one.kind]++
	}
	top := math.Inf(-1)
	for _, one := range all {
		holds := one.holds.count()
		met := one.holds.and(failed).count()
		if met*(n-holds) <= (f-met)*holds { // they fail no more often than the others
			continue
		}
		score := likely(met, holds) + likely(f-met, n-holds) - math.Log(float64(number[one.kind]))
		if score > top+1e-9 {
			top, h, in, of = score, one, met, holds
		}
	}
	if of == 0 {
		return h, 0, 0, false
	}
	return h, in, of, tail(n, f, of, in)*float64(number[h.kind])/shares[h.kind] < surely
}

// likely is the logarithm of how likely it is that k of n fail where each does with the chance k/n.
func likely(k, n int) float64 {
	if k == 0 || k == n {
		return 0
	}
	p := float64(k) / float64(n)
	return float64(k)*math.Log(p) + float64(n-k)*math.Log(1-p)
}

// tail is the chance that of m drawn among n, of which f failed, k or more are of those that failed (the upper
// tail of the hypergeometric distribution).
func tail(n, f, m, k int) float64 {
	choose := func(n, k int) float64 {
		a, _ := math.Lgamma(float64(n + 1))
		b, _ := math.Lgamma(float64(k + 1))
		c, _ := math.Lgamma(float64(n - k + 1))
		return a - b - c
	}
	sum := 0.0
	for i := k; i <= min(f, m); i++ {
		if m-i <= n-f {
			sum += math.Exp(choose(f, i) + choose(n-f, m-i) - choose(n, m))
		}
	}
	return sum
}

// fewNamed is how many combinations are named one by one where nothing is known of what they share.
const fewNamed = 2

// shared says in words what the combinations of a cause have in common, and in how many combinations its cases ran.
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
	keys := make([]string, 0, of)
	for k := range all {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	places, failed := make([]Place, of), newSet(of)
	for i, k := range keys {
		places[i] = all[k]
		if _, met := legs[k]; met {
			failed.add(i)
		}
	}
	h, in, holds, sure := best(places, failed)
	f, rest := failed.count(), of-holds
	switch {
	case sure && in == f && in == holds:
		return of, fmt.Sprintf("only, and always, on %s: in %d of %d combinations", h.words, f, of)
	case sure && in == f:
		return of, fmt.Sprintf("in %d of %d on %s, and none of %d others", in, holds, h.words, rest)
	case sure && in == holds:
		return of, fmt.Sprintf("in all %d on %s, and %d of %d others", in, h.words, f-in, rest)
	case sure:
		return of, fmt.Sprintf("in %d of %d on %s, and %d of %d others", in, holds, h.words, f-in, rest)
	}
	words = fmt.Sprintf("in %d of %d combinations", f, of)
	if f <= fewNamed {
		var named []string
		for i, p := range places {
			if failed[i/64]&(1<<(i%64)) != 0 {
				named = append(named, label(places, p))
			}
		}
		if len(named) > 0 && named[0] != "" {
			return of, words + ": " + strings.Join(named, "; ")
		}
	}
	return of, words + "; nothing that they share tells them from the others better than chance would"
}

// implied tells whether the model says already what a level of the platform or the kind of device is.
func implied(places []Place, p Place, f int) bool {
	m := slices.IndexFunc(p, func(l Level) bool { return l.Factor == "model" })
	if m < 0 || p[f].Factor != "platform" && p[f].Factor != "kind" {
		return false
	}
	return !slices.ContainsFunc(places, func(o Place) bool {
		return o[m].Value == p[m].Value &&
			o[f].Value != p[f].Value
	})
}

// label names a combination by the levels in which combinations differ.
func label(places []Place, p Place) string {
	var words []string
	told := map[string]bool{}
	for f := range p {
		differ := newSet(len(places))
		for i := range places {
			if places[i][f].Value == p[f].Value {
				differ.add(i)
			}
		}
		if p[f].Words == "" || differ.count() == len(places) || told[differ.key()] || implied(places, p, f) {
			continue // the same in all, or told by another factor
		}
		told[differ.key()] = true
		words = append(words, p[f].Words)
	}
	return strings.Join(words, ", ")
}
