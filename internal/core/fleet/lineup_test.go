package fleet

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/states"
)

const crossing = `
lineup: crossing phones
about: what our passengers carry
pick:
  - platform: android
    form: phone
    os: 13..15
  - {kind: real, platform: ios}
skip:
  - model: Minato Fold
pin: kaede-7-2
take: 3
first: [newest_os, least_used]
`

func standing(name, model, kind, platform, os string, used int64) Standing {
	return Standing{Device: Device{Name: name, Model: model, Kind: kind, Platform: platform, OS: os, Form: "phone"},
		State: "idle", Used: used}
}

func TestALineupTakesInItsOrderAndSaysWhyOthersArePassedOver(t *testing.T) {
	l, err := ReadLineup(crossing)
	require.NoError(t, err)
	busy := standing("kaede-7-1", "Kaede 7", Emulator, "android", "14", 5)
	busy.State = "leased"
	away := standing("kaede-7-3", "Kaede 7", Emulator, "android", "15", 0)
	away.State, away.Reason = "unready", "debugging was never allowed"
	choice := l.Choose([]Standing{
		busy, away,
		standing("kaede-7-2", "Kaede 7", Emulator, "android", "13", 90),
		standing("kaede-7-4", "Kaede 7", Emulator, "android", "14.2", 2),
		standing("kaede-7-5", "Kaede 7", Emulator, "android", "16", 0),
		standing("minato-fold-1", "Minato Fold", Emulator, "android", "15", 0),
		standing("aster-12-1", "Aster 12", Simulator, "ios", "18", 0),
		standing("aster-12-r1", "Aster 12", Real, "ios", "18.1", 7),
	}, "Aya", monday)
	require.Equal(t, []Chosen{{"kaede-7-2", "pinned"}, {"aster-12-r1", "iOS 18.1, used 7 times"},
		{"kaede-7-4", "Android 14.2, used 2 times"}}, choice.Taken)
	passed := map[string]string{}
	for _, p := range choice.Passed {
		passed[p.Name] = p.Why
	}
	require.Equal(t, map[string]string{"kaede-7-1": "3 are enough, and others go first",
		"kaede-7-3": "it is unready: debugging was never allowed", "kaede-7-5": "its OS is 16",
		"minato-fold-1": "it is one to skip", "aster-12-1": "its kind is simulator"}, passed)
}

func TestALineupSpreadsOverModelsAndPrefersNewOnes(t *testing.T) {
	l, err := ReadLineup("lineup: broad\nfirst: [newest_model, spread]\ntake: 3\n")
	require.NoError(t, err)
	list := []Standing{standing("a1", "A", Real, "android", "14", 0), standing("a2", "A", Real, "android", "14", 0),
		standing("b1", "B", Real, "android", "14", 0), standing("c1", "C", Real, "android", "14", 0)}
	list[2].Released, list[0].Released, list[1].Released = 2026, 2024, 2024
	names := []string{}
	for _, c := range l.Choose(list, "", monday).Taken {
		names = append(names, c.Name)
	}
	require.Equal(t, []string{"b1", "a1", "c1"}, names)
}

func TestALineupThatIsWrongSaysWhere(t *testing.T) {
	for text, says := range map[string]string{
		"pick: []":                              "begins with its name",
		"lineup: x\npick:\n  - colour: red":     "colour",
		"lineup: x\npick:\n  - os: new":         "13..15",
		"lineup: x\npick:\n  - kind: phone":     "emulator, simulator, real",
		"lineup: x\nfirst: prettiest":           "newest_os",
		"lineup: x\npick:\n  - {os: 15..13}":    "write 13..15, not 15..13",
		"lineup: x\npick:\n  - {trait: nfc}":    "did you mean `traits`?",
		"lineup: x\ntake: -1":                   "how many",
		"lineup: [":                             "cannot be read",
		"lineup: x\npick:\n  - model: {a: b}\n": "a word or a list of words",
	} {
		_, err := ReadLineup(text)
		require.ErrorContains(t, err, says, text)
	}
}

func TestASpanHoldsVersionsAsExactlyAsItIsWritten(t *testing.T) {
	for span, c := range map[Span]struct{ in, out []string }{
		"14": {[]string{"14", "14.2"}, []string{"13", "15"}}, "13..15": {[]string{"13", "14.9", "15.1"},
			[]string{"12", "16"}},
		"14..": {[]string{"14", "20"}, []string{"13.9"}}, "..16.1": {[]string{"9", "16.1.3"}, []string{"16.2"}},
	} {
		for _, v := range c.in {
			require.True(t, span.holds(v), "%s %s", span, v)
		}
		for _, v := range c.out {
			require.False(t, span.holds(v), "%s %s", span, v)
		}
	}
}

func TestEveryDeviceIsEitherTakenOrPassedOverOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var list []Standing
		for i := range rapid.IntRange(0, 30).Draw(t, "devices") {
			s := standing(fmt.Sprintf("d%d", i), rapid.SampledFrom([]string{"A", "B", "C"}).Draw(t, "model"),
				rapid.SampledFrom([]string{Real, Emulator}).Draw(t, "kind"), "android",
				rapid.SampledFrom([]string{"13", "14", "15"}).Draw(t, "os"),
				int64(rapid.IntRange(0, 4).Draw(t, "used")))
			s.State = rapid.SampledFrom([]states.Device{"idle", "leased", "offline", "halted"}).Draw(t, "state")
			list = append(list, s)
		}
		l := Lineup{Name: "x", Take: rapid.IntRange(0, 10).Draw(t, "take"),
			First: rapid.SliceOf(rapid.SampledFrom([]string{NewestOS, LeastUsed, Spread, NewestModel})).Draw(t,
				"first"),
			Pick: []Filter{{Kind: Words{Real}}, {OS: "14.."}}, Pin: Words{"d3"}}
		choice := l.Choose(list, "", monday)
		seen := map[string]bool{}
		for _, c := range append(choice.Taken, choice.Passed...) {
			require.False(t, seen[c.Name])
			seen[c.Name] = true
		}
		require.Len(t, seen, len(list))
		require.True(t, l.Take == 0 || len(choice.Taken) <= l.Take)
		for _, c := range choice.Passed {
			require.NotEmpty(t, c.Why)
		}
	})
}
