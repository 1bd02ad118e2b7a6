package filelock

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAFolderIsUsedByOneAtATimeAndItIsSaidByWhom(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	first, err := Take(path)
	require.NoError(t, err)
	_, err = Take(path)
	var taken *Taken
	require.ErrorAs(t, err, &taken)
	require.Contains(t, err.Error(), fmt.Sprintf("is in use by process %d", os.Getpid()))
	require.NoError(t, first.Release())
	second, err := Take(path)
	require.NoError(t, err)
	require.NoError(t, second.Release())
}
