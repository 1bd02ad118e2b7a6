//go:build !race

package sandbox

const RaceEnabled = false
