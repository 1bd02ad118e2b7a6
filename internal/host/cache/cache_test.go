package cache

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/blob"
)

func TestTwoFetchesMayTrimTheCacheAtOnce(t *testing.T) {
	c, err := Open(t.TempDir(), nil)
	require.NoError(t, err)
	long := time.Now().Add(-2 * time.Hour)
	for i := range 40 { // files with a size and without content
		path := filepath.Join(c.dir, fmt.Sprintf("%064d", i))
		require.NoError(t, os.WriteFile(path, nil, 0o600))
		require.NoError(t, os.Truncate(path, 1<<30))
		require.NoError(t, os.Chtimes(path, long, long))
	}
	errs := make(chan error, 4)
	for range cap(errs) {
		go func() { errs <- c.trim() }()
	}
	for range cap(errs) {
		require.NoError(t, <-errs)
	}
	left, err := os.ReadDir(c.dir)
	require.NoError(t, err)
	require.LessOrEqual(t, len(left), 8)
}

// damaging gives what is asked for, or something else.
type damaging struct {
	gives []byte
	asked int
}

func (d *damaging) Download(_ context.Context, _, path string) error {
	d.asked++
	return os.WriteFile(path, d.gives, 0o600)
}

func TestWhatAHostFetchesIsWhatItAskedFor(t *testing.T) {
	remote := &damaging{gives: []byte("anything else")}
	c, err := Open(t.TempDir(), remote)
	require.NoError(t, err)
	ctx := context.Background()
	for _, digest := range []string{"", "ab", "../../../../etc/hostname", strings.Repeat("A", 64),
		strings.Repeat("a", 63) + "/", strings.Repeat("a", 65)} {
		_, err := c.Fetch(ctx, digest)
		require.ErrorContains(t, err, "no digest", "%q", digest)
	}
	require.Zero(t, remote.asked)
	sum := sha256.Sum256([]byte("a package"))
	digest := hex.EncodeToString(sum[:])
	_, err = c.Fetch(ctx, digest)
	require.ErrorIs(t, err, blob.ErrDamaged)
	remote.gives = []byte("a package")
	path, err := c.Fetch(ctx, digest)
	require.NoError(t, err, "what came damaged was not kept")
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "a package", string(data))
	_, err = c.Fetch(ctx, digest)
	require.NoError(t, err)
	require.Equal(t, 2, remote.asked, "it is fetched once")
}
