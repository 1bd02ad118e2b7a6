package plans

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/contain"
	"yamato/internal/core/plan"
	"yamato/internal/core/plan/when"
	"yamato/internal/core/states"
	"yamato/internal/killpoint"
	"yamato/internal/service/base"
	"yamato/internal/service/runs"
	"yamato/internal/store"
	"yamato/internal/store/pg"
	kept "yamato/internal/store/plans"
)

// Bounds of one look at the plans.
const (
	maxDue     = 2000 // starts that are gone through
	maxMoments = 500  // of one plan, since the last look
	maxArrived = 50
)

// KeepPlans starts what falls due for as long as this instance leads, and ends runs that end early.
// The records are looked at when the leader looks them over; nothing is remembered between two looks.
func (s *Part) KeepPlans(ctx context.Context) {
	for base.Every(ctx, 2*s.Config.Pace) {
		leads, err := s.Store.LeadsNow(ctx, s.Instance)
		if err != nil || !leads {
			continue
		}
		if err := s.LookAtPlans(ctx, time.Now()); err != nil && ctx.Err() == nil {
			s.Log.Warn("plans could not be looked after", "error", err)
		}
		if err := s.runs.EndEarly(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("runs that end early could not be looked after", "error", err)
		}
	}
}

// LookAtPlans notes what has fallen due by now, and starts it.
func (s *Part) LookAtPlans(ctx context.Context, now time.Time) error {
	list, err := s.Store.AllPlans(ctx, 0)
	if err != nil {
		return err
	}
	var left error // what one plan meets is its own
	each := func(p kept.Plan, do func() error) {
		if err := contain.Do("the plan "+p.Name, do); err != nil {
			left = errors.Join(left, fmt.Errorf("plan %s: %w", p.Name, err))
		}
	}
	for _, p := range list {
		if p.Paused {
			continue
		}
		one := s.read.of(p)
		if one.err != nil {
			continue // its page tells
		}
		each(p, func() error { return s.note(ctx, p, one, now) })
	}
	due, err := s.Store.DueStarts(ctx, now, maxDue)
	if err != nil {
		return errors.Join(left, err)
	}
	plans := map[int64]kept.Plan{}
	for _, p := range list {
		plans[p.ID] = p
	}
	for _, d := range due {
		if p, ok := plans[d.PlanID]; ok {
			each(p, func() error { return s.consider(ctx, p, d, now) })
		}
	}
	return left
}

// note writes down the reasons to start a plan that have come up.
func (s *Part) note(ctx context.Context, p kept.Plan, one reading, now time.Time) error {
	read := one.plan
	var list []kept.Start
	checked := time.Time{}
	if one.moments.ByTime() {
		passed := s.read.passed(p, one, now)
		if checked = now; len(passed) == maxMoments {
			checked = passed[len(passed)-1]
		}
		start, missed := when.Due(passed, now, read.When.Missed)
		let := "none"
		if read.When.Missed == when.Once {
			let = "the last"
		}
		for _, at := range start {
			list = append(list, kept.Start{Key: atKey(at), Reason: "time", Due: at, State: states.StartDue,
				AskedBy: p.SavedBy})
		}
		for _, at := range missed {
			list = append(list, kept.Start{Key: atKey(at), Reason: "time", Due: at, State: states.StartMissed,
				AskedBy: p.SavedBy, Told: "nothing was up then; the plan says to start " + let +
					" of those that were missed"})
		}
	}
	slices.SortStableFunc(list, func(a, b kept.Start) int { return a.Due.Compare(b.Due) })
	if read.Build == plan.Arriving {
		ids, err := s.Store.Arrived(ctx, p, labels(read.Labels), maxArrived)
		if err != nil {
			return err
		}
		for _, id := range ids {
			list = append(list, kept.Start{Key: fmt.Sprintf("build %d", id), Reason: "arrival", Due: now,
				State:   states.StartDue,
				BuildID: &id, AskedBy: p.SavedBy})
		}
	}
	if a := read.When.After; a != nil {
		ids, err := s.Store.Ended(ctx, p, a.Plan, a.Verdict, maxArrived)
		if err != nil {
			return err
		}
		for _, id := range ids {
			list = append(list, kept.Start{Key: fmt.Sprintf("after run %d", id), Reason: "after", Due: now,
				State:   states.StartDue,
				AskedBy: p.SavedBy})
		}
	}
	// where nothing came up, the look itself is noted now and then: it need not be, to be right
	if len(list) == 0 && now.Sub(p.CheckedTo) < 10*time.Minute {
		return nil
	}
	err := s.Store.NoteStarts(ctx, p, checked, list)
	if len(list) > 0 {
		killpoint.Pass("starts-noted")
	}
	return err
}

func labels(list []string) map[string]string {
	out := map[string]string{}
	for _, l := range list {
		key, value, _ := strings.Cut(l, "=")
		out[key] = value
	}
	return out
}

// consider starts what is due, unless it waits for a window, or for the plan's last run.
func (s *Part) consider(ctx context.Context, p kept.Plan, d kept.Start, now time.Time) error {
	one := s.read.of(p)
	if one.err != nil {
		return s.Store.DecideStart(ctx, d.ID, states.StartFailed, "the plan cannot be read: "+one.err.Error(), nil)
	}
	read, moments := one.plan, one.moments
	tell := func(state states.Start, why string) error {
		if d.State == state && d.Told == why {
			return nil
		}
		err := s.Store.DecideStart(ctx, d.ID, state, why, nil)
		if state != states.StartDue {
			s.Bell.Ring()
		}
		return err
	}
	// a service was killed once it had made the run: that is no other run to wait for
	switch run, err := s.Store.RunKeyed(ctx, p.ProjectID, keyOf(d)); {
	case err == nil:
		return s.Store.DecideStart(ctx, d.ID, states.StartStarted, "", &run)
	case !errors.Is(err, pg.ErrNone):
		return err
	}
	if d.Reason != "hand" {
		if !moved(d) && !moments.May(now) {
			open, err := moments.Opens(now)
			if err != nil {
				return tell(states.StartLeftOut, err.Error())
			}
			return tell(states.StartDue, "waits until it may start, at "+open.In(moments.Zone()).Format("Mon 15:04"))
		}
		open, err := s.Store.OpenRuns(ctx, p.ID, keyOf(d))
		if err != nil {
			return err
		}
		if len(open) > 0 {
			switch read.When.Busy {
			case when.Wait:
				return tell(states.StartDue, fmt.Sprintf("waits for run %d to end", open[0]))
			case when.TakeOver:
				c := base.Caller{ProjectID: p.ProjectID, Name: "plan " + p.Name}
				for _, n := range open {
					if _, err := s.runs.CancelRun(ctx, c, n); err != nil {
						var problem *base.Problem
						if !errors.As(err, &problem) { // it ended a moment ago
							return err
						}
					}
				}
			default:
				return tell(states.StartLeftOut, fmt.Sprintf("run %d of this plan was not over", open[0]))
			}
		}
	}
	return s.begin(ctx, p, d)
}

// moved tells whether somebody had a start be at another time: that is when it may start.
func moved(d kept.Start) bool { return d.Key != atKey(d.Due) && strings.HasPrefix(d.Key, atPrefix) }

const atPrefix = "at "

// atKey is the key of a start that its plan's times have come round to.
func atKey(at time.Time) string { return atPrefix + at.UTC().Format(time.RFC3339) }

// keyOf is the idempotency key of a start's run.
func keyOf(d kept.Start) string { return fmt.Sprintf("plan start %d", d.ID) }

// begin makes the run of a start. It may be called again for the same one: it is one run.
func (s *Part) begin(ctx context.Context, p kept.Plan, d kept.Start) error {
	read, _, err := plan.Read(p.Text)
	if err != nil {
		return s.Store.DecideStart(ctx, d.ID, states.StartFailed, "the plan cannot be read: "+err.Error(), nil)
	}
	var ch Changes
	if len(d.Changed.V) > 0 {
		if err := json.Unmarshal(d.Changed.V, &ch); err != nil {
			return err
		}
	}
	changed, words := ch.apply(*read)
	in := runs.Planned{Plan: &changed, ID: p.ID, Revision: p.Revision, Build: ch.Build, Changed: words, Keep: ch.Keep}
	if d.BuildID != nil {
		in.BuildID = *d.BuildID
	}
	c := base.Caller{ProjectID: p.ProjectID, Name: d.AskedBy}
	return s.told(ctx, p, d)(s.runs.StartPlanned(ctx, c, in, keyOf(d)))
}

// told says of a start what came of it: its run, or why there is none. Trouble with the records is
// given back, and the start is tried again.
func (s *Part) told(ctx context.Context, p kept.Plan, d kept.Start) func(run store.Run, err error) error {
	return func(run store.Run, err error) error {
		var problem *base.Problem
		switch {
		case errors.As(err, &problem):
			why := problem.Title
			if !problem.Hint.IsZero() {
				why += "; " + problem.Hint.String()
			}
			s.Log.Warn("a plan could not be started", "plan", p.Name, "why", why)
			return s.Store.DecideStart(ctx, d.ID, states.StartFailed, why, nil)
		case err != nil:
			return err
		}
		killpoint.Pass("start-made")
		s.Bell.Ring()
		return s.Store.DecideStart(ctx, d.ID, states.StartStarted, "", &run.ID)
	}
}
