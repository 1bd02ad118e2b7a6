package views

import (
	"cmp"
	"context"
	"slices"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/verdict"
	"yamato/internal/service/base"
)

// How many are told of what there may be many of.
const (
	maxSlowest = 10
	maxTallied = 2000
)

// Summary gives a run in brief: verdicts by device and by case, what took longest, what is flaky,
// and crashes.
func (s *Part) Summary(ctx context.Context, c base.Caller, number int64) (contract.Summary, error) {
	d, err := s.Detail(ctx, c, number, InBrief)
	if err != nil {
		return contract.Summary{}, err
	}
	crashes, err := s.Store.Crashes(ctx, c.ProjectID, "", number, 0, 0, 50)
	if err != nil {
		return contract.Summary{}, err
	}
	out := Brief(d)
	out.Crashes = wire.Crashes(crashes)
	return out, nil
}

// Brief sums a run up.
func Brief(d contract.RunDetail) contract.Summary {
	out := contract.Summary{Run: d.Run, Crashes: []contract.Crash{}, Slowest: []contract.Lasted{},
		Flaky: []contract.Tally{}}
	devices, cases := tallies{at: map[string]int{}}, tallies{at: map[string]int{}}
	for _, l := range d.Legs {
		label := base.Deref(l.Combination.Label)
		for _, x := range l.Cases {
			devices.add("", label, x)
			cases.add(l.Suite, x.Name, x)
			longest := contract.Lasted{Suite: l.Suite, Case: x.Name, CaseIndex: x.Index, Leg: l.Id, Combination: label}
			for _, r := range x.Results {
				if r.TookMs > longest.TookMs {
					longest.Attempt, longest.TookMs = r.Attempt, r.TookMs
				}
			}
			if longest.TookMs > 0 {
				out.Slowest = append(out.Slowest, longest)
			}
		}
		slices.SortStableFunc(out.Slowest, func(a, b contract.Lasted) int { return cmp.Compare(b.TookMs, a.TookMs) })
		out.Slowest = out.Slowest[:min(len(out.Slowest), maxSlowest)]
	}
	out.Devices, out.Cases = devices.worstFirst(), cases.worstFirst()
	for _, t := range out.Cases {
		if t.Flaky > 0 {
			out.Flaky = append(out.Flaky, t)
		}
	}
	slices.SortStableFunc(out.Flaky, func(a, b contract.Tally) int { return b.Flaky - a.Flaky })
	out.Flaky = out.Flaky[:min(len(out.Flaky), maxSlowest)]
	return out
}

type tallies struct {
	list []contract.Tally
	at   map[string]int
}

func (t *tallies) add(suite, name string, x contract.Crossing) {
	key := suite + "\x00" + name
	i, ok := t.at[key]
	if !ok {
		i = len(t.list)
		t.at[key] = i
		t.list = append(t.list, contract.Tally{Name: name, Suite: base.Stated(suite)})
	}
	one := &t.list[i]
	if x.Flaky {
		one.Flaky++
	}
	switch verdict.Verdict(x.Verdict) {
	case verdict.Pass:
		one.Pass++
	case verdict.Fail:
		one.Fail++
	case verdict.Error:
		one.Error++
	case verdict.Skip:
		one.Skip++
	default:
		one.None++
	}
}

func (t *tallies) worstFirst() []contract.Tally {
	out := append([]contract.Tally{}, t.list...)
	slices.SortStableFunc(out, func(a, b contract.Tally) int {
		return cmp.Or(b.Fail-a.Fail, b.Error-a.Error, b.Flaky-a.Flaky)
	})
	return out[:min(len(out), maxTallied)]
}
