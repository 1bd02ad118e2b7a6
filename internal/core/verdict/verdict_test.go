package verdict

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/states"
)

func TestACrossingIsItsLastDecidedResult(t *testing.T) {
	for _, c := range []struct {
		results []Verdict
		want    Crossing
	}{
		{nil, Crossing{Verdict: None}},
		{[]Verdict{Pass}, Crossing{Verdict: Pass}},
		{[]Verdict{Error}, Crossing{Verdict: Error}},
		{[]Verdict{Error, Pass}, Crossing{Verdict: Pass, Recovered: true}},
		{[]Verdict{Pass, Error}, Crossing{Verdict: Pass}},
		{[]Verdict{Fail, Pass}, Crossing{Verdict: Pass, Flaky: true}},
		{[]Verdict{Pass, Fail}, Crossing{Verdict: Fail, Flaky: true}},
		{[]Verdict{Fail, Error, Fail}, Crossing{Verdict: Fail}},
		{[]Verdict{Skip}, Crossing{Verdict: Skip}},
	} {
		require.Equal(t, c.want, OfCrossing(c.results), "%v", c.results)
	}
}

func TestFoldingTakesTheHeaviest(t *testing.T) {
	for _, c := range []struct {
		of   []Verdict
		want Verdict
	}{
		{nil, None},
		{[]Verdict{Pass, Skip}, Pass},
		{[]Verdict{Skip, Skip}, Skip},
		{[]Verdict{Pass, Error}, Error},
		{[]Verdict{Error, Fail, Pass}, Fail},
		{[]Verdict{None, Pass}, Pass},
	} {
		require.Equal(t, c.want, Fold(c.of), "%v", c.of)
	}
}

func TestFoldingDoesNotDependOnOrder(t *testing.T) {
	any := rapid.SliceOf(rapid.SampledFrom([]Verdict{None, Pass, Fail, Error, Skip}))
	rapid.Check(t, func(t *rapid.T) {
		list := any.Draw(t, "verdicts")
		mixed := rapid.Permutation(list).Draw(t, "mixed")
		require.Equal(t, Fold(list), Fold(mixed))
		cut := rapid.IntRange(0, len(list)).Draw(t, "cut")
		require.Equal(t, Fold(list), Fold([]Verdict{Fold(list[:cut]), Fold(list[cut:])}))
	})
}

func TestWhatALegRunsNext(t *testing.T) {
	retry := Retry{AfterError: 1, AfterFail: 2}
	so := map[int]Crossing{0: {Verdict: Pass}, 1: {Verdict: Fail}, 2: {Verdict: Error}}
	next := After([]int{0, 1, 2, 3}, so, retry, Used{})
	require.Equal(t, Next{Cases: []int{1, 2, 3}, Elsewhere: true, Used: Used{1, 1}}, next,
		"what passed stands; what nobody judged goes elsewhere")

	next = After([]int{0, 1, 2, 3}, so, retry, next.Used)
	require.Equal(t, Next{Cases: []int{1}, Used: Used{1, 2}}, next, "trouble is tried once more, not for ever")

	require.Empty(t, After([]int{0, 1, 2, 3}, so, retry, next.Used).Cases)
	require.Empty(t, After([]int{0}, so, retry, Used{}).Cases)
}

// Every shape of a run that was not carried out as it was asked for.
func TestAnIncompleteRunNeverPasses(t *testing.T) {
	leg := func(state states.Leg, results map[int][]Verdict) Outcome {
		return Outcome{Suite: 1, State: state, Cases: []int{0, 1}, Results: results}
	}
	whole := map[int][]Verdict{0: {Pass}, 1: {Pass}}
	for name, c := range map[string]struct {
		legs []Outcome
		want Verdict
	}{
		"all of it passed":          {[]Outcome{leg("finished", whole), leg("finished", whole)}, Pass},
		"one combination never ran": {[]Outcome{leg("finished", whole), leg("finished", nil)}, Error},
		"none ever ran":             {[]Outcome{leg("finished", nil), leg("finished", nil)}, Error},
		"one case of one combination was never decided": {[]Outcome{leg("finished", whole),
			leg("finished", map[int][]Verdict{0: {Pass}})}, Error},
		"one was tried in vain": {[]Outcome{leg("finished", whole),
			leg("finished", map[int][]Verdict{0: {Pass}, 1: {Error, Error}})}, Error},
		"an error was made good": {[]Outcome{leg("finished", whole),
			leg("finished", map[int][]Verdict{0: {Pass}, 1: {Error, Pass}})}, Pass},
		"one failed and one never ran": {[]Outcome{leg("finished", map[int][]Verdict{0: {Fail},
			1: {Pass}}), leg("finished", nil)}, Fail},
		"one was skipped and one never ran": {[]Outcome{leg("finished", map[int][]Verdict{0: {Skip},
			1: {Skip}}), leg("finished", nil)}, Error},
		"it was cancelled before anything was decided": {[]Outcome{leg("cancelled", nil), leg("cancelled", nil)}, None},
		"it was cancelled in the middle": {[]Outcome{leg("finished", whole), leg("cancelled", nil)},
			Pass},
		"it was cancelled after a failure": {[]Outcome{leg("cancelled", map[int][]Verdict{0: {Fail}}),
			leg("cancelled", nil)}, Fail},
		"it is still under way":    {[]Outcome{leg("running", map[int][]Verdict{0: {Pass}})}, Pass},
		"there was nothing to run": {nil, None},
	} {
		require.Equal(t, c.want, OfRun(c.legs), name)
	}
}

func TestAnErrorOfTheScriptIsNotTriedAgain(t *testing.T) {
	so := map[int]Crossing{0: {Verdict: Error, Final: true}, 1: {Verdict: Error}, 2: {Verdict: Pass}}
	next := After([]int{0, 1, 2, 3}, so, Retry{AfterError: 1}, Used{})
	require.Equal(t, []int{1, 3}, next.Cases)
}

func TestAPassAfterAnErrorIsToldAsSuch(t *testing.T) {
	require.True(t, OfCrossing([]Verdict{Error, Pass}).Recovered)
	require.False(t, OfCrossing([]Verdict{Pass, Error}).Recovered)
	require.False(t, OfCrossing([]Verdict{Error, Fail}).Recovered)
}
