package blob

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
)

// Checked is a blob whose bytes are held to its digest as they are read from its beginning to its end, in whatever
// pieces: where they do not have it, its last bytes are not given, and ErrDamaged is. Who reads a part of it is not
// told.
func Checked(f File, digest string) File {
	return &checked{File: f, digest: digest, hash: sha256.New()}
}

type checked struct {
	File
	digest string
	hash   hash.Hash
	hashed int64 // bytes from the beginning
	at     int64
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.File.Read(p)
	if n > 0 && c.at <= c.hashed && c.at+int64(n) > c.hashed { // some may have been read before
		_, _ = c.hash.Write(p[c.hashed-c.at : n]) // never fails (hash.Hash)
		c.hashed = c.at + int64(n)
		if c.hashed == c.Size() {
			if sum := hex.EncodeToString(c.hash.Sum(nil)); sum != c.digest {
				_, _ = c.File.Seek(c.at, io.SeekStart) // it was not given: who asks again meets the same
				c.hash, c.hashed = sha256.New(), 0
				return 0, fmt.Errorf("%w: %s instead of %s", ErrDamaged, sum[:12], c.digest[:12])
			}
		}
	}
	c.at += int64(n)
	return n, err
}

func (c *checked) Seek(offset int64, whence int) (int64, error) {
	at, err := c.File.Seek(offset, whence)
	if err == nil {
		c.at = at
	}
	return at, err
}
