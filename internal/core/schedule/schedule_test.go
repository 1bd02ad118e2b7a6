package schedule

import (
	"slices"
	"testing"

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
	slices.SortFunc(legs, func(a, b Leg) int { return legKey{a.Order, a.ID}.compare(legKey{b.Order, b.ID}) })
	for _, l := range legs {
		var best *Device
		for _, d := range n.devices {
			if d.Idle && l.Demand.Takes(d.ID, d.Class) && (best == nil || deviceKey{d.Worth, d.ID}.compare(deviceKey{best.Worth, best.ID}) < 0) {
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
		c := Class{Project: 1 + id%2, Kind: []string{"emulator", "real"}[id%2], Model: []string{"Kaede 7", "Kaede Mini"}[id/2%2], Platform: "android", OS: []string{"13", "14"}[id/4%2]}
		c.Only = rapid.SampledFrom([]string{"", "", Only(nil), Only([]string{"Bo"}), Only([]string{"Bo", "Aya"})}).Draw(t, "only")
		return Device{ID: id, Class: c, Worth: int(id * 7 % 3), Idle: rapid.Bool().Draw(t, "idle")}
	}
	id := rapid.Int64Range(1, 20).Draw(t, "leg")
	l := Leg{ID: id, Order: Order{id % 5, id}, Waiting: rapid.IntRange(0, 3).Draw(t, "waiting") > 0}
	l.Demand = Demand{Class: class(""), Avoid: rapid.SliceOfN(rapid.Int64Range(1, 8), 0, 2).Draw(t, "avoid"), Who: rapid.SampledFrom([]string{"", "Bo", "Aya", "B"}).Draw(t, "who")}
	if rapid.IntRange(0, 4).Draw(t, "pinned") == 0 {
		l.Demand.Device = rapid.Int64Range(1, 8).Draw(t, "pin")
	}
	return l
}

func TestPlacesExactlyWhatALookAtEverythingWouldPlace(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		state, all := New(), &naive{map[int64]Device{}, map[int64]Leg{}}
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
	s := New()
	kaede := Class{1, "emulator", "Kaede 7", "android", "14", ""}
	any := Demand{Class: Class{Project: 1}}
	require.Empty(t, s.Apply(Leg{2, Order{2, 1}, any, true}))
	require.Empty(t, s.Apply(Leg{1, Order{1, 1}, any, true}))
	require.Equal(t, []Placement{{1, 10}}, s.Apply(Device{10, kaede, 5, true}))
	require.Equal(t, []Placement{{2, 11}}, s.Apply(Device{11, kaede, 5, true}))

	s.Apply(Device{12, kaede, 9, true})
	s.Apply(Device{13, kaede, 2, true})
	require.Equal(t, []Placement{{3, 13}}, s.Apply(Leg{3, Order{3, 1}, any, true}))
}

func TestALegThatMetTroubleGoesElsewhere(t *testing.T) {
	s := New()
	kaede := Class{1, "emulator", "Kaede 7", "android", "14", ""}
	s.Apply(Device{1, kaede, 0, true})
	retry := Leg{1, Order{1, 1}, Demand{Class: kaede, Avoid: []int64{1}}, true}
	require.Empty(t, s.Apply(retry))
	require.Equal(t, []Placement{{1, 2}}, s.Apply(Device{2, kaede, 0, true}))
}

func TestSomebodysOwnDeviceTakesOnlyWhatTheyAskFor(t *testing.T) {
	s := New()
	kaede := Class{1, "real", "Kaede 7", "android", "14", ""}
	bos := kaede
	bos.Only = Only([]string{"Bo Lindqvist"})
	require.Empty(t, s.Apply(Leg{1, Order{1, 1}, Demand{Class: kaede, Who: "Bo"}, true}))
	require.Empty(t, s.Apply(Leg{2, Order{2, 1}, Demand{Class: kaede, Who: "Bo Lindqvist"}, true}))
	require.Equal(t, []Placement{{2, 10}}, s.Apply(Device{10, bos, 0, true}), "though another has waited for longer")
	require.Empty(t, s.Apply(Device{10, bos, 0, true}))
	require.Equal(t, []Placement{{1, 10}}, s.Apply(Device{10, kaede, 0, true}), "its hours have come")
}

func BenchmarkApply10000Devices(b *testing.B) {
	s := New()
	class := func(i int64) Class {
		return Class{1, "real", string(rune('A' + i%100)), "android", "14", ""}
	}
	for i := range int64(10_000) {
		s.Apply(Device{i + 1, class(i), 0, true})
	}
	b.ResetTimer()
	for i := range int64(b.N) {
		p := s.Apply(Leg{i + 1, Order{1, i}, Demand{Class: class(i)}, true})
		s.Apply(Device{p[0].Device, class(i), 0, true})
	}
}
