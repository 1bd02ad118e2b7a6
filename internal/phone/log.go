package phone

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yamato/internal/core/device"
)

// Bounds of the log, which goes round.
const (
	maxLogLines = 20_000
	maxLogBytes = 4 << 20
)

// logged is a line of the log.
type logged struct {
	at    float64 // seconds since 1970, by the phone's clock
	crash bool    // it is in the buffer of crashes
	uid   string
	pid   int
	level string
	tag   string
	text  string
}

// buffer is where a line is kept.
func (l logged) buffer() string {
	switch {
	case l.crash:
		return "crash"
	case l.uid == "1000":
		return "system"
	}
	return "main"
}

// clock is what the phone's own clock says.
func (p *Phone) clock() time.Time { return time.Now().Add(p.off) }

func (p *Phone) write(l logged) {
	if n := len(p.log); n > 0 && l.at < p.log[n-1].at {
		l.at = p.log[n-1].at
	}
	p.log = append(p.log, l)
	p.logSize += len(l.text) + 80
	for len(p.log) > maxLogLines || p.logSize > maxLogBytes {
		p.logSize -= len(p.log[0].text) + 80
		p.log = p.log[1:]
	}
}

// noteLog takes in what the device behind the phone has logged. The caller holds using.
func (p *Phone) noteLog(ctx context.Context) {
	l, ok := device.As[device.Logger](p.body.device)
	if !ok {
		return
	}
	lines, err := l.Log(ctx)
	if err != nil {
		return
	}
	for _, one := range lines {
		at := p.body.begun.Add(time.Duration(one.AtMS) * time.Millisecond).Add(p.off)
		uid, pid := "1000", 1432
		if a := p.body.apps[one.App]; a != nil {
			uid, pid = strconv.Itoa(a.uid), a.pid
		}
		level := map[string]string{"debug": "D", "info": "I", "warn": "W", "error": "E"}[one.Level]
		p.write(logged{at: float64(at.UnixMilli()) / 1e3, uid: uid, pid: pid, level: level, tag: one.Tag, text: one.Text})
	}
}

// unanswering is what the device behind the phone says of an app that hangs.
const unanswering = "stopped answering"

// noteDeath writes a crash as the system does.
func (p *Phone) noteDeath(app, report string) {
	uid, pid := "1000", 4242
	if a := p.body.apps[app]; a != nil {
		uid, pid = strconv.Itoa(a.uid), a.pid
		a.pid = 0
	}
	at := float64(p.clock().UnixMilli()) / 1e3
	text := fmt.Sprintf("FATAL EXCEPTION: main\nProcess: %s, PID: %d\n%s", app, pid, strings.TrimSpace(report))
	tag, crash := "AndroidRuntime", true
	if strings.Contains(report, unanswering) {
		text = fmt.Sprintf("ANR in %s (%s/.Main)\nPID: %d\nReason: Input dispatching timed out\n%s", app, app, pid, strings.TrimSpace(report))
		tag, crash, uid, pid = "ActivityManager", false, "1000", 1432
	}
	for line := range strings.SplitSeq(text, "\n") {
		p.write(logged{at: at, crash: crash, uid: uid, pid: pid, level: "E", tag: tag, text: line})
	}
}

// logcat gives what is in the log's buffers.
func logcat(j *job) int {
	if _, err := j.phone.seen(j.ctx); err != nil {
		return j.fail(1, "%v", err)
	}
	buffers, uids, since, only := []string{}, false, 0.0, map[string]bool{}
	for i := 1; i < len(j.args); i++ {
		switch next := ""; j.args[i] {
		case "-b", "-v", "-T":
			if i+1 < len(j.args) {
				next = j.args[i+1]
			}
			switch j.args[i] {
			case "-b":
				buffers = append(buffers, strings.Split(next, ",")...)
			case "-v":
				uids = uids || next == "uid"
			case "-T":
				since, _ = strconv.ParseFloat(next, 64)
			}
			i++
		case "-s":
			for _, tag := range j.args[i+1:] {
				name, _, _ := strings.Cut(tag, ":")
				only[name] = true
			}
		case "-c":
			j.phone.lock()
			j.phone.log, j.phone.logSize = nil, 0
			j.phone.using.Unlock()
			return 0
		}
	}
	if len(buffers) == 0 {
		buffers = []string{"main", "system", "crash"}
	}
	j.phone.lock()
	lines := slices.Clone(j.phone.log)
	j.phone.using.Unlock()
	j.say("--------- beginning of %s\n", buffers[0])
	for _, l := range lines {
		if l.at < since || len(only) > 0 && !only[l.tag] || !slices.Contains(buffers, l.buffer()) && !slices.Contains(buffers, "all") {
			continue
		}
		user := ""
		if uids {
			user = fmt.Sprintf(" %5s", l.uid)
		}
		j.say("%19.3f%s %5d %5d %s %-8s: %s\n", l.at, user, l.pid, l.pid, l.level, l.tag, l.text)
	}
	return 0
}
