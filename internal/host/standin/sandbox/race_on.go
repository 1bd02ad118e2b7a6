//go:build race

package sandbox

// RaceEnabled: the race detector maps more memory than an app may have.
const RaceEnabled = true
