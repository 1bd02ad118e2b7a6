package handset

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/host/devicetest/foreign"
	"yamato/internal/host/driver"
	"yamato/internal/testbin"
)

// modules are where the console's packages are installed.
const modules = foreign.Modules

func TestAppsThatNobodyHereWroteAreJudged(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	for name, app := range foreign.Apps {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := kaede(t)
			require.NoError(t, d.Ready(context.Background(), driver.Terms{}))
			app.Judge(t, context.Background(), d, bundled)
		})
	}
}
