package handset

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// Silence is measured in the app's own time: while a machine that has other things to do lets the browser
// wait for a processor, the app cannot answer, and is not silent.

// maxSilence is how long an app is waited for by the wall's clock, however busy the machine is.
const maxSilence = 10 * time.Minute

// delays are for how long each process of the browser has been ready to run and was not let, as the kernel
// counts it for its main thread (Documentation/scheduler/sched-stats, /proc/<pid>/schedstat).
type delays map[int]time.Duration

// delayed reads them, for the browser and all that it has started; none where the kernel does not count.
func (r *running) delayed() delays {
	out := delays{}
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
				if n, err := strconv.ParseInt(fields[1], 10, 64); err == nil {
					out[pid] = time.Duration(n)
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

// since is for how long the one that waited longest was not let run. Which of the browser's processes an
// app lives in the browser does not tell: the app is given the benefit of the doubt.
func (d delays) since(before delays) time.Duration {
	longest := time.Duration(0)
	for pid, now := range d {
		longest = max(longest, now-before[pid])
	}
	return longest
}

// quiet measures how long an app has been silent, in its own time.
type quiet struct {
	browser *running
	began   time.Time
	before  delays // nil until it has been silent for unmeasured
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
		q.before = q.browser.delayed()
	}
	left := patience - (wall - q.browser.delayed().since(q.before))
	if left <= 0 {
		return 0
	}
	return max(left, 100*time.Millisecond)
}
