// Package retry waits between tries of what may come right by itself: longer each time, up
// to a bound, and not all at the same moment.
package retry

import (
	"context"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Pause is how long is waited until the next try.
type Pause struct{ grows *backoff.ExponentialBackOff }

// From gives pauses that double from the first up to the most.
func From(first, most time.Duration) *Pause {
	b := backoff.NewExponentialBackOff()
	b.InitialInterval, b.MaxInterval, b.Multiplier, b.RandomizationFactor = first, most, 2, 0.2
	b.Reset()
	return &Pause{b}
}

// Reset begins with the first pause again, as after a try that got further.
func (p *Pause) Reset() { p.grows.Reset() }

// Next gives the next pause, for who has something to say before it is waited for.
func (p *Pause) Next() time.Duration { return p.grows.NextBackOff() }

// Wait waits for the next pause, and gives ctx's error where that ends first.
func (p *Pause) Wait(ctx context.Context) error { return For(ctx, p.Next()) }

// For waits for d, and gives ctx's error where that ends first.
func For(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
