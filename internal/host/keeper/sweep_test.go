package keeper

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/filelock"
)

func TestProfilesWithoutAKeeperAreSwept(t *testing.T) {
	dir := t.TempDir()
	profile := func(name string, kept bool) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Join(path, "Default"), 0o700))
		if kept {
			require.NoError(t, os.WriteFile(filepath.Join(path, inUse), nil, 0o600))
		}
		return path
	}
	left, lived, others, another := profile(Prefix+"1", true), profile(Prefix+"2", true), profile(Prefix+"3", false),
		profile("else", true)
	lock, err := filelock.Take(filepath.Join(lived, inUse))
	require.NoError(t, err)
	require.NoError(t, os.Symlink(another, filepath.Join(dir, Prefix+"link")))
	require.Zero(t, Sweep(dir, time.Now()), "none is old enough")
	require.Equal(t, 1, Sweep(dir, time.Now().Add(time.Hour)))
	require.NoDirExists(t, left)
	for _, there := range []string{lived, others, another} {
		require.DirExists(t, there)
	}
	require.NoError(t, lock.Release())
}
