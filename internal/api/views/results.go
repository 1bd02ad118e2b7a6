package views

import (
	"context"
	"maps"
	"slices"
	"time"

	"yamato/internal/api/wire"
	"yamato/internal/blob"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Detail gives one run with all that is known of it, or less.
func (s *Part) Detail(ctx context.Context, c base.Caller, number int64, depth Depth) (contract.RunDetail, error) {
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return contract.RunDetail{}, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
	}
	legs, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	read := map[Depth]func(context.Context, int64) ([]store.Result, error){Whole: s.Store.Results,
		WithFailures: s.Store.Failures, InBrief: s.Store.BriefResults}
	results, err := read[depth](ctx, r.ID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	attempts, err := s.Store.Attempts(ctx, r.ID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	left, err := s.Store.LeftOut(ctx, r.ID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	out := contract.RunDetail{Run: wire.Run(r), Legs: []contract.Leg{}, LeftOut: []contract.LeftOut{}}
	at := map[int64]*contract.Leg{}
	for _, l := range legs {
		out.Legs = append(out.Legs, wire.Leg(l))
	}
	for i := range out.Legs {
		at[out.Legs[i].Id] = &out.Legs[i]
	}
	for _, a := range attempts {
		at[a.LegID].Attempts = append(at[a.LegID].Attempts, wire.Attempt(a))
	}
	for _, res := range results {
		if err := wire.AddResult(at[res.LegID], res); err != nil {
			return contract.RunDetail{}, err
		}
	}
	for _, l := range out.Legs {
		wire.FoldLeg(&l)
	}
	if err := s.settleDoubts(ctx, c, r.AppID, out.Legs); err != nil {
		return contract.RunDetail{}, err
	}
	for _, l := range left {
		out.LeftOut = append(out.LeftOut, contract.LeftOut{Combination: wire.Combination(l.Combination),
			Reasons: wire.Reasons(l.Reasons, remedy.Person)})
	}
	b, err := s.Store.Build(ctx, c.ProjectID, r.BuildID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	if len(b.Labels) > 0 {
		out.Run.Labels = &b.Labels
	}
	return out, s.explainWaiting(ctx, c, &out, legs)
}

// settleDoubts takes back what steps say of locators that nothing had ever matched when
// their run began, where something has since.
func (s *Part) settleDoubts(ctx context.Context, c base.Caller, app int64, legs []contract.Leg) error {
	doubted := map[string][]*contract.Step{}
	for _, l := range legs {
		for _, x := range l.Cases {
			for _, r := range x.Results {
				for i := range base.Deref(r.Steps) {
					if step := &(*r.Steps)[i]; step.Absent != nil {
						doubted[*step.Absent] = append(doubted[*step.Absent], step)
					}
				}
			}
		}
	}
	if len(doubted) == 0 {
		return nil
	}
	known, err := s.Store.KnownLocators(ctx, c.ProjectID, app, slices.Collect(maps.Keys(doubted)))
	for _, l := range known {
		for _, step := range doubted[l] {
			step.Note, step.Absent = nil, nil
		}
	}
	return err
}

// Depth is how much is told of a run's results.
type Depth int

// Whole tells all; WithFailures leaves the steps out; InBrief the failures too.
const (
	Whole Depth = iota
	WithFailures
	InBrief
)

// explainWaiting says of each waiting leg what it waits for.
func (s *Part) explainWaiting(ctx context.Context, c base.Caller, d *contract.RunDetail, legs []store.Leg) error {
	var models []string
	for _, l := range legs {
		if l.State == "waiting" && !slices.Contains(models, l.Model) {
			models = append(models, l.Model)
		}
	}
	if len(models) == 0 {
		return nil
	}
	devices, err := s.Candidates(ctx, c, models...)
	if err != nil {
		return err
	}
	now := time.Now()
	for i, l := range legs {
		if l.State == "waiting" {
			d.Legs[i].WaitsFor = base.Ptr(fleet.WaitsFor(l.Combination().Class, within(devices, l), d.Run.AskedBy, now))
		}
	}
	return nil
}

// within gives how the devices stand that a leg may be given.
func within(devices []matrix.Candidate, l store.Leg) []fleet.Standing {
	if l.DeviceID == nil {
		return without(devices, l.Never)
	}
	for _, d := range devices {
		if d.ID == *l.DeviceID {
			return []fleet.Standing{d.Standing}
		}
	}
	return nil
}

// without gives how the devices stand, but for some.
func without(devices []matrix.Candidate, never []int64) []fleet.Standing {
	out := make([]fleet.Standing, 0, len(devices))
	for _, d := range devices {
		if !slices.Contains(never, d.ID) {
			out = append(out, d.Standing)
		}
	}
	return out
}

// Evidence lists all that is kept of a run.
func (s *Part) Evidence(ctx context.Context, c base.Caller, number int64) ([]contract.Evidence, error) {
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return nil, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
	}
	list, err := s.Store.EvidenceOf(ctx, r.ID)
	out := []contract.Evidence{}
	for _, e := range list {
		out = append(out, wire.Evidence(e))
	}
	return out, err
}

// OpenEvidence opens one piece of evidence: whoever may see the run may see it.
func (s *Part) OpenEvidence(ctx context.Context, c base.Caller, number,
	id int64) (contract.Evidence, blob.File, error) {
	e, err := s.Store.EvidenceNumbered(ctx, c.ProjectID, number, id)
	if err != nil {
		return contract.Evidence{}, nil, base.NotThere(err, "list its evidence", "run %d has no evidence %d", number,
			id)
	}
	if e.Gone != "" {
		return contract.Evidence{}, nil, base.Refuse(base.LetGone, "its content is gone: "+e.Gone,
			remedy.Say("%s keeps what is to stay; %s shows the rule", remedy.RunPin, remedy.RunRetention))
	}
	f, err := s.Blobs.Open(ctx, e.Digest)
	return wire.Evidence(e), f, err
}
