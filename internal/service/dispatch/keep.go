package dispatch

import (
	"context"
	"time"

	"yamato/internal/core/plain"
	"yamato/internal/killpoint"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// inbound is a batch of events from one link, on its way into the records.
type inbound struct {
	session *session
	events  []link.Event
}

// Bounds on what goes into one transaction.
const (
	maxTogether = 4000     // events
	maxWeight   = 16 << 20 // bytes
)

func (in *inbound) weight() (n int) {
	for i := range in.events {
		n += in.events[i].Weight()
	}
	return n
}

// takeIn commits what hosts report. All that has arrived while a transaction was
// under way goes into the next one together, whichever hosts it came from: under
// load a commit carries hundreds of legs, without load nobody waits.
func (s *Part) takeIn(ctx context.Context) {
	for {
		select {
		case first := <-s.inbox:
			s.keep(ctx, s.gatherInbox(first))
		case <-ctx.Done():
			return
		}
	}
}

// keep commits a batch and has its hosts told. What fails for a reason that passes is
// tried again; what would fail for ever is halved, until the word at fault is alone, and
// that lease is refused with the reason. All others go on.
func (s *Part) keep(ctx context.Context, batch []*inbound) {
	for tries := 0; ; tries++ {
		killpoint.Pass("committing")
		answers, err := s.commit(ctx, batch)
		if err == nil {
			killpoint.Pass("committed") // and not yet acknowledged
			s.answer(batch, answers)
			return
		}
		if ctx.Err() != nil {
			return
		}
		if pg.Hopeless(err) && tries > 0 {
			if first, second := halve(batch); second != nil {
				s.keep(ctx, first)
				s.keep(ctx, second)
				return
			}
			s.refuse(ctx, batch[0], err)
			return
		}
		s.Log.Warn("events could not be committed; trying again", "error", err)
		if !base.Every(ctx, 100*time.Millisecond) {
			return
		}
	}
}

// halve parts a batch in two, by its links and then by its events; the second is nil
// where there is one event only.
func halve(batch []*inbound) (first, second []*inbound) {
	if n := len(batch); n > 1 {
		return batch[:n/2], batch[n/2:]
	}
	in := batch[0]
	n := len(in.events)
	if n < 2 {
		return batch, nil
	}
	return []*inbound{{in.session, in.events[:n/2]}}, []*inbound{{in.session, in.events[n/2:]}}
}

// refuse ends the lease of an event that cannot be kept, and tells its host why.
func (s *Part) refuse(ctx context.Context, in *inbound, cause error) {
	e := in.events[0]
	why := "a word about it cannot be kept: " + plain.Text(cause.Error(), 300)
	s.Log.Error("a word about a lease cannot be kept; the lease is refused", "lease", e.Lease, "seq", e.Seq, "error",
		cause)
	err := s.Store.InTx(ctx, func(t *store.Tx) error {
		held, err := t.Leases.Hold(ctx, []int64{e.Lease})
		if err != nil || len(held) == 0 || held[0].Ended {
			return err
		}
		w := s.newWork(held)
		w.end(e.Lease, "service", why)
		return w.write(ctx, t)
	})
	if err != nil && ctx.Err() == nil { // it runs out by itself, since its host gives it up
		s.Log.Error("a lease that is refused could not be ended", "lease", e.Lease, "error", err)
	}
	s.Bell.Ring()
	in.session.send(link.ToHost{Refused: []link.Refusal{{Lease: e.Lease, Reason: why}}})
}

func (s *Part) gatherInbox(first *inbound) []*inbound {
	batch, n, weight := []*inbound{first}, len(first.events), first.weight()
	for n < maxTogether && weight < maxWeight {
		select {
		case more := <-s.inbox:
			batch, n, weight = append(batch, more), n+len(more.events), weight+more.weight()
		default:
			return batch
		}
	}
	return batch
}
