//go:build !race

package standin

const raceEnabled = false
