package handset

import (
	"time"

	"yamato/internal/core/device"
	"yamato/internal/host/silence"
)

// pid is the process that keeps the browser, 0 where there is none.
func (r *running) pid() int {
	if r == nil || r.keeper == nil || r.keeper.Process == nil {
		return 0
	}
	return r.keeper.Process.Pid
}

var _ device.Hindered = (*Device)(nil)

// Hindered measures for how long the app was not let run: as far as its page let looks wait, which an app may do by
// itself; and as far as a process of the browser was ready to run and had no processor, which may be another one's.
func (d *Device) Hindered() func() time.Duration {
	r := d.running
	before, looks, from := silence.Now(r.pid()), d.looks, time.Now()
	return func() time.Duration {
		wall := time.Since(from)
		if d.looks-looks <= wall/4 { // it answers: nothing need be read
			return 0
		}
		return max(0, min(d.looks-looks, wall-silence.Now(r.pid()).Silent(before, wall)))
	}
}
