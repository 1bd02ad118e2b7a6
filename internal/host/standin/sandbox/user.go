package sandbox

import (
	"os"
	"sync/atomic"
	"syscall"
)

// Users of no name, for programs that nobody trusts: systemd keeps these numbers for such (systemd.io/UIDS-GIDS,
// "dynamic users").
const (
	firstUser = 61184
	users     = 65520 - firstUser
)

var started atomic.Uint32

// own gives a user of an app's own, where this process is root; nil where it is not, and nothing can be given up. Two
// apps of a host have different ones, so that neither may touch the other's process, nor anything of the host's.
func own() *syscall.Credential {
	if os.Geteuid() != 0 {
		return nil
	}
	n := (uint32(os.Getpid())*31 + started.Add(1)) % users
	return &syscall.Credential{Uid: firstUser + n, Gid: firstUser + n}
}

// isThis tells whether a path is this program's own file.
func isThis(path string) bool {
	a, err := os.Stat(path)
	if err != nil {
		return false
	}
	b, err := os.Stat("/proc/self/exe")
	return err == nil && os.SameFile(a, b)
}
