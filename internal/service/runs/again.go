package runs

import (
	"context"
	"fmt"
	"slices"

	"yamato/internal/contract"
	"yamato/internal/service/base"
	"yamato/internal/service/wire"
	"yamato/internal/store"
)

// Preview tells what a run would cover, and what it would leave out and why.
func (s *Part) Preview(ctx context.Context, c base.Caller, in contract.NewRun) (contract.RunPreview, error) {
	out := contract.RunPreview{Combinations: []contract.PreviewCombination{}, LeftOut: []contract.LeftOut{}}
	build, err := s.builds.BuildNamed(ctx, c, base.Deref(in.App), in.Build)
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
	out.Legs, out.LeftOut = len(m.Legs)*len(chosen), wire.LeftOut(m.LeftOut)
	for _, l := range m.Legs {
		one := contract.PreviewCombination{Combination: wire.Combination(l.Combination),
			Package: build.Packages[l.Package].FileName}
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

// Again starts a run of what a run ran: all of it, what did not pass, or one case
// in one combination. The suites are those of that run, word for word.
func (s *Part) Again(ctx context.Context, c base.Caller, number int64, in contract.Again,
	key string) (contract.Run, error) {
	d, err := s.Detail(ctx, c, number, InBrief)
	if err != nil {
		return contract.Run{}, err
	}
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return contract.Run{}, err
	}
	build, err := s.Store.Build(ctx, c.ProjectID, r.BuildID)
	if err != nil {
		return contract.Run{}, err
	}
	if build.RemovedAt != nil {
		return contract.Run{}, base.Invalid(fmt.Sprintf("retention has removed the packages of %s %s", build.App,
			build.VersionName), "push them again, and then run it again")
	}
	legs, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return contract.Run{}, err
	}
	n := store.NewRun{IdempotencyKey: key, Run: store.Run{ProjectID: c.ProjectID, BuildID: r.BuildID, Purpose: r.Purpose,
		RepeatFailed: r.RepeatFailed, AfterError: r.AfterError,
		Language: r.Language, RealTime: base.Deref(in.RealTime), AskedBy: c.Name, Leave: r.Leave, Lineup: r.Lineup,
		Seed: newSeed()}}
	if base.Deref(in.SameSeed) {
		n.Run.Seed, n.KnownOf = r.Seed, r.ID
	}
	for i, l := range d.Legs {
		var cases []int
		for _, x := range l.Cases {
			if chosen, err := wantedAgain(in, l, x); err != nil {
				return contract.Run{}, err
			} else if chosen {
				cases = append(cases, x.Index)
			}
		}
		if len(cases) > 0 {
			n.Legs = append(n.Legs, store.NewLeg{RevisionID: legs[i].RevisionID, Digest: legs[i].Digest,
				Combination: legs[i].Combination(), Device: legs[i].DeviceID, Never: legs[i].Never, Cases: cases})
		}
	}
	if len(n.Legs) == 0 {
		return contract.Run{}, base.Invalid(fmt.Sprintf("there is nothing of run %d to run again", number),
			"choose which: all, failed, or one by leg and case_index")
	}
	return s.add(ctx, c, n, []any{number, in})
}

func wantedAgain(in contract.Again, l contract.Leg, x contract.Crossing) (bool, error) {
	switch in.Which {
	case "all":
		return true, nil
	case "failed":
		return x.Flaky || x.Verdict == "fail" || x.Verdict == "error" || x.Verdict == "none", nil
	case "one":
		return base.Deref(in.Leg) == l.Id && in.CaseIndex != nil && *in.CaseIndex == x.Index, nil
	}
	return false, base.Invalid(fmt.Sprintf("%q is nothing that can be run again", in.Which),
		"choose which: all, failed or one")
}
