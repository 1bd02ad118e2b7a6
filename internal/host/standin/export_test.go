package standin

// RaceEnabled tells that the race detector is on: what costs most is then tried less often,
// and whole without it (see the Makefile).
const RaceEnabled = raceEnabled
