package views

import (
	"cmp"
	"context"
	"net/url"
	"slices"
	"strings"
	"time"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/remedy"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Search finds runs, builds, suites, cases and devices.
func (s *Part) Search(ctx context.Context, c base.Caller, q string) ([]contract.Found, error) {
	q = strings.TrimSpace(q)
	out := []contract.Found{}
	if q == "" || len(q) > 200 {
		return out, nil
	}
	list, err := s.Store.Search(ctx, c.ProjectID, q, 6)
	for _, f := range list {
		out = append(out, contract.Found{Sort: f.Sort, Title: f.Title, Detail: f.Detail, Path: pathOf(f)})
	}
	return out, err
}

// pathOf gives the address of the page of what was found.
func pathOf(f store.Found) string {
	switch f.Sort {
	case "run":
		return "/runs/" + f.Key
	case "build":
		number, app, _ := strings.Cut(f.Key, "/")
		return "/builds/" + number + "?app=" + url.QueryEscape(app)
	case "case":
		suite, name, _ := strings.Cut(f.Key, "\x1f")
		return "/suites/" + url.PathEscape(suite) + "?case=" + url.QueryEscape(name)
	case "suite":
		return "/suites/" + url.PathEscape(f.Key)
	}
	return "/fleet/" + url.PathEscape(f.Key)
}

// waitsStill is 1 for a run that has not begun.
func waitsStill(r store.Run) int {
	if r.StartedAt == nil {
		return 1
	}
	return 0
}

// mostRunning is how many runs under way Now tells one by one.
const mostRunning = 40

// Now tells what runs, what ended and what failed last, and what waits.
func (s *Part) Now(ctx context.Context, c base.Caller) (contract.Now, error) {
	out := contract.Now{Running: []contract.Run{}, Finished: []contract.Run{}, Failures: []contract.LastFailure{},
		Waiting: []contract.Waiting{}}
	runs, err := s.Store.LateRuns(ctx, c.ProjectID, nil, 12)
	if err != nil {
		return out, err
	}
	// Those that run before those that wait, which may be hundreds.
	slices.SortStableFunc(runs, func(a, b store.Run) int { return cmp.Compare(waitsStill(a), waitsStill(b)) })
	for _, r := range runs {
		if r.FinishedAt == nil && len(out.Running) >= mostRunning {
			continue
		}
		if r.FinishedAt == nil {
			out.Running = append(out.Running, wire.Run(r))
		} else if len(out.Finished) < 8 {
			out.Finished = append(out.Finished, wire.Run(r))
		}
	}
	if out.UnderWay, out.LegsWaiting, err = s.Store.UnderWay(ctx, c.ProjectID); err != nil {
		return out, err
	}
	failures, err := s.Store.LastFailures(ctx, c.ProjectID, 12)
	if err != nil {
		return out, err
	}
	for _, f := range failures {
		out.Failures = append(out.Failures, contract.LastFailure{Run: f.Run, App: f.App, VersionName: f.VersionName,
			Suite: f.Suite, Case: f.Case, Leg: f.Leg, CaseIndex: f.Index,
			Verdict: f.Verdict, Sentence: f.Sentence, Combinations: f.Combinations, At: f.At})
	}
	waiting, err := s.Store.Queue(ctx, c.ProjectID, 100)
	if err != nil || len(waiting) == 0 {
		return out, err
	}
	var models []string
	for _, w := range waiting {
		models = append(models, w.Model)
	}
	devices, err := s.Candidates(ctx, c, models...)
	now := time.Now()
	for _, w := range waiting {
		combination := fleet.Combination{Class: fleet.Class{Kind: w.Kind, Model: w.Model, Platform: w.Platform,
			OS: w.OS},
			Levels: w.Levels.V}
		out.Waiting = append(out.Waiting, contract.Waiting{Run: w.Run, Combination: wire.Combination(combination),
			Legs: w.Legs, WaitsFor: fleet.WaitsFor(combination.Class, without(devices, w.Never), w.AskedBy, now)})
	}
	return out, err
}

// historyRuns is how many runs the past of a case goes back.
const historyRuns = 20

// SuiteDetail gives one suite with its text and how its cases went.
func (s *Part) SuiteDetail(ctx context.Context, c base.Caller, name string) (contract.SuiteDetail, error) {
	out := contract.SuiteDetail{Findings: []contract.Finding{}, Last: []contract.CaseLast{}}
	suite, err := s.Store.SuiteNamed(ctx, c.ProjectID, name)
	if err != nil {
		return out, base.NotThere(err, remedy.Say("%s lists the suites; %s hands them in", remedy.SuiteList, remedy.SuitePush),
			"there is no suite %q", name)
	}
	out.Suite = wire.Suite(suite)
	whole, err := s.builds.SuiteText(ctx, suite)
	if err != nil {
		return out, err
	}
	out.Text, out.Files = whole.Text, wire.SuiteFiles(whole)
	read, findings := script.ReadWith(whole.Text, whole.Beside())
	unmatched, known, err := s.builds.Unmatched(ctx, c, read)
	if err != nil {
		return out, err
	}
	if known > 0 { // else it has not been run, and there is nothing to tell by
		findings = append(findings, unmatched...)
	}
	out.Findings = wire.Findings(findings)
	history, err := s.Store.CaseHistory(ctx, c.ProjectID, 0, suite.Name, 0, historyRuns)
	if err != nil {
		return out, err
	}
	past := foldHistory(history)
	for _, one := range suite.Cases.V {
		last := contract.CaseLast{Name: one.Name, Runs: []contract.CaseInRun{}}
		for _, h := range past[one.Name] {
			last.Runs = append(last.Runs, contract.CaseInRun{Run: h.Run, Build: h.Build, VersionName: h.VersionName,
				Verdict: string(h.fold.Verdict), Flaky: h.fold.Flaky, At: h.At})
		}
		if i := slices.IndexFunc(read.Cases, func(k *script.Case) bool { return k.Name == one.Name }); i >= 0 {
			last.Line = base.Ptr(read.Cases[i].Pos.Line)
		}
		out.Last = append(out.Last, last)
	}
	return out, nil
}

// past is how a case went in one run, over all its combinations.
type past struct {
	store.CaseInRun
	fold verdict.Crossing
}

// foldHistory folds results into one verdict for each case and run, newest run first.
func foldHistory(list []store.CaseInRun) map[string][]past {
	type key struct {
		run int64
		of  string
	}
	legs := map[key]map[int64][]verdict.Verdict{}
	out := map[string][]past{}
	for _, r := range list {
		k := key{r.Run, r.Case}
		if legs[k] == nil {
			legs[k] = map[int64][]verdict.Verdict{}
			out[r.Case] = append(out[r.Case], past{CaseInRun: r})
		}
		legs[k][r.Leg] = append(legs[k][r.Leg], verdict.Verdict(r.Verdict))
	}
	for name, runs := range out {
		for i, r := range runs {
			var folded []verdict.Verdict
			for _, results := range legs[key{r.Run, name}] {
				x := verdict.OfCrossing(results)
				folded = append(folded, x.Verdict)
				out[name][i].fold.Flaky = out[name][i].fold.Flaky || x.Flaky
			}
			out[name][i].fold.Verdict = verdict.Fold(folded)
		}
	}
	return out
}
