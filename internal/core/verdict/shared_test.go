package verdict

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// gridOf gives n combinations of models, languages, rotations, appearances and sizes of text, drawn at random of all.
func gridOf(r *rand.Rand, n int) []Place {
	var all []Place
	for m := range 7 {
		for _, l := range []string{"en-GB", "de-DE", "pt-PT"} {
			for _, h := range []string{"upright", "across"} {
				for _, a := range []string{"light", "dark"} {
					for _, t := range []string{"100%", "130%", "200%"} {
						wide := []float64{316, 364, 408, 408, 676, 388, 324}[m]
						if h == "across" {
							wide = []float64{632, 792, 896, 896, 840, 848, 580}[m]
						}
						dp := fmt.Sprintf("%g dp wide", wide)
						all = append(all, Place{{Factor: "width", Value: dp, Figure: wide,
							Below: "screens at most " + dp, Beyond: "screens at least " + dp},
							{Factor: "model", Value: fmt.Sprint("m", m), Words: fmt.Sprint("model ", m)},
							{Factor: "platform", Value: fmt.Sprint(m % 2), Words: fmt.Sprint("platform ", m%2)},
							{Factor: "language", Value: l, Words: l}, {Factor: "rotation", Value: h, Words: h},
							{Factor: "appearance", Value: a, Words: a}, {Factor: "text size", Value: t,
								Words: "text at " + t}})
					}
				}
			}
		}
	}
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	return all[:n]
}

// planted draws a cause among those that at least a sixth, and at most two thirds, of the combinations have.
func planted(r *rand.Rand, places []Place) hypothesis {
	list := hypotheses(places)
	kind := []int{ofLevel, ofNot, ofBoth, ofEither}[r.IntN(4)] // each as often
	for tries := 0; ; tries++ {
		h := list[r.IntN(len(list))]
		if c := h.holds.count(); h.kind == kind && (tries > 10_000 || 6*c >= len(places) && 3*c <= 2*len(places)) {
			return h
		}
	}
}

// fails gives which combinations fail of a cause, with failures that pass and strays.
func fails(r *rand.Rand, h hypothesis, n int, noise float64) set {
	out := newSet(n)
	for i := range n {
		holds := h.holds != nil && h.holds[i/64]&(1<<(i%64)) != 0
		if holds && r.Float64() >= noise || !holds && r.Float64() < noise {
			out.add(i)
		}
	}
	return out
}

// exact is a search by likelihood alone over all hypotheses, which always names one.
func exact(places []Place, failed set) set {
	top, out := math.Inf(-1), set(nil)
	n, f := len(places), failed.count()
	for _, h := range hypotheses(places) {
		c := h.holds.count()
		m := h.holds.and(failed).count()
		if score := likely(m, c) + likely(f-m, n-c); m*(n-c) > (f-m)*c && score > top+1e-9 {
			top, out = score, h.holds
		}
	}
	return out
}

func TestWhatFailuresShareIsFoundAmongStraysAndNotWhereThereIsNothing(t *testing.T) {
	const trials = 150
	for _, c := range []struct {
		n     int
		noise float64
		least float64
	}{{48, 0, 0.98}, {48, 0.1, 0}, {120, 0.1, 0.95}, {252, 0.1, 0.98}} {
		r := rand.New(rand.NewPCG(7, uint64(c.n)))
		right, searched, wrong := 0, 0, 0
		for range trials {
			places := gridOf(r, c.n)
			h := planted(r, places)
			failed := fails(r, h, c.n, c.noise)
			got, _, _, sure := best(places, failed)
			switch {
			case sure && got.holds.key() == h.holds.key():
				right++
			case sure:
				wrong++
			}
			if e := exact(places, failed); e != nil && e.key() == h.holds.key() {
				searched++
			}
		}
		t.Logf("%d combinations, noise %.0f %%: right %.1f %%, an exact search %.1f %%, named another %.1f %%", c.n,
			100*c.noise,
			100*float64(right)/trials, 100*float64(searched)/trials, 100*float64(wrong)/trials)
		require.GreaterOrEqual(t, float64(right)/trials, c.least)
	}
	for _, n := range []int{4, 12, 48, 120} {
		r := rand.New(rand.NewPCG(8, uint64(n)))
		claims := 0
		const many = 300
		for range many {
			places := gridOf(r, n)
			if _, _, _, sure := best(places, fails(r, hypothesis{}, n, 0.05+0.5*r.Float64())); sure {
				claims++
			}
		}
		t.Logf("%d combinations, nothing planted: something is named in %.1f %%", n, 100*float64(claims)/many)
		require.Less(t, float64(claims)/many, 0.02)
	}
}
