package android

import (
	"context"
	"regexp"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/host/driver"
)

var (
	_ device.Healthy = (*Device)(nil)
	_ device.Waking  = (*Device)(nil)
)

var (
	batteryLevel = regexp.MustCompile(`(?m)^\s*level: (\d{1,3})\s*$`)
	freeKB       = regexp.MustCompile(`(?m)^\S+\s+\d+\s+\d+\s+(\d{1,15})\s+\S+\s+/data\S*\s*$`)
	clockLine    = regexp.MustCompile(`(?m)^(\d{1,12})(?:\.(\d{9}))?\s*$`)
	lockShown    = regexp.MustCompile(`(?m)^\s*showing=(true|false)\s*$`)
	lockSecure   = regexp.MustCompile(`(?m)^\s*secure=(true|false)\s*$`)
	wakefulness  = regexp.MustCompile(`(?m)^\s*mWakefulness=(\w{1,20})\s*$`)
)

// modes are the states of a phone, as the bridge's server says them, in which nothing runs on it.
var modes = map[string]string{"offline": "offline", "recovery": "recovery", "sideload": "recovery", "rescue": "recovery",
	"bootloader": "bootloader", "no permissions": "no permission", "host": "host"}

// stateHealth tells how a phone is that cannot be talked to, by what the bridge's server says of it.
func stateHealth(state string) device.Health {
	yes, no := true, false
	switch {
	case state == "unauthorized":
		return device.Health{Connected: &yes, Debugging: "asked"}
	case strings.HasPrefix(state, "no permissions"):
		return device.Health{Connected: &yes, Mode: "no permission"}
	case modes[state] != "":
		return device.Health{Connected: &yes, Mode: modes[state]}
	}
	return device.Health{Connected: &no}
}

// Health is how it is.
func (d *Device) Health(ctx context.Context) (device.Health, error) {
	asked := time.Now()
	out, err := d.run(ctx, callLimit, "echo @clock; date +%s.%N; echo @os; getprop ro.build.version.release; echo @battery; dumpsys battery; "+
		"echo @space; df -k /data; echo @lock; dumpsys window policy")
	if ctx.Err() != nil {
		return device.Health{}, context.Cause(ctx)
	}
	if err != nil {
		state := ""
		if d.state != nil {
			state = d.state()
		}
		return stateHealth(state), nil
	}
	yes := true
	h := device.Health{Connected: &yes, Debugging: "always"}
	at := sections(string(out.Out))
	if off, ok := clockIn(at["clock"], asked, time.Now()); ok {
		d.off = off
		h.ClockOff = &off
	}
	h.OS = clipped(strings.TrimSpace(at["os"]), 20)
	battery := []byte(at["battery"])
	if n, err := strconv.Atoi(first(batteryLevel, battery)); err == nil && !d.charged { // and not one that it was made to believe
		h.Charge = &n
		h.Plugged = strings.Contains(at["battery"], "powered: true")
	}
	if n, err := strconv.Atoi(first(heat, battery)); err == nil {
		warm := n / 10
		h.Heat = &warm
	}
	if n, err := strconv.ParseInt(first(freeKB, []byte(at["space"])), 10, 64); err == nil {
		mb := int(n >> 10)
		h.FreeMB = &mb
	}
	if shown, ok := locked(at["lock"]); ok {
		unlocked := !shown
		h.Unlocked = &unlocked
	}
	return h, nil
}

// clockIn gives how far the phone's clock is ahead, by what it said between two moments.
func clockIn(said string, asked, heard time.Time) (time.Duration, bool) {
	m := clockLine.FindStringSubmatch(said)
	if m == nil {
		return 0, false
	}
	seconds, _ := strconv.ParseInt(m[1], 10, 64)
	nanos := int64(500_000_000) // it says no part of a second
	if m[2] != "" {
		nanos, _ = strconv.ParseInt(m[2], 10, 64)
	}
	between := asked.Add(heard.Sub(asked) / 2)
	return time.Unix(seconds, nanos).Sub(between), true
}

// locked tells whether the lock screen is shown and asks for a code, by what the system's windows say.
func locked(policy string) (yes, ok bool) {
	shown, secure := first(lockShown, []byte(policy)), first(lockSecure, []byte(policy))
	return shown == "true" && secure == "true", shown != "" && secure != ""
}

// errCode is the trouble of a phone that only a person can unlock.
var errCode = &device.Trouble{Why: "it is locked with a code", Remedy: "unlock it, and take the code off or set its lock to Swipe while it is used for tests"}

// Ready wakes it, sends the lock away, and goes home.
func (d *Device) Ready(ctx context.Context, _ driver.Terms) error {
	out, err := d.run(ctx, callLimit, "input keyevent 224; wm dismiss-keyguard; cmd statusbar collapse; input keyevent 3; getprop; "+
		"echo @lock; dumpsys window policy")
	if err != nil {
		return err
	}
	d.language = languageOf(propsIn(string(out.Out)))
	if shown, _ := locked(sections(string(out.Out))["lock"]); shown {
		return errCode
	}
	return nil
}

// Wake has the screen on and unlocked again.
func (d *Device) Wake(ctx context.Context) (bool, error) {
	out, err := d.run(ctx, callLimit, "dumpsys power; dumpsys window policy")
	if err != nil {
		return false, err
	}
	state := first(wakefulness, out.Out)
	shown := first(lockShown, out.Out) == "true"
	if (state == "Awake" || state == "") && !shown {
		return false, nil
	}
	out, err = d.run(ctx, callLimit, "input keyevent 224; wm dismiss-keyguard; dumpsys window policy")
	if err == nil {
		if shown, _ := locked(string(out.Out)); shown {
			err = errCode
		}
	}
	return true, err
}
