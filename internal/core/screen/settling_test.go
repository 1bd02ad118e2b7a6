package screen

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What changes by itself goes on to do so where something comes before it, and keeps nothing from
// settling there either.
func TestWhatChangesByItselfIsKnownWhereItIsPushedAside(t *testing.T) {
	s := NewSettling(0)
	revision := uint64(0)
	see := func(at time.Duration, nodes ...*Node) {
		revision++
		s.See(&Tree{Root: node("application", "", "", Rect{0, 0, 400, 800}, nodes...), Width: 400, Height: 800,
			Revision: revision, App: "a"}, at)
	}
	ticks := func(n int, y float64) *Node { return node("text", "", fmt.Sprint(n), Rect{0, y, 40, 20}) }
	at := time.Duration(0)
	for n := range 8 {
		at += 250 * time.Millisecond
		see(at, ticks(n, 0))
	}
	require.True(t, s.Settled(at, 300*time.Millisecond), "the stopwatch is known for what it is")
	at += 100 * time.Millisecond
	see(at, node("text", "", "Arrived", Rect{0, 0, 90, 20}), ticks(7, 20))
	came := at
	for n := range 3 {
		at = came + time.Duration(n+1)*250*time.Millisecond
		see(at, node("text", "", "Arrived", Rect{0, 0, 90, 20}), ticks(8+n, 20))
		require.Equal(t, came, s.Changed, "only what came has changed")
	}
	require.True(t, s.Settled(came+300*time.Millisecond, 300*time.Millisecond))

	// What is filled from its end on is no such thing: nothing moved.
	fill := NewSettling(0)
	var rows []*Node
	for n := range 8 {
		revision++
		rows = append(rows, node("listitem", "", "row", Rect{0, float64(n) * 20, 90, 20}))
		at += 100 * time.Millisecond
		fill.See(&Tree{Root: node("list", "", "", Rect{0, 0, 400, 800}, rows...), Width: 400, Revision: revision}, at)
	}
	require.Equal(t, at, fill.Changed)
}
