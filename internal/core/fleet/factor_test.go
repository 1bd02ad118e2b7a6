package fleet

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestLevelsAreThoseOfAllFactorsInOrderAndSayWhatCannotBe(t *testing.T) {
	levels, why := UsualLevels(nil)
	require.Empty(t, why)
	require.Len(t, levels, 1, "the language alone goes without being varied")
	require.Equal(t, "en-GB", levels.Of(Language))
	require.Empty(t, levels.Of("weather"), "what is not varied")
	levels, why = UsualLevels(map[string]string{Language: "de-DE"})
	require.Empty(t, why)
	require.Equal(t, "de-DE", levels.Of(Language))
	for _, nonsense := range []string{"xx-nonsense", "deutsch!", "e", "zz", "english please", "\x00"} {
		_, why = UsualLevels(map[string]string{Language: nonsense})
		require.Contains(t, why, "write it as in BCP 47", nonsense)
	}
}

func TestEachFactorSaysWhatIsNoLevelOfIt(t *testing.T) {
	for factor, level := range map[string]string{Rotation: "sideways", Appearance: "grey", TextSize: "20%", NetworkOf: "fast",
		PlaceOf: "91, 3", "permission location": "maybe", "Traveller": "adult", "travel ler": "x", "traveller": ""} {
		require.NotEmpty(t, FactorNamed(factor).Check(level), factor)
	}
	levels, why := UsualLevels(map[string]string{"traveller": "child", PlaceOf: "35.1, 139.2", TextSize: "200%",
		"permission location": "deny", Rotation: "landscape"})
	require.Empty(t, why)
	d := Device{Kind: Emulator, Platform: "android", Model: "Kaede 7", OS: "14"}
	require.Equal(t, "Kaede 7, Android 14, across, text at 200%, at 35.1, 139.2, location denied, traveller child",
		Of(d, levels).Label(), "in one order, free ones last")
	require.Contains(t, FactorNamed("rotaton").Words("left"), "rotaton left")
	require.Contains(t, FactorNamed("Rotaton").Check("left"), "did you mean `rotation`?")
}

func TestACombinationIsNamedByItsClassAndByWhatDoesNotGoWithoutSaying(t *testing.T) {
	d := Device{Name: "kaede-7-1", Kind: Emulator, Platform: "android", Model: "Kaede 7", OS: "14"}
	usual, _ := UsualLevels(nil)
	german, _ := UsualLevels(map[string]string{Language: "de-DE"})
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
	for _, l := range []Levels{nil, {{Language, "en-GB"}}, {{Language, "de-DE"}}, {{"weather", "en-GB"}},
		{{Language, "en-GB"}, {"rotation", "left"}}, {{"rotation", "left"}, {Language, "en-GB"}}, {{"rotation", ""}},
		{{"rotation", "left\x00up"}}, {{"rotation", "left"}, {"up", ""}}} {
		k := l.Key()
		require.NotContains(t, keys, k, "%v and %v", l, keys[k])
		keys[k] = l
		require.Equal(t, k, append(Levels{}, l...).Key())
	}
	require.Equal(t, "en-GB\x00", Levels{{Language, "en-GB"}}.Key(), "as seeds have always had it")
}
