// Package testbin gives tests the product's own program, built without the race
// detector: what runs as a process of its own is tried as users have it.
package testbin

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
)

// Variable names the environment variable with the program's path, set by
// `make test` so that it is built once.
const Variable = "YAMATO_TEST_PROGRAM"

var (
	once sync.Once
	path string
	fail error
)

// Program is the path of the program.
func Program(t testing.TB) string {
	t.Helper()
	once.Do(func() {
		if path = os.Getenv(Variable); path != "" {
			return
		}
		_, here, _, _ := runtime.Caller(0)
		path = filepath.Join(os.TempDir(), "yamato-test-program")
		cmd := exec.Command("go", "build", "-o", path, "yamato/cmd/yamato")
		cmd.Dir = filepath.Dir(here)
		cmd.Stderr = os.Stderr
		fail = cmd.Run()
	})
	if fail != nil {
		t.Fatalf("building the program: %v", fail)
	}
	return path
}

// Unhurried passes over a test that judges apps, or compares what is seen, where tests run with -short: `make test`
// runs those without the race detector, which slows a judge down and finds nothing in an app, and all others with it.
func Unhurried(t testing.TB) {
	t.Helper()
	if testing.Short() {
		t.Skip("verdicts are tried without the race detector")
	}
}
