package matrix

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/remedy"
)

var now = time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)

func candidates(list ...fleet.Device) []Candidate {
	var out []Candidate
	for i, d := range list {
		out = append(out, Candidate{ID: int64(i + 1), Standing: fleet.Standing{Device: d, State: "idle"}})
	}
	return out
}

var english = fleet.Levels{{Factor: feel.Language, Value: "en-GB"}}

func TestDevicesOfOneClassAreOneCombination(t *testing.T) {
	kaede := fleet.Device{Kind: "emulator", Platform: "android", Model: "Kaede 7", OS: "14"}
	older := kaede
	older.OS = "11"
	aster := fleet.Device{Kind: "simulator", Platform: "ios", Model: "Aster 12", OS: "18"}
	apk := appfile.Package{Kind: appfile.Android, MinimumOS: "13"}

	m := Combine([]appfile.Package{apk}, candidates(aster, kaede, older, kaede), nil,
		fleet.Levels{{Factor: feel.Language, Value: "de-DE"}}, "Aya", now)
	require.Equal(t, []Leg{{Combination: fleet.Of(kaede, fleet.Levels{{Factor: feel.Language, Value: "de-DE"}}),
		Package: 0}}, m.Legs)
	require.Len(t, m.LeftOut, 2, "an OS that is too old, and a platform without a package")
	require.Equal(t, "needs Android 13; this one has 11", m.LeftOut[0].Reasons[0].Why)

	m = Combine([]appfile.Package{apk}, candidates(kaede, older), []fleet.Pick{"Kaede 7 14", "Kaede 9"}, english, "Aya",
		now)
	require.Len(t, m.Legs, 1)
	require.Empty(t, m.LeftOut)
	require.Equal(t, []fleet.Pick{"Kaede 9"}, m.Unknown)
}

func TestALegNeverRunsOnDevicesOfItsClassThatDoNotFitOrMayNotBeUsed(t *testing.T) {
	phone := fleet.Device{Kind: "real", Platform: "android", Model: "Kaede 7", OS: "14"}
	bos, named := phone, phone
	bos.Name, bos.Owner, bos.Use.People = "bos", "Bo", []string{"Ines"}
	named.Name = "clashing"
	list := candidates(phone, bos, named, phone)
	list[2].Condition.Installed = []fleet.Installed{{ID: "example.tideline", Signer: "bb"}}
	list[3].State = "unready"
	list[3].Condition.Checks = []fleet.Check{{ID: "debugging", Why: "debugging was never allowed", Remedy: "allow it"}}
	apk := []appfile.Package{{Kind: appfile.Android, ApplicationID: "example.tideline",
		Signing: &appfile.Signing{Fingerprint: "aa"}}}

	m := Combine(apk, list, nil, english, "Aya", now)
	require.Equal(t, []Leg{{Combination: fleet.Of(phone, english), Never: []int64{2, 3}}}, m.Legs,
		"the one that is not ready may be mended meanwhile")

	m = Combine(apk, list[1:], nil, english, "Aya", now)
	require.Empty(t, m.Legs)
	require.Equal(t, []fleet.Reason{{Why: "bos: only Ines may use it", Remedy: remedy.Plain("ask Bo to be let in")},
		{Why: "clashing: another app of that id, signed differently, is installed",
			Remedy: remedy.Plain("remove example.tideline, or sign with certificate bb…")},
		{Why: " is not ready: debugging was never allowed", Remedy: remedy.Plain("allow it")}}, m.LeftOut[0].Reasons)

	m = Combine(apk, list[1:], nil, english, "Bo", now)
	require.Len(t, m.Legs, 1, "its owner may")
}

func TestOneNamedDeviceIsRunOnAndNoOther(t *testing.T) {
	kaede := fleet.Device{Name: "kaede-7-1", Kind: "emulator", Platform: "android", Model: "Kaede 7", OS: "14"}
	second, other := kaede, kaede
	second.Name = "kaede-7-2"
	other.Name, other.Model = "kaede-mini-1", "Kaede Mini"
	apk := []appfile.Package{{Kind: appfile.Android}}
	list := candidates(kaede, second, other)

	m := Combine(apk, list, []fleet.Pick{"Kaede-7-2"}, english, "Aya", now)
	require.Equal(t, []Leg{{Combination: fleet.Of(kaede, english), Device: list[1].ID}}, m.Legs)
	m = Combine(apk, list, []fleet.Pick{"kaede-7-2", "Kaede Mini", "kaede-7-1"}, english, "Aya", now)
	require.Equal(t, []Leg{{Combination: fleet.Of(kaede, english), Device: list[0].ID},
		{Combination: fleet.Of(kaede, english), Device: list[1].ID}, {Combination: fleet.Of(other, english)}}, m.Legs)
	m = Combine(apk, list, []fleet.Pick{"Kaede 7", "kaede-7-1"}, english, "Aya", now)
	require.Equal(t, []Leg{{Combination: fleet.Of(kaede, english)}, {Combination: fleet.Of(kaede, english),
		Device: list[0].ID}}, m.Legs, "the class, and the one device besides")
	m = Combine(apk, list, []fleet.Pick{"kaede-7-9"}, english, "Aya", now)
	require.Equal(t, []fleet.Pick{"kaede-7-9"}, m.Unknown)
}
