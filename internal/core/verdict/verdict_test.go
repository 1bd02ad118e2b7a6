package verdict

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestACrossingIsItsLastDecidedResult(t *testing.T) {
	for _, c := range []struct {
		results []Verdict
		want    Crossing
	}{
		{nil, Crossing{None, false}},
		{[]Verdict{Pass}, Crossing{Pass, false}},
		{[]Verdict{Error}, Crossing{Error, false}},
		{[]Verdict{Error, Pass}, Crossing{Pass, false}},
		{[]Verdict{Pass, Error}, Crossing{Pass, false}},
		{[]Verdict{Fail, Pass}, Crossing{Pass, true}},
		{[]Verdict{Pass, Fail}, Crossing{Fail, true}},
		{[]Verdict{Fail, Error, Fail}, Crossing{Fail, false}},
		{[]Verdict{Skip}, Crossing{Skip, false}},
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
	require.Equal(t, Next{Cases: []int{1, 2, 3}, Elsewhere: true, Used: Used{1, 1}}, next, "what passed stands; what nobody judged goes elsewhere")

	next = After([]int{0, 1, 2, 3}, so, retry, next.Used)
	require.Equal(t, Next{Cases: []int{1}, Used: Used{1, 2}}, next, "trouble is tried once more, not for ever")

	require.Empty(t, After([]int{0, 1, 2, 3}, so, retry, next.Used).Cases)
	require.Empty(t, After([]int{0}, so, retry, Used{}).Cases)
}

func TestStatesChangeOnlyAlongTheirTables(t *testing.T) {
	require.NoError(t, Device.Check("leased", "resetting"))
	require.Error(t, Device.Check("leased", "idle"), "a device is cleaned before it is idle")
	require.Error(t, Run.Check("finished", "running"))
	require.NoError(t, Leg.Check("running", "waiting"))
	require.Error(t, Leg.Check("finished", "waiting"))
}
