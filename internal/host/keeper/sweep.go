package keeper

import (
	"os"
	"path/filepath"
	"time"

	"yamato/internal/filelock"
)

// Prefix is what the names of profiles' folders begin with.
const Prefix = "yamato-handset-"

// inUse is a file in a profile that its keeper has locked for as long as it lives.
const inUse = ".keeper"

// young is how old a profile is at least before it is swept: one that was just made may have no keeper yet.
const young = 2 * time.Minute

// Sweep takes away the profiles in a folder whose keepers were killed together with their hosts, and gives how many
// there were. now is the time.
func Sweep(dir string, now time.Time) (swept int) {
	if dir == "" {
		dir = os.TempDir()
	}
	list, _ := filepath.Glob(filepath.Join(dir, Prefix+"*"))
	for _, profile := range list {
		info, err := os.Lstat(profile)
		if err != nil || !info.IsDir() || now.Sub(info.ModTime()) < young {
			continue
		}
		if _, err := os.Lstat(filepath.Join(profile, inUse)); err != nil {
			continue // of a program that knows no such file, or somebody else's
		}
		lock, err := filelock.Take(filepath.Join(profile, inUse))
		if err != nil {
			continue // its keeper lives
		}
		if os.RemoveAll(profile) == nil {
			swept++
		}
		_ = lock.Release()
	}
	return swept
}
