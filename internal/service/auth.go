package service

import (
	"context"
	"crypto/sha256"
	"errors"
	"sync"
	"time"

	"yamato/internal/service/base"
	"yamato/internal/store"
)

// base.Caller is who calls.
type Caller = store.Caller

// Authenticate finds who a token belongs to.
func (s *Service) Authenticate(ctx context.Context, token string) (base.Caller, error) {
	if len(token) < 20 || len(token) > 200 {
		return base.Caller{}, base.Unauthorised
	}
	if c, ok := s.callers.get(token, time.Now()); ok {
		return c, nil
	}
	c, err := s.Store.CallerOf(ctx, token)
	if errors.Is(err, store.ErrNone) {
		return base.Caller{}, base.Unauthorised
	}
	if err == nil {
		s.callers.put(token, c, time.Now())
	}
	return c, err
}

// callers remembers who tokens belong to, for a few seconds: a host makes
// thousands of calls, and a token that is taken back must soon be refused.
type callers struct {
	mu    sync.Mutex
	known map[[sha256.Size]byte]knownCaller
}

type knownCaller struct {
	caller Caller
	until  time.Time
}

const callerAge = 5 * time.Second

func newCallers() *callers { return &callers{known: map[[sha256.Size]byte]knownCaller{}} }

func (c *callers) get(token string, now time.Time) (base.Caller, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	k, ok := c.known[sha256.Sum256([]byte(token))]
	return k.caller, ok && now.Before(k.until)
}

func (c *callers) forget(token string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.known, sha256.Sum256([]byte(token)))
}

func (c *callers) put(token string, caller base.Caller, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.known) > 10_000 {
		clear(c.known)
	}
	c.known[sha256.Sum256([]byte(token))] = knownCaller{caller, now.Add(callerAge)}
}
