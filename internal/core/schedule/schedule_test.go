package schedule

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// naive keeps everything in lists and looks at all of it after every event.
type naive struct {
	devices map[int64]Device
	legs    map[int64]Leg
}

func (n *naive) apply(e Event) (placed []Placement) {
	switch e := e.(type) {
	case Device:
		n.devices[e.ID] = e
	case Leg:
		n.legs[e.ID] = e
	}
	legs := []Leg{}
	for _, l := range n.legs {
		if l.Waiting {
			legs = append(legs, l)
		}
	}
	slices.SortFunc(legs, func(a, b Leg) int { return key{InTurn.Leg(a), a.ID}.compare(key{InTurn.Leg(b), b.ID}) })
	for _, l := range legs {
		var best *Device
		for _, d := range n.devices {
			if d.Idle && l.Demand.Takes(d.ID, d.Class) &&
				(best == nil || key{InTurn.Device(d), d.ID}.compare(key{InTurn.Device(*best), best.ID}) < 0) {
				best = &d
			}
		}
		if best != nil {
			placed = append(placed, Placement{l.ID, best.ID})
			best.Idle, l.Waiting = false, false
			n.devices[best.ID], n.legs[l.ID] = *best, l
		}
	}
	return placed
}

func anEvent(t *rapid.T) Event {
	class := func(any string) Class {
		return Class{
			Project:  rapid.Int64Range(1, 2).Draw(t, "project"),
			Kind:     rapid.SampledFrom([]string{any, "emulator", "real"}).Draw(t, "kind"),
			Model:    rapid.SampledFrom([]string{any, "Kaede 7", "Kaede Mini"}).Draw(t, "model"),
			Platform: "android",
			OS:       rapid.SampledFrom([]string{any, "13", "14"}).Draw(t, "os"),
		}
	}
	if rapid.Bool().Draw(t, "is device") {
		id := rapid.Int64Range(1, 8).Draw(t, "device")
		c := Class{Project: 1 + id%2, Kind: []string{"emulator", "real"}[id%2], Model: []string{"Kaede 7",
			"Kaede Mini"}[id/2%2], Platform: "android", OS: []string{"13", "14"}[id/4%2]}
		c.Only = rapid.SampledFrom([]string{"", "", Only(nil), Only([]string{"Bo"}),
			Only([]string{"Bo", "Aya"})}).Draw(t,
			"only")
		return Device{ID: id, Class: c, Worth: int(id * 7 % 3), Idle: rapid.Bool().Draw(t, "idle")}
	}
	id := rapid.Int64Range(1, 20).Draw(t, "leg")
	l := Leg{ID: id, Order: Order{id % 5, id}, Waiting: rapid.IntRange(0, 3).Draw(t, "waiting") > 0}
	l.Demand = Demand{Class: class(""), Avoid: rapid.SliceOfN(rapid.Int64Range(1, 8), 0, 2).Draw(t, "avoid"),
		Among: rapid.SliceOfN(rapid.Int64Range(1, 8), 0, 3).Draw(t, "among"),
		Who:   rapid.SampledFrom([]string{"", "Bo", "Aya", "B"}).Draw(t, "who")}
	if rapid.IntRange(0, 4).Draw(t, "pinned") == 0 {
		l.Demand.Device = rapid.Int64Range(1, 8).Draw(t, "pin")
	}
	return l
}

func TestPlacesExactlyWhatALookAtEverythingWouldPlace(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		state, all := New(InTurn), &naive{map[int64]Device{}, map[int64]Leg{}}
		for range rapid.IntRange(1, 60).Draw(t, "events") {
			e := anEvent(t)
			require.Equal(t, all.apply(e), state.Apply(e), "after %+v", e)
		}
		waiting, idle := 0, 0
		for _, l := range all.legs {
			if l.Waiting {
				waiting++
			}
		}
		for _, d := range all.devices {
			if d.Idle {
				idle++
			}
		}
		require.Equal(t, waiting, state.Waiting())
		require.Equal(t, idle, state.Idle())
	})
}

func TestFirstComeFirstServedAndTheDeviceOfLeastWorthFirst(t *testing.T) {
	s := New(InTurn)
	kaede := Class{1, "emulator", "Kaede 7", "android", "14", ""}
	any := Demand{Class: Class{Project: 1}}
	require.Empty(t, s.Apply(Leg{ID: 2, Order: Order{2, 1}, Demand: any, Waiting: true}))
	require.Empty(t, s.Apply(Leg{ID: 1, Order: Order{1, 1}, Demand: any, Waiting: true}))
	require.Equal(t, []Placement{{1, 10}}, s.Apply(Device{ID: 10, Class: kaede, Worth: 5, Idle: true}))
	require.Equal(t, []Placement{{2, 11}}, s.Apply(Device{ID: 11, Class: kaede, Worth: 5, Idle: true}))

	s.Apply(Device{ID: 12, Class: kaede, Worth: 9, Idle: true})
	s.Apply(Device{ID: 13, Class: kaede, Worth: 2, Idle: true})
	require.Equal(t, []Placement{{3, 13}}, s.Apply(Leg{ID: 3, Order: Order{3, 1}, Demand: any, Waiting: true}))
}

func TestALegThatMetTroubleGoesElsewhere(t *testing.T) {
	s := New(InTurn)
	kaede := Class{1, "emulator", "Kaede 7", "android", "14", ""}
	s.Apply(Device{ID: 1, Class: kaede, Worth: 0, Idle: true})
	retry := Leg{ID: 1, Order: Order{1, 1}, Demand: Demand{Class: kaede, Avoid: []int64{1}}, Waiting: true}
	require.Empty(t, s.Apply(retry))
	require.Equal(t, []Placement{{1, 2}}, s.Apply(Device{ID: 2, Class: kaede, Worth: 0, Idle: true}))
}

func TestSomebodysOwnDeviceTakesOnlyWhatTheyAskFor(t *testing.T) {
	s := New(InTurn)
	kaede := Class{1, "real", "Kaede 7", "android", "14", ""}
	bos := kaede
	bos.Only = Only([]string{"Bo Lindqvist"})
	require.Empty(t, s.Apply(Leg{ID: 1, Order: Order{1, 1}, Demand: Demand{Class: kaede, Who: "Bo"}, Waiting: true}))
	require.Empty(t, s.Apply(Leg{ID: 2, Order: Order{2, 1}, Demand: Demand{Class: kaede, Who: "Bo Lindqvist"},
		Waiting: true}))
	require.Equal(t, []Placement{{2, 10}}, s.Apply(Device{ID: 10, Class: bos, Worth: 0, Idle: true}),
		"though another has waited for longer")
	require.Empty(t, s.Apply(Device{ID: 10, Class: bos, Worth: 0, Idle: true}))
	require.Equal(t, []Placement{{1, 10}}, s.Apply(Device{ID: 10, Class: kaede, Worth: 0, Idle: true}),
		"its hours have come")
}

func BenchmarkApply10000Devices(b *testing.B) {
	s := New(InTurn)
	class := func(i int64) Class {
		return Class{1, "real", string(rune('A' + i%100)), "android", "14", ""}
	}
	for i := range int64(10_000) {
		s.Apply(Device{ID: i + 1, Class: class(i), Idle: true})
	}
	b.ResetTimer()
	for i := range int64(b.N) {
		p := s.Apply(Leg{ID: i + 1, Order: Order{1, i}, Demand: Demand{Class: class(i)}, Waiting: true})
		s.Apply(Device{ID: p[0].Device, Class: class(i), Idle: true})
	}
}

func TestACopyChangesApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		state := New(InTurn)
		for range rapid.IntRange(0, 40).Draw(t, "before") {
			state.Apply(anEvent(t))
		}
		copied, twin := state.Copy(), state.Copy()
		waiting, idle := state.Waiting(), state.Idle()
		for range rapid.IntRange(1, 40).Draw(t, "after") {
			e := anEvent(t)
			require.Equal(t, twin.Apply(e), copied.Apply(e), "a copy decides as what it was made of would")
		}
		require.Equal(t, []int{waiting, idle}, []int{state.Waiting(), state.Idle()}, "which has not noticed")
	})
}

func TestAnotherPolicyChangesWhoGoesFirstAndNothingElse(t *testing.T) {
	lastFirst := Policy{Leg: func(l Leg) Rank {
		return Rank{-l.Order.Run}
	}, Device: func(d Device) Rank { return Rank{-int64(d.Worth)} }}
	c := Class{Project: 1, Kind: "emulator", Model: "Kaede 7", Platform: "android", OS: "14"}
	place := func(p Policy) []Placement {
		s := New(p)
		for i := range int64(3) {
			require.Empty(t, s.Apply(Leg{ID: i + 1, Order: Order{Run: i}, Demand: Demand{Class: c}, Waiting: true}))
		}
		var out []Placement
		for i := range int64(3) {
			out = append(out, s.Apply(Device{ID: 10 + i, Class: c, Idle: true})...)
		}
		return out
	}
	require.Equal(t, []Placement{{1, 10}, {2, 11}, {3, 12}}, place(InTurn))
	require.Equal(t, []Placement{{3, 10}, {2, 11}, {1, 12}}, place(lastFirst))
}

func TestEventsCarryTimeAndHowLongLeasesTook(t *testing.T) {
	s, c := New(InTurn), Class{Project: 1, Model: "Kaede 7"}
	at := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	s.Apply(Device{ID: 1, Class: c, Idle: true, At: at, Lease: 7, Took: 20 * time.Second})
	// told twice
	s.Apply(Device{ID: 1, Class: c, Idle: true, At: at.Add(time.Minute), Lease: 7, Took: 20 * time.Second})
	s.Apply(Device{ID: 2, Class: c, At: at, Lease: 8, Took: 40 * time.Second})
	took, n := s.Pace(c)
	require.Equal(t, 30*time.Second, took)
	require.Equal(t, 2, n)
	require.Equal(t, at.Add(time.Minute), s.Now())
}

func ExampleState_Apply() {
	s := New(InTurn)
	kaede := Class{Project: 1, Kind: "emulator", Model: "Kaede 7", Platform: "android", OS: "14"}
	s.Apply(Leg{ID: 1, Order: Order{Run: 12}, Demand: Demand{Class: kaede}, Waiting: true})
	what := s.Copy()
	fmt.Println(what.Apply(Device{ID: 7, Class: kaede, Idle: true}), s.Waiting())
	// Output: [{1 7}] 1
}
