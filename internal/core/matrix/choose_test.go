package matrix

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
)

func readGrid(t require.TestingT, text string) *Document {
	d, err := ReadDocument([]byte(text))
	require.NoError(t, err)
	return d
}

const crossing = `matrix: crossing
devices:
  - {model: Kaede 7, platform: android, os: 14, form: phone, count: 2, abilities: [rotation, text size]}
  - {model: Kaede Mini, platform: android, os: 13, form: phone, abilities: [text size]}
  - {model: Minato Tab 10, platform: android, os: 15, form: tablet, site: rack, abilities: [rotation, text size]}
  - {model: Aster 12, platform: ios, os: 18, kind: simulator, form: phone, abilities: [rotation, text size]}
factors:
  model: from devices
  language: [en-GB, de-DE]
  rotation: [portrait, landscape]
  text size: [100%, 200%]
rules:
  - skip: {form: phone, rotation: landscape, text size: 200%}
    why: nobody reads so
  - if: {platform: ios}
    then: {language: en-GB}
`

// Whatever is asked for, each combination is one that devices and rules allow, and each pair that they
// allow is there, by trying every one.
func TestCombinationsAreWhatDevicesAndRulesAllow(t *testing.T) {
	allowed := func(l map[string]string) bool {
		phone := l["model"] != "Minato Tab 10"
		return !(l["model"] == "Kaede Mini" && l["rotation"] == "landscape") && // it lacks the ability
			!(phone && l["rotation"] == "landscape" && l["text size"] == "200%") &&
			!(l["model"] == "Aster 12" && l["language"] != "en-GB")
	}
	pairs := func(list []map[string]string) map[string]bool {
		out := map[string]bool{}
		for _, l := range list {
			for a, x := range l {
				for b, y := range l {
					if a < b {
						out[a+x+b+y] = true
					}
				}
			}
		}
		return out
	}
	every := []map[string]string{}
	for _, m := range []string{"Kaede 7", "Kaede Mini", "Minato Tab 10", "Aster 12"} {
		for _, lang := range []string{"en-GB", "de-DE"} {
			for _, r := range []string{"portrait", "landscape"} {
				for _, s := range []string{"100%", "200%"} {
					if l := (map[string]string{"model": m, "language": lang, "rotation": r,
						"text size": s}); allowed(l) {
						every = append(every, l)
					}
				}
			}
		}
	}
	for _, cover := range []string{"all", "each", "pairs", "triples"} {
		text := crossing + "cover: " + cover + "\n"
		d := readGrid(t, text)
		sel, err := d.Choose([]byte(text), 200_000, nil)
		require.NoError(t, err)
		var got []map[string]string
		for _, p := range sel.Picked {
			l := map[string]string{}
			for i, f := range sel.Factors {
				l[f.Name] = p.Levels[i]
			}
			require.True(t, allowed(l), "%v", l)
			got = append(got, l)
		}
		switch cover {
		case "all":
			require.Len(t, got, len(every))
			require.Len(t, sel.LeftOut, sel.All-len(every), "each that is left out keeps its reason")
			for _, l := range sel.LeftOut {
				require.NotEmpty(t, l.Why[0])
			}
		case "pairs", "triples":
			require.Equal(t, pairs(every), pairs(got))
		}
		never := map[string]string{}
		for _, n := range sel.Forbidden {
			never[n.Levels[0].Value+" "+n.Levels[1].Value] = strings.Join(n.Why, "; ")
		}
		require.Equal(t, "devices without the ability `rotation`", never["Kaede Mini landscape"])
		require.Equal(t, "rule 2: if platform ios then language en-GB", never["Aster 12 de-DE"])
		require.Len(t, never, 2, "%v", never)
	}
}

func TestWhatCannotBeIsToldWithTheFewestRulesThatHaveItSo(t *testing.T) {
	text := `matrix: m
factors:
  language: [en-GB, de-DE]
  appearance: [light, dark]
  traveller: [adult, child]
rules:
  - skip: {traveller: adult, appearance: dark}
  - if: {language: de-DE}
    then: {appearance: dark}
  - if: {language: de-DE}
    then: {traveller: adult}
  - skip: {traveller: child, appearance: light}
`
	sel, err := readGrid(t, text).Choose([]byte(text), 100_000, nil)
	require.NoError(t, err)
	require.Len(t, sel.Dead, 1)
	require.Equal(t, "de-DE", sel.Dead[0].Levels[0].Value)
	require.Len(t, sel.Dead[0].Why, 3, "the fourth rule has no part in it: %v", sel.Dead[0].Why)

	text += "  - skip: {language: en-GB}\n"
	_, err = readGrid(t, text).Choose([]byte(text), 100_000, nil)
	var c *Contradiction
	require.True(t, errors.As(err, &c), "%v", err)
	require.Len(t, c.Rules, 4)
	require.NotContains(t, strings.Join(c.Rules, " "), "rule 4")

	text = "matrix: m\nfactors: {language: [en-GB], appearance: [light, dark]}\nrules:\n  - skip: {appearance: dark}\nmust:\n  - {appearance: dark}\n"
	_, err = readGrid(t, text).Choose([]byte(text), 0, nil)
	require.ErrorContains(t, err, "line 6: it cannot be: rule 1: skip appearance dark")
}

func TestABudgetAndWhatRanLatelyLeaveLess(t *testing.T) {
	d := readGrid(t, crossing)
	choose := func(change func(g *Grid, w *Wanted)) Selection {
		g := d.Grid
		w := Wanted{Groups: groupsOf(t, d), Effort: 200_000, Cost: func(g *Group, _ fleet.Levels) int64 {
			return int64(1+len(g.Members)) * time.Minute.Milliseconds()
		}}
		change(&g, &w)
		sel, err := Choose(&g, w)
		require.NoError(t, err)
		return sel
	}
	whole := choose(func(*Grid, *Wanted) {})
	require.Equal(t, whole.Coverage[1].Possible, whole.Coverage[1].Covered)
	few := choose(func(g *Grid, _ *Wanted) { g.Budget.Combinations = 3 })
	require.Len(t, few.Picked, 3)
	require.NotEmpty(t, few.Coverage[1].Missing)
	cheap := choose(func(g *Grid, _ *Wanted) { g.Budget.Minutes = 6 })
	require.LessOrEqual(t, cheap.Cost, int64(6*60_000))
	require.NotEmpty(t, cheap.Picked)
	rest := choose(func(_ *Grid, w *Wanted) {
		for _, p := range whole.Picked[:5] {
			had := map[string]string{}
			for i, f := range whole.Factors {
				had[f.Name] = p.Levels[i]
			}
			w.Had = append(w.Had, had)
		}
	})
	require.Less(t, len(rest.Picked), len(whole.Picked))
	leg, ok := whole.LegOf(whole.Picked[0], groupsOf(t, d))
	require.True(t, ok)
	require.NotEmpty(t, leg.Combination.Levels.Of(feel.Rotation))
}

func groupsOf(t *testing.T, d *Document) (out []Group) {
	t.Helper()
	for i, k := range d.Devices {
		class := fleet.Class{Kind: k.Kind, Model: k.Model, Platform: k.Platform, OS: string(k.OS)}
		g := Group{Leg: Leg{Combination: fleet.Combination{Class: class}}, Device: fleet.Device{Form: k.Form}.As(class)}
		for n := range max(1, k.Count) {
			g.Members = append(g.Members, Member{ID: int64(10*i + n), Abilities: k.Abilities})
		}
		out = append(out, g)
	}
	return out
}

// A leg is for the devices of its site, where sites are varied.
func TestSitesAreTakenApartWhereTheyAreVaried(t *testing.T) {
	list := candidates(fleet.Device{Name: "a", Site: "bench", Model: "Kaede 7"}, fleet.Device{Name: "b", Site: "rack",
		Model: "Kaede 7"},
		fleet.Device{Name: "c", Site: "rack", Model: "Kaede 7"})
	legs := []Leg{{Combination: fleet.Of(list[0].Device, nil), Never: []int64{3}}}
	together := Groups(legs, list, false)
	require.Len(t, together, 1)
	require.Len(t, together[0].Members, 2)
	apart := Groups(legs, list, true)
	require.Len(t, apart, 2)
	require.Equal(t, []int64{3, 2}, apart[0].Never)
	require.Equal(t, []int64{3, 1}, apart[1].Never)
	sel, err := Choose(&Grid{Factors: Factors{{Name: fleet.Site, From: FromDevices}}, Cover: "all"},
		Wanted{Groups: apart})
	require.NoError(t, err)
	require.Equal(t, "bench", sel.Levels(sel.Picked[0]).Of(fleet.Site))
	require.Len(t, sel.Picked, 2)
}

// However a document is written, it is refused in words or chosen from, within bounds.
func TestDocumentsOfAnyShapeAreReadOrRefused(t *testing.T) {
	for says, text := range map[string]string{
		"line 3: language has no level fr-FR; there are en-GB": "matrix: m\nfactors: {language: [en-GB]}\nmust: [{language: fr-FR}]\n",
		"there is no device to take levels of model from":      "matrix: m\nfactors: {model: from devices}\n",
		"the build does not tell its languages":                "matrix: m\nfactors: {language: from build}\n",
		"nothing is varied":                                    "matrix: m\n",
		"nothing has a form":                                   "matrix: m\nfactors: {language: [en-GB]}\nrules: [{skip: {form: phone}}]\n",
		"a device has a model, a platform and an OS":           "matrix: m\ndevices: [{model: x}]\nfactors: {language: [en-GB]}\n",
		"levels cannot be taken from":                          "matrix: m\nfactors: {language: from the sea}\n",
	} {
		d, err := ReadDocument([]byte(text))
		if err == nil {
			_, err = d.Choose([]byte(text), 1000, nil)
		}
		require.ErrorContains(t, err, says)
	}
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.SliceOfN(rapid.SampledFrom([]string{"language", "rotation", "de-DE", "portrait", "model",
			"from devices", "x1", "pairs", "100%"}), 0, 6)
		text := fmt.Sprintf("matrix: m\nfactors:\n  language: [%s]\n  %s: [%s]\nrules:\n  - skip: {%s: %s}\ncover: %s\n",
			strings.Join(words.Draw(t, "a"), ", "), rapid.SampledFrom([]string{"rotation", "traveller", "model",
				"language"}).Draw(t, "f"),
			strings.Join(words.Draw(t, "b"), ", "), strings.Join(words.Draw(t, "c"), ""),
			strings.Join(words.Draw(t, "d"), ""),
			rapid.SampledFrom([]string{"all", "each", "pairs", "triples", "x"}).Draw(t, "cover"))
		d, err := ReadDocument([]byte(text))
		if err != nil {
			return
		}
		sel, err := d.Choose([]byte(text), 1000, nil)
		if err == nil {
			require.False(t, slices.ContainsFunc(sel.Picked,
				func(p Picked) bool { return len(p.Levels) != len(sel.Factors) }))
		}
	})
}
