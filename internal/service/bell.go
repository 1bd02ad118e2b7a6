package service

import (
	"context"
	"sync"
	"time"
)

// ringEvery is how often a service rings for the others at most: 50 times a second.
const ringEvery = 20 * time.Millisecond

// bell wakes whoever waits for a change: in this process at once, in the others
// through the database. It carries nothing; who hears it reads the tables.
type bell struct {
	mu        sync.Mutex
	rung      int64 // how often
	listeners map[chan struct{}]struct{}
	pending   chan struct{}
}

func newBell() *bell {
	return &bell{listeners: map[chan struct{}]struct{}{}, pending: make(chan struct{}, 1)}
}

// subscribe gives a channel that holds a token whenever the bell has rung since
// the last one was taken.
func (b *bell) subscribe() (heard <-chan struct{}, leave func()) {
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

// wake wakes the listeners in this process.
func (b *bell) wake() {
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

// count tells how often the bell has rung.
func (b *bell) count() int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.rung
}

// ring wakes everybody, everywhere.
func (b *bell) ring() {
	b.wake()
	select {
	case b.pending <- struct{}{}:
	default:
	}
}

// ringNotify passes rings on to the other services.
func (s *Service) ringNotify(ctx context.Context) {
	for {
		select {
		case <-s.bell.pending:
			if err := s.store.Ring(ctx); err != nil && ctx.Err() == nil {
				s.log.Warn("the bell could not be rung", "error", err)
			}
			if !every(ctx, ringEvery) {
				return
			}
		case <-ctx.Done():
			return
		}
	}
}

// listen hears the others ring, over a connection of its own.
func (s *Service) listen(ctx context.Context) {
	for {
		err := s.store.Listen(ctx, s.bell.wake)
		if ctx.Err() != nil {
			return
		}
		s.log.Warn("the bell cannot be heard; trying again", "error", err)
		if !every(ctx, 200*time.Millisecond) {
			return
		}
	}
}
