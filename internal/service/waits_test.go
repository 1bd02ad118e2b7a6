package service

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"yamato/internal/core/fleet"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/care"
	"yamato/internal/service/runs"
)

// off is a virtual device of a model of its own that is switched off.
func off(name, model string, takesMB int) link.Device {
	d := kaede(name)
	d.Model, d.TakesMB, d.Condition.Power = model, takesMB, fleet.PowerHalted
	return d
}

func TestAnIdleDeviceIsHaltedForOneThatALegWaitsFor(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond})
	up := kaede("kaede-7-1")
	up.TakesMB = 3072
	h := w.link(w.service, up, off("fold-1", "Fold", 2048))
	h.fleet(link.Fleet{Offer: &benchOffer, Load: &link.Load{Running: []fleet.Running{{Name: "kaede-7-1",
		TakesMB: 3072}}}})
	w.awaitState("fold-1", "halted")
	w.awaitState("kaede-7-1", "idle")
	run := w.start(runs.Order{Build: "3.1.4", Suites: []string{"Two"}, On: []string{"Fold"}})
	require.Contains(t, *w.detail(run.Number).Legs[0].WaitsFor,
		"fold-1, which is off: it is booted as soon as its host has room")

	halt := h.asked(link.DoHalt)
	require.Equal(t, "kaede-7-1", halt.Device, "4 GB are not enough for both, and nobody waits for this one")
	down := up
	down.Condition.Power = fleet.PowerHalted
	h.fleet(link.Fleet{Devices: []link.Device{down}, Load: &link.Load{Running: []fleet.Running{}}})
	h.done(link.Done{ID: halt.ID})
	boot := h.asked(link.DoBoot)
	require.Equal(t, "fold-1", boot.Device)
	fold := off("fold-1", "Fold", 2048)
	fold.Condition.Power = ""
	h.fleet(link.Fleet{Devices: []link.Device{fold},
		Load: &link.Load{Running: []fleet.Running{{Name: "fold-1", TakesMB: 2048}}}})
	h.done(link.Done{ID: boot.ID})
	require.Equal(t, "fold-1", h.lease().Device)
}

func TestADeviceThatWorksIsNotHaltedForAnother(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond})
	up := kaede("kaede-7-1")
	up.TakesMB = 3072
	h := w.link(w.service, up, off("fold-1", "Fold", 2048))
	h.fleet(link.Fleet{Offer: &benchOffer, Load: &link.Load{Running: []fleet.Running{{Name: "kaede-7-1", TakesMB: 3072,
		Busy: true}}}})
	w.start(runs.Order{Build: "3.1.4", Suites: []string{"Two"}, On: []string{"Kaede 7"}})
	n := h.lease().Number
	w.start(runs.Order{Build: "3.1.4", Suites: []string{"Two"}, On: []string{"Fold"}})
	h.say(append([]link.Event{began(n), result(n, 2, 0, "pass"), result(n, 3, 1, "pass")}, finished(n, 4)...)...)
	acked, asked := false, ""
	h.expect(func(m link.ToHost) bool { // whatever order they come in, the acknowledgement is before the halt
		for _, a := range m.Acks {
			acked = acked || a.Lease == n && a.Seq == 5
		}
		for _, e := range m.Do {
			if e.What == link.DoHalt {
				require.True(t, acked, "halted while it worked")
				asked = e.Device
			}
		}
		return asked != ""
	})
	require.Equal(t, "kaede-7-1", asked)
}

func TestALegThatNoDeviceCanEverTakeEndsWithTheReason(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"), off("giant-1", "Giant", 9000))
	h.fleet(link.Fleet{Offer: &benchOffer, Load: &link.Load{Running: []fleet.Running{}}})
	w.awaitState("giant-1", "halted")
	run := w.start(runs.Order{Build: "3.1.4", Suites: []string{"Two"}, On: []string{"Giant"}})
	d := w.awaitRun(run.Number, done)
	require.Equal(t, "error", d.Run.Verdict)
	require.Contains(t, (*d.Legs[0].Cases[0].Results[0].Failure)["actual"], "giant-1 needs 8.8 GB")
}

func TestARemovedDeviceTakesItsWaitingLegsWithIt(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond, MendWithin: 100 * time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"))
	first := w.start(runs.Order{})
	n := h.lease().Number
	second := w.start(runs.Order{})
	h.fleet(link.Fleet{Gone: []string{"kaede-7-1"}})
	h.say(append([]link.Event{began(n), result(n, 2, 0, "pass"), result(n, 3, 1, "pass")}, finished(n, 4)...)...)
	require.Equal(t, "pass", w.awaitRun(first.Number, done).Run.Verdict)
	d := w.awaitRun(second.Number, done)
	require.Equal(t, "error", d.Run.Verdict)
	require.Contains(t, (*d.Legs[0].Cases[0].Results[0].Failure)["actual"],
		"kaede-7-1 was removed, and there is no device any more that takes this leg")
}

// serve plays a host that carries every lease out, on devices that are to have one lease
// at a time, until the returned function is called.
func (h *fakeHost) serve(t *testing.T) (stop func() (leases int)) {
	ctx, cancel := context.WithCancel(context.Background())
	ended, count := make(chan struct{}), 0
	go func() {
		defer close(ended)
		for {
			var m link.ToHost
			if h.conn.Receive(ctx, &m) != nil {
				return
			}
			for _, l := range m.Leases {
				count++
				events, seq := []link.Event{began(l.Number)}, int64(2)
				for _, index := range l.Attempt.Cases {
					events = append(events, result(l.Number, seq, index, "pass"))
					seq++
				}
				if h.conn.Send(ctx, link.FromHost{Events: append(events, finished(l.Number, seq)...)}) != nil {
					return
				}
			}
		}
	}()
	once := sync.OnceFunc(func() { cancel(); <-ended })
	t.Cleanup(once)
	return func() int { once(); return count }
}

func TestConcurrentAskersOfSeveralServicesAreAllServedOnce(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond})
	other := w.another(base.Config{Pace: 20 * time.Millisecond})
	stop := w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"), kaede("kaede-7-3")).serve(t)
	var group errgroup.Group
	const askers, each = 6, 5
	numbers := make([][]int64, askers)
	for i := range askers {
		s := []*Service{w.service, other}[i%2]
		group.Go(func() error {
			for range each {
				r, err := s.Runs.StartRun(context.Background(), w.user, runs.Order{Build: "3.1.4", Suites: []string{"Two"}},
					"")
				if err != nil {
					return err
				}
				numbers[i] = append(numbers[i], r.Number)
			}
			return nil
		})
	}
	require.NoError(t, group.Wait())
	seen := map[int64]bool{}
	for _, list := range numbers {
		for _, n := range list {
			require.False(t, seen[n], "run %d was given twice", n)
			seen[n] = true
			d := w.awaitRun(n, done)
			require.Equal(t, "pass", d.Run.Verdict)
			require.Len(t, d.Legs[0].Attempts, 1)
		}
	}
	require.Equal(t, askers*each, stop())
}

func TestCancellingAgainstPlacementLeavesNothingBehind(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"))
	h.serve(t)
	ctx := context.Background()
	var group errgroup.Group
	numbers := make([]int64, 24)
	for i := range numbers {
		group.Go(func() error {
			r, err := w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "3.1.4", Suites: []string{"Two"}}, "")
			if err != nil {
				return err
			}
			numbers[i] = r.Number
			if i%2 == 0 {
				_, _ = w.service.Runs.CancelRun(ctx, w.user, r.Number) // refused where it is over already
			}
			return nil
		})
	}
	require.NoError(t, group.Wait())
	for i, n := range numbers {
		d := w.awaitRun(n, done)
		if i%2 == 1 {
			require.Equal(t, "finished", d.Run.State)
			require.Equal(t, "pass", d.Run.Verdict)
		}
		for _, l := range d.Legs {
			require.Contains(t, []string{"finished", "cancelled"}, l.State)
			for _, a := range l.Attempts {
				require.NotNil(t, a.Ended, "run %d", n)
			}
		}
	}
	for _, name := range []string{"kaede-7-1", "kaede-7-2"} {
		w.awaitState(name, "idle")
	}
}

func TestRemovalAgainstPlacementLeavesNothingBehind(t *testing.T) {
	w := newWorld(t, base.Config{Pace: 20 * time.Millisecond, MendWithin: 200 * time.Millisecond})
	h := w.link(w.service, kaede("kaede-7-1"), kaede("kaede-7-2"), kaede("kaede-7-3"))
	h.serve(t)
	ctx := context.Background()
	var group errgroup.Group
	numbers := make([]int64, 12)
	for i := range numbers {
		group.Go(func() error {
			r, err := w.service.Runs.StartRun(ctx, w.user, runs.Order{Build: "3.1.4", Suites: []string{"Two"}}, "")
			numbers[i] = r.Number
			return err
		})
	}
	group.Go(func() error { // one after the other goes, while runs are started and placed
		for i := range 2 {
			if err := h.conn.Send(ctx, link.FromHost{Fleet: &link.Fleet{Gone: []string{fmt.Sprintf("kaede-7-%d",
				i+1)}}}); err != nil {
				return err
			}
		}
		return nil
	})
	require.NoError(t, group.Wait())
	for _, n := range numbers {
		require.Equal(t, "pass", w.awaitRun(n, done).Run.Verdict, "the third device takes what the others leave")
	}
	require.Eventually(t, func() bool {
		list, err := w.service.Care.Devices(ctx, w.user, care.DeviceFilter{})
		return err == nil && len(list) == 1 && list[0].Facts.V.Name == "kaede-7-3" && list[0].State == "idle"
	}, 10*time.Second, 10*time.Millisecond)
}
