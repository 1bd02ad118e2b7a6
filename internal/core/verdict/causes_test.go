package verdict

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// fleetOf gives four combinations by leg: two emulators, two simulators.
func fleetOf() map[int64]Place {
	place := func(platform, model string, gb float64) Place {
		return Place{
			{Factor: "memory", Figure: gb, Below: "at most " + model, Beyond: "at least " + model},
			{Factor: "platform", Value: platform, Words: platform},
			{Factor: "model", Value: model, Words: model},
			{Factor: "language", Value: "en-GB", Words: "en-GB"},
		}
	}
	return map[int64]Place{1: place("Android", "Kaede 7", 8), 2: place("Android", "Kaede Mini", 2),
		3: place("iOS", "Aster 12", 6), 4: place("iOS", "Aster Petit", 3)}
}

func everywhere(name string, place map[int64]Place) (ran []Met) {
	for leg := range place {
		ran = append(ran, Met{Suite: "s", Case: name, Leg: leg, Verdict: Pass})
	}
	return ran
}

func TestWhatSaysTheSameIsOneCauseWhateverItsFigures(t *testing.T) {
	place := fleetOf()
	fail := func(name, actual string, leg int64) Met {
		return Met{Suite: "s", Case: name, Leg: leg, Verdict: Fail, Kind: "contradicted",
			Expected: "number in #total = 9.45", Actual: actual}
	}
	causes := Causes([]Met{fail("a", "it is 6.3", 1), fail("a", "it is 7", 2), fail("b", "it is 1,200.5", 3),
		fail("a", "it is not there", 4)}, place, append(everywhere("a", place), everywhere("b", place)...))
	require.Len(t, causes, 2)
	require.Equal(t, 3, causes[0].Crossings)
	require.Equal(t, []string{"a", "b"}, causes[0].Cases)
	require.Equal(t, "it is not there", causes[1].Actual)
}

func TestWhatTheCombinationsOfACauseShareIsSaid(t *testing.T) {
	place := fleetOf()
	for want, legs := range map[string][]int64{
		"in all 4 combinations":                       {1, 2, 3, 4},
		"in 2 of 4 combinations: Kaede 7; Kaede Mini": {1, 2}, // of four, chance does as well
		"in 1 of 4 combinations: Kaede 7":             {1},
		"in 3 of 4 combinations; nothing that they share tells them from the others better than chance would": {1, 2,
			4},
	} {
		var met []Met
		for _, leg := range legs {
			met = append(met, Met{Suite: "s", Case: "a", Leg: leg, Verdict: Fail, Actual: "it is not there"})
		}
		causes := Causes(met, place, everywhere("a", place))
		require.Len(t, causes, 1)
		require.Equal(t, want, causes[0].Shared)
		require.Equal(t, 4, causes[0].Of)
	}
}

// What no level explains alone, two or three together may: a narrow screen, in German.
func TestLevelsThatOnlyTogetherMakeACauseAreSaid(t *testing.T) {
	place := map[int64]Place{}
	var leg int64
	for _, wide := range []float64{324, 364, 408} {
		for _, language := range []string{"en-GB", "de-DE", "pt-PT"} {
			for _, size := range []string{"100%", "200%"} {
				for _, network := range []string{"none", "slow", "normal"} {
					leg++
					dp := fmt.Sprintf("%g dp wide", wide)
					place[leg] = Place{{Factor: "width", Value: dp, Figure: wide, Below: "screens at most " + dp,
						Beyond: "screens at least " + dp},
						{Factor: "language", Value: language, Words: language}, {Factor: "text size", Value: size,
							Words: "text at " + size},
						{Factor: "network", Value: network, Words: "network " + network}}
				}
			}
		}
	}
	for want, fails := range map[string]func(wide, language, size string) bool{
		"only, and always, on de-DE and screens at most 324 dp wide: in 6 of 54 combinations": func(w, l,
			_ string) bool {
			return w == "324 dp wide" && l == "de-DE"
		},
		"only, and always, on pt-PT and text at 200%: in 9 of 54 combinations": func(_, l,
			s string) bool {
			return l == "pt-PT" && s == "200%"
		},
		"only, and always, on all but en-GB: in 36 of 54 combinations": func(_, l,
			_ string) bool {
			return l != "en-GB"
		},
	} {
		var met []Met
		for leg, p := range place {
			if fails(p[0].Value, p[1].Value, p[2].Value) {
				met = append(met, Met{Suite: "s", Case: "a", Leg: leg, Verdict: Fail, Actual: "they overlap"})
			}
		}
		causes := Causes(met, place, everywhere("a", place))
		require.Len(t, causes, 1)
		require.Equal(t, want, causes[0].Shared)
	}
}

func TestWhatFailedForGoodSpeaksForItsCause(t *testing.T) {
	place := fleetOf()
	causes := Causes([]Met{
		{Suite: "s", Case: "a", Leg: 1, Verdict: Pass, Flaky: true, Kind: "missing", Actual: "it is not there"},
		{Suite: "s", Case: "a", Leg: 2, Verdict: Fail, Kind: "missing", Actual: "it is not there"},
		{Suite: "s", Case: "a", Leg: 3, Verdict: Fail, Flaky: true, Kind: "missing", Actual: "it is not there"},
		{Suite: "s", Case: "b", Leg: 1, Verdict: Error, Actual: "the cable dropped"},
	}, place, append(everywhere("a", place), everywhere("b", place)...))
	require.Equal(t, []int64{2, 1}, []int64{causes[0].Leg, causes[1].Leg})
	require.Equal(t, Fail, causes[0].Verdict)
	require.Equal(t, []int{3, 2}, []int{causes[0].Crossings, causes[0].Flaky})
}

func TestSteadyFailuresComeBeforeFlakyOnesAndThoseBeforeErrors(t *testing.T) {
	place := fleetOf()
	met := []Met{
		{Suite: "s", Case: "e", Leg: 1, Verdict: Error, Actual: "the cable dropped"},
		{Suite: "s", Case: "f", Leg: 1, Verdict: Pass, Flaky: true, Actual: "there are 0"},
		{Suite: "s", Case: "a", Leg: 1, Verdict: Fail, Actual: "it is not there"},
	}
	var order []string
	for _, c := range Causes(met, place, everywhere("a", place)) {
		order = append(order, c.Case)
	}
	require.Equal(t, []string{"a", "f", "e"}, order)
}

func TestOneFaultIsOneCauseInEveryLanguageAndFormOfNumbers(t *testing.T) {
	place := map[int64]Place{}
	for leg, language := range map[int64]string{1: "en-GB", 2: "de-DE", 3: "pt-PT", 4: "en-GB"} {
		place[leg] = Place{{Factor: "language", Value: language, Words: language},
			{Factor: "model", Value: fmt.Sprint(leg), Words: fmt.Sprint("model ", leg)}}
	}
	shows := func(leg int64, suite, step, text string) Met {
		return Met{Suite: suite, Case: "a", Leg: leg, Verdict: Fail, Kind: "contradicted", Step: step,
			Expected: `#total to show "€9.45"`, Actual: "it shows " + text}
	}
	count := func(met ...Met) int { return len(Causes(met, place, nil)) }
	require.Equal(t, 1, count(shows(1, "s", "x", `"€6.30"`), shows(2, "s", "x", `"6,30 €"`),
		shows(3, "s", "x", "\"6,30\u00a0€\""), shows(4, "s", "x", `"EUR 6.30"`)))
	require.Equal(t, 1, count(shows(1, "s", "x", `"Not found"`), shows(2, "s", "x", `"Nicht gefunden"`),
		shows(3, "s", "x", `"Não encontrado"`)), "a word for it in each language")
	require.Equal(t, 2, count(shows(1, "s", "x", `"Not found"`), shows(4, "s", "x", `"Too late"`)),
		"other words in one language")
	require.Equal(t, 2, count(shows(1, "s", "x", `"€6.30"`), shows(1, "s", "y", `"€6.30"`)), "another step")
	require.Equal(t, 2, count(shows(1, "s", "x", `"€6.30"`), shows(1, "t", "x", `"€6.30"`)), "another suite")
	for _, same := range [][]string{{"€6.30", "6,30 €", "-6.30€", "EUR 6.30", "6'000.50 CHF"},
		{"at 09:41", "at 9:41 pm"}, {"1 234,5 km", "1.234,5 km"}, {"٣٫١٥", "3.15"}} {
		for _, s := range same {
			require.Equal(t, blank(same[0]), blank(s), s)
		}
	}
	require.NotEqual(t, blank("12 boats"), blank("12 cars"))
}
