// Package silence measures how long an app has been silent in its own time: while a machine that has other things to do
// lets the browser wait for a processor, the app cannot answer, and is not silent.
package silence

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// Patience is how long a page may do one thing without answering. A person would have given the app up before.
const Patience = 20 * time.Second

// maxSilence is how long an app is waited for by the wall's clock, however busy the machine is.
const maxSilence = 3 * time.Minute

// Turns are what each process of the browser has had of a processor, and for how long it was ready to run and was
// not let, as the kernel counts it for its main thread (Documentation/scheduler/sched-stats, /proc/<pid>/schedstat).
type Turns map[int]turn

type turn struct{ ran, waited time.Duration }

// Now reads them, for the process that keeps a browser and all that it has started; none for 0, and where the kernel
// does not count.
func Now(keeper int) Turns {
	out := Turns{}
	if keeper == 0 {
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
	read(keeper, 0)
	return out
}

// Silent is how long an app has been silent in its own time, of so long by the wall's clock. Which of the browser's
// processes an app lives in the browser does not tell. One that wanted to run all the time is an app that does one
// thing without a pause: its silence is what it ran. Where there is none, the app is given the benefit of whoever
// waited longest.
func (now Turns) Silent(before Turns, wall time.Duration) time.Duration {
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

// Quiet measures how long an app has been silent, in its own time.
type Quiet struct {
	keeper   int
	began    time.Time
	measured time.Time // when that began to be measured
	before   Turns     // nil until it has been silent for Unmeasured
}

// Unmeasured is how long an app may be silent before anything is measured: most answer at once.
const Unmeasured = 2 * time.Second

// From begins to measure, for the browser that a process keeps.
func From(keeper int) *Quiet { return &Quiet{keeper: keeper, began: time.Now()} }

// Left is how much of the patience with an app is left, none where it has been silent for all of it. It is to
// be asked first after Unmeasured.
func (q *Quiet) Left() time.Duration {
	wall := time.Since(q.began)
	if wall >= maxSilence {
		return 0
	}
	if q.before == nil {
		q.before = Now(q.keeper)
		q.measured = time.Now()
		return Patience - wall
	}
	since := time.Since(q.measured)
	left := Patience - (wall - since) - Now(q.keeper).Silent(q.before, since)
	if left <= 0 {
		return 0
	}
	return max(left, 100*time.Millisecond)
}
