package wire

import (
	"encoding/json"
	"math"
	"time"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/service/plans"
	kept "yamato/internal/store/plans"
)

// Plan tells of a plan.
func Plan(p plans.Standing) contract.Plan {
	return contract.Plan{Name: p.Name, About: p.About, App: p.App, Text: p.Text, Revision: p.Revision, Paused: p.Paused,
		SavedBy: p.SavedBy, SavedAt: p.SavedAt, Starts: p.Starts, Next: p.Next, Late: Each(p.Late, PlanStart),
		Broken: p.Broken, Lacks: p.Lacks}
}

// PlanStart tells of a start of a plan.
func PlanStart(s kept.Start) contract.PlanStart {
	out := contract.PlanStart{Id: s.ID, Reason: s.Reason, Due: s.Due, State: string(s.State), Told: s.Told, AskedBy: s.AskedBy,
		Changed: []string{}, Run: s.Run, RunState: s.RunState, Verdict: s.Verdict}
	var ch plans.Changes
	if json.Unmarshal(s.Changed.V, &ch) == nil { // what cannot be read says nothing
		out.Changed = ch.Words()
	}
	return out
}

// PlanRevision tells of a version of a plan.
func PlanRevision(r kept.Revision) contract.PlanRevision {
	return contract.PlanRevision{Revision: r.Revision, Text: r.Text, SavedBy: r.SavedBy, SavedAt: r.SavedAt}
}

// Minutes gives milliseconds as minutes, to a hundredth.
func Minutes(ms int64) float64 {
	return math.Round(float64(ms)/float64(time.Minute.Milliseconds())*100) / 100
}

// maxCombinations bounds those of a trial that are told one by one.
const maxCombinations = 5000

// PlanTrial tells what a plan comes to.
func PlanTrial(t plans.Trial) contract.PlanTrial {
	sel := t.Selection
	out := contract.PlanTrial{Plan: t.Plan.Name, App: t.Build.App, Build: t.Build.Number,
		VersionName: t.Build.VersionName,
		VersionCode: t.Build.VersionCode, Starts: append([]string{}, t.Starts...), Next: append([]time.Time{},
			t.Next...),
		Changed: append([]string{}, t.Changed...), Factors: []contract.PlanFactor{},
		Combinations: []contract.PlanCombination{},
		Chosen:       len(sel.Picked), All: sel.All, LeftOut: LeftOut(t.LeftOut, remedy.Person), Forbidden: Each(sel.Forbidden, neverMet),
		Coverage: Each(sel.Coverage, Coverage),
		Shares:   []contract.PlanShare{}, Legs: len(t.New.Legs), Cases: t.Cases, Guessed: t.Guessed,
		Minutes:  Minutes(sel.Cost),
		Findings: append([]string{}, t.Findings...)}
	for _, f := range sel.Factors {
		out.Factors = append(out.Factors, contract.PlanFactor{Name: f.Name, Levels: append([]string{}, f.Levels...)})
	}
	for i, p := range sel.Picked[:min(len(sel.Picked), maxCombinations)] {
		leg, _ := sel.LegOf(p, t.Groups)
		out.Combinations = append(out.Combinations, contract.PlanCombination{Combination: Combination(leg.Combination),
			Levels: p.Levels, Devices: len(t.Groups[p.Group].Members), Minutes: Minutes(t.Minutes[i]),
			Legs: t.Shares[i], Must: p.Must})
	}
	for _, sh := range t.Suites {
		out.Shares = append(out.Shares, contract.PlanShare{Suite: sh.Suite, Cases: sh.Cases, Minutes: Minutes(sh.MS)})
	}
	return out
}

func levels(list []matrix.NamedLevel) []contract.Level {
	out := []contract.Level{}
	for _, l := range list {
		out = append(out, contract.Level{Factor: l.Factor, Value: l.Value,
			Words: base.Ptr(fleet.FactorNamed(l.Factor).Read(l.Value))})
	}
	return out
}

func neverMet(r matrix.Ruled) contract.NeverMet {
	return contract.NeverMet{Levels: levels(r.Levels), Why: append([]string{}, r.Why...)}
}

// Coverage tells how much is covered.
func Coverage(c matrix.Coverage) contract.Coverage {
	out := contract.Coverage{Strength: c.Strength, Possible: c.Possible, Forbidden: c.Forbidden, Covered: c.Covered,
		Missing: [][]contract.Level{}, Meetings: []contract.Meeting{}}
	for _, m := range c.Missing {
		out.Missing = append(out.Missing, levels(m))
	}
	for _, m := range c.Meetings {
		out.Meetings = append(out.Meetings, contract.Meeting{Factors: m.Factors, Possible: m.Possible,
			Forbidden: m.Forbidden,
			Covered:   m.Covered})
	}
	return out
}

// CalendarEntry tells of something in the calendar.
func CalendarEntry(e plans.Entry) contract.CalendarEntry {
	return contract.CalendarEntry{Plan: e.Plan, At: e.At, Coming: e.Coming, State: string(e.State), Reason: e.Reason,
		Told:  e.Told,
		Sites: append([]string{}, e.Sites...), Run: e.Run, RunState: e.RunState, Verdict: e.Verdict,
		StartedAt:  e.StartedAt,
		FinishedAt: e.FinishedAt, MovedFrom: e.MovedFrom}
}
