package fleet

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestIdleDevicesMakeRoomForOnesThatAreWaitedFor(t *testing.T) {
	kaede, aster := Class{Emulator, "Kaede 7", "android", "14"}, Class{Emulator, "Kaede Tab 10", "android", "14"}
	take := func(name string, mb int, busy bool) Running { return Running{Name: name, TakesMB: mb, Busy: busy} }
	off := func(name string, c Class, mb, legs, coming int) Off {
		return Off{take(name, mb, false), c, legs, coming}
	}
	room := Capacity{MemoryMB: 8000}
	for name, c := range map[string]struct {
		running []Running
		off     []Off
		idle    []string
		want    Power
	}{
		"there is room":     {nil, []Off{off("a", kaede, 3000, 1, 0)}, nil, Power{Boot: []string{"a"}}},
		"enough are coming": {nil, []Off{off("a", kaede, 3000, 1, 1)}, nil, Power{}},
		"as many as are waited for": {nil, []Off{off("a", kaede, 2000, 2, 0), off("b", kaede, 2000, 2, 0),
			off("c", kaede, 2000, 2, 0)}, nil, Power{Boot: []string{"a", "b"}}},
		"an idle one goes": {[]Running{take("x", 6000, false)}, []Off{off("a", kaede, 3000, 1, 0)},
			[]string{"x"}, Power{Halt: []string{"x"}}},
		"a busy one stays": {[]Running{take("x", 6000, true)}, []Off{off("a", kaede, 3000, 1, 0)}, nil,
			Power{}},
		"no more than is enough": {[]Running{take("x", 2000, false), take("y", 4000, false),
			take("z", 2000, false)}, []Off{off("a", kaede, 3000, 1, 0)}, []string{"x", "y",
			"z"}, Power{Halt: []string{"y"}}},
		"halting would not be enough": {[]Running{take("x", 1000, false), take("y", 7000, true)},
			[]Off{off("a", kaede, 3000, 1, 0)}, []string{"x"}, Power{}},
		"it never fits": {nil, []Off{off("a", kaede, 9000, 1, 0), off("b", aster, 3000, 1, 0)}, nil,
			Power{Boot: []string{"b"}}},
		"what was halted is not counted": {[]Running{take("x", 6000, false)}, []Off{off("a", kaede, 7000, 1, 0),
			off("b", aster, 2000, 1, 0)}, []string{"x"}, Power{Halt: []string{"x"}}},
	} {
		got := PlanPower(room, c.running, c.off, c.idle, map[Class]int{})
		if name == "it never fits" {
			require.Contains(t, got.Never["a"].Why, "a needs 8.8 GB")
		} else {
			require.Empty(t, got.Never, name)
		}
		got.Never = nil
		require.Equal(t, c.want, got, name)
	}
}

// A supplier lets so many devices be had at once, whatever they take.
func TestOfAQuotaNoMoreAreUpAtOnce(t *testing.T) {
	quota := Capacity{Devices: 2}
	class := Class{Model: "Kaede 7"}
	off := func(name string) Off { return Off{Running: Running{Name: name}, Class: class, Legs: 9} }
	up := []Running{{Name: "a", Busy: true}, {Name: "b"}}
	p := PlanPower(quota, up[:1], []Off{off("c"), off("d")}, nil, map[Class]int{})
	require.Equal(t, []string{"c"}, p.Boot)
	require.Empty(t, p.Never, "it waits, and is not given up")
	p = PlanPower(quota, up, []Off{off("c")}, []string{"b"}, map[Class]int{})
	require.Equal(t, []string{"b"}, p.Halt, "what has nothing to do makes room")
	p = PlanPower(quota, []Running{up[0], {Name: "b", Busy: true}}, []Off{off("c")}, nil, map[Class]int{})
	require.Empty(t, p.Boot)
	require.Empty(t, p.Halt)
	r, ok := Room(quota, up, Device{Name: "c"})
	require.False(t, ok)
	require.Contains(t, r.Why, "one of the 2 devices")
	require.Contains(t, r.Remedy.String(), "yamato device halt b")
}
