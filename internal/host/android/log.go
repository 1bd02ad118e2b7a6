package android

import (
	"bytes"
	"context"
	"fmt"
	"maps"
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

// written is a line as `logcat -v epoch -v uid` writes it: time, user, process, thread, level, tag and text.
type written struct {
	at                     float64
	time, user, level, tag string
	text                   string
}

// readLine reads one. It is done without an expression, as a phone may write ten thousands of them a second.
func readLine(raw string) (w written, ok bool) {
	rest := raw
	var fields [5]string
	for i := range fields {
		rest = strings.TrimLeft(rest, " ")
		fields[i], rest, ok = strings.Cut(rest, " ")
		if !ok {
			return w, false
		}
	}
	w.time, w.user, w.level = fields[0], fields[1], levels[fields[4]]
	at, err := strconv.ParseFloat(w.time, 64)
	if err != nil || !(at > 0 && at < 1e11) || strings.Trim(w.time, "0123456789.") != "" || w.level == "" ||
		strings.Trim(fields[2]+fields[3], "0123456789") != "" {
		return w, false
	}
	w.at = at
	if w.tag, w.text, ok = strings.Cut(rest, ": "); !ok {
		w.tag, ok = strings.CutSuffix(rest, ":")
	}
	w.tag = strings.TrimSpace(w.tag)
	return w, ok
}

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
	left := maps.Clone(before.seen)
	for raw := range strings.Lines(string(text)) {
		raw = strings.TrimRight(plain.Clip(raw, maxLogLine), "\r\n")
		w, ok := readLine(raw)
		if !ok || w.at < before.at {
			continue // the head of a buffer, half a line, or one that was read
		}
		at := w.at
		if at == before.at && left[raw] > 0 {
			left[raw]--
			continue
		}
		if at > d.log.at || d.log.seen == nil {
			d.log = logRead{w.time, at, map[string]int{}}
		}
		if at == d.log.at {
			d.log.seen[raw]++
		}
		lines = append(lines, device.LogLine{AtMS: d.onClock(at).Milliseconds(), Level: w.level, Tag: plain.Text(w.tag, 200),
			Text: plain.Text(w.text, maxLogLine), App: userNumber(w.user)})
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
