// Package keeper keeps a browser for a host, and takes it away with the host.
package keeper

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"yamato/internal/filelock"
)

// Argument, as its first, makes this program a keeper: it starts a browser, ends it when
// the host that started the keeper is gone, however that went, and takes the browser's
// profile away.
const Argument = "keep-browser"

// largest is the resident memory at which a process of the browser is ended, in bytes: a page
// that takes so much would take the host's.
const largest = 2 << 30

// weigh ends processes of the browser that have grown too large; to it, their pages crash.
func weigh(browser int) {
	for range time.Tick(time.Second) {
		end(browser)
	}
}

// end ends what a process has started, and what that has started, where it is too large. The kernel's own lists of
// children (proc(5)) are read: to go through all processes of the machine takes a third of a core.
func end(parent int) {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", parent))
	for _, list := range lists {
		text, _ := os.ReadFile(list) // it may have ended meanwhile
		for _, word := range strings.Fields(string(text)) {
			child, err := strconv.Atoi(word)
			if err != nil {
				continue
			}
			if resident(child) > largest {
				_ = syscall.Kill(child, syscall.SIGKILL)
			}
			end(child)
		}
	}
}

// kill ends what a process has started.
func kill(parent int) {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", parent))
	for _, list := range lists {
		text, _ := os.ReadFile(list)
		for _, word := range strings.Fields(string(text)) {
			if child, err := strconv.Atoi(word); err == nil {
				_ = syscall.Kill(child, syscall.SIGKILL)
			}
		}
	}
}

// resident is the resident memory of a process, in bytes.
func resident(pid int) int64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	fields := strings.Fields(string(text))
	if len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(fields[1], 10, 64)
	return pages * int64(os.Getpagesize())
}

// Run keeps a browser: arguments are the profile's folder, and the browser with its own.
// The browser speaks over the descriptors 3 and 4, which come from the host; standard input
// ends when the host does.
func Run(args []string) int {
	if len(args) < 2 {
		fmt.Fprintln(os.Stderr, "a keeper needs a profile and a browser")
		return 2
	}
	runtime.LockOSThread() // the browser's parent-death signal is of this thread (prctl(2))
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	profile := args[0]
	if lock, err := filelock.Take(filepath.Join(profile, inUse)); err == nil { // who sweeps leaves it alone
		defer func() { _ = lock.Release() }()
	}
	cmd := exec.Command(args[1], args[2:]...)
	from, to := os.NewFile(3, "to the browser"), os.NewFile(4, "from the browser")
	cmd.ExtraFiles = []*os.File{from, to}
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	if err := cmd.Start(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	_, _ = from.Close(), to.Close()
	over := make(chan struct{}, 2)
	go func() { // ends with this process
		_, _ = io.Copy(io.Discard, os.Stdin)
		over <- struct{}{}
	}()
	go weigh(cmd.Process.Pid) // ends with this process
	go func() {               // ends with the browser
		_ = cmd.Wait()
		over <- struct{}{}
	}()
	<-over
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	for { // what the browser had started comes to this process once its parents are gone
		kill(os.Getpid())
		if _, err := syscall.Wait4(-1, nil, 0, nil); err != nil && !errors.Is(err, syscall.EINTR) {
			break // there is nobody any more who could write to the profile
		}
	}
	if err := os.RemoveAll(profile); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}
