package states_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/states"
)

func TestStatesChangeOnlyAlongTheirTables(t *testing.T) {
	require.NoError(t, states.Devices.Check(states.DeviceLeased, states.DeviceResetting))
	require.Error(t, states.Devices.Check(states.DeviceLeased, states.DeviceIdle), "a device is cleaned before it is idle")
	require.False(t, states.Runs.May(states.RunFinished, states.RunRunning))
	require.True(t, states.Legs.May(states.LegRunning, states.LegWaiting))
	require.False(t, states.Legs.May(states.LegFinished, states.LegWaiting))
	require.False(t, states.Errands.May(states.ErrandDone, states.ErrandWanted))
}

// Every state of every table can be reached from one that a thing begins in, and leads to an end where there is any.
func TestEveryStateIsReached(t *testing.T) {
	for _, k := range states.InRecords() {
		reached := map[string]bool{}
		for _, s := range k.Begins {
			reached[s] = true
		}
		for range k.Ways {
			for _, w := range k.Ways {
				if reached[w[0]] {
					reached[w[1]] = true
				}
			}
		}
		for _, w := range k.Ways {
			require.True(t, reached[w[0]], "%s: %s", k.Table, w[0])
			require.NotEqual(t, w[0], w[1], "%s: a state that stays is no change", k.Table)
		}
	}
}

func ExampleMachine_Check() {
	fmt.Println(states.Starts.Check(states.StartMissed, states.StartDue))
	// Output:
	// a start cannot change from "missed" to "due"
}
