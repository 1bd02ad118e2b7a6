package care

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/service/dispatch"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// Tend looks after the fleet for as long as this instance leads: it brings back
// devices whose time out of use is over, has those probed that were taken out by
// themselves, boots halted ones that runs wait for, and gives up on legs whose
// devices nobody mends.
func (s *Part) Tend(ctx context.Context) {
	ticks := 0
	for base.Every(ctx, 2*s.Config.Pace) {
		leads, err := s.Store.LeadsNow(ctx, s.Instance)
		if err != nil || !leads {
			continue
		}
		if ticks++; ticks%5 == 0 {
			if err := s.giveUpWaiting(ctx); err != nil && ctx.Err() == nil {
				s.Log.Warn("legs that wait could not be looked at", "error", err)
			}
		}
		for what, do := range map[string]func(context.Context) error{"sidelined devices could not be looked " +
			"after": s.tendSidelined, "halted devices could not be woken": s.wake} {
			if err := do(ctx); err != nil && ctx.Err() == nil {
				s.Log.Warn(what, "error", err)
			}
		}
		if ticks%20 == 0 { // hours open and close
			if ids, err := s.Store.RuledDevices(ctx); err == nil && s.Store.MarkDevices(ctx, ids) == nil &&
				len(ids) > 0 {
				s.Bell.Ring()
			}
		}
	}
}

func (s *Part) tendSidelined(ctx context.Context) error {
	list, err := s.Store.Sidelined(ctx)
	if err != nil {
		return err
	}
	now := time.Now()
	for _, d := range list {
		side := d.Sideline.V
		switch {
		case side.Until != nil && now.After(*side.Until):
			err = s.Store.InTx(ctx, func(t *store.Tx) error { return base.RestoreDevice(ctx, t.Devices, d.ID) })
		case side.ProbeAt != nil && d.Linked && now.After(*side.ProbeAt):
			next := now.UTC().Add(s.Config.ProbeEvery) // unless its answer says otherwise
			side.ProbeAt = &next
			err = s.Store.InTx(ctx, func(t *store.Tx) error {
				if err := t.Devices.SetSideline(ctx, d.ID, side); err != nil {
					return err
				}
				return t.AskProbe(ctx, d.ProjectID, d.HostID, d.Name, base.Automatic)
			})
			if errors.Is(err, pg.ErrNone) { // it was brought back just now
				err = nil
			}
		default:
			continue
		}
		if err != nil {
			return err
		}
		s.Bell.Ring()
	}
	return nil
}

// wake has halted devices booted that legs wait for. Where they do not fit, idle devices
// are halted first; legs that only a device could take for which there is never room end.
func (s *Part) wake(ctx context.Context) error {
	list, err := s.Store.HaltedWanted(ctx)
	if err != nil || len(list) == 0 {
		return err
	}
	hosts := map[int64][]store.Halted{}
	var ids []int64
	for _, d := range list {
		if hosts[d.HostID] == nil {
			ids = append(ids, d.HostID)
		}
		hosts[d.HostID] = append(hosts[d.HostID], d)
	}
	idle, err := s.Store.IdleVirtual(ctx, ids)
	if err != nil {
		return err
	}
	asked := map[int64]map[fleet.Class]int{} // by project
	never := map[int64]fleet.Reason{}
	for _, host := range ids {
		if err := s.power(ctx, hosts[host], idle[host], asked, never); err != nil {
			return err
		}
	}
	if len(never) == 0 {
		return nil
	}
	legs, err := s.Store.Forsaken(ctx, 0, slices.Collect(maps.Keys(never)), 200)
	if err != nil {
		return err
	}
	for _, l := range legs {
		for id, why := range never {
			if l.State == "halted" && slices.ContainsFunc(list, func(d store.Halted) bool {
				return d.ID == id && d.Name == l.Device
			}) {
				if err := s.giveUp(ctx, l, why.Why+"; "+why.Remedy.String()); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// power asks one host to switch devices on and off.
func (s *Part) power(ctx context.Context, list []store.Halted, idle []string, asked map[int64]map[fleet.Class]int,
	never map[int64]fleet.Reason) error {
	first := list[0]
	if asked[first.ProjectID] == nil {
		asked[first.ProjectID] = map[fleet.Class]int{}
	}
	var off []fleet.Off
	at := map[string]store.Halted{}
	for _, d := range list {
		class := fleet.ClassOf(d.Facts.V)
		if open, err := s.Store.OpenErrand(ctx, d.HostID, d.Name); err != nil || open != 0 {
			asked[first.ProjectID][class]++ // it is on its way
			continue
		}
		at[d.Name] = d
		off = append(off, fleet.Off{Running: fleet.Running{Name: d.Name, TakesMB: d.Facts.V.TakesMB,
			TakesCPUs: d.Facts.V.TakesCPUs, Busy: true}, Class: class, Legs: d.Legs, Coming: d.Coming})
	}
	plan := fleet.PlanPower(first.Offer.V.Capacity, first.Load.V.Running, off, idle, asked[first.ProjectID])
	for name, why := range plan.Never {
		never[at[name].ID] = why
	}
	for what, names := range map[string][]string{link.DoBoot: plan.Boot, link.DoHalt: plan.Halt} {
		for _, name := range names {
			if _, err := s.Store.AskErrand(ctx, first.ProjectID, store.Errand{HostID: first.HostID, Device: name,
				What:    what,
				AskedBy: base.Automatic}, pg.Wish{}); err != nil {
				return err
			}
			s.Bell.Ring()
		}
	}
	return nil
}

// giveUpWaiting ends legs whose devices have needed a person for too long: what is
// undecided of them is an error, with the remedy, never a failure of the app.
func (s *Part) giveUpWaiting(ctx context.Context) error {
	list, err := s.Store.StrandedLegs(ctx, s.Config.MendWithin, 200)
	if err != nil {
		return err
	}
	for _, l := range list {
		trouble := fmt.Sprintf("%s is %s: %s. `yamato device check %s` says what to do; then run it again", l.Device,
			l.State, l.Reason, l.Device)
		if err := s.giveUp(ctx, l, trouble); err != nil {
			return err
		}
	}
	if list, err = s.Store.Forsaken(ctx, min(s.Config.MendWithin, forsakenAfter), nil, 200); err != nil {
		return err
	}
	for _, l := range list {
		trouble := "there is no device any more that takes this leg; run it on others: `yamato device ls` lists " +
			"what there is"
		if l.Device != "" {
			trouble = l.Device + " was removed, and " + trouble
		}
		if err := s.giveUp(ctx, l, trouble); err != nil {
			return err
		}
	}
	return nil
}

// forsakenAfter is how long a device may be gone, as while its host is started with
// another site file, before the legs that wait for it end.
const forsakenAfter = time.Minute

// giveUp ends a leg that waits: what is undecided of it is an error.
func (s *Part) giveUp(ctx context.Context, l store.Stranded, trouble string) error {
	err := s.Store.InTx(ctx, func(t *store.Tx) error {
		return dispatch.CloseWaiting(ctx, t, dispatch.Undecided{
			Leg: l.Leg, Run: l.Run, Project: l.Project, Verdict: verdict.Error, Cause: script.Trouble, Why: trouble,
		})
	})
	if err == nil {
		s.Bell.Ring()
	}
	return err
}
