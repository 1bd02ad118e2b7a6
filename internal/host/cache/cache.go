// Package cache keeps packages and suites on a host's disk, by digest, bounded in bytes.
package cache

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/singleflight"

	"yamato/internal/blob"
	"yamato/internal/core/plain"
)

// Downloader brings a blob to a file.
type Downloader interface {
	Download(ctx context.Context, digest, path string) error
}

// Cache keeps packages and suites on the host's disk, by digest.
type Cache struct {
	dir  string
	from Downloader

	fetches singleflight.Group
}

// maxCached bounds the cache; what was used longest ago goes first.
const maxCached = 8 << 30

// Open opens the cache of a host in its folder.
func Open(dir string, from Downloader) (*Cache, error) {
	c := &Cache{dir: filepath.Join(dir, "cache"), from: from}
	if err := os.MkdirAll(c.dir, 0o700); err != nil {
		return nil, fmt.Errorf("opening the host's cache: %w", err)
	}
	return c, nil
}

// Fetch gives the path of a blob, which is downloaded if need be, once for all
// who ask at the same time.
func (c *Cache) Fetch(ctx context.Context, digest string) (string, error) {
	if !blob.IsDigest(digest) { // it names a file here
		return "", fmt.Errorf("%q is no digest of anything that could be fetched", plain.Clip(digest, 80))
	}
	for {
		path, err, shared := c.fetches.Do(digest, func() (any, error) { return c.fetchOnce(ctx, digest) })
		if shared && err != nil && ctx.Err() == nil && (errors.Is(err, context.Canceled) ||
			errors.Is(err, context.DeadlineExceeded)) {
			continue // it was for another, whose lease has ended
		}
		return path.(string), err
	}
}

func (c *Cache) fetchOnce(ctx context.Context, digest string) (string, error) {
	path := filepath.Join(c.dir, digest)
	now := time.Now()
	if os.Chtimes(path, now, now) == nil {
		return path, nil
	}
	err := c.from.Download(ctx, digest, path+".part")
	if err == nil {
		err = isWhole(ctx, path+".part", digest)
	}
	if err != nil {
		return "", errors.Join(fmt.Errorf("fetching %s: %w", digest[:12], err), removeIfThere(path+".part"))
	}
	if err := os.Rename(path+".part", path); err != nil {
		return "", err
	}
	return path, c.trim()
}

// isWhole tells what is wrong with a file that should have a digest.
func isWhole(ctx context.Context, path, digest string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = blob.Receive(ctx, io.Discard, f, digest, math.MaxInt64-1)
	return err
}

func removeIfThere(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// trim takes away what was used longest ago, until the rest fits.
func (c *Cache) trim() error {
	entries, err := os.ReadDir(c.dir)
	if err != nil {
		return err
	}
	for {
		var total int64
		var oldest os.FileInfo
		for _, e := range entries {
			info, err := e.Info()
			if err != nil {
				continue
			}
			total += info.Size()
			if oldest == nil || info.ModTime().Before(oldest.ModTime()) {
				oldest = info
			}
		}
		if total <= maxCached || oldest == nil || time.Since(oldest.ModTime()) < time.Hour {
			return nil
		}
		// another fetch may have trimmed just now
		if err := removeIfThere(filepath.Join(c.dir, oldest.Name())); err != nil {
			return err
		}
		if entries, err = os.ReadDir(c.dir); err != nil {
			return err
		}
	}
}
