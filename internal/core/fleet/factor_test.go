package fleet

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/feel"
)

func TestLevelsAreThoseOfAllFactorsInOrderAndSayWhatCannotBe(t *testing.T) {
	levels, why := UsualLevels(nil)
	require.Empty(t, why)
	require.Len(t, levels, 1, "the language alone goes without being varied")
	require.Equal(t, "en-GB", levels.Of(feel.Language))
	require.Empty(t, levels.Of("weather"), "what is not varied")
	levels, why = UsualLevels(map[string]string{feel.Language: "de-DE"})
	require.Empty(t, why)
	require.Equal(t, "de-DE", levels.Of(feel.Language))
	for _, nonsense := range []string{"xx-nonsense", "deutsch!", "e", "zz", "english please", "\x00"} {
		_, why = UsualLevels(map[string]string{feel.Language: nonsense})
		require.Contains(t, why, "write it as in BCP 47", nonsense)
	}
}

func TestEachFactorSaysWhatIsNoLevelOfIt(t *testing.T) {
	for factor, level := range map[string]string{feel.Rotation: "sideways", "appearance": "grey", "text size": "20%",
		"network":  "fast",
		feel.Place: "91, 3", "permission location": "maybe", "Traveller": "adult", "travel ler": "x", "traveller": ""} {
		require.NotEmpty(t, FactorNamed(factor).Check(level), factor)
	}
	levels, why := UsualLevels(map[string]string{"traveller": "child", feel.Place: "35.1, 139.2", "text size": "200%",
		"permission location": "deny", feel.Rotation: "landscape"})
	require.Empty(t, why)
	d := Device{Kind: Emulator, Platform: "android", Model: "Kaede 7", OS: "14"}
	require.Equal(t, "Kaede 7, Android 14, across, text at 200%, at 35.1, 139.2, location denied, traveller child",
		Of(d, levels).Label(), "in one order, free ones last")
	require.Equal(t, "Kaede 7, Android 14, text at 130%, battery at 15%, time of Asia/Tokyo",
		Of(d, Levels{{"text size", "130%"},
			{"battery", "15%"}, {"time zone", "Asia/Tokyo"}, {"network", "normal"}}).Label())
	require.True(t, FactorNamed("text size").IsUsual("100 %"), "however it is written")
	require.Contains(t, FactorNamed("rotaton").Words("left"), "rotaton left")
	require.Contains(t, FactorNamed("Rotaton").Check("left"), "did you mean `rotation`?")
}

// What devices are stands in the same list as what they are made to feel.
func TestWhatDevicesAreAreFactorsToo(t *testing.T) {
	d := Device{Kind: Real, Platform: "android", Model: "Kaede 7", OS: "14", Form: "phone", Site: "harbour"}
	is := map[string]string{}
	for _, f := range OfDevices() {
		is[f] = FactorNamed(f).Of(d)
	}
	require.Equal(t, map[string]string{"device": "Kaede 7, Android 14, real", "platform": "android", "kind": "real",
		"model": "Kaede 7", "os": "14", "form": "phone", "engine": "", "site": "harbour"}, is)
	levels, why := UsualLevels(map[string]string{"model": "Kaede 7", "site": "harbour"})
	require.Empty(t, why)
	require.Equal(t, Levels{{feel.Language, "en-GB"}, {"site", "harbour"}}, levels,
		"a combination's class says the rest")
}

func TestACombinationIsNamedByItsClassAndByWhatDoesNotGoWithoutSaying(t *testing.T) {
	d := Device{Name: "kaede-7-1", Kind: Emulator, Platform: "android", Model: "Kaede 7", OS: "14"}
	usual, _ := UsualLevels(nil)
	german, _ := UsualLevels(map[string]string{feel.Language: "de-DE"})
	require.Equal(t, "Kaede 7, Android 14", Of(d, usual).Label())
	require.Equal(t, "Kaede 7, Android 14, de-DE", Of(d, german).Label())
	require.Equal(t, "Kaede 7, Android 14, weather rain", Of(d, Levels{{"weather", "rain"}}).Label(),
		"a factor that is not known says its levels as they are")
	d.Kind = Real
	require.Equal(t, "Kaede 7, Android 14, real", Of(d, usual).Label())
	require.True(t, ClassOf(d).Matches(d))
	d.OS = "15"
	require.False(t, Of(d, usual).Matches(Device{Kind: Real, Platform: "android", Model: "Kaede 7", OS: "14"}))
}

// Chance is made of the key: it may not change under those who repeat a run.
func TestKeysAreTheSameForTheSameLevelsAndForNoOthers(t *testing.T) {
	keys := map[string]Levels{}
	for _, l := range []Levels{nil, {{feel.Language, "en-GB"}}, {{feel.Language, "de-DE"}}, {{"weather", "en-GB"}},
		{{feel.Language, "en-GB"}, {"rotation", "left"}}, {{"rotation", "left"}, {feel.Language, "en-GB"}},
		{{"rotation", ""}},
		{{"rotation", "left\x00up"}}, {{"rotation", "left"}, {"up", ""}}} {
		k := l.Key()
		require.NotContains(t, keys, k, "%v and %v", l, keys[k])
		keys[k] = l
		require.Equal(t, k, append(Levels{}, l...).Key())
	}
	require.Equal(t, "en-GB\x00", Levels{{feel.Language, "en-GB"}}.Key(), "as seeds have always had it")
}
