package blob

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func digestOf(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:])
}

func open(t *testing.T) *Dir {
	t.Helper()
	d, err := OpenDir(t.TempDir())
	require.NoError(t, err)
	return d
}

func staged(t *testing.T, d *Dir) int {
	t.Helper()
	entries, err := os.ReadDir(filepath.Join(d.root, "staging"))
	require.NoError(t, err)
	return len(entries)
}

func TestContentIsKeptUnderItsDigest(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	info, err := d.Put(ctx, strings.NewReader("tide"), "", 100)
	require.NoError(t, err)
	require.Equal(t, Info{digestOf("tide"), 4}, info)
	f, err := d.Open(ctx, info.Digest)
	require.NoError(t, err)
	defer f.Close()
	text, err := io.ReadAll(f)
	require.NoError(t, err)
	require.Equal(t, "tide", string(text))
	require.Equal(t, int64(4), f.Size())
	require.Zero(t, staged(t, d))
}

func TestWhatDoesNotArriveWholeIsNotKept(t *testing.T) {
	broken := io.MultiReader(strings.NewReader("half of it"), errReader{})
	ended, stop := context.WithCancel(context.Background())
	stop()
	for name, c := range map[string]struct {
		ctx    context.Context
		r      io.Reader
		digest string
		want   error
	}{
		"damaged":       {context.Background(), strings.NewReader("tida"), digestOf("tide"), ErrDamaged},
		"too large":     {context.Background(), strings.NewReader(strings.Repeat("x", 101)), "", ErrTooLarge},
		"no digest":     {context.Background(), strings.NewReader("x"), "../../etc/passwd", ErrDigest},
		"broken off":    {context.Background(), broken, "", errBroken},
		"nobody waits":  {ended, strings.NewReader("x"), "", context.Canceled},
		"upper-case id": {context.Background(), strings.NewReader("tide"), strings.ToUpper(digestOf("tide")), ErrDigest},
	} {
		t.Run(name, func(t *testing.T) {
			d := open(t)
			_, err := d.Put(c.ctx, c.r, c.digest, 100)
			require.ErrorIs(t, err, c.want)
			require.Zero(t, staged(t, d), "nothing is left behind")
			require.NoError(t, d.Each(context.Background(), -time.Minute, func(digest string) error { return errors.New("kept " + digest) }))
		})
	}
}

var errBroken = errors.New("the line broke")

type errReader struct{}

func (errReader) Read([]byte) (int, error) { return 0, errBroken }

func TestManyPutTheSameAtOnce(t *testing.T) {
	d := open(t)
	text := strings.Repeat("tide ", 10_000)
	var all sync.WaitGroup
	for range 16 {
		all.Add(1)
		go func() {
			defer all.Done()
			_, err := d.Put(context.Background(), strings.NewReader(text), digestOf(text), 1<<20)
			require.NoError(t, err)
		}()
	}
	all.Wait()
	n := 0
	require.NoError(t, d.Each(context.Background(), -time.Minute, func(digest string) error {
		n++
		require.Equal(t, digestOf(text), digest)
		return nil
	}))
	require.Equal(t, 1, n)
}

func TestOnlyWhatIsOldIsVisitedAndRemoved(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	info, err := d.Put(ctx, strings.NewReader("tide"), "", 100)
	require.NoError(t, err)
	leftover := filepath.Join(d.root, "staging", "in-killed")
	require.NoError(t, os.WriteFile(leftover, []byte("half"), 0o600))
	visit := func() (n int) {
		require.NoError(t, d.Each(ctx, time.Hour, func(string) error { n++; return nil }))
		return n
	}
	require.Zero(t, visit(), "it has just come")
	old := time.Now().Add(-2 * time.Hour)
	for _, path := range []string{d.path(info.Digest), leftover} {
		require.NoError(t, os.Chtimes(path, old, old))
	}
	require.Equal(t, 1, visit())
	require.NoFileExists(t, leftover, "what a killed process staged goes")

	_, err = d.Put(ctx, strings.NewReader("tida"), info.Digest, 100)
	require.ErrorIs(t, err, ErrDamaged, "what arrives damaged is refused, be it here already or not")
	_, err = d.Put(ctx, strings.NewReader("tide"), info.Digest, 100)
	require.NoError(t, err)
	require.NoError(t, d.Remove(ctx, info.Digest, time.Hour))
	_, err = d.Open(ctx, info.Digest)
	require.NoError(t, err, "it was put again meanwhile, so its age began anew")

	require.NoError(t, os.Chtimes(d.path(info.Digest), old, old))
	require.NoError(t, d.Remove(ctx, info.Digest, time.Hour))
	_, err = d.Open(ctx, info.Digest)
	require.ErrorIs(t, err, ErrNone)
	require.NoError(t, d.Remove(ctx, info.Digest, time.Hour), "twice is harmless")
}
