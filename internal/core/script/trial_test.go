package script

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
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
