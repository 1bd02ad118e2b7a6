package silence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestSilenceIsCountedInTheAppsOwnTime(t *testing.T) {
	at := func(ran, waited time.Duration) turn { return turn{ran * time.Second, waited * time.Second} }
	before := Turns{1: at(1, 1), 2: at(5, 5)}
	const wall = 20 * time.Second
	require.Equal(t, wall, Turns{}.Silent(before, wall), "where the kernel counts nothing, the wall's clock counts")
	require.Equal(t, 13*time.Second, Turns{1: at(2, 2), 2: at(6, 12)}.Silent(before, wall),
		"whoever waited longest has the benefit")
	require.Equal(t, 8*time.Second, Turns{1: at(9, 13), 2: at(6, 12)}.Silent(before, wall),
		"one that wanted to run all the time has run for so long")
	require.Equal(t, 17*time.Second, Turns{1: at(1, 1), 3: at(0, 3)}.Silent(before, wall), "one that was started since")
}
