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
		"in all 4 combinations":                              {1, 2, 3, 4},
		"only, and always, on Android":                       {1, 2},
		"only, and always, on at most Aster Petit":           {2, 4}, // 2 and 3 GB; the others have 6 and 8
		"only, and always, on at least Kaede 7 and Kaede 7":  {1},
		"in 2 of 4 combinations that have nothing in common": {1, 4},
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
				leg++
				dp := fmt.Sprintf("%g dp wide", wide)
				place[leg] = Place{{Factor: "width", Value: dp, Figure: wide, Below: "screens at most " + dp, Beyond: "screens at least " + dp},
					{Factor: "language", Value: language, Words: language}, {Factor: "text size", Value: size, Words: "text at " + size}}
			}
		}
	}
	for want, fails := range map[string]func(wide, language, size string) bool{
		"only, and always, on screens at most 324 dp wide and de-DE": func(w, l, _ string) bool { return w == "324 dp wide" && l == "de-DE" },
		"only, and always, on pt-PT and text at 200%":                func(_, l, s string) bool { return l == "pt-PT" && s == "200%" },
		"only, and always, on screens at most 364 dp wide, de-DE and text at 200%": func(w, l, s string) bool {
			return w != "408 dp wide" && l == "de-DE" && s == "200%"
		},
		"in 12 of 18 combinations: always but on en-GB": func(_, l, _ string) bool { return l != "en-GB" },
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
