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

// Trouble is a trouble of a device's own that an app met.
type Trouble struct {
	At  time.Time
	App int64
}

// Judgement is what is done about a device with trouble.
type Judgement int

// What may be done. One app alone may be what makes the trouble: then the device is
// tried out without it, and taken out of use only if that fails too.
const (
	Tolerate Judgement = iota
	TryOut
	TakeOut
)

// Judge tells what to do about a device with these troubles, newest first, at a moment.
func (t Tolerance) Judge(troubles []Trouble, now time.Time) Judgement {
	if t.Count <= 0 || len(troubles) < t.Count || now.Sub(troubles[t.Count-1].At) > t.Within {
		return Tolerate
	}
	for _, one := range troubles {
		if now.Sub(one.At) <= t.Within && one.App != troubles[0].App {
			return TakeOut
		}
	}
	return TryOut
}
