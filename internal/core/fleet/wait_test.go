package fleet

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/states"
)

func TestALegIsToldWhatItWaitsForAndWhoseTurnItIs(t *testing.T) {
	monday := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	kaede := Class{Kind: Real, Model: "Kaede 7", Platform: "android", OS: "14"}
	one := func(name string, state states.Device, reason string) Standing {
		return Standing{Device: Device{Name: name, Kind: Real, Model: "Kaede 7", Platform: "android", OS: "14"},
			State: state, Reason: reason}
	}
	bos := one("bos-phone", "idle", "")
	bos.Owner, bos.Use = "Bo", Use{Hours: "Sat 08:00-09:00"}
	other := one("other", "idle", "")
	other.OS = "13"
	for says, list := range map[string][]Standing{
		"its turn":            {one("a", "leased", ""), one("b", "idle", "")},
		"a Kaede 7: 2 in use": {one("a", "leased", ""), one("b", "resetting", ""), one("c", "unready", "x")},
		"a, which boots":      {one("a", "booting", ""), one("b", "halted", "")},
		"a, which is off: it is booted as soon as its host has room; or for one more like it": {one("a",
			"halted", ""), one("b", "halted", ""), one("c", "offline", "")},
		"a to be made ready: it is locked; `yamato device check a` says what to do; or for 2 more like it": {one("a",
			"unready", "it is locked"), one("b", "unready", "x"), one("c", "unready", "y"), bos},
		"bos-phone: it may be used Sat 08:00-09:00 only; wait until then, or ask Bo": {bos,
			one("a", "sidelined", "x")},
		"a, which is sidelined: its screen is cracked; `yamato device restore a` once it is mended": {one("a",
			"sidelined", "its screen is cracked"), one("b", "offline", "")},
		"a Kaede 7: 2 offline; start the host of their site": {one("a",
			"offline", ""), one("b", "offline", "")},
		"a Kaede 7, Android 14, real: there is none any more that takes it": {other},
	} {
		require.Equal(t, says, WaitsFor(kaede, list, "Aya", monday))
	}
	require.Equal(t, "its turn", WaitsFor(kaede, []Standing{bos}, "Bo", monday), "its owner always may")
	aster := func(name string, state states.Device) Standing {
		return Standing{Device: Device{Name: name, Kind: Real, Model: "Aster 12"}, State: state}
	}
	class := Class{Kind: Real, Model: "Aster 12"}
	require.Equal(t, "an Aster 12: 2 in use", WaitsFor(class, []Standing{aster("aster-12-1", "leased"),
		aster("aster-12-2", "resetting")}, "", monday))
	require.Equal(t, "aster-12-1, which is in use", WaitsFor(class, []Standing{aster("aster-12-1", "leased")}, "",
		monday), "where there is but one it is named")
	require.Equal(t, "an Aster 12: 2 offline; start the host of their site",
		WaitsFor(class, []Standing{aster("aster-12-1", "offline"), aster("aster-12-2", "offline")}, "", monday))
	require.Equal(t, "aster-12-1, which is offline; start the host of its site",
		WaitsFor(class, []Standing{aster("aster-12-1", "offline")}, "", monday))
}
