// Package contain keeps a panic to the work that met it: what came from outside may cost the job that it came for, and
// never the process with all its devices.
package contain

import (
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
)

// Fault is a panic that was contained.
type Fault struct {
	What  string // the work that met it, in words
	Value any    // of the panic
	Stack string
}

func (f *Fault) Error() string {
	return fmt.Sprintf("%s met a fault of this program's own (%v); its log has where", f.What, f.Value)
}

var met atomic.Int64

// Met is how many faults were contained since this process began.
func Met() int64 { return met.Load() }

// Do does something, and gives a *Fault where that panics. It is logged with its stack and counted.
func Do(what string, do func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			f := &Fault{What: what, Value: r, Stack: string(debug.Stack())}
			slog.Error("a fault of this program's own was contained; please report it", "in", what, "fault",
				fmt.Sprint(r),
				"faults", met.Add(1), "stack", f.Stack)
			err = f
		}
	}()
	return do()
}

// Go has a group do something, and takes a panic of it for an error.
func Go(g *errgroup.Group, what string, do func() error) {
	g.Go(func() error { return Do(what, do) })
}
