package android

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
)

var _ device.Logger = (*Device)(nil)

// Bounds of what is read of the log at once.
const (
	maxLog     = 4 << 20 // bytes
	maxLogLine = 4 << 10 // bytes
)

// logRead is how far the phone's log has been read: the time of the newest line, and the lines that have that time.
type logRead struct {
	newest string
	at     float64
	seen   map[string]int
}

// logFromNow has what the log holds already be read: it is of whoever used the phone before.
func (d *Device) logFromNow() {
	now := float64(time.Now().Add(d.off).UnixMilli()) / 1e3
	d.log = logRead{fmt.Sprintf("%.3f", now), now, map[string]int{}}
}

// levels are the OS's letters for how grave a line is.
var levels = map[string]string{"V": "debug", "D": "debug", "I": "info", "W": "warn", "E": "error", "F": "error", "A": "error"}

// logLine is a line as `logcat -v epoch -v uid` writes it: time, user, process, thread, level, tag and text.
var logLine = regexp.MustCompile(`^\s*(\d{1,12}\.\d{3,9})\s+(\S{1,40})\s+\d{1,8}\s+\d{1,8} ([VDIWEFA]) (.{0,200}?)\s*: (.*)$`)

// Log gives the lines that the phone's log has got since the last time. Where that are more than are read at once, the
// oldest are left out, and a line says so.
func (d *Device) Log(ctx context.Context) ([]device.LogLine, error) {
	line := "logcat -d -b main -b system -b crash -v epoch -v uid"
	if d.log.newest != "" {
		line += " -T '" + d.log.newest + "'"
	}
	out, err := d.run(ctx, callLimit, fmt.Sprintf("%s | tail -c %d", line, maxLog))
	if err != nil {
		return nil, err
	}
	cut := len(out.Out) >= maxLog
	lines := d.newLines(out.Out, cut)
	unknown := slices.ContainsFunc(lines, func(l device.LogLine) bool { _, named := d.users[l.App]; return !named && l.App != "" })
	if unknown { // an app that has come since
		if err := d.nameUsers(ctx); err != nil {
			return nil, err
		}
	}
	for i, l := range lines {
		name, named := d.users[l.App]
		if !named && l.App != "" {
			d.users[l.App] = "" // nobody's, and not asked for again
		}
		lines[i].App = name
	}
	return lines, nil
}

// newLines reads what the log holds, as far as it was not read before. App is the number of its user yet, "" for the system.
func (d *Device) newLines(text []byte, cut bool) (lines []device.LogLine) {
	if cut {
		_, text, _ = bytes.Cut(text, []byte("\n")) // it may have lost its beginning
	}
	before := d.log
	left := map[string]int{}
	for k, n := range before.seen {
		left[k] = n
	}
	for raw := range strings.Lines(string(text)) {
		raw = strings.TrimRight(plain.Clip(raw, maxLogLine), "\r\n")
		m := logLine.FindStringSubmatch(raw)
		if m == nil {
			continue // the head of a buffer, or half a line
		}
		at, err := strconv.ParseFloat(m[1], 64)
		if err != nil || at < before.at {
			continue
		}
		if at == before.at && left[raw] > 0 {
			left[raw]--
			continue
		}
		if at > d.log.at || d.log.seen == nil {
			d.log = logRead{m[1], at, map[string]int{}}
		}
		if at == d.log.at {
			d.log.seen[raw]++
		}
		lines = append(lines, device.LogLine{AtMS: d.onClock(at).Milliseconds(), Level: levels[m[3]], Tag: plain.Text(m[4], 200),
			Text: plain.Text(m[5], maxLogLine), App: userNumber(m[2])})
	}
	if cut {
		lines = append([]device.LogLine{{AtMS: d.Now().Milliseconds(), Level: "warn", Tag: "log",
			Text: fmt.Sprintf("the phone has written more than %d MB at once; the oldest lines are left out", maxLog>>20)}}, lines...)
	}
	return lines
}

// onClock gives the time by this device's clock of a moment by the phone's, in seconds since 1970.
func (d *Device) onClock(epoch float64) time.Duration {
	whole, part := math.Modf(epoch)
	if math.Abs(whole) > 1e11 {
		return 0
	}
	return max(0, time.Unix(int64(whole), int64(part*1e9)).Add(-d.off).Sub(d.opened))
}

var appUser = regexp.MustCompile(`^u0_a(\d{1,5})$`)

// userNumber gives the number of an app's user, "" for those of the system.
func userNumber(user string) string {
	if m := appUser.FindStringSubmatch(user); m != nil {
		n, _ := strconv.Atoi(m[1])
		return strconv.Itoa(10000 + n)
	}
	if n, err := strconv.Atoi(user); err == nil && n >= 10000 && n < 20000 {
		return user
	}
	return ""
}

var packageUser = regexp.MustCompile(`(?m)^package:(\S{1,255}) uid:(\d{1,9})`)

// nameUsers learns which app each user of the phone's is. One that nobody is, is told as none.
func (d *Device) nameUsers(ctx context.Context) error {
	out, err := d.run(ctx, callLimit, "pm list packages -U")
	if err != nil {
		return err
	}
	d.users = map[string]string{}
	for _, m := range packageUser.FindAllStringSubmatch(string(out.Out), maxProps) {
		if isPackage(m[1]) {
			d.users[m[2]] = m[1]
		}
	}
	return nil
}
