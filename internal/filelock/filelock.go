// Package filelock keeps two processes from using one folder. The lock is the kernel's
// (flock(2)): it ends with the process that holds it, however that ends.
package filelock

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Lock is held until it is released.
type Lock struct{ file *os.File }

// Taken tells who holds a lock.
type Taken struct {
	Path string
	Who  string // "process 17 (yamato up), since 2026-06-01 09:41:00", or "" where that cannot be read
}

func (t *Taken) Error() string {
	who := t.Who
	if who == "" {
		who = "another process"
	}
	return fmt.Sprintf("the folder %s is in use by %s", filepath.Dir(t.Path), who)
}

// Take locks the file at path, which is made if need be and says who has it. It gives a
// *Taken where another process does.
func Take(path string) (*Lock, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		defer f.Close()
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, fmt.Errorf("locking %s: %w", path, err)
		}
		text := make([]byte, 300)
		n, _ := f.ReadAt(text, 0)
		return nil, &Taken{path, strings.TrimSpace(string(text[:n]))}
	}
	words := filepath.Base(os.Args[0])
	if len(os.Args) > 1 && !strings.HasPrefix(os.Args[1], "-") {
		words += " " + os.Args[1]
	}
	who := fmt.Sprintf("process %d (%s), since %s\n", os.Getpid(), words, time.Now().Format(time.DateTime))
	err = f.Truncate(0)
	if err == nil {
		_, err = f.WriteAt([]byte(who), 0)
	}
	if err != nil && !errors.Is(err, syscall.ENOSPC) { // a full disk takes locks all the same
		return nil, errors.Join(fmt.Errorf("saying who has %s: %w", path, err), f.Close())
	}
	return &Lock{f}, nil
}

// Release lets go.
func (l *Lock) Release() error { return l.file.Close() }
