package fleet_test

import (
	"fmt"
	"time"

	"yamato/internal/core/fleet"
)

// A leg is told what it waits for: the device that is nearest to it.
func ExampleWaitsFor() {
	kaede := fleet.Device{Name: "kaede-7-1", Kind: fleet.Emulator, Platform: "android", Model: "Kaede 7", OS: "14"}
	now := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC)
	fmt.Println(fleet.WaitsFor(fleet.ClassOf(kaede), []fleet.Standing{{Device: kaede, State: "halted"}}, "Aya Torrent",
		now))
	// Output: kaede-7-1, which is off: it is booted as soon as its host has room
}

// What is switched on and off for legs that wait.
func ExamplePlanPower() {
	big := fleet.Class{Kind: fleet.Emulator, Model: "Minato Fold", Platform: "android", OS: "14"}
	p := fleet.PlanPower(fleet.Capacity{MemoryMB: 4096},
		[]fleet.Running{{Name: "kaede-7-1", TakesMB: 3072}},
		[]fleet.Off{{Running: fleet.Running{Name: "fold-1", TakesMB: 2048}, Class: big, Legs: 1}},
		[]string{"kaede-7-1"}, map[fleet.Class]int{})
	fmt.Println("boot", p.Boot, "halt", p.Halt)
	// Output: boot [] halt [kaede-7-1]
}
