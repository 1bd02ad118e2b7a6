package base

import (
	"context"

	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
)

// Candidates gives the fleet as it is now, or what there is of some models.
func (s *Base) Candidates(ctx context.Context, c Caller, models ...string) ([]matrix.Candidate, error) {
	rows, err := s.Store.Candidates(ctx, c.ProjectID, models...)
	out := make([]matrix.Candidate, len(rows))
	for i, r := range rows {
		out[i] = matrix.Candidate{ID: r.ID, Condition: r.Condition.V, Standing: fleet.Standing{Device: r.Facts.V,
			State: r.State, Reason: r.Reason, Used: r.Used}}
	}
	return out, err
}
