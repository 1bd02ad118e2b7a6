package runs

import (
	"context"
	"fmt"
	"slices"

	"yamato/internal/core/evidence"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/remedy"
	"yamato/internal/core/verdict"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Preview is what a run would cover.
type Preview struct {
	Combinations []Previewed
	LeftOut      []matrix.LeftOut
	Legs, Cases  int
}

// Previewed is a combination that a run would cover.
type Previewed struct {
	fleet.Combination
	Package       string
	Devices, Idle int
}

// Preview tells what a run would cover, and what it would leave out and why.
func (s *Part) Preview(ctx context.Context, c base.Caller, in Order) (Preview, error) {
	out := Preview{}
	build, err := s.builds.BuildNamed(ctx, c, in.App, in.Build)
	if err != nil {
		return out, err
	}
	levels, err := levelsOf(in.Language)
	if err != nil {
		return out, err
	}
	chosen, err := s.chooseCases(ctx, c, in)
	if err != nil {
		return out, err
	}
	m, err := s.combine(ctx, c, build, in, levels)
	if err != nil {
		return out, err
	}
	devices, err := s.Store.Devices(ctx, c.ProjectID)
	if err != nil {
		return out, err
	}
	for _, suite := range chosen {
		out.Cases += len(suite.cases)
	}
	out.Legs, out.LeftOut = len(m.Legs)*len(chosen), m.LeftOut
	for _, l := range m.Legs {
		one := Previewed{Combination: l.Combination, Package: build.Packages[l.Package].FileName}
		for _, d := range devices {
			if l.Combination.Matches(d.Facts.V) && (l.Device == 0 || l.Device == d.ID) && d.State != "sidelined" &&
				!slices.Contains(l.Never, d.ID) {
				one.Devices++
				if d.State == "idle" {
					one.Idle++
				}
			}
		}
		out.Combinations = append(out.Combinations, one)
	}
	return out, nil
}

// HowKept says how rules of what is kept are written.
const HowKept = "`--keep \"video always\"`, with `unless passed` or `never` in place of always"

// Repeat is what of a run is to run again: all, failed, or one by its leg and case.
type Repeat struct {
	Which    string
	Leg      int64
	Case     *int
	SameSeed bool
	RealTime bool
	Keep     evidence.Rules // of the new run; that of the old one ended with it
}

// Again starts a run of what a run ran: all of it, what did not pass, or one case
// in one combination. The suites are those of that run, word for word.
func (s *Part) Again(ctx context.Context, c base.Caller, number int64, in Repeat,
	key string) (store.Run, error) {
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return store.Run{}, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
	}
	build, err := s.Store.Build(ctx, c.ProjectID, r.BuildID)
	if err != nil {
		return store.Run{}, err
	}
	if build.RemovedAt != nil {
		return store.Run{}, base.Invalid(fmt.Sprintf("retention has removed the packages of %s %s", build.App,
			build.VersionName), "push them again, and then run it again")
	}
	legs, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return store.Run{}, err
	}
	n := store.NewRun{IdempotencyKey: key, Run: anew(r, c.Name, in.RealTime)}
	if err := in.Keep.Check(); err != nil {
		return store.Run{}, base.Invalid(err.Error(), HowKept)
	}
	n.Run.Keep.V = evidence.Keeping{Run: in.Keep, Plan: r.Keep.V.Plan}
	if in.SameSeed { // that of anew is another
		n.Run.Seed, n.KnownOf = r.Seed, r.ID
	}
	outcomes, err := s.outcomes(ctx, r.ID, legs)
	if err != nil {
		return store.Run{}, err
	}
	for _, l := range legs {
		var cases []int
		for _, x := range l.Cases {
			if chosen, err := in.wants(l.ID, x, outcomes[l.ID].Crossing(x)); err != nil {
				return store.Run{}, err
			} else if chosen {
				cases = append(cases, x)
			}
		}
		if len(cases) > 0 {
			n.Legs = append(n.Legs, store.NewLeg{RevisionID: l.RevisionID, Digest: l.Digest,
				Combination: l.Combination(),
				Device:      l.DeviceID, Never: l.Never, Cases: cases})
		}
	}
	if len(n.Legs) == 0 {
		return store.Run{}, base.Invalid(fmt.Sprintf("there is nothing of run %d to run again", number),
			"choose which: all, failed, or one by leg and case_index")
	}
	return s.add(ctx, c, n, []any{number, in})
}

// anew is a run as it was asked for, by whom and in what pace it is asked for now: all that bounds it, orders it and
// varies it goes along, and no plan has asked for it.
func anew(r store.Run, by string, realTime bool) store.Asked {
	asked := r.Asked
	asked.Seed, asked.AskedBy, asked.RealTime = newSeed(), by, realTime
	asked.PlanID, asked.PlanRevision, asked.Changed.V = nil, nil, nil
	return asked
}

// outcomes gives how the cases of a run's legs went.
func (s *Part) outcomes(ctx context.Context, run int64, legs []store.Leg) (map[int64]verdict.Outcome, error) {
	out := map[int64]verdict.Outcome{}
	for _, l := range legs {
		out[l.ID] = verdict.Outcome{State: l.State, Results: map[int][]verdict.Verdict{}}
	}
	results, err := s.Store.BriefResults(ctx, run)
	for _, r := range results {
		of := out[r.LegID].Results
		of[r.Case] = append(of[r.Case], verdict.Verdict(r.Verdict))
	}
	return out, err
}

// wants tells whether a case in a combination is to run again, which went as x tells.
func (in Repeat) wants(leg int64, index int, x verdict.Crossing) (bool, error) {
	switch in.Which {
	case "all":
		return true, nil
	case "failed":
		return x.Flaky || x.Verdict == verdict.Fail || x.Verdict == verdict.Error || x.Verdict == verdict.None, nil
	case "one":
		return in.Leg == leg && in.Case != nil && *in.Case == index, nil
	}
	return false, base.Invalid(fmt.Sprintf("%q is nothing that can be run again", in.Which),
		"choose which: all, failed or one")
}
