package fleet

import "yamato/internal/core/states"

// The powers of a device.
const (
	PowerUp      = "up"
	PowerHalted  = "halted"
	PowerBooting = "booting"
)

// Condition is how a device is at a moment, as its host sees it.
type Condition struct {
	Power     string      `json:"power,omitempty"` // up where it is empty
	Doing     string      `json:"doing,omitempty"` // what is being tried: "boot from power-off"
	Checks    []Check     `json:"checks,omitempty"`
	Installed []Installed `json:"installed,omitempty"` // what stays on it
}

// State gives the state of a device that has no lease and is not sidelined, with
// the reason for it.
func (c Condition) State() (state states.Device, reason string) {
	switch c.Power {
	case PowerHalted:
		return states.DeviceHalted, ""
	case PowerBooting:
		return states.DeviceBooting, c.Doing
	}
	if r, bad := Unready(c.Checks); bad {
		return states.DeviceUnready, r.Why
	}
	return states.DeviceIdle, ""
}

// Broken is why a device was given up, and what was seen of it last.
type Broken struct {
	Diagnosis string `json:"diagnosis"`
	Remedy    string `json:"remedy,omitempty"`
	Picture   string `json:"picture,omitempty"` // digest of a PNG
	Log       string `json:"log,omitempty"`     // digest of a text
}
