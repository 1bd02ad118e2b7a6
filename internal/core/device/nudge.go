package device

import (
	"context"
	"math"
)

// NoRevision is past every revision: AwaitChange lets time pass then, whatever changes.
const NoRevision = math.MaxUint64

type nudgeKey struct{}

// WithNudge gives a context under which AwaitChange may return early, without an error, once
// the channel is closed: where somebody waits for a device that a person may want
// something of at any moment.
func WithNudge(ctx context.Context, nudge <-chan struct{}) context.Context {
	return context.WithValue(ctx, nudgeKey{}, nudge)
}

// Nudge gives the channel that a wait under ctx ends early by, nil where there is none.
func Nudge(ctx context.Context) <-chan struct{} {
	c, _ := ctx.Value(nudgeKey{}).(<-chan struct{})
	return c
}

// Nudged tells whether a wait under ctx is to end.
func Nudged(ctx context.Context) bool {
	select {
	case <-Nudge(ctx):
		return true
	default:
		return false
	}
}
