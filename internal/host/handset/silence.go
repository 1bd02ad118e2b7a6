package handset

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
)

// Silence is measured in the app's own time: while a machine that has other things to do lets the browser
// wait for a processor, the app cannot answer, and is not silent.

// maxSilence is how long an app is waited for by the wall's clock, however busy the machine is.
const maxSilence = 3 * time.Minute

// turns are what each process of the browser has had of a processor, and for how long it was ready to run and was
// not let, as the kernel counts it for its main thread (Documentation/scheduler/sched-stats, /proc/<pid>/schedstat).
type turns map[int]turn

type turn struct{ ran, waited time.Duration }

// turnsNow reads them, for the browser and all that it has started; none where the kernel does not count.
func (r *running) turnsNow() turns {
	out := turns{}
	if r == nil || r.keeper == nil || r.keeper.Process == nil {
		return out
	}
	var read func(pid, deep int)
	read = func(pid, deep int) {
		if deep > 6 || len(out) > 500 {
			return
		}
		if text, err := os.ReadFile(fmt.Sprintf("/proc/%d/schedstat", pid)); err == nil {
			if fields := strings.Fields(string(text)); len(fields) >= 2 {
				ran, err := strconv.ParseInt(fields[0], 10, 64)
				waited, err2 := strconv.ParseInt(fields[1], 10, 64)
				if err == nil && err2 == nil {
					out[pid] = turn{time.Duration(ran), time.Duration(waited)}
				}
			}
		}
		lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
		for _, list := range lists {
			text, _ := os.ReadFile(list) // it may have ended meanwhile
			for _, word := range strings.Fields(string(text)) {
				if child, err := strconv.Atoi(word); err == nil {
					read(child, deep+1)
				}
			}
		}
	}
	read(r.keeper.Process.Pid, 0)
	return out
}

// silent is how long an app has been silent in its own time, of so long by the wall's clock. Which of the browser's
// processes an app lives in the browser does not tell. One that wanted to run all the time is an app that does one
// thing without a pause: its silence is what it ran. Where there is none, the app is given the benefit of whoever
// waited longest.
func (now turns) silent(before turns, wall time.Duration) time.Duration {
	longest, busiest := time.Duration(0), time.Duration(-1)
	for pid, t := range now {
		ran, waited := t.ran-before[pid].ran, t.waited-before[pid].waited
		longest = max(longest, waited)
		if ran+waited >= wall*9/10 {
			busiest = max(busiest, ran)
		}
	}
	if busiest >= 0 {
		return busiest
	}
	return wall - longest
}

// quiet measures how long an app has been silent, in its own time.
type quiet struct {
	browser  *running
	began    time.Time
	measured time.Time // when that began to be measured
	before   turns     // nil until it has been silent for unmeasured
}

// unmeasured is how long an app may be silent before anything is measured: most answer at once.
const unmeasured = 2 * time.Second

func (r *running) quietFrom() *quiet { return &quiet{browser: r, began: time.Now()} }

// left is how much of the patience with an app is left, none where it has been silent for all of it. It is to
// be asked first after unmeasured.
func (q *quiet) left() time.Duration {
	wall := time.Since(q.began)
	if wall >= maxSilence {
		return 0
	}
	if q.before == nil {
		q.before = q.browser.turnsNow()
		q.measured = time.Now()
		return patience - wall
	}
	since := time.Since(q.measured)
	left := patience - (wall - since) - q.browser.turnsNow().silent(q.before, since)
	if left <= 0 {
		return 0
	}
	return max(left, 100*time.Millisecond)
}

var _ device.Hindered = (*Device)(nil)

// Hindered measures for how long the app was not let run: as far as its page let looks wait, which an app may do by
// itself; and as far as a process of the browser was ready to run and had no processor, which may be another one's.
func (d *Device) Hindered() func() time.Duration {
	r := d.running
	before, looks, from := r.turnsNow(), d.looks, time.Now()
	return func() time.Duration {
		wall := time.Since(from)
		if d.looks-looks <= wall/4 { // it answers: nothing need be read
			return 0
		}
		return max(0, min(d.looks-looks, wall-r.turnsNow().silent(before, wall)))
	}
}
