package fleet

import (
	"testing"

	"github.com/stretchr/testify/require"
)

var (
	android14 = Device{Name: "a", Kind: Emulator, Platform: "android", Model: "Kaede 7", OS: "14"}
	android9  = Device{Name: "b", Kind: Emulator, Platform: "android", Model: "Kaede Mini", OS: "9"}
	ios18     = Device{Name: "c", Kind: Simulator, Platform: "ios", Model: "Aster 12", OS: "18"}
	iPhone    = Device{Name: "d", Kind: Real, Platform: "ios", Model: "Aster 12", OS: "18", Form: "phone",
		HardwareID: "00008120-AA"}
)

func TestVersionsCompareByTheirNumbers(t *testing.T) {
	for _, c := range [][2]string{{"9", "10"}, {"10", "10.1"}, {"17.0", "17.0.1"}, {"4.4", "13"}} {
		require.Negative(t, compareVersions(c[0], c[1]), c)
		require.Positive(t, compareVersions(c[1], c[0]), c)
	}
	require.Zero(t, compareVersions("17", "17.0"))
}

func TestAPickIsAModelAnOSVersionAKindOrSeveral(t *testing.T) {
	for pick, takes := range map[Pick]bool{"Kaede 7": true, "kaede  7": true, "Kaede 7 Android 14": true,
		"Kaede 7, Android 14": true, "Kaede 7 14": true, "Kaede 7 15": false, "Kaede 7, Android 14, emulator": true,
		"Kaede 7 real": false, "Kaede": false, "Kaede 7 Lite": false, "android": true, "Android 14": true,
		"android emulator": true, "Android 14 emulator": true, "emulator": true, "Android 15": false, "ios": false, "real": false} {
		require.Equal(t, takes, pick.Takes(android14), pick)
	}
}
