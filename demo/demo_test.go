package demo

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contract"
	"yamato/internal/core/script"
)

func TestTheSameVersionAlwaysGivesTheSameBytes(t *testing.T) {
	for _, v := range append(slices.Clone(Versions), Newest) {
		first, err := Packages(v, time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		second, err := Packages(v, time.Date(2026, 11, 30, 23, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		require.Equal(t, first, second)
		require.Len(t, first, 4)
	}
	_, err := Packages(Version{Name: "9.9.9"}, time.Now())
	require.ErrorContains(t, err, "there is no version 9.9.9")
}

func TestTheVersionsDifferInWhatTheyDo(t *testing.T) {
	old, err := Program(Versions[0])
	require.NoError(t, err)
	broken, err := Program(Versions[1])
	require.NoError(t, err)
	require.NotContains(t, string(old), "Math.min(passengers, 2)")
	require.Contains(t, string(broken), "Math.min(passengers, 2)")
}

func TestTheSampleSuitesHaveNoFindings(t *testing.T) {
	suites, err := Suites()
	require.NoError(t, err)
	require.NotEmpty(t, suites)
	names := map[string]bool{}
	for file, text := range suites {
		if script.IsShared(text) {
			continue // read with the suites that use it
		}
		s, findings := script.ReadWith(text, script.FileMap(suites))
		require.Empty(t, findings, file)
		for _, c := range s.Cases {
			names[c.Name] = true
		}
	}
	require.True(t, names[fareCase] && names[timetableCase], "the cases that Check speaks of are there")
}

// outcome is a run in which every case of every model ends as told.
func outcome(state func(name, model string) contract.Crossing) contract.RunDetail {
	var d contract.RunDetail
	for _, model := range []string{"Kaede 7", "Kaede 7 Lite", "Aster Petit"} {
		leg := contract.Leg{Combination: contract.Combination{Model: model}}
		for _, name := range []string{fareCase, timetableCase, "one passenger pays the single fare"} {
			x := state(name, model)
			x.Name = name
			leg.Cases = append(leg.Cases, x)
		}
		d.Legs = append(d.Legs, leg)
	}
	return d
}

func good(string, string) contract.Crossing { return contract.Crossing{Verdict: "pass"} }

func asDocumented(name, model string) contract.Crossing {
	switch {
	case name == fareCase:
		return contract.Crossing{Verdict: "fail"}
	case name == timetableCase && model != "Kaede 7":
		return contract.Crossing{Verdict: "pass", Flaky: true}
	}
	return contract.Crossing{Verdict: "pass"}
}

func TestTheOutcomeIsComparedCrossingByCrossing(t *testing.T) {
	german := func(name, model string) contract.Crossing {
		if name == fareCase {
			return contract.Crossing{Verdict: "fail"}
		}
		return contract.Crossing{Verdict: "pass"}
	}
	require.Empty(t, Check([]contract.RunDetail{outcome(good), outcome(asDocumented), outcome(german)}, Seed))
	require.Len(t, Check([]contract.RunDetail{outcome(good)}, Seed), 1)

	wrong := Check([]contract.RunDetail{outcome(asDocumented), outcome(good), outcome(german)}, Seed)
	require.Len(t, wrong, 3+2+3+2, "each that differs is told")
	require.Contains(t, strings.Join(wrong, "\n"),
		`3.2.0, "three passengers pay three single fares" on Kaede 7: pass instead of fail`)

	lucky := func(name, model string) contract.Crossing {
		x := asDocumented(name, model)
		x.Flaky = false
		return x
	}
	require.Len(t, Check([]contract.RunDetail{outcome(good), outcome(lucky), outcome(german)}, Seed), 2,
		"the seed that is documented is flaky")
	require.Empty(t, Check([]contract.RunDetail{outcome(good), outcome(lucky), outcome(german)}, 8),
		"another may be lucky")
}
