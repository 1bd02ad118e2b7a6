package runs

import (
	"context"
	"fmt"
	"time"

	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/service/dispatch"
	"yamato/internal/store"
)

// EndEarly ends the runs whose plans have them end: after so many failures for good, when what waits
// is skipped and what runs comes to its end; or when they have taken too long, when what is undecided
// is an error.
func (s *Part) EndEarly(ctx context.Context) error {
	list, err := s.Store.LimitedRuns(ctx)
	if err != nil {
		return err
	}
	for _, r := range list {
		l := r.Limits.V
		switch {
		case l.RunMS > 0 && r.RanMS > l.RunMS:
			why := fmt.Sprintf("the run took more than the %s that its plan gives it",
				time.Duration(l.RunMS)*time.Millisecond)
			if err = s.endWaiting(ctx, r, verdict.Error, script.Trouble, why); err == nil {
				err = s.Store.InTx(ctx, func(t *store.Tx) error { return t.Leases.AskEnd(ctx, r.Run, why) })
			}
		case l.Failures > 0 && r.Failed >= l.Failures:
			why := fmt.Sprintf("the run stopped early, after %d failures", r.Failed)
			if r.Failed == 1 {
				why = "the run stopped early, after a failure"
			}
			err = s.endWaiting(ctx, r, verdict.Skip, script.NotRun, why)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// endWaiting ends the legs of a run that wait.
func (s *Part) endWaiting(ctx context.Context, r store.Limited, v verdict.Verdict, cause script.Cause, why string) error {
	const atOnce = 200
	for {
		ids, err := s.Store.WaitingLegs(ctx, r.Run, atOnce)
		if err != nil || len(ids) == 0 {
			return err
		}
		for _, leg := range ids {
			if err := s.Store.InTx(ctx, func(t *store.Tx) error {
				return dispatch.CloseWaiting(ctx, t, dispatch.Undecided{
					Leg: leg, Run: r.Run, Project: r.ProjectID, Verdict: v, Cause: cause, Why: why,
				})
			}); err != nil {
				return err
			}
		}
		s.Bell.Ring()
		if len(ids) < atOnce {
			return nil
		}
	}
}
