package sandbox

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"yamato/internal/core/device"
)

// turnBackstop is the processor time after which a child that even its own
// watch cannot interrupt is killed; turnWall is the same by the wall clock, for
// one that neither computes nor answers.
const (
	turnBackstop = 2 * turnCPU
	turnWall     = 2 * time.Minute
)

// Sandbox is the child process in which one stand-in's app runs. One goroutine
// at a time may use it.
type Sandbox struct {
	command []string
	process *exec.Cmd
	in      io.WriteCloser
	out     io.Reader
	stderr  *head
	frames  chan frame
	readers sync.WaitGroup
}

type frame struct {
	reply Reply
	err   error
}

// New gives a sandbox that starts its child when it is first needed.
// command is how to start it; it must end with Argument.
func New(command []string) *Sandbox { return &Sandbox{command: command} }

// Turn gives the app one turn. A *script.Crash tells that the app died of it,
// be it by itself or by a bound; any other error is trouble of the machine's.
func (s *Sandbox) Turn(ctx context.Context, req Request) (Reply, error) {
	if s.process == nil {
		if req.Op != "start" {
			return Reply{}, &device.Crash{Reason: "its process is gone"}
		}
		if err := s.launch(); err != nil {
			return Reply{}, err
		}
	}
	if err := writeFrame(s.in, req); err != nil {
		return Reply{}, s.died(err.Error())
	}
	f, err := s.answer(ctx)
	if err != nil {
		return Reply{}, err
	}
	if f.err != nil {
		return Reply{}, s.died(f.err.Error())
	}
	if f.reply.Crash != "" {
		return Reply{Logs: f.reply.Logs}, &device.Crash{Reason: f.reply.Crash, Report: f.reply.Report}
	}
	return f.reply, nil
}

// answer waits for the child's reply, and kills a child that gives none.
func (s *Sandbox) answer(ctx context.Context) (frame, error) {
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	from, since := s.CPU(), time.Now()
	for {
		select {
		case f := <-s.frames:
			return f, nil
		case <-ctx.Done():
			s.Close()
			return frame{}, fmt.Errorf("the app was left while it ran: %w", context.Cause(ctx))
		case <-tick.C:
			if s.CPU()-from > turnBackstop || time.Since(since) > turnWall {
				s.Close()
				return frame{}, &device.Crash{Reason: errNoAnswer.Error(), Report: "its process was killed"}
			}
		}
	}
}

// launch starts the child: as a user of its own where that is possible, else as who we are.
func (s *Sandbox) launch() error {
	err := s.launchAs(own())
	// no other user may be, or may not run this program
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EACCES) {
		err = s.launchAs(nil)
	}
	return err
}

func (s *Sandbox) launchAs(user *syscall.Credential) error {
	cmd := exec.Command(s.command[0], s.command[1:]...)
	if user != nil && isThis(cmd.Path) {
		cmd.Path = "/proc/self/exe" // whatever folders lead to it: others may not enter all of them
	}
	cmd.Env = []string{"GOMAXPROCS=1", "GOTRACEBACK=none"}
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true, Credential: user}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, w, err := os.Pipe()
	if err != nil {
		return err
	}
	cmd.Stdout = w
	s.stderr = &head{}
	cmd.Stderr = s.stderr
	if err := startProcess(cmd); err != nil {
		_, _, _ = in.Close(), out.Close(), w.Close()
		return fmt.Errorf("the app's process cannot be started: %w", err)
	}
	_ = w.Close()
	s.process, s.in, s.out, s.frames = cmd, in, out, make(chan frame)
	gone := s.frames
	s.readers.Add(1)
	go s.read(out, gone)
	return nil
}

// read hands on replies until the child's output ends. It is owned by the
// sandbox: Close ends the child and waits for it.
func (s *Sandbox) read(out io.ReadCloser, frames chan<- frame) {
	defer s.readers.Done()
	defer close(frames)
	defer out.Close()
	for {
		var f frame
		f.err = readFrame(out, &f.reply)
		frames <- f
		if f.err != nil {
			return
		}
	}
}

// died tells why the child is gone. One that was killed by somebody else, as a machine
// does that has no memory left, says nothing of the app: that is the host's trouble.
func (s *Sandbox) died(cause string) error {
	text, process := s.stderr.String, s.process
	s.finish()
	report := text()
	reason := "its process ended: " + cause
	if status, ok := process.ProcessState.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		switch status.Signal() {
		case syscall.SIGSEGV, syscall.SIGBUS, syscall.SIGABRT, syscall.SIGILL, syscall.SIGFPE, syscall.SIGPIPE:
			reason = fmt.Sprintf("its process ended: %s", status.Signal())
		default:
			return fmt.Errorf("the app's process was ended from outside (%s): the host may have run out of memory",
				status.Signal())
		}
	}
	if strings.Contains(report, "out of memory") || strings.Contains(report, "cannot allocate memory") ||
		strings.Contains(report, "errno=12") {
		if use, ok := process.ProcessState.SysUsage().(*syscall.Rusage); ok && use.Maxrss<<10 < memoryHard/2 &&
			machineRoom() < memoryHard {
			return fmt.Errorf("the machine had no memory left for the app's process, which had %d MB of the %d that it may have",
				use.Maxrss>>10, memoryHard>>20)
		}
		reason = fmt.Sprintf("it used more memory than the %d MB it may have", memoryHard>>20)
	}
	return &device.Crash{Reason: reason, Report: report}
}

// machineRoom is how much memory the machine has for whoever asks, in bytes, as the kernel tells (proc(5), meminfo):
// what is available, and where it promises no more than it has (vm.overcommit_memory is 2), what it may still promise.
// What an app asks for and does not write to is not resident, and bounded all the same: how much it has says little.
func machineRoom() int64 {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0
	}
	kb := map[string]int64{}
	for _, line := range strings.Split(string(text), "\n") {
		if fields := strings.Fields(line); len(fields) >= 2 {
			kb[strings.TrimSuffix(fields[0], ":")], _ = strconv.ParseInt(fields[1], 10, 64)
		}
	}
	room := kb["MemAvailable"]
	if mode, err := os.ReadFile("/proc/sys/vm/overcommit_memory"); err == nil &&
		strings.TrimSpace(string(mode)) == "2" {
		room = min(room, kb["CommitLimit"]-kb["Committed_AS"])
	}
	return room << 10
}

// Close ends the child, if there is one, and waits until it is gone.
func (s *Sandbox) Close() {
	if s.process == nil {
		return
	}
	_ = s.process.Process.Kill()
	s.finish()
}

// finish waits for a child whose output has ended, or is about to.
func (s *Sandbox) finish() {
	_ = s.in.Close()
	for range s.frames { // what it still had to say, until its output ends
	}
	s.readers.Wait()
	_ = s.process.Wait()
	s.process = nil
}

// MemoryKB is the child's resident memory, 0 if there is none.
func (s *Sandbox) MemoryKB() int64 {
	if s.process == nil {
		return 0
	}
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", s.process.Process.Pid))
	fields := strings.Fields(string(text))
	if err != nil || len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(fields[1], 10, 64)
	return pages * int64(os.Getpagesize()) / 1024
}

// CPU is the processor time that the child has had (proc(5), stat), 0 if there is none.
func (s *Sandbox) CPU() time.Duration {
	if s.process == nil {
		return 0
	}
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.process.Process.Pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	if len(fields) < 13 {
		return 0
	}
	user, _ := strconv.ParseInt(fields[11], 10, 64)
	system, _ := strconv.ParseInt(fields[12], 10, 64)
	return time.Duration(user+system) * time.Second / 100
}

// head keeps the first few kilobytes written to it: that is where a dying
// process says why.
type head struct {
	mu   sync.Mutex
	data []byte
}

func (h *head) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.data = append(h.data, p[:min(len(p), 4<<10-len(h.data))]...)
	return len(p), nil
}

func (h *head) String() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return string(h.data)
}
