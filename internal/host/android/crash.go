package android

import (
	"context"
	"regexp"
	"strconv"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
)

// crashed is an app that has died, or stopped answering, as the log has it.
type crashed struct {
	at     float64 // seconds since 1970, by the phone's clock
	report string
}

// errRestarted is the trouble of a phone that is not as it was left.
var errRestarted = &device.Trouble{Why: "it has started anew by itself, in the middle of what ran on it",
	Remedy: "run it again; where it happens again, see its battery and its heat"}

// died gives the crash of the app that was started, nil where it has only been left.
func (d *Device) died(ctx context.Context) error {
	list, err := d.crashes(ctx, d.app)
	if err != nil {
		return err
	}
	if len(list) == 0 || list[len(list)-1].at <= d.since {
		out, err := d.run(ctx, callLimit, "cat "+bootID)
		if boot := clipped(strings.TrimSpace(string(out.Out)), 60); err == nil && out.Code == 0 && boot != d.boot {
			d.app, d.boot = "", boot
			err = errRestarted
		}
		return err
	}
	report := list[len(list)-1].report
	d.app = ""
	first, _, _ := strings.Cut(report, "\n")
	return &device.Crash{Reason: plain.Clip(first, 300), Report: report}
}

// bootID is a file that says which start of the system this is.
const bootID = "/proc/sys/kernel/random/boot_id"

// crashes gives what the log holds of an app that has died, of every app where it is "".
func (d *Device) crashes(ctx context.Context, app string) ([]crashed, error) {
	out, err := d.run(ctx, callLimit, "logcat -d -b crash -b system -v epoch -s AndroidRuntime:E DEBUG:F ActivityManager:E | tail -c "+
		strconv.Itoa(maxLog))
	return crashesIn(string(out.Out), app), err
}

var (
	crashLine   = regexp.MustCompile(`^\s*([\d.]{1,20})\s+\d+\s+\d+ [EF] (AndroidRuntime|DEBUG|ActivityManager)\s*: (.*)$`)
	nativeOf    = regexp.MustCompile(`^pid: \d+, tid: \d+, name: .* >>> (\S+) <<<`)
	unanswering = regexp.MustCompile(`^ANR in ([A-Za-z0-9_.]+)`)
)

// maxReport bounds a report that is read of the log, in bytes.
const maxReport = 256 << 10

// reports gathers crashes from lines of the log.
type reports struct {
	app  string // whose; "" for all
	out  []crashed
	at   float64
	by   string // the tag of who writes the report
	mine bool
	text []string
	size int
}

// is tells whether a process is one of the app's.
func (r *reports) is(process string) bool {
	name, _, _ := strings.Cut(process, ":") // one of several that an app has
	return r.app == "" || name == r.app
}

func (r *reports) begin(at, by string) {
	r.end()
	r.at, _ = strconv.ParseFloat(at, 64)
	r.by = by
}

func (r *reports) end() {
	if r.mine && len(r.text) > 0 {
		r.out = append(r.out, crashed{r.at, strings.Join(r.text, "\n")})
	}
	r.text, r.mine, r.size = nil, false, 0
}

func (r *reports) add(text string) {
	if r.size += len(text); r.size <= maxReport {
		r.text = append(r.text, plain.Text(text, maxLogLine))
	}
}

// crashesIn gives the reports in the log that are of an app; of every app where it is "": of exceptions that nobody caught
// (AndroidRuntime), of native code (DEBUG), and of apps that stopped answering (ActivityManager).
func crashesIn(log, app string) []crashed {
	r := &reports{app: app}
	for line := range strings.SplitSeq(log, "\n") {
		if m := crashLine.FindStringSubmatch(line); m != nil {
			r.hear(m[1], m[2], m[3])
		}
	}
	r.end()
	return r.out
}

// heads are what a native report says before it says why.
var heads = []string{"Build fingerprint", "Revision:", "ABI:", "Timestamp:", "Process uptime:", "Cmdline:"}

func (r *reports) hear(at, by, text string) {
	anr := unanswering.FindStringSubmatch(text)
	switch {
	case by == "AndroidRuntime" && strings.HasPrefix(text, "FATAL EXCEPTION"), by == "DEBUG" && strings.HasPrefix(text, "*** ***"):
		r.begin(at, by)
		return
	case by == "ActivityManager" && anr != nil:
		r.begin(at, by)
		r.mine = r.is(anr[1])
		r.add("it stopped answering")
		return
	case by != r.by:
		return // another's, between
	}
	if of := nativeOf.FindStringSubmatch(text); of != nil && by == "DEBUG" {
		r.mine = r.is(of[1])
		return
	}
	if process, ok := strings.CutPrefix(text, "Process: "); ok && by == "AndroidRuntime" {
		process, _, _ = strings.Cut(process, ",")
		r.mine = r.is(process)
		return
	}
	for _, h := range heads {
		if by == "DEBUG" && strings.HasPrefix(text, h) {
			return
		}
	}
	r.add(text)
}
