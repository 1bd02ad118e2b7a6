package service

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/script"
	"yamato/internal/core/verdict"
	"yamato/internal/store"
)

// Search finds runs, builds, suites, cases and devices.
func (s *Service) Search(ctx context.Context, c Caller, q string) ([]contract.Found, error) {
	q = strings.TrimSpace(q)
	out := []contract.Found{}
	if q == "" || len(q) > 200 {
		return out, nil
	}
	list, err := s.store.Search(ctx, c.ProjectID, q, 6)
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

// Now tells what runs, what ended and what failed last, and what waits.
func (s *Service) Now(ctx context.Context, c Caller) (contract.Now, error) {
	out := contract.Now{Running: []contract.Run{}, Finished: []contract.Run{}, Failures: []contract.LastFailure{}, Waiting: []contract.Waiting{}}
	runs, err := s.store.LateRuns(ctx, c.ProjectID, nil, 12)
	if err != nil {
		return out, err
	}
	for _, r := range runs {
		if r.FinishedAt == nil {
			out.Running = append(out.Running, runOut(r))
		} else if len(out.Finished) < 8 {
			out.Finished = append(out.Finished, runOut(r))
		}
	}
	failures, err := s.store.LastFailures(ctx, c.ProjectID, 12)
	if err != nil {
		return out, err
	}
	for _, f := range failures {
		out.Failures = append(out.Failures, contract.LastFailure{Run: f.Run, App: f.App, VersionName: f.VersionName, Suite: f.Suite, Case: f.Case, Leg: f.Leg, CaseIndex: f.Index,
			Verdict: f.Verdict, Sentence: f.Sentence, Combinations: f.Combinations, At: f.At})
	}
	waiting, err := s.store.Queue(ctx, c.ProjectID, 100)
	if err != nil || len(waiting) == 0 {
		return out, err
	}
	var models []string
	for _, w := range waiting {
		models = append(models, w.Model)
	}
	devices, err := s.candidates(ctx, c, models...)
	now := time.Now()
	for _, w := range waiting {
		combination := fleet.Combination{Class: fleet.Class{Kind: w.Kind, Model: w.Model, Platform: w.Platform, OS: w.OS}, Levels: w.Levels.V}
		out.Waiting = append(out.Waiting, contract.Waiting{Run: w.Run, Combination: combinationOut(combination), Legs: w.Legs, WaitsFor: fleet.WaitsFor(combination.Class, without(devices, w.Never), w.AskedBy, now)})
	}
	return out, err
}

// historyRuns is how many runs the past of a case goes back.
const historyRuns = 20

// SuiteDetail gives one suite with its text and how its cases went.
func (s *Service) SuiteDetail(ctx context.Context, c Caller, name string) (contract.SuiteDetail, error) {
	out := contract.SuiteDetail{Findings: []contract.Finding{}, Last: []contract.CaseLast{}}
	suite, err := s.store.SuiteNamed(ctx, c.ProjectID, name)
	if err != nil {
		return out, notThere(err, "`yamato suite ls` lists the suites; `yamato suite push DIR` hands them in", "there is no suite %q", name)
	}
	out.Suite = suiteOut(suite)
	f, err := s.blobs.Open(ctx, suite.Digest)
	if err != nil {
		return out, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, 2<<20))
	if err != nil {
		return out, err
	}
	out.Text = string(text)
	read, findings := script.Read(out.Text)
	unmatched, known, err := s.unmatched(ctx, c, 0, read, out.Text)
	if err != nil {
		return out, err
	}
	if known > 0 { // else it has not been run, and there is nothing to tell by
		findings = append(findings, unmatched...)
	}
	out.Findings = findingsOut(findings)
	history, err := s.store.CaseHistory(ctx, c.ProjectID, 0, suite.Name, 0, historyRuns)
	if err != nil {
		return out, err
	}
	past := foldHistory(history)
	for _, one := range suite.Cases.V {
		last := contract.CaseLast{Name: one.Name, Runs: []contract.CaseInRun{}}
		for _, h := range past[one.Name] {
			last.Runs = append(last.Runs, contract.CaseInRun{Run: h.Run, Build: h.Build, VersionName: h.VersionName, Verdict: string(h.fold.Verdict), Flaky: h.fold.Flaky, At: h.At})
		}
		if i := slices.IndexFunc(read.Cases, func(k *script.Case) bool { return k.Name == one.Name }); i >= 0 {
			last.Line = ptr(read.Cases[i].Pos.Line)
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

// historyStints is how many of its last leases a device's page shows.
const historyStints = 25

// DeviceDetail gives one device, its host, and what it did last.
func (s *Service) DeviceDetail(ctx context.Context, c Caller, name string) (contract.DeviceDetail, error) {
	out := contract.DeviceDetail{History: []contract.Stint{}, Errands: []contract.Errand{}}
	d, err := s.store.DeviceNamed(ctx, c.ProjectID, name)
	if err != nil {
		return out, notThere(err, "`yamato device ls` lists the devices", "there is no device %q", name)
	}
	out.Device = deviceOut(d)
	host, err := s.store.HostOf(ctx, d.HostID)
	if err != nil {
		return out, err
	}
	out.Host = contract.HostInfo{Name: host.Name, Program: host.Program, Linked: host.Linked, SeenAt: host.SeenAt}
	stints, err := s.store.Stints(ctx, d.LastLease, historyStints)
	for _, t := range stints {
		one := contract.Stint{Run: t.Run, Purpose: t.Purpose, App: t.App, VersionName: t.VersionName, Suite: t.Suite, Leg: t.Leg, Attempt: t.Attempt, Began: t.Began, Ended: t.Ended,
			Passed: t.Passed, Failed: t.Failed, Errors: t.Errors, Skipped: t.Skipped}
		if t.Trouble != "" {
			one.Trouble = ptr(t.Trouble)
		}
		if t.EndedBy == "device" {
			out.Troubles++
		}
		out.History = append(out.History, one)
	}
	if err != nil {
		return out, err
	}
	errands, err := s.store.ErrandsOf(ctx, c.ProjectID, name, 10)
	for _, e := range errands {
		out.Errands = append(out.Errands, errandOut(e))
	}
	return out, err
}

// Preview tells what a run would cover, and what it would leave out and why.
func (s *Service) Preview(ctx context.Context, c Caller, in contract.NewRun) (contract.RunPreview, error) {
	out := contract.RunPreview{Combinations: []contract.PreviewCombination{}, LeftOut: []contract.LeftOut{}}
	build, err := s.buildNamed(ctx, c, deref(in.App), in.Build)
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
	devices, err := s.store.Devices(ctx, c.ProjectID)
	if err != nil {
		return out, err
	}
	for _, suite := range chosen {
		out.Cases += len(suite.cases)
	}
	out.Legs, out.LeftOut = len(m.Legs)*len(chosen), leftOut(m.LeftOut)
	for _, l := range m.Legs {
		one := contract.PreviewCombination{Combination: combinationOut(l.Combination), Package: build.Packages[l.Package].FileName}
		for _, d := range devices {
			if l.Combination.Matches(d.Facts.V) && (l.Device == 0 || l.Device == d.ID) && d.State != "sidelined" && !slices.Contains(l.Never, d.ID) {
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
func (s *Service) Again(ctx context.Context, c Caller, number int64, in contract.Again, key string) (contract.Run, error) {
	d, err := s.Detail(ctx, c, number, InBrief)
	if err != nil {
		return contract.Run{}, err
	}
	r, err := s.store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return contract.Run{}, err
	}
	build, err := s.store.Build(ctx, c.ProjectID, r.BuildID)
	if err != nil {
		return contract.Run{}, err
	}
	if build.RemovedAt != nil {
		return contract.Run{}, Invalid(fmt.Sprintf("retention has removed the packages of %s %s", build.App, build.VersionName), "push them again, and then run it again")
	}
	legs, err := s.store.Legs(ctx, r.ID)
	if err != nil {
		return contract.Run{}, err
	}
	n := store.NewRun{IdempotencyKey: key, Run: store.Run{ProjectID: c.ProjectID, BuildID: r.BuildID, Purpose: r.Purpose, RepeatFailed: r.RepeatFailed, AfterError: r.AfterError,
		Language: r.Language, RealTime: deref(in.RealTime), AskedBy: c.Name, Leave: r.Leave, Lineup: r.Lineup, Seed: newSeed()}}
	if deref(in.SameSeed) {
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
			n.Legs = append(n.Legs, store.NewLeg{RevisionID: legs[i].RevisionID, Digest: legs[i].Digest, Combination: legs[i].Combination(), Device: legs[i].DeviceID, Never: legs[i].Never, Cases: cases})
		}
	}
	if len(n.Legs) == 0 {
		return contract.Run{}, Invalid(fmt.Sprintf("there is nothing of run %d to run again", number), "choose which: all, failed, or one by leg and case_index")
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
		return deref(in.Leg) == l.Id && in.CaseIndex != nil && *in.CaseIndex == x.Index, nil
	}
	return false, Invalid(fmt.Sprintf("%q is nothing that can be run again", in.Which), "choose which: all, failed or one")
}
