// Command with starts one PostgreSQL cluster for tests, runs a command with its
// address in the environment, stops the cluster, and ends as the command did.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"yamato/internal/pgbox"
	"yamato/internal/pgbox/pgtest"
)

func main() {
	code, err := run(context.Background(), os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, "with:", err)
		os.Exit(3)
	}
	os.Exit(code)
}

func run(ctx context.Context, command []string) (code int, err error) {
	if len(command) == 0 {
		return 0, errors.New("usage: with COMMAND…")
	}
	dir, err := os.MkdirTemp("", "yamato-test-postgres-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o711); err != nil {
		return 0, err
	}
	box, err := pgbox.Start(ctx, filepath.Join(dir, "cluster"))
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, box.Stop()) }()
	if err := pgtest.MakeTemplate(ctx, box.URL("postgres")); err != nil {
		return 0, err
	}
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Env = append(os.Environ(), pgtest.Variable+"="+box.URL("postgres"))
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	err = cmd.Run()
	var failed *exec.ExitError
	if errors.As(err, &failed) {
		return failed.ExitCode(), nil
	}
	return 0, err
}
