package runs

import (
	"context"
	"encoding/json"
	"time"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
)

// RunEvents gives the events of a run after a number, in order, and whether the
// run has ended. It waits until there are some, or ctx ends.
func (s *Part) RunEvents(ctx context.Context, c base.Caller, number, after int64) ([]NumberedEvent, bool, error) {
	heard, leave := s.Bell.Subscribe()
	defer leave()
	for {
		r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
		if err != nil {
			return nil, false, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
		}
		batches, err := s.Store.EventsAfter(ctx, r.ID, after, 200)
		if err != nil {
			return nil, false, err
		}
		var out []NumberedEvent
		for _, b := range batches {
			for i, body := range b.Events.V {
				if n := b.First + int64(i); n > after {
					out = append(out, NumberedEvent{n, body})
				}
			}
		}
		ended := r.FinishedAt != nil && (len(out) == 0 && after >= r.LastEvent || len(out) > 0 &&
			out[len(out)-1].Number >= r.LastEvent)
		if len(out) > 0 || ended {
			return out, ended, nil
		}
		select {
		case <-heard:
		case <-ctx.Done():
			return nil, false, ctx.Err()
		case <-time.After(time.Second): // in case the bell was not heard
		}
	}
}

// NumberedEvent is an event of a run. Numbers have no gaps.
type NumberedEvent struct {
	Number int64
	Body   json.RawMessage
}

// AwaitRun waits until a run has ended, or for so long.
func (s *Part) AwaitRun(ctx context.Context, c base.Caller, number int64, wait time.Duration) error {
	heard, leave := s.Bell.Subscribe()
	defer leave()
	end := time.NewTimer(wait)
	defer end.Stop()
	tick := time.NewTicker(time.Second) // in case the bell was not heard
	defer tick.Stop()
	for {
		r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
		if err != nil {
			return base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
		}
		if r.FinishedAt != nil {
			return nil
		}
		select {
		case <-heard:
		case <-tick.C:
		case <-end.C:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
