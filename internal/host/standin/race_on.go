//go:build race

package standin

// raceEnabled: the race detector maps more memory than an app may have.
const raceEnabled = true
