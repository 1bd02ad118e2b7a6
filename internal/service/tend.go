package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
	"yamato/internal/link"
	"yamato/internal/store"
)

// tend looks after the fleet for as long as this instance leads: it brings back
// devices whose time out of use is over, has those probed that were taken out by
// themselves, boots halted ones that runs wait for, and gives up on legs whose
// devices nobody mends.
func (s *Service) tend(ctx context.Context) {
	ticks := 0
	for every(ctx, 2*s.config.Pace) {
		leads, err := s.store.LeadsNow(ctx, s.instance)
		if err != nil || !leads {
			continue
		}
		if ticks++; ticks%5 == 0 {
			if err := s.giveUpWaiting(ctx); err != nil && ctx.Err() == nil {
				s.log.Warn("legs that wait could not be looked at", "error", err)
			}
		}
		for what, do := range map[string]func(context.Context) error{"sidelined devices could not be looked after": s.tendSidelined, "halted devices could not be woken": s.wake} {
			if err := do(ctx); err != nil && ctx.Err() == nil {
				s.log.Warn(what, "error", err)
			}
		}
		if ticks%20 == 0 { // hours open and close
			if ids, err := s.store.RuledDevices(ctx); err == nil && s.store.MarkDevices(ctx, ids) == nil && len(ids) > 0 {
				s.bell.ring()
			}
		}
	}
}

func (s *Service) tendSidelined(ctx context.Context) error {
	list, err := s.store.Sidelined(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	for _, d := range list {
		side := d.Sideline.V
		switch {
		case side.Until != nil && now.After(*side.Until):
			err = s.store.InTx(ctx, func(t *store.Tx) error { return t.RestoreDevice(ctx, d.ID) })
		case side.ProbeAt != nil && d.Linked && now.After(*side.ProbeAt):
			next := now.UTC().Add(s.config.ProbeEvery) // unless its answer says otherwise
			side.ProbeAt = &next
			err = s.store.InTx(ctx, func(t *store.Tx) error {
				if err := t.SetSideline(ctx, d.ID, side); err != nil {
					return err
				}
				return t.AskProbe(ctx, d.ProjectID, d.HostID, d.Name, automatic)
			})
			if errors.Is(err, store.ErrNone) { // it was brought back just now
				err = nil
			}
		default:
			continue
		}
		if err != nil {
			return err
		}
		s.bell.ring()
	}
	return nil
}

// wake has halted devices booted that legs wait for, as far as their hosts have room.
func (s *Service) wake(ctx context.Context) error {
	list, err := s.store.HaltedWanted(ctx)
	if err != nil {
		return err
	}
	asked, running := map[string]int{}, map[int64][]fleet.Running{}
	for _, d := range list {
		key := fmt.Sprint(d.ProjectID, d.Class)
		if d.Coming+asked[key] >= d.Legs {
			continue
		}
		if running[d.HostID] == nil {
			running[d.HostID] = slices.Clone(d.Load.V.Running)
		}
		if _, ok := fleet.Room(d.Offer.V.Capacity, running[d.HostID], d.Facts.V); !ok {
			continue
		}
		if open, err := s.store.OpenErrand(ctx, d.HostID, d.Name); err != nil || open != 0 {
			asked[key]++
			continue
		}
		if _, err := s.store.AskErrand(ctx, d.ProjectID, store.Errand{HostID: d.HostID, Device: d.Name, What: link.DoBoot, AskedBy: automatic}); err != nil {
			return err
		}
		asked[key]++
		running[d.HostID] = append(running[d.HostID], fleet.Running{Name: d.Name, TakesMB: d.Facts.V.TakesMB, TakesCPUs: d.Facts.V.TakesCPUs, Busy: true})
		s.bell.ring()
	}
	return nil
}

// giveUpWaiting ends legs whose devices have needed a person for too long: what is
// undecided of them is an error, with the remedy, never a failure of the app.
func (s *Service) giveUpWaiting(ctx context.Context) error {
	list, err := s.store.StrandedLegs(ctx, s.config.MendWithin, 200)
	if err != nil || len(list) == 0 {
		return err
	}
	for _, l := range list {
		trouble := fmt.Sprintf("%s is %s: %s. `yamato device check %s` says what to do; then run it again", l.Device, l.State, l.Reason, l.Device)
		err := s.store.InTx(ctx, func(t *store.Tx) error {
			closed, err := t.CloseStranded(ctx, l.Leg)
			if err != nil || !closed {
				return err
			}
			failure := &script.Failure{Cause: script.Trouble, Expected: "the case to be run", Actual: trouble}
			n, err := t.AddErrors(ctx, l.Leg, failure, trouble)
			if err != nil {
				return err
			}
			e := store.RunEvents{Run: l.Run, Legs: 1, Tally: store.Tally{Results: n, Errors: n}, Events: []any{event{Kind: "leg", Leg: l.Leg, State: "finished", Trouble: trouble}}}
			return appendAndClose(ctx, t, map[int64]int64{l.Run: l.Project}, []store.RunEvents{e})
		})
		if err != nil {
			return err
		}
		s.bell.ring()
	}
	return nil
}
