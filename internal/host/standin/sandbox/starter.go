package sandbox

import (
	"os/exec"
	"runtime"
	"sync"
)

// The kernel sends a child its parent-death signal when the thread that started
// it ends, not the process (prctl(2)). So one thread that never ends starts all
// children.
var (
	starter sync.Once
	toStart chan starting
)

type starting struct {
	cmd  *exec.Cmd
	done chan error
}

func startProcess(cmd *exec.Cmd) error {
	starter.Do(func() {
		toStart = make(chan starting)
		go func() { // lives as long as the process does
			runtime.LockOSThread()
			for s := range toStart {
				s.done <- s.cmd.Start()
			}
		}()
	})
	s := starting{cmd, make(chan error, 1)}
	toStart <- s
	return <-s.done
}
