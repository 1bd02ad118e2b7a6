package fleet_test

import (
	"fmt"
	"testing"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/core/states"
)

func fixture() ([]appfile.Package, []fleet.Standing, []fleet.Installed, time.Time) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	packages := []appfile.Package{
		{Kind: appfile.Android, ApplicationID: "example.tideline", MinimumOS: "14", ABIs: []string{"arm64-v8a"},
			Needs: []string{"camera"}, Parts: []appfile.Part{{Name: "code"}},
			Signing: &appfile.Signing{Fingerprint: "aa"}},
		{Kind: appfile.IOSDevice, Profile: &appfile.Profile{Name: "ad hoc", Expires: now.AddDate(1, 0, 0),
			Devices: make([]string, 100)}},
	}
	var list []fleet.Standing
	for i := range 10000 {
		list = append(list, fleet.Standing{State: []states.Device{"idle", "leased", "offline", "unready"}[i%4],
			Used: int64(i % 97), Device: fleet.Device{Name: fmt.Sprintf("device-%05d", i),
				Site:  fmt.Sprintf("site-%d", i%20),
				Model: fmt.Sprintf("Model %d", i%200),
				Kind:  []string{fleet.Emulator, fleet.Real}[i%2], Platform: []string{"android", "ios"}[i/2%2],
				OS: fmt.Sprint(12 + i%5), Form: "phone", ABI: []string{"x86_64", "arm64-v8a"}[i%2],
				Traits:   []string{"location"},
				Released: 2020 + i%6, HardwareID: fmt.Sprint(i)}})
	}
	return packages, list, []fleet.Installed{{ID: "example.tideline", VersionCode: "1", Signer: "bb"}}, now
}

func BenchmarkFitOf10000Devices(b *testing.B) {
	packages, list, installed, now := fixture()
	b.ReportAllocs()
	for b.Loop() {
		fits := fleet.NewFitter(packages, now)
		for i := range list {
			fits.Fit(&list[i].Device, installed)
		}
	}
}

func BenchmarkLineupOf10000Devices(b *testing.B) {
	_, list, _, now := fixture()
	l, err := fleet.ReadLineup("lineup: many\npick:\n  - {platform: android, os: 13..15}\n  - {kind: real, " +
		"platform: ios}\nskip:\n  - site: site-3\ntake: 40\nfirst: [spread, newest_os, least_used]\n")
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		l.Choose(list, "Aya", now)
	}
}
