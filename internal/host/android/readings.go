package android

import (
	"context"
	"regexp"
	"strconv"
	"strings"

	"yamato/internal/core/device"
)

var _ device.Measured = (*Device)(nil)

var (
	pidLine     = regexp.MustCompile(`(?m)^(\d{1,8})(?: \d{1,8})*\s*$`)
	residentKB  = regexp.MustCompile(`(?m)^VmRSS:\s+(\d{1,12}) kB`)
	statFields  = regexp.MustCompile(`(?m)^\d{1,8} \(.*\) \S (?:\S+ ){10}(\d{1,18}) (\d{1,18}) `) // proc(5): utime, stime
	framesDrawn = regexp.MustCompile(`(?m)^Total frames rendered: (\d{1,12})`)
	traffic     = regexp.MustCompile(`(?m)^\s*([A-Za-z0-9_.-]{1,20}):\s*(\d{1,18})(?:\s+\d+){7}\s+(\d{1,18})`)
	heat        = regexp.MustCompile(`(?m)^\s*temperature: (-?\d{1,4})`) // tenths of a degree Celsius
)

// ticks is how many of its ticks the kernel counts a second (USER_HZ).
const ticks = 100

// Readings are what the app that was started takes: resident memory, processor time, frames drawn; and of the whole phone, as
// no line tells it of an app, what has gone over its network.
func (d *Device) Readings(ctx context.Context) ([]device.Reading, error) {
	app := d.app
	if app == "" {
		return nil, nil
	}
	if d.process == "" {
		out, err := d.run(ctx, callLimit, "pidof", app)
		if err != nil {
			return nil, err
		}
		if d.process = first(pidLine, out.Out); d.process == "" {
			return nil, nil // it does not run
		}
	}
	of := "/proc/" + d.process
	out, err := d.run(ctx, callLimit, "cat "+of+"/cmdline; echo; echo @stat; cat "+of+"/stat; echo @status; cat "+of+
		"/status; echo @frames; dumpsys gfxinfo "+app+"; echo @network; cat /proc/net/dev; echo @battery; dumpsys battery")
	if err != nil {
		return nil, err
	}
	at := sections(string(out.Out))
	name, _, _ := strings.Cut(strings.TrimSpace(at[""]), "\x00")
	if name != app {
		d.process = "" // another has its number by now
		return nil, nil
	}
	var list []device.Reading
	number := func(text string) (float64, bool) {
		n, err := strconv.ParseFloat(text, 64)
		return n, err == nil
	}
	add := func(name, text string, times float64) {
		if n, ok := number(text); ok {
			list = append(list, device.Reading{Name: name, Value: n * times})
		}
	}
	add("memory", first(residentKB, []byte(at["status"])), 1024)
	if m := statFields.FindStringSubmatch(at["stat"]); m != nil {
		user, _ := number(m[1])
		system, _ := number(m[2])
		list = append(list, device.Reading{Name: "cpu", Value: (user + system) / ticks})
	}
	add("frames", first(framesDrawn, []byte(at["frames"])), 1)
	sum := 0.0
	for _, m := range traffic.FindAllStringSubmatch(at["network"], 64) {
		if m[1] != "lo" {
			in, _ := number(m[2])
			out, _ := number(m[3])
			sum += in + out
		}
	}
	list = append(list, device.Reading{Name: "network", Value: sum})
	add("battery", first(batteryLevel, []byte(at["battery"])), 1)
	add("heat", first(heat, []byte(at["battery"])), 0.1)
	return list, nil
}
