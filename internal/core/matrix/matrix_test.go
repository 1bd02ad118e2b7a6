package matrix

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
)

func TestDevicesOfOneClassAreOneCombination(t *testing.T) {
	kaede := fleet.Device{Kind: "emulator", Platform: "android", Model: "Kaede 7", OS: "14"}
	older := kaede
	older.OS = "11"
	aster := fleet.Device{Kind: "simulator", Platform: "ios", Model: "Aster 12", OS: "18"}
	apk := appfile.Package{Kind: appfile.Android, MinimumOS: "13"}

	m := Combine([]appfile.Package{apk}, []fleet.Device{aster, kaede, older, kaede}, nil, "de-DE")
	require.Equal(t, []Leg{{fleet.Of(kaede, "de-DE"), 0}}, m.Legs)
	require.Len(t, m.LeftOut, 2, "an OS that is too old, and a platform without a package")
	require.Equal(t, "needs Android 13; Kaede 7 has 11", m.LeftOut[0].Reasons[0].Why)

	m = Combine([]appfile.Package{apk}, []fleet.Device{kaede, older}, []fleet.Pick{"Kaede 7 14", "Kaede 9"}, "en-GB")
	require.Len(t, m.Legs, 1)
	require.Empty(t, m.LeftOut)
	require.Equal(t, []fleet.Pick{"Kaede 9"}, m.Unknown)
}
