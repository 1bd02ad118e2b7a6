package phone

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"regexp"
	"strconv"

	"yamato/internal/core/device"
	"yamato/internal/host/driver"
)

// What the kernel tells of processes, and of the phone (proc(5)).

func init() {
	maps.Copy(commands, map[string]func(*job) int{"pidof": pidof, "df": df, "test": test, "tail": tail})
}

func pidof(j *job) int {
	if len(j.args) != 2 {
		return 1
	}
	j.phone.lock()
	defer j.phone.using.Unlock()
	if a := j.phone.body.apps[j.args[1]]; a != nil && a.pid != 0 {
		j.say("%d\n", a.pid)
		return 0
	}
	return 1
}

var ofProcess = regexp.MustCompile(`^/proc/(\d{1,8})/(cmdline|stat|status)$`)

// open opens a file of the phone's: what the kernel makes up, or one that lies there.
func (j *job) open(name string) (io.ReadCloser, error) {
	text := ""
	switch m := ofProcess.FindStringSubmatch(name); {
	case m != nil:
		pid, _ := strconv.Atoi(m[1])
		var found bool
		if text, found = j.process(pid, m[2]); !found {
			return nil, plainWords(fs.ErrNotExist)
		}
	case name == "/proc/sys/kernel/random/boot_id":
		j.phone.lock()
		text = j.phone.bootID + "\n"
		j.phone.using.Unlock()
	case name == "/proc/net/dev":
		text = fmt.Sprintf("Inter-|   Receive                                                |  Transmit\n"+
			" face |bytes    packets errs drop fifo frame compressed multicast|bytes    packets errs drop fifo colls carrier compressed\n"+
			"    lo:   10000      10    0    0    0     0          0         0    10000      10    0    0    0     0       0          0\n"+
			" wlan0: %d     100    0    0    0     0          0         0  0     100    0    0    0     0       0          0\n", int64(j.reading("network")))
	default:
		return j.phone.files.Get(name)
	}
	return io.NopCloser(bytes.NewReader([]byte(text))), nil
}

// process is what the kernel tells of a process.
func (j *job) process(pid int, what string) (string, bool) {
	p := j.phone
	p.lock()
	name := ""
	for id, a := range p.body.apps {
		if a.pid == pid && pid != 0 {
			name = id
		}
	}
	p.using.Unlock()
	switch {
	case name == "":
		return "", false
	case what == "cmdline":
		return name + "\x00\x00", true
	case what == "stat":
		return fmt.Sprintf("%d (%s) S 1 1 0 0 -1 0 0 0 0 0 %d 0 0 0 20 0 1 0 100 0 0\n", pid, name[max(0, len(name)-15):],
			int64(j.reading("cpu")*100)), true
	}
	return fmt.Sprintf("Name:\t%s\nVmRSS:\t%8d kB\n", name, int64(j.reading("memory"))>>10), true
}

// reading gives a figure of what the app in front takes.
func (j *job) reading(name string) (value float64) {
	_ = j.phone.with(j.ctx, func(d driver.Device) error {
		return able(d, func(m device.Measured) error {
			list, err := m.Readings(j.ctx)
			for _, r := range list {
				if r.Name == name {
					value = r.Value
				}
			}
			return err
		})
	})
	return value
}

// health is how the device behind the phone is.
func (j *job) health() (h device.Health) {
	j.phone.lock()
	defer j.phone.using.Unlock()
	if c, ok := device.As[device.Healthy](j.phone.body.device); ok && j.phone.body.device != nil {
		h, _ = c.Health(j.ctx)
	}
	return h
}

func df(j *job) int {
	free := 52_000
	if h := j.health(); h.FreeMB != nil {
		free = *h.FreeMB
	}
	j.say("Filesystem      1K-blocks      Used Available Use%% Mounted on\n/dev/block/dm-44 115000000 %9d %9d  50%% /data\n",
		115_000_000-free<<10, free<<10)
	return 0
}

func test(j *job) int {
	if len(j.args) == 3 && j.args[1] == "-w" && (j.args[2] == touchscreen || j.phone.files.mayWrite(j.phone.files.at(j.args[2]))) {
		return 0
	}
	return 1
}

func tail(j *job) int {
	if len(j.args) < 3 || j.args[1] != "-c" {
		return j.fail(1, "usage: tail -c NUMBER")
	}
	n, err := strconv.Atoi(j.args[2])
	if err != nil || n < 0 {
		return j.fail(1, "tail: bad number '%s'", j.args[2])
	}
	all, err := io.ReadAll(io.LimitReader(j.in, 64<<20))
	if err == nil {
		_, err = j.out.Write(all[max(0, len(all)-n):])
	}
	if err != nil && !errors.Is(err, io.ErrClosedPipe) {
		return 1
	}
	return 0
}
