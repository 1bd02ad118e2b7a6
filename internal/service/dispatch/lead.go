package dispatch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"
	"yamato/internal/killpoint"
	"yamato/internal/service/base"

	"yamato/internal/core/schedule"
	"yamato/internal/store"
	"yamato/internal/store/sessions"
)

// lead schedules for as long as this instance holds the lead, and tries to take
// it when it does not. It wakes when the bell rings.
func (s *Part) lead(ctx context.Context) {
	heard, leave := s.Bell.Subscribe()
	defer leave()
	l := &leader{service: s}
	tick := time.NewTicker(s.Config.Pace)
	defer tick.Stop()
	for {
		if err := l.work(ctx); err != nil && ctx.Err() == nil {
			l.state = nil
			s.Log.Warn("scheduling failed; starting over from the records", "error", err)
			if !base.Every(ctx, 50*time.Millisecond) {
				return
			}
		}
		select {
		case <-heard:
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

// leader is the lead as this instance holds it.
type leader struct {
	service *Part
	epoch   int64
	renewed time.Time
	swept   time.Time
	state   *schedule.State // nil: to be rebuilt from the records
}

// tidyAfter is after how many rows the table of what is dirty is tidied.
const tidyAfter = 1000

var errLeadLost = errors.New("another instance leads now")

// work renews the lead, sweeps, and places what can be placed.
func (l *leader) work(ctx context.Context) error {
	s := l.service
	if time.Since(l.renewed) > s.Config.Silence/3 {
		epoch, err := s.Store.Lead(ctx, s.Instance, s.Config.Silence)
		if err != nil {
			return err
		}
		if epoch != l.epoch {
			l.epoch, l.state = epoch, nil
			if epoch != 0 {
				s.Log.Info("this instance leads", "epoch", epoch)
			}
		}
		l.renewed = time.Now()
	}
	if l.epoch == 0 {
		return nil
	}
	if time.Since(l.swept) > s.Config.Pace {
		if err := l.sweep(ctx); err != nil {
			return err
		}
		l.swept = time.Now()
	}
	return l.place(ctx)
}

// sweep ends leases that have run out and notices hosts that have gone.
func (l *leader) sweep(ctx context.Context) error {
	s := l.service
	expired := 0
	err := s.Store.InTx(ctx, func(t *store.Tx) error {
		held, err := t.Leases.Expired(ctx, 500)
		if err != nil {
			return err
		}
		expired = len(held)
		w := s.newWork(held)
		for _, h := range held {
			w.end(h.Lease, "expiry", "its host was not heard from before the lease ran out")
		}
		return w.write(ctx, t)
	})
	if err != nil {
		return fmt.Errorf("ending leases that have run out: %w", err)
	}
	if expired > 0 {
		s.Log.Info("leases ran out", "count", expired)
		s.Bell.Ring()
	}
	cancelled, err := s.Store.CancelledOpen(ctx)
	if err != nil {
		return err
	}
	for _, r := range cancelled {
		if err := WindDown(ctx, s.Store, r, "the run was cancelled"); err != nil {
			return fmt.Errorf("winding run %d down: %w", r.Number, err)
		}
	}
	if err := s.Store.InTx(ctx, func(t *store.Tx) error {
		legs, err := t.Legs.Unblock(ctx, nil)
		if err != nil {
			return err
		}
		return t.MarkDirty(ctx, store.DirtyLeg, legs)
	}); err != nil {
		return fmt.Errorf("looking for accounts that are free again: %w", err)
	}
	return s.Store.InTx(ctx, func(t *store.Tx) error { return t.Devices.TakeUnlinkedOffline(ctx, s.Config.Silence*2) })
}

// place brings the state up to date and writes the placements that follow, all
// in one transaction that checks that we still lead.
func (l *leader) place(ctx context.Context) error {
	s := l.service
	placed := 0
	err := s.Store.InTx(ctx, func(t *store.Tx) error {
		placed = 0
		leads, err := t.Hosts.Leads(ctx, s.Instance, l.epoch)
		if err != nil {
			return err
		}
		if !leads {
			return errLeadLost
		}
		placements, err := l.decide(ctx, t)
		if err != nil || len(placements) == 0 {
			return err
		}
		if placed, err = l.write(ctx, t, placements); err == nil && placed != len(placements) {
			err = fmt.Errorf("%d of %d placements did not fit the records", len(placements)-placed, len(placements))
		}
		return err
	})
	if errors.Is(err, errLeadLost) {
		l.epoch, l.state = 0, nil
		return nil
	}
	var short *unlent
	if errors.As(err, &short) { // they wait for accounts; the others are placed without them
		l.state = nil
		s.Bell.Ring()
		return s.Store.InTx(ctx, func(t *store.Tx) error { return t.Legs.Block(ctx, short.legs) })
	}
	if err != nil {
		l.state = nil
		return err
	}
	if placed > 0 {
		killpoint.Pass("placed")
		s.Bell.Ring()
	}
	return nil
}

// write carries placements out, of legs and of sessions, and gives how many fitted.
func (l *leader) write(ctx context.Context, t *store.Tx, placements []schedule.Placement) (placed int, err error) {
	ttl := l.service.Config.TTL
	var legs []store.Placement
	var ids, devices []int64
	for _, p := range placements {
		devices = append(devices, p.Device)
		if !isSession(p.Leg) {
			legs, ids = append(legs, store.Placement{Leg: p.Leg, Device: p.Device}), append(ids, p.Leg)
		}
	}
	if err := t.Devices.Lock(ctx, devices); err != nil {
		return 0, err
	}
	var runs []int64
	if len(legs) > 0 {
		if runs, err = t.Legs.Place(ctx, legs, ttl); err != nil {
			return 0, err
		}
		if blocked, err := t.Legs.Lend(ctx, ids); err != nil || len(blocked) > 0 {
			return 0, errors.Join(err, &unlent{blocked})
		}
	}
	placed = len(runs)
	slices.SortFunc(placements, func(a, b schedule.Placement) int { return cmp.Compare(b.Leg, a.Leg) })
	for _, p := range placements { // sessions, by id
		if !isSession(p.Leg) {
			continue
		}
		fits, err := t.Sittings.Place(ctx, -p.Leg, p.Device, ttl)
		if err != nil {
			return 0, err
		}
		if fits {
			placed++
		}
	}
	return placed, t.Runs.Begin(ctx, runs)
}

// unlent tells which legs could not be lent an account, and which that is.
type unlent struct{ legs map[int64]string }

func (u *unlent) Error() string { return fmt.Sprintf("%d legs wait for accounts", len(u.legs)) }

// decide applies what has changed, or everything where the state was lost.
func (l *leader) decide(ctx context.Context, t *store.Tx) ([]schedule.Placement, error) {
	dirty, err := t.TakeDirty(ctx)
	if err != nil {
		return nil, err
	}
	l.service.taken.Add(int64(len(dirty)))
	var devices []store.FreeDevice
	var legs []store.WaitingLeg
	var people []sessions.Waiting
	if l.state == nil {
		l.state = schedule.New(schedule.InTurn)
		if devices, err = t.IdleDevices(ctx); err != nil {
			return nil, err
		}
		if legs, err = t.WaitingLegs(ctx); err != nil {
			return nil, err
		}
		if people, err = t.WaitingSessions(ctx); err != nil {
			return nil, err
		}
	} else if len(dirty) > 0 {
		ids := map[int][]int64{}
		for _, d := range dirty {
			ids[d.Sort] = append(ids[d.Sort], d.ID)
		}
		if devices, err = t.DevicesByID(ctx, ids[store.DirtyDevice]); err != nil {
			return nil, err
		}
		if legs, err = t.LegsByID(ctx, ids[store.DirtyLeg]); err != nil {
			return nil, err
		}
		if people, err = t.SessionsWaiting(ctx, ids[store.DirtySession]); err != nil {
			return nil, err
		}
	}
	var placements []schedule.Placement
	now := time.Now()
	for _, p := range people {
		placements = append(placements, l.state.Apply(sessionLeg(p))...)
	}
	for _, g := range legs {
		placements = append(placements, l.state.Apply(schedule.Leg{ID: g.ID, Order: schedule.Order{Run: g.RunID,
			Leg: g.Position}, Waiting: g.State == "waiting",
			Demand: schedule.Demand{Device: g.DeviceID, Avoid: g.Avoid, Who: g.AskedBy,
				Class: schedule.Class{Project: g.ProjectID, Kind: g.Kind, Model: g.Model, Platform: g.Platform,
					OS: g.OS}}})...)
	}
	for _, d := range devices {
		placements = append(placements, l.state.Apply(schedule.Device{ID: d.ID, Worth: d.Worth, Idle: d.State == "idle",
			At: d.Since, Lease: d.Lease, Took: time.Duration(d.TookMS) * time.Millisecond,
			Class: schedule.Class{Project: d.ProjectID, Kind: d.Kind, Model: d.Model, Platform: d.Platform, OS: d.OS,
				Only: onlyFor(d, now)}})...)
	}
	return placements, nil
}

// onlyFor names whom a device is for now, "" for everybody.
func onlyFor(d store.FreeDevice, now time.Time) string {
	if d.Use == nil {
		return ""
	}
	people, anybody := d.Use.V.For(d.Owner, now)
	if anybody {
		return ""
	}
	return schedule.Only(people)
}
