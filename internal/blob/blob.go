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

// Store keeps blobs.
type Store interface {
	// Put keeps what r gives, at most limit bytes. If digest is not empty, the
	// bytes must have it.
	Put(ctx context.Context, r io.Reader, digest string, limit int64) (Info, error)
	// Open gives a blob for reading in any order, or ErrNone.
	Open(ctx context.Context, digest string) (File, error)
	// Each calls visit for every blob that is older than age.
	Each(ctx context.Context, age time.Duration, visit func(digest string) error) error
	// Remove takes a blob away if it is older than age by now.
	Remove(ctx context.Context, digest string, age time.Duration) error
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
func (d *Dir) Put(ctx context.Context, r io.Reader, digest string, limit int64) (Info, error) {
	if digest != "" && !digestForm.MatchString(digest) {
		return Info{}, ErrDigest
	}
	if digest != "" && d.freshen(digest) {
		return receive(ctx, io.Discard, r, digest, limit) // it is here: what comes is checked, not staged
	}
	staged, err := os.CreateTemp(filepath.Join(d.root, "staging"), "in-*")
	if err != nil {
		return Info{}, fmt.Errorf("staging a blob: %w", err)
	}
	defer func() {
		_ = staged.Close()
		_ = os.Remove(staged.Name()) // gone already where it was named
	}()
	info, err := receive(ctx, staged, r, digest, limit)
	if err != nil {
		return Info{}, err
	}
	killpoint.Pass("blob-staged")
	if err := d.name(staged, info.Digest); err != nil {
		return Info{}, fmt.Errorf("keeping a blob: %w", err)
	}
	return info, nil
}

// receive copies what r gives to w, and checks its size and digest.
func receive(ctx context.Context, w io.Writer, r io.Reader, digest string, limit int64) (Info, error) {
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

// freshen makes the age of a blob begin anew, and reports whether it is here.
func (d *Dir) freshen(digest string) bool {
	now := time.Now()
	return os.Chtimes(d.path(digest), now, now) == nil
}

// name makes a staged file durable under its digest. Where it is there already,
// its age begins anew, so that no collection takes it from under us.
func (d *Dir) name(staged *os.File, digest string) error {
	if d.freshen(digest) {
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
	if !digestForm.MatchString(digest) {
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
	return file{f, info.Size()}, nil
}

type file struct {
	*os.File
	size int64
}

func (f file) Size() int64 { return f.size }

// Each visits the blobs that are older than age, and takes away what was staged
// longer ago than that and never named.
func (d *Dir) Each(ctx context.Context, age time.Duration, visit func(string) error) error {
	before := time.Now().Add(-age)
	return filepath.WalkDir(d.root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) || err == nil && info.ModTime().After(before) {
			return ctx.Err()
		}
		if err != nil {
			return err
		}
		if filepath.Base(filepath.Dir(path)) == "staging" {
			return os.Remove(path)
		}
		return visit(e.Name())
	})
}

// Remove takes a blob away, unless it has been put again meanwhile.
func (d *Dir) Remove(_ context.Context, digest string, age time.Duration) error {
	if !digestForm.MatchString(digest) {
		return ErrDigest
	}
	info, err := os.Stat(d.path(digest))
	if errors.Is(err, fs.ErrNotExist) || err == nil && info.ModTime().After(time.Now().Add(-age)) {
		return nil
	}
	return os.Remove(d.path(digest))
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
