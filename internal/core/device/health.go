package device

import "time"

// Health is what a driver can tell of a device before anything runs on it. What
// cannot be told, or does not apply, is nil or empty, and is not checked.
type Health struct {
	Connected  *bool          `json:"connected,omitempty"`
	Developer  *bool          `json:"developer,omitempty"`   // developer mode is on
	Debugging  string         `json:"debugging,omitempty"`   // never, asked, once or always
	Trusted    *bool          `json:"trusted,omitempty"`     // the device trusts this computer
	Unlocked   *bool          `json:"unlocked,omitempty"`    // or can be unlocked without a person
	Charge     *int           `json:"charge,omitempty"`      // in hundredths
	Plugged    bool           `json:"plugged,omitempty"`     // it is being charged
	Heat       *int           `json:"heat,omitempty"`        // of its battery, degrees Celsius
	Mode       string         `json:"mode,omitempty"`        // that it was started in, where nothing runs: recovery, bootloader, offline …
	FreeMB     *int           `json:"free_mb,omitempty"`     // storage
	ClockOff   *time.Duration `json:"clock_off,omitempty"`   // from the host's clock
	OS         string         `json:"os,omitempty"`          // as the device says it
	InFront    string         `json:"in_front,omitempty"`    // a dialog that no driver could send away
	TrustsCode *bool          `json:"trusts_code,omitempty"` // the developer of what was installed last is trusted
}

// Installed is an app that is on a device already, and stays there.
type Installed struct {
	ID          string `json:"id" yaml:"id"`
	VersionCode string `json:"version_code" yaml:"version_code"`
	Signer      string `json:"signer" yaml:"signer"` // fingerprint of its certificate, "" where it is not known
}
