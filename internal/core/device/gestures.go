package device

import (
	"math"
	"time"

	"yamato/internal/core/screen"
)

// moveEvery is how often a finger that moves is somewhere else.
const moveEvery = 16 * time.Millisecond

// Tapped is a finger that taps.
func Tapped(at screen.Point) Finger {
	return Finger{{Do: "move", At: at}, {Do: "down"}, {Do: "up"}}
}

// DoubleTap taps twice, as quickly as people do.
func DoubleTap(at screen.Point) Finger {
	return append(append(Tapped(at), Action{Do: "pause", Over: 80 * time.Millisecond}), Tapped(at)...)
}

// Hold keeps a finger down.
func Hold(at screen.Point, long time.Duration) Finger {
	return Finger{{Do: "move", At: at}, {Do: "down"}, {Do: "pause", Over: long}, {Do: "up"}}
}

// Drag moves a finger from a place to another and lifts it there; a short one is a swipe.
func Drag(from, to screen.Point, over time.Duration) Finger {
	f := Finger{{Do: "move", At: from}, {Do: "down"}}
	steps := max(2, int(over/moveEvery))
	for i := 1; i <= steps; i++ {
		part := float64(i) / float64(steps)
		f = append(f, Action{Do: "move", Over: over / time.Duration(steps),
			At: screen.Point{X: from.X + (to.X-from.X)*part, Y: from.Y + (to.Y-from.Y)*part}})
	}
	return append(f, Action{Do: "up"})
}

// Pinch moves two fingers about a place, from one distance between them to another: closer is
// a pinch, farther a spread.
func Pinch(about screen.Point, from, to float64, over time.Duration) []Finger {
	at := func(side, apart float64) screen.Point {
		return screen.Point{X: about.X + side*math.Max(1, apart)/2, Y: about.Y}
	}
	return []Finger{Drag(at(-1, from), at(-1, to), over), Drag(at(1, from), at(1, to), over)}
}
