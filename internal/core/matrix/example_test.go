package matrix_test

import (
	"fmt"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
)

// Two devices of one class are one combination; a class that no package is for is left out.
func ExampleCombine() {
	now := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC)
	packages := []appfile.Package{{Kind: appfile.Android, Platform: "android", ApplicationID: "example.tideline",
		MinimumAPI: 30, Signing: &appfile.Signing{Schemes: []string{"v2"}}}}
	var devices []matrix.Candidate
	for i, d := range []fleet.Device{
		{Name: "kaede-7-1", Kind: fleet.Emulator, Platform: "android", Model: "Kaede 7", OS: "14"},
		{Name: "kaede-7-2", Kind: fleet.Emulator, Platform: "android", Model: "Kaede 7", OS: "14"},
		{Name: "aster-12-1", Kind: fleet.Simulator, Platform: "ios", Model: "Aster 12", OS: "18"},
	} {
		devices = append(devices, matrix.Candidate{ID: int64(i + 1), Standing: fleet.Standing{Device: d,
			State: "idle"}})
	}
	levels, _ := fleet.UsualLevels(nil)
	m := matrix.Combine(packages, devices, nil, levels, "Aya Torrent", now)
	for _, l := range m.Legs {
		fmt.Println(l.Combination.Label())
	}
	for _, l := range m.LeftOut {
		fmt.Println("left out:", l.Combination.Label())
	}
	// Output:
	// Kaede 7, Android 14
	// left out: Aster 12, iOS 18
}
