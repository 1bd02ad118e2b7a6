// Package base is what all parts of the service share: the records, the blobs, the bell,
// how it is configured, who calls, and the problems that a caller is told of. It decides
// nothing.
package base

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"io"
	"log/slog"
	"time"

	"yamato/internal/blob"
	"yamato/internal/core/fleet"
	"yamato/internal/retry"
	"yamato/internal/store"
	"yamato/internal/store/access"
)

// Base is what each part stands on.
type Base struct {
	Store    *store.Store
	Blobs    blob.Store
	Bell     *Bell
	Config   Config
	Log      *slog.Logger
	Instance string // this process, among those that share the records
}

// Caller is who calls.
type Caller = access.Caller

// Automatic is who does things when no person does.
const Automatic = "Yamato"

// NewToken draws a token that nobody can guess: 256 bits.
func NewToken() string {
	var b [32]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// Speaks refuses a host that has not the device of a lease, or whose lease has ended: what is a lease's is for the host
// that holds it alone.
func (s *Base) Speaks(ctx context.Context, c Caller, lease int64) error {
	ok, err := s.Store.Speaks(ctx, c.ProjectID, c.Host, lease)
	if err == nil && !ok {
		return NotFound(fmt.Sprintf("this host holds no lease %d", lease), "it may have ended, or be another host's")
	}
	return err
}

// Deref gives what p points to, or the zero value.
func Deref[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

// Ptr gives a pointer to a value.
func Ptr[T any](v T) *T { return &v }

// Stated gives nil for the zero value: what is not stated.
func Stated[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// Listed gives nil for an empty list.
func Listed[T any](list []T) *[]T {
	if len(list) == 0 {
		return nil
	}
	return &list
}

// Short cuts a text to n characters.
func Short(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// Config is how a service behaves. The zero value is sensible.
type Config struct {
	Address string        // where others reach this instance
	TTL     time.Duration // of a lease that is not renewed; 30 s
	Silence time.Duration // after which a leader or an instance counts as gone; 3 s
	Pace    time.Duration // at which the leader looks the records over for what has become due; a sixth of Silence
	Log     *slog.Logger

	Tolerance  fleet.Tolerance // of device trouble, before a device is sidelined; 3 within an hour
	ProbeEvery time.Duration   // after which a device that was sidelined by itself is tried again; 10 min
	MendWithin time.Duration   // how long legs wait for devices that a person has to mend; 15 min
	// that seals secrets and accounts: 32 bytes, the same for all services; nil: none can be kept
	Key      []byte
	MayFetch []string       // hosts that packages may be fetched from though their address is private
	Trusted  *x509.CertPool // authorities of the addresses that packages are fetched from; nil: this machine's
}

// Put keeps a blob, and records that there is a use for it.
func (s *Base) Put(ctx context.Context, r io.Reader, digest string, limit int64) (blob.Info, error) {
	return s.Blobs.Put(ctx, r, digest, limit, func(b blob.Info) error {
		return s.Store.NoteBlob(ctx, b.Digest, b.Size)
	})
}

// Every waits for d and reports true, or false when ctx has ended.
func Every(ctx context.Context, d time.Duration) bool {
	return retry.For(ctx, d) == nil
}
