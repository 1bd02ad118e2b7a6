package service

import (
	"context"
	"crypto/sha256"
	"errors"
	"time"

	"github.com/jellydator/ttlcache/v3"

	"yamato/internal/service/base"
	"yamato/internal/store/access"
	"yamato/internal/store/pg"
)

// Caller is who calls.
type Caller = access.Caller

// Authenticate finds who a token belongs to.
func (s *Service) Authenticate(ctx context.Context, token string) (base.Caller, error) {
	if len(token) < 20 || len(token) > 200 {
		return base.Caller{}, base.Unauthorised
	}
	if c, ok := s.callers.get(token); ok {
		return c, nil
	}
	c, err := s.Store.CallerOf(ctx, token)
	if errors.Is(err, pg.ErrNone) {
		return base.Caller{}, base.Unauthorised
	}
	if err == nil {
		s.callers.put(token, c)
	}
	return c, err
}

// callers remembers who tokens belong to, for a few seconds: a host makes
// thousands of calls, and a token that is taken back must soon be refused.
type callers struct {
	known *ttlcache.Cache[[sha256.Size]byte, base.Caller]
}

const (
	callerAge  = 5 * time.Second
	maxCallers = 10_000 // whoever has not called for longest goes first
)

func newCallers() *callers {
	return &callers{ttlcache.New(ttlcache.WithTTL[[sha256.Size]byte, base.Caller](callerAge),
		ttlcache.WithCapacity[[sha256.Size]byte, base.Caller](maxCallers),
		ttlcache.WithDisableTouchOnHit[[sha256.Size]byte, base.Caller]())}
}

func (c *callers) get(token string) (base.Caller, bool) {
	k := c.known.Get(sha256.Sum256([]byte(token)))
	if k == nil {
		return base.Caller{}, false
	}
	return k.Value(), true
}

func (c *callers) forget(token string) { c.known.Delete(sha256.Sum256([]byte(token))) }

func (c *callers) put(token string, caller base.Caller) {
	c.known.Set(sha256.Sum256([]byte(token)), caller, ttlcache.DefaultTTL)
}
