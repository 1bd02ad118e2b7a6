package retry

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPausesGrowUpToABoundAndBeginAnew(t *testing.T) {
	p := From(100*time.Millisecond, time.Second)
	first, last := p.Next(), time.Duration(0)
	require.InDelta(t, 100, first.Milliseconds(), 20)
	for range 10 {
		last = p.Next()
	}
	require.InDelta(t, 1000, last.Milliseconds(), 200, "it grows no further")
	p.Reset()
	require.InDelta(t, 100, p.Next().Milliseconds(), 20)
}

func TestWhoeverWaitsIsLetGo(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(t, From(time.Millisecond, time.Millisecond).Wait(ctx))
	cancel()
	require.ErrorIs(t, For(ctx, time.Hour), context.Canceled)
}
