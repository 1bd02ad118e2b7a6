package base

import (
	"context"
	"sync"
	"time"
)

// RingEvery is how often a service rings for the others at most: 50 times a second.
const RingEvery = 20 * time.Millisecond

// Bell wakes whoever waits for a change: in this process at once, in the others
// through the database. It carries nothing; who hears it reads the tables.
type Bell struct {
	mu        sync.Mutex
	rung      int64 // how often
	listeners map[chan struct{}]struct{}
	pending   chan struct{}
}

// NewBell gives one that nobody listens to yet.
func NewBell() *Bell {
	return &Bell{listeners: map[chan struct{}]struct{}{}, pending: make(chan struct{}, 1)}
}

// Subscribe gives a channel that holds a token whenever the bell has rung since
// the last one was taken.
func (b *Bell) Subscribe() (heard <-chan struct{}, leave func()) {
	c := make(chan struct{}, 1)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.listeners[c] = struct{}{}
	return c, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.listeners, c)
	}
}

// Wake wakes the listeners in this process.
func (b *Bell) Wake() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.rung++
	for c := range b.listeners {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// Count tells how often the bell has rung.
func (b *Bell) Count() int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.rung
}

// Ring wakes everybody, everywhere.
func (b *Bell) Ring() {
	b.Wake()
	select {
	case b.pending <- struct{}{}:
	default:
	}
}

// PassOn passes rings on to the other services.
func (s *Base) PassOn(ctx context.Context) {
	for {
		select {
		case <-s.Bell.pending:
			if err := s.Store.Ring(ctx); err != nil && ctx.Err() == nil {
				s.Log.Warn("the bell could not be rung", "error", err)
			}
			if !Every(ctx, RingEvery) {
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

// Listen hears the others ring, over a connection of its own.
func (s *Base) Listen(ctx context.Context) {
	for {
		err := s.Store.Listen(ctx, s.Bell.Wake)
		if ctx.Err() != nil {
			return
		}
		s.Log.Warn("the bell cannot be heard; trying again", "error", err)
		if !Every(ctx, 200*time.Millisecond) {
			return
		}
	}
}
