package gather

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
)

// talker is a device that makes calls and tells figures without end.
type talker struct {
	device.Device
	now time.Duration
}

func (d *talker) Now() time.Duration { return d.now }
func (d *talker) Calls(context.Context) ([]device.Call, error) {
	return []device.Call{{AtMS: d.now.Milliseconds(), Address: strings.Repeat("x", 1<<20)}, {AtMS: -5}}, nil
}
func (d *talker) Readings(context.Context) ([]device.Reading, error) {
	return []device.Reading{{Name: "memory", Value: 1}}, nil
}

func TestWhatIsGatheredIsBoundedInBytesAndOnlyWhatRulesWant(t *testing.T) {
	ctx := context.Background()
	d := &talker{now: time.Second}
	g := Begin(ctx, d, false, evidence.Keeping{}, d.now, t.TempDir(), nil)
	for range 60 {
		d.now += 100 * time.Millisecond
		g.Look(ctx)
	}
	g.End(ctx)
	require.LessOrEqual(t, g.Weight(), int64(maxCallsIn+1<<21))
	require.NotZero(t, g.Dropped)
	require.InDelta(t, 13, len(g.Series.At), 2, "one in half a second")
	require.Zero(t, g.Series.At[0], "the case's time")
	for _, c := range g.Calls {
		require.GreaterOrEqual(t, c.AtMS, int64(0), "what was asked for before the case is not its")
	}
	g = Begin(ctx, d, false, evidence.Keeping{Run: evidence.Rules{evidence.All: evidence.Never}}, d.now, t.TempDir(),
		nil)
	g.End(ctx)
	require.Empty(t, g.Calls)
	require.Empty(t, g.Series.At)
	_, due := g.Due()
	require.False(t, due)
}
