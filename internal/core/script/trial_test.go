package script

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/feel"
)

func TestLinesAreTriedOneByOneOnAnAppAsItStands(t *testing.T) {
	d := still(el("", "total", "€6.30", 10))
	trial := NewTrial(d, Options{}, nobody{})
	ctx := context.Background()

	tried, findings := trial.Line(ctx, "com.example.shop", "let paid = number in #total")
	require.Empty(t, findings)
	require.Nil(t, tried.Failure)
	require.Equal(t, "paid = 6.3", tried.Named)
	require.Equal(t, "total", tried.Found[0].ID)
	require.Empty(t, d.did, "nothing is started for a line")

	tried, findings = trial.Line(ctx, "com.example.shop", "expect $paid = 7")
	require.Empty(t, findings, "a later line may use what an earlier one named")
	require.NotNil(t, tried.Failure)
	require.Equal(t, 1, tried.Failure.Line)

	for _, wrong := range []string{"tpa #total", "expect $unknown = 1", "", "end\ncase \"other\"\ntap #total"} {
		_, findings = trial.Line(ctx, "com.example.shop", wrong)
		require.NotEmpty(t, findings, wrong)
		require.LessOrEqual(t, findings[0].Pos.Line, 3, wrong)
	}
}

// What a line makes the device feel is told, and is taken back by whoever has the device.
func TestWhatALineMakesTheDeviceFeelIsToldAndUndone(t *testing.T) {
	d := sample()
	trial := NewTrial(d, sampleOptions(), nobody{})
	ctx := context.Background()
	for _, line := range []string{`time zone "Asia/Tokyo"`, `time zone "Africa/Dakar"`, "appearance dark"} {
		tried, findings := trial.Line(ctx, sampleOptions().App, line)
		require.Empty(t, findings)
		require.Nil(t, tried.Failure, line)
		require.Len(t, tried.Felt, 1, line)
	}
	tried, _ := trial.Line(ctx, sampleOptions().App, "shake device")
	require.Empty(t, tried.Felt, "it is over")
	require.NoError(t, trial.Undo(ctx, feel.Named("time zone")))
	require.NoError(t, trial.Undo(ctx, feel.Named("appearance")))
	require.NoError(t, trial.Undo(ctx, feel.Named("network")), "what was not changed stays")
	require.Equal(t, []string{"zone Europe/Lisbon", "dark false"}, d.did[len(d.did)-2:])
}
