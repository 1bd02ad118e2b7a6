package remote

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"

	"yamato/internal/core/device"
	"yamato/internal/host/keeper"
)

// program is a process that a keeper keeps: it ends with this one, however that ends, and its folder with it.
type program struct {
	folder string
	cmd    *exec.Cmd
	alive  io.Closer // the keeper's standard input
	to     *os.File
	from   *os.File // what it writes to its descriptor 4
	said   head
	over   sync.WaitGroup
	gone   chan struct{}
}

// head keeps the first of what a process writes, and tells of each line.
type head struct {
	mu   sync.Mutex
	kept bytes.Buffer
	told chan struct{} // has an element when something was written
}

func (h *head) Write(b []byte) (int, error) {
	h.mu.Lock()
	if room := 8000 - h.kept.Len(); room > 0 {
		h.kept.Write(b[:min(room, len(b))])
	}
	h.mu.Unlock()
	select {
	case h.told <- struct{}{}:
	default:
	}
	return len(b), nil
}

func (h *head) text() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.kept.String()
}

// folder makes one for a program.
func folder() (string, error) { return os.MkdirTemp("", keeper.Prefix) }

// start starts a program with a folder of its own, which is gone when it has ended. keeper is the command that starts
// a keeper.
func start(keeper []string, folder string, env []string, path string, args ...string) (*program, error) {
	p := &program{folder: folder, gone: make(chan struct{}), said: head{told: make(chan struct{}, 1)}}
	line := append(append(append([]string{}, keeper[1:]...), folder, path), args...)
	p.cmd = exec.Command(keeper[0], line...)
	p.cmd.Env = append(append(os.Environ(), "HOME="+folder, "XDG_CONFIG_HOME="+folder, "XDG_CACHE_HOME="+folder,
		"XDG_DATA_HOME="+folder, "DBUS_SESSION_BUS_ADDRESS=disabled:"), env...)
	p.cmd.Stdout, p.cmd.Stderr = &p.said, &p.said
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	child, to, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(folder))
	}
	from, out, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, child.Close(), to.Close(), os.RemoveAll(folder))
	}
	p.to, p.from = to, from
	p.cmd.ExtraFiles = []*os.File{child, out}
	if p.alive, err = p.cmd.StdinPipe(); err == nil {
		err = p.cmd.Start()
	}
	_, _ = child.Close(), out.Close()
	if err != nil {
		return nil, errors.Join(err, to.Close(), from.Close(), os.RemoveAll(folder))
	}
	p.over.Go(func() {
		_ = p.cmd.Wait()
		close(p.gone)
	})
	return p, nil
}

// pid is the keeper's.
func (p *program) pid() int {
	if p == nil {
		return 0
	}
	return p.cmd.Process.Pid
}

// end ends it, and waits until its folder is gone.
func (p *program) end() {
	if p == nil {
		return
	}
	_ = p.alive.Close()
	p.over.Wait()
	_, _ = p.to.Close(), p.from.Close()
}

// dead tells whether it has ended.
func (p *program) dead() bool {
	if p == nil {
		return true
	}
	select {
	case <-p.gone:
		return true
	default:
		return false
	}
}

// await waits until what it has written holds what find finds.
func (p *program) await(ctx context.Context, find func(text string) string) (string, error) {
	for {
		if found := find(p.said.text()); found != "" {
			return found, nil
		}
		select {
		case <-p.said.told:
		case <-p.gone:
			return "", fmt.Errorf("it has ended: %s", strings.TrimSpace(p.said.text()))
		case <-ctx.Done():
			return "", context.Cause(ctx)
		}
	}
}

// freePort is one of the loopback that nobody listens on.
func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// missing says that a program is not there, and what to do about it.
func missing(what, packages string) error {
	return &device.Trouble{Why: what + " is not installed on this host", Remedy: "as root: apt-get install -y " + packages}
}

// died says that the browser, and not the app, is at fault.
func died(what string) error {
	return &device.Trouble{Why: what + " has died", Remedy: "nothing: it is started anew; see the host's log if it happens again"}
}
