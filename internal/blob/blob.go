// Package blob keeps content by its SHA-256. What is kept is named only when it
// is whole and its bytes have that digest; a process killed in the middle leaves
// a staged file behind, which Sweep takes away.
package blob

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"time"
	"yamato/internal/killpoint"
)

// Store keeps blobs. Content streams in and out; nothing is held whole in memory. What is
// kept of a blob beside its bytes (its size, when somebody last had a use for it) is
// kept by whoever owns the store, in its records: nothing here depends on a file's times.
type Store interface {
	// Put keeps what r gives, at most limit bytes. If digest is not empty, the bytes must
	// have it. note is told of the blob when it is known and before it is named, so that
	// there is none that the records do not know; where it gives an error nothing is kept.
	Put(ctx context.Context, r io.Reader, digest string, limit int64, note func(Info) error) (Info, error)
	// Open gives a blob for reading in any order, or ErrNone.
	Open(ctx context.Context, digest string) (File, error)
	// Each calls visit for every blob that there is.
	Each(ctx context.Context, visit func(Info) error) error
	// Remove takes a blob away; one that is not there is gone already.
	Remove(ctx context.Context, digest string) error
	// Sweep takes away what began to arrive longer ago than age and was never named.
	Sweep(ctx context.Context, age time.Duration) error
}

// Info is what is known of a blob.
type Info struct {
	Digest string // SHA-256, in 64 small hexadecimal digits
	Size   int64
}

// File is an open blob.
type File interface {
	io.ReaderAt
	io.ReadSeekCloser
	Size() int64
}

// What may go wrong with a blob.
var (
	ErrNone     = errors.New("there is no such blob")
	ErrDamaged  = errors.New("the bytes that arrived do not have the digest they should have")
	ErrTooLarge = errors.New("the content is larger than is taken")
	ErrDigest   = errors.New("a digest is 64 small hexadecimal digits")
)

var digestForm = regexp.MustCompile(`^[0-9a-f]{64}$`)

// IsDigest tells whether a text is a digest as blobs are named by. What comes from outside is asked of before it names
// a file, a key or a path.
func IsDigest(text string) bool { return digestForm.MatchString(text) }

// Dir is a Store in a directory.
type Dir struct{ root string }

// OpenDir opens the store in a directory, which is made if need be.
func OpenDir(root string) (*Dir, error) {
	if err := os.MkdirAll(filepath.Join(root, "staging"), 0o700); err != nil {
		return nil, fmt.Errorf("opening the blob store: %w", err)
	}
	return &Dir{root}, nil
}

func (d *Dir) path(digest string) string { return filepath.Join(d.root, digest[:2], digest) }

// Put stages what r gives, checks it, and names it.
func (d *Dir) Put(ctx context.Context, r io.Reader, digest string, limit int64, note func(Info) error) (Info, error) {
	if digest != "" && !IsDigest(digest) {
		return Info{}, ErrDigest
	}
	if size, here := d.has(digest); digest != "" && here {
		if err := note(Info{digest, size}); err != nil { // from here on nobody takes it away
			return Info{}, err
		}
		if _, here = d.has(digest); here {
			return Receive(ctx, io.Discard, r, digest, limit) // it is here: what comes is checked, not staged
		}
	}
	staged, err := os.CreateTemp(filepath.Join(d.root, "staging"), "in-*")
	if err != nil {
		return Info{}, fmt.Errorf("staging a blob: %w", err)
	}
	defer func() {
		_ = staged.Close()
		_ = os.Remove(staged.Name()) // gone already where it was named
	}()
	info, err := Receive(ctx, staged, r, digest, limit)
	if err != nil {
		return Info{}, err
	}
	killpoint.Pass("blob-staged")
	if err := note(info); err != nil {
		return Info{}, err
	}
	if err := d.name(staged, info.Digest); err != nil {
		return Info{}, fmt.Errorf("keeping a blob: %w", err)
	}
	return info, nil
}

// Receive copies what r gives to w, and checks its size and digest.
func Receive(ctx context.Context, w io.Writer, r io.Reader, digest string, limit int64) (Info, error) {
	hash := sha256.New()
	size, err := io.Copy(io.MultiWriter(w, hash), io.LimitReader(contextReader{ctx, r}, limit+1))
	if err != nil {
		return Info{}, fmt.Errorf("receiving a blob: %w", err)
	}
	if size > limit {
		return Info{}, fmt.Errorf("%w: at most %d bytes", ErrTooLarge, limit)
	}
	sum := hex.EncodeToString(hash.Sum(nil))
	if digest != "" && digest != sum {
		return Info{}, fmt.Errorf("%w: %s instead of %s", ErrDamaged, sum[:12], digest[:12])
	}
	return Info{sum, size}, nil
}

// has gives the size of a blob that is here.
func (d *Dir) has(digest string) (size int64, here bool) {
	if !IsDigest(digest) {
		return 0, false
	}
	info, err := os.Stat(d.path(digest))
	if err != nil {
		return 0, false
	}
	return info.Size(), true
}

// name makes a staged file durable under its digest, unless it is there already.
func (d *Dir) name(staged *os.File, digest string) error {
	if _, here := d.has(digest); here {
		return nil
	}
	if err := staged.Sync(); err != nil {
		return err
	}
	dir := filepath.Dir(d.path(digest))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if err := os.Rename(staged.Name(), d.path(digest)); err != nil {
		return err
	}
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// Open opens a blob.
func (d *Dir) Open(_ context.Context, digest string) (File, error) {
	if !IsDigest(digest) {
		return nil, ErrDigest
	}
	f, err := os.Open(d.path(digest))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return Checked(file{f, info.Size()}, digest), nil
}

type file struct {
	*os.File
	size int64
}

func (f file) Size() int64 { return f.size }

// Each visits the blobs that there are.
func (d *Dir) Each(ctx context.Context, visit func(Info) error) error {
	return d.walk(ctx, func(path string, info fs.FileInfo, staged bool) error {
		if staged || !IsDigest(info.Name()) {
			return nil
		}
		return visit(Info{info.Name(), info.Size()})
	})
}

// Sweep takes away what a killed process left half arrived.
func (d *Dir) Sweep(ctx context.Context, age time.Duration) error {
	before := time.Now().Add(-age)
	return d.walk(ctx, func(path string, info fs.FileInfo, staged bool) error {
		if !staged || info.ModTime().After(before) { // of what is on its way there is no record
			return nil
		}
		return os.Remove(path)
	})
}

func (d *Dir) walk(ctx context.Context, visit func(path string, info fs.FileInfo, staged bool) error) error {
	return filepath.WalkDir(d.root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return errors.Join(err, ctx.Err())
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) { // another took it just now
			return nil
		}
		if err != nil {
			return err
		}
		return visit(path, info, filepath.Base(filepath.Dir(path)) == "staging")
	})
}

// Remove takes a blob away.
func (d *Dir) Remove(_ context.Context, digest string) error {
	if !IsDigest(digest) {
		return ErrDigest
	}
	err := os.Remove(d.path(digest))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (c contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	killpoint.Pass("blob-arriving")
	return c.r.Read(p)
}
