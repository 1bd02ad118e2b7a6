package standin_test

import (
	"context"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
	"yamato/internal/host/devicetest"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/host/standin/sandbox"
	"yamato/internal/testbin"
)

// judgeAll runs trials on one stand-in and gives how each came out.
func judgeAll(t *testing.T, list []devicetest.Trial) []script.Result {
	t.Helper()
	d := standin.New(standin.Config{Cutout: "none", Sandbox: []string{testbin.Program(t), sandbox.Argument},
		Device: fleet.Device{Name: "kaede-7-1", Kind: fleet.Emulator, Platform: "android", Model: "Kaede 7", OS: "14",
			Form: "phone", Width: 408, Height: 896, MemoryMB: 8192}})
	defer func() { require.NoError(t, d.Close()) }()
	ctx := context.Background()
	var out []script.Result
	for i, one := range list {
		put(t, d, one.Program)
		require.NoError(t, d.Ready(ctx, driver.Terms{}))
		require.NoError(t, d.SetLanguage(ctx, one.Language()))
		d.SetChance(uint64(i))
		got, err := one.Judge(ctx, d, "example.other", &pictures{t: t})
		require.NoError(t, err)
		out = append(out, got)
	}
	return out
}

// A thousand verdicts on apps whose truth is known, none false; and the same ones on a
// machine that has other things to do. YAMATO_TRIALS sets another number.
func TestVerdictsOnAppsWhoseTruthIsKnown(t *testing.T) {
	testbin.Unhurried(t)
	n := devicetest.Enough(1100)
	if standin.RaceEnabled {
		n = 2 * devicetest.Kinds()
	}
	list := devicetest.Trials(n, false)
	half := len(list) / 2
	results := make([][]script.Result, 2)
	var both sync.WaitGroup
	both.Go(func() { results[0] = judgeAll(t, list[:half]) })
	both.Go(func() { results[1] = judgeAll(t, list[half:]) })
	both.Wait()
	all := append(results[0], results[1]...)
	wrong := 0
	for i, got := range all {
		if why := list[i].Wrong(got); why != "" {
			if wrong++; wrong <= 12 {
				t.Error(why)
			}
		}
	}
	require.Zero(t, wrong, "false verdicts of %d", len(all))

	devicetest.Busy(t)
	again := judgeAll(t, list[:min(half, devicetest.Enough(8*devicetest.Kinds()))]) // on a device with the same past
	for i, got := range again {
		require.Equal(t, all[i], got, "%s under load", list[i].Name)
	}
	t.Logf("%d trials, %d of them once more under load", len(all), len(again))
}
