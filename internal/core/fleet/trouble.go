package fleet

import "time"

// BootStep is what is done before a boot is tried.
type BootStep string

// The steps of bringing a virtual device up that does not come up.
const (
	BootPlain    BootStep = "boot"
	BootPowerOff BootStep = "boot from power-off"
	BootEmptied  BootStep = "boot emptied"
	BootGiveUp   BootStep = ""
)

// NextBoot gives what to try after a boot has failed so many times.
func NextBoot(failed int) BootStep {
	steps := []BootStep{BootPlain, BootPowerOff, BootEmptied}
	if failed < len(steps) {
		return steps[failed]
	}
	return BootGiveUp
}

// Tolerance is how much device trouble is put up with: fewer than Count troubles
// within a time.
type Tolerance struct {
	Count  int
	Within time.Duration
}

// Exceeded tells whether troubles, newest first, are too many at a moment.
func (t Tolerance) Exceeded(troubles []time.Time, now time.Time) bool {
	if t.Count <= 0 || len(troubles) < t.Count {
		return false
	}
	return now.Sub(troubles[t.Count-1]) <= t.Within
}
