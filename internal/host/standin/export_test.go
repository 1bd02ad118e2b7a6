package standin

import (
	"yamato/internal/host/standin/draw"
	"yamato/internal/host/standin/sandbox"
)

// RaceEnabled tells that the race detector is on: what costs most is then tried less often,
// and whole without it (see the Makefile).
const RaceEnabled = sandbox.RaceEnabled

// KeyAt gives the key of the keyboard that is touched.
var KeyAt = draw.KeyAt
