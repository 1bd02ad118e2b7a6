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
	info, err := d.Put(ctx, strings.NewReader("tide"), "", 100, noted)
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
		"damaged":      {context.Background(), strings.NewReader("tida"), digestOf("tide"), ErrDamaged},
		"too large":    {context.Background(), strings.NewReader(strings.Repeat("x", 101)), "", ErrTooLarge},
		"no digest":    {context.Background(), strings.NewReader("x"), "../../etc/passwd", ErrDigest},
		"broken off":   {context.Background(), broken, "", errBroken},
		"nobody waits": {ended, strings.NewReader("x"), "", context.Canceled},
		"upper-case id": {context.Background(), strings.NewReader("tide"), strings.ToUpper(digestOf("tide")),
			ErrDigest},
	} {
		t.Run(name, func(t *testing.T) {
			d := open(t)
			_, err := d.Put(c.ctx, c.r, c.digest, 100, noted)
			require.ErrorIs(t, err, c.want)
			require.Zero(t, staged(t, d), "nothing is left behind")
			require.NoError(t, d.Each(context.Background(), func(b Info) error {
				return errors.New("kept " + b.Digest)
			}))
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
			_, err := d.Put(context.Background(), strings.NewReader(text), digestOf(text), 1<<20, noted)
			require.NoError(t, err)
		}()
	}
	all.Wait()
	n := 0
	require.NoError(t, d.Each(context.Background(), func(b Info) error {
		n++
		require.Equal(t, Info{digestOf(text), int64(len(text))}, b)
		return nil
	}))
	require.Equal(t, 1, n)
}

func TestWhatAKilledProcessStagedGoesAndNothingElse(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	info, err := d.Put(ctx, strings.NewReader("tide"), "", 100, noted)
	require.NoError(t, err)
	leftover, fresh := filepath.Join(d.root, "staging", "in-killed"), filepath.Join(d.root, "staging", "in-coming")
	for _, path := range []string{leftover, fresh} {
		require.NoError(t, os.WriteFile(path, []byte("half"), 0o600))
	}
	old := time.Now().Add(-2 * time.Hour)
	for _, path := range []string{d.path(info.Digest), leftover} {
		require.NoError(t, os.Chtimes(path, old, old))
	}
	require.NoError(t, d.Sweep(ctx, time.Hour))
	require.NoFileExists(t, leftover)
	require.FileExists(t, fresh, "what is on its way stays")
	require.FileExists(t, d.path(info.Digest), "and a blob, however old its file")

	_, err = d.Put(ctx, strings.NewReader("tida"), info.Digest, 100, noted)
	require.ErrorIs(t, err, ErrDamaged, "what arrives damaged is refused, be it here already or not")
	require.NoError(t, d.Remove(ctx, info.Digest))
	_, err = d.Open(ctx, info.Digest)
	require.ErrorIs(t, err, ErrNone)
	require.NoError(t, d.Remove(ctx, info.Digest), "twice is harmless")
}

func TestABlobIsNotedBeforeItIsNamed(t *testing.T) {
	d := open(t)
	ctx := context.Background()
	var told []Info
	refuse := func(b Info) error {
		require.NoFileExists(t, d.path(b.Digest))
		told = append(told, b)
		return errBroken
	}
	_, err := d.Put(ctx, strings.NewReader("tide"), "", 100, refuse)
	require.ErrorIs(t, err, errBroken)
	require.Equal(t, []Info{{digestOf("tide"), 4}}, told)
	require.NoError(t, d.Each(ctx, func(Info) error { return errors.New("it was kept all the same") }))
	require.Zero(t, staged(t, d))

	// It is taken away between the look and the note: it is staged, and kept again.
	_, err = d.Put(ctx, strings.NewReader("tide"), "", 100, noted)
	require.NoError(t, err)
	_, err = d.Put(ctx, strings.NewReader("tide"), digestOf("tide"), 100, func(Info) error {
		return os.Remove(d.path(digestOf("tide")))
	})
	require.ErrorIs(t, err, os.ErrNotExist, "the note is told of it a second time, when it has come")
	_, err = d.Put(ctx, strings.NewReader("tide"), digestOf("tide"), 100, noted)
	require.NoError(t, err)
	require.FileExists(t, d.path(digestOf("tide")))
}

func noted(Info) error { return nil }

func TestDamagedBytesAreNotGivenWhole(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	d, err := OpenDir(dir)
	require.NoError(t, err)
	content := strings.Repeat("crossing ", 10_000)
	b, err := d.Put(ctx, strings.NewReader(content), "", int64(len(content)), func(Info) error { return nil })
	require.NoError(t, err)
	read := func(sniff bool) (string, error) {
		f, err := d.Open(ctx, b.Digest)
		require.NoError(t, err)
		defer f.Close()
		if sniff { // as who serves it does
			_, err = io.ReadFull(f, make([]byte, 512))
			require.NoError(t, err)
			_, err = f.Seek(0, io.SeekStart)
			require.NoError(t, err)
		}
		got, err := io.ReadAll(f)
		return string(got), err
	}
	for _, sniff := range []bool{false, true} {
		got, err := read(sniff)
		require.NoError(t, err)
		require.Equal(t, content, got)
	}
	path := d.path(b.Digest)
	require.NoError(t, os.Chmod(path, 0o600))
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(content, "c", "k", 1)), 0o600))
	for _, sniff := range []bool{false, true} {
		got, err := read(sniff)
		require.ErrorIs(t, err, ErrDamaged)
		require.Less(t, len(got), len(content), "its last bytes are not given")
	}
}
