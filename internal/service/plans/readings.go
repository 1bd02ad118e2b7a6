package plans

import (
	"sync"
	"time"

	"yamato/internal/core/plan"
	"yamato/internal/core/plan/when"
	kept "yamato/internal/store/plans"
)

// readings are plans as they were read, so that a look at all of them reads none again. They are
// derived from the records and may be thrown away at any time.
type readings struct {
	mu   sync.Mutex
	kept map[int64]*reading
}

// reading is one revision of a plan. Nothing comes round before next: its moments after from have
// been gone through up to there.
type reading struct {
	revision int
	plan     *plan.Plan
	moments  *when.Moments
	err      error

	from, next time.Time
}

// maxReadings bounds the plans that are kept at hand.
const maxReadings = 5000

func (r *readings) of(p kept.Plan) reading {
	r.mu.Lock()
	defer r.mu.Unlock()
	if one := r.kept[p.ID]; one != nil && one.revision == p.Revision {
		return *one
	}
	if r.kept == nil || len(r.kept) >= maxReadings {
		r.kept = map[int64]*reading{}
	}
	one := &reading{revision: p.Revision}
	one.plan, one.moments, one.err = plan.Read(p.Text)
	r.kept[p.ID] = one
	return *one
}

// passed gives the moments of a plan after it was last looked at, up to now.
func (r *readings) passed(p kept.Plan, one reading, now time.Time) []time.Time {
	if one.from.Equal(p.CheckedTo) && (one.next.IsZero() || now.Before(one.next)) {
		return nil
	}
	list := one.moments.Between(p.CheckedTo, now, maxMoments)
	if len(list) > 0 {
		return list
	}
	next := one.moments.Next(p.CheckedTo)
	r.mu.Lock()
	defer r.mu.Unlock()
	if had := r.kept[p.ID]; had != nil && had.revision == p.Revision {
		had.from, had.next = p.CheckedTo, next
	}
	return nil
}
