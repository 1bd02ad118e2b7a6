package runs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/evidence"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/matrix/cover"
	"yamato/internal/core/plan"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// Planned is a run as a plan asks for it. What is empty is chosen.
type Planned struct {
	Plan     *plan.Plan
	ID       int64 // of the saved plan, 0 for one that is only tried
	Revision int
	Build    string         // in place of the plan's, "" for that
	BuildID  int64          // the build that came in
	Changed  []string       // of the plan, for this run alone, in words
	Keep     evidence.Rules // over what the plan keeps, for this run alone
}

// Prepared is what a plan comes to now.
type Prepared struct {
	New       store.NewRun
	Build     store.Build
	Groups    []matrix.Group
	Selection matrix.Selection
	LeftOut   []matrix.LeftOut
	Shares    []int   // of each combination, how many legs it has
	Minutes   []int64 // of each combination, milliseconds of a device
	Suites    []Share
	Cases     int
	Guessed   int // cases that have no history
	Findings  []string
}

// Share is a suite with the cases of a leg of it.
type Share struct {
	Suite string
	Cases []string
	MS    int64
}

// planEffort is what choosing combinations may cost: some tens of milliseconds, so that a plan is
// tried while somebody types.
const planEffort = 6_000_000

// Prepare gives the run that a plan asks for now, without making it.
func (s *Part) Prepare(ctx context.Context, c base.Caller, in Planned) (Prepared, error) {
	p := in.Plan
	out := Prepared{}
	if err := in.Keep.Check(); err != nil {
		return out, base.Invalid(err.Error(), HowKept)
	}
	build, err := s.buildOf(ctx, c, in)
	if err != nil {
		return out, err
	}
	out.Build = build
	order, err := s.orderOf(ctx, c, p)
	if err != nil {
		return out, err
	}
	chosen, err := s.chooseCases(ctx, c, order)
	if err != nil {
		return out, err
	}
	devices, m, err := s.candidates(ctx, c, build, order, nil)
	if err != nil {
		return out, err
	}
	out.LeftOut = m.LeftOut
	bySite := slices.ContainsFunc(p.Factors, func(f matrix.Factor) bool { return f.Name == fleet.Site })
	out.Groups = matrix.Groups(m.Legs, devices, bySite)
	took, err := s.took(ctx, c, chosen)
	if err != nil {
		return out, err
	}
	shares := out.share(p, chosen, took)
	var each int64
	for _, sh := range shares {
		each += took.of(sh)
	}
	had, err := s.had(ctx, in)
	if err != nil {
		return out, err
	}
	out.Selection, err = s.choose(ctx, &p.Grid, matrix.Wanted{Groups: out.Groups, Languages: languages(build), Had: had,
		Cost: func(*matrix.Group, fleet.Levels) int64 { return each }, Effort: planEffort})
	if err != nil {
		return out, err
	}
	run := asked(c, in, build, out.Selection.Factors)
	if p.Order == plan.Random {
		for _, sh := range shares {
			shuffle(sh, run.Seed)
		}
	}
	out.New = store.NewRun{Run: run}
	out.legs(build, shares, each)
	for _, l := range out.LeftOut {
		out.New.LeftOut = append(out.New.LeftOut, store.NewLeftOut{Combination: l.Combination, Reasons: l.Reasons})
	}
	out.find(p, chosen)
	if len(out.New.Legs) > maxLegs {
		return out, base.Invalid(fmt.Sprintf("this plan would make %d legs; at most %d are taken", len(out.New.Legs),
			maxLegs), "choose fewer combinations: a budget, or `cover: pairs`")
	}
	return out, nil
}

// asked is what is kept of a run that a plan asks for, whose combinations are of these factors.
func asked(c base.Caller, in Planned, build store.Build, factors []matrix.Factor) store.Asked {
	p := in.Plan
	run := store.Asked{ProjectID: c.ProjectID, BuildID: build.ID, Purpose: "suite", RepeatFailed: p.Repeat.Fail,
		AfterError: 1,
		AskedBy:    c.Name, Lineup: p.Lineup, Order: p.Order, Checklist: p.Checklist, PlanID: base.Stated(in.ID),
		PlanRevision: base.Stated(in.Revision),
		Changed:      pg.JSON[[]string]{V: in.Changed}, Seed: newSeed()}
	if p.Repeat.Error != nil {
		run.AfterError = *p.Repeat.Error
	}
	if p.Seed != 0 {
		run.Seed = int64(p.Seed & (1<<52 - 1)) // fits a JSON number whole
	}
	failures := p.Stop.Failures
	if p.Stop.Certain { // one failure for good makes the verdict certain
		failures = 1
	}
	run.Keep.V = evidence.Keeping{Run: in.Keep, Plan: p.Keep}
	run.Limits.V = store.Limits{Failures: failures, StepMS: time.Duration(p.Limits.Step).Milliseconds(),
		CaseMS: time.Duration(p.Limits.Case).Milliseconds(), LegMS: time.Duration(p.Limits.Leg).Milliseconds(),
		RunMS: time.Duration(p.Limits.Run).Milliseconds()}
	spoken := []string{}
	for _, f := range factors {
		run.Factors.V = append(run.Factors.V, f.Name)
		if f.Name == feel.Language {
			spoken = f.Levels
		}
	}
	run.Language = strings.Join(spoken, ", ")
	if len(spoken) == 0 {
		run.Language = fleet.FactorNamed(feel.Language).Usual
	}
	return run
}

// Lacking tells, as a problem, what a plan names that is not there: a suite, cases, a lineup, a checklist, a build. It
// costs some look-ups, and chooses nothing.
func (s *Part) Lacking(ctx context.Context, c base.Caller, p *plan.Plan) error {
	if p.Build != plan.Arriving { // what comes in is not there yet
		if _, err := s.buildOf(ctx, c, Planned{Plan: p}); err != nil {
			return err
		}
	}
	if p.Lineup != "" {
		if _, err := s.Store.LineupNamed(ctx, c.ProjectID, p.Lineup); err != nil {
			return base.NotThere(err, remedy.Say("%s lists them", remedy.LineupList), "there is no lineup %q", p.Lineup)
		}
	}
	order, err := s.orderOf(ctx, c, p)
	if err != nil {
		return err
	}
	_, err = s.chooseCases(ctx, c, order)
	return err
}

// orderOf is what a plan asks for of suites and devices.
func (s *Part) orderOf(ctx context.Context, c base.Caller, p *plan.Plan) (Order, error) {
	order := Order{Suites: p.Suites, Cases: p.Cases, Tags: p.Tags, On: p.Devices, Lineup: p.Lineup}
	if p.Checklist != "" {
		lists, err := s.Store.Checklists(ctx, c.ProjectID)
		if err != nil {
			return order, err
		}
		at := slices.IndexFunc(lists, func(l store.Checklist) bool { return strings.EqualFold(l.Name, p.Checklist) })
		if at < 0 {
			return order, base.NotFound(fmt.Sprintf("there is no checklist %q", p.Checklist),
				remedy.Say("%s lists them", remedy.ChecklistList))
		}
		order.Suites = []string{lists[at].Digest}
	} else if len(order.Suites) == 0 {
		all, err := s.Store.Suites(ctx, c.ProjectID)
		if err != nil {
			return order, err
		}
		for _, one := range all {
			order.Suites = append(order.Suites, one.Name)
		}
	}
	return order, nil
}

// StartPlanned makes the run that a plan asks for now. key makes it one run, however often it is called.
func (s *Part) StartPlanned(ctx context.Context, c base.Caller, in Planned, key string) (store.Run, error) {
	p, err := s.Prepare(ctx, c, in)
	if err != nil {
		return store.Run{}, err
	}
	return s.StartPrepared(ctx, c, p, key)
}

// StartPrepared makes the run of what was prepared. key makes it one run, however often it is called.
func (s *Part) StartPrepared(ctx context.Context, c base.Caller, p Prepared, key string) (store.Run, error) {
	if len(p.New.Legs) == 0 {
		return store.Run{}, base.Invalid("the plan comes to no combination: all of it has run lately, or the budget is too small",
			remedy.Say("%s tells what it comes to", remedy.PlanTry))
	}
	p.New.IdempotencyKey = key
	// what a plan comes to may be other a moment later: the key alone says which start it is
	return s.add(ctx, c, p.New, key)
}

func (s *Part) buildOf(ctx context.Context, c base.Caller, in Planned) (store.Build, error) {
	p := in.Plan
	if in.BuildID != 0 {
		return s.Store.Build(ctx, c.ProjectID, in.BuildID)
	}
	ref := p.Build
	if in.Build != "" {
		ref = in.Build
	} else if ref == plan.Newest || ref == plan.Arriving {
		if ref = strings.Join(p.Labels, ","); ref == "" {
			return s.builds.NewestOf(ctx, c, p.App)
		}
	}
	return s.builds.BuildNamed(ctx, c, p.App, ref)
}

// choose chooses combinations for as long as somebody waits for them. What is computed at once is bounded: a few large
// plans keep no processor and no memory from what else the service does.
func (s *Part) choose(ctx context.Context, g *matrix.Grid, w matrix.Wanted) (matrix.Selection, error) {
	select {
	case s.choosing <- struct{}{}:
		defer func() { <-s.choosing }()
	case <-ctx.Done():
		return matrix.Selection{}, context.Cause(ctx)
	}
	w.Work = &cover.Work{Stop: func() bool { return ctx.Err() != nil }}
	sel, err := matrix.Choose(g, w)
	switch {
	case errors.Is(err, cover.ErrStopped):
		return sel, context.Cause(ctx)
	case err != nil:
		return sel, refusal(err)
	}
	return sel, nil
}

// mostChoosing is how many plans' combinations are chosen at once.
const mostChoosing = 2

// refusal says in a caller's words why combinations could not be chosen.
func refusal(err error) error {
	var fault *matrix.Fault
	var contradiction *matrix.Contradiction
	switch {
	case errors.As(err, &fault):
		return base.Invalid(fault.Message, fault.Hint)
	case errors.As(err, &contradiction):
		return base.Invalid(contradiction.Error(), "leave one of these rules out, or vary less")
	case errors.Is(err, matrix.ErrTooMany), errors.Is(err, cover.ErrTangled), errors.Is(err, cover.ErrDear),
		errors.Is(err, cover.ErrNothing):
		return base.Invalid(err.Error(), "")
	}
	return base.Invalid(err.Error(), "leave factors or levels out, or choose a lower strength")
}

func languages(b store.Build) (out []string) {
	f := fleet.FactorNamed(feel.Language)
	for _, p := range b.Packages {
		for _, l := range p.Facts.V.Languages {
			if f.Check(l) == "" && !slices.Contains(out, l) {
				out = append(out, l)
			}
		}
	}
	slices.Sort(out)
	return out
}

// lasting is how long cases lasted, and which failed last, by suite and name.
type lasting map[int64]map[string]lasted

type lasted struct {
	ms     int64
	failed bool
}

func (s *Part) took(ctx context.Context, c base.Caller, chosen []chosenSuite) (lasting, error) {
	ids := []int64{}
	for _, one := range chosen {
		ids = append(ids, one.id)
	}
	rows, err := s.Store.Took(ctx, c.ProjectID, ids)
	out := lasting{}
	for _, r := range rows {
		if out[r.Revision] == nil {
			out[r.Revision] = map[string]lasted{}
		}
		out[r.Revision][r.Name] = lasted{r.TookMS, r.Verdict == "fail"}
	}
	return out, err
}

func (l lasting) one(s chosenSuite, i int) int64 {
	if known, ok := l[s.id][s.names[i].Name]; ok {
		return max(known.ms, 1)
	}
	return plan.Guess.Milliseconds()
}

func (l lasting) of(s chosenSuite) (ms int64) {
	for _, i := range s.cases {
		ms += l.one(s, i)
	}
	return ms
}

// share cuts suites into the shares of legs.
func (p *Prepared) share(of *plan.Plan, chosen []chosenSuite, took lasting) (out []chosenSuite) {
	for _, suite := range chosen {
		for _, i := range suite.cases {
			p.Cases++
			if _, known := took[suite.id][suite.names[i].Name]; !known {
				p.Guessed++
			}
		}
		if of.Order == plan.FailedFirst {
			slices.SortStableFunc(suite.cases, func(a, b int) int {
				rank := func(i int) int {
					if took[suite.id][suite.names[i].Name].failed {
						return 0
					}
					return 1
				}
				return rank(a) - rank(b)
			})
		}
		for _, cases := range plan.Shards(suite.cases, func(i int) time.Duration {
			return time.Duration(took.one(suite, i)) * time.Millisecond
		}, time.Duration(of.Shard)) {
			one := suite
			one.cases = cases
			out = append(out, one)
			sh := Share{Suite: suite.name, MS: took.of(one)}
			for _, i := range cases {
				sh.Cases = append(sh.Cases, suite.names[i].Name)
			}
			p.Suites = append(p.Suites, sh)
		}
	}
	return out
}

// legs makes the legs of all combinations that are chosen.
func (p *Prepared) legs(build store.Build, shares []chosenSuite, each int64) {
	for _, picked := range p.Selection.Picked {
		leg, ok := p.Selection.LegOf(picked, p.Groups)
		if !ok {
			p.LeftOut = append(p.LeftOut, matrix.LeftOut{Combination: leg.Combination, Reasons: []fleet.Reason{{
				Why:    "no device of this class has all the abilities that these levels need",
				Remedy: remedy.Say("%s lists them", remedy.DeviceShow)}}})
			p.Shares, p.Minutes = append(p.Shares, 0), append(p.Minutes, 0)
			continue
		}
		for _, sh := range shares {
			p.New.Legs = append(p.New.Legs, store.NewLeg{RevisionID: sh.id, Digest: build.Packages[leg.Package].Digest,
				Combination: leg.Combination, Device: base.Stated(leg.Device), Never: leg.Never, Cases: sh.cases})
		}
		p.Shares, p.Minutes = append(p.Shares, len(shares)), append(p.Minutes, each)
	}
	for _, r := range p.Selection.LeftOut {
		one := matrix.LeftOut{Combination: fleet.Combination{}}
		if r.Group >= 0 {
			one.Combination.Class = p.Groups[r.Group].Combination.Class
		}
		one.Combination.Levels = r.Levels
		for _, why := range r.Why {
			one.Reasons = append(one.Reasons, fleet.Reason{Why: why})
		}
		p.LeftOut = append(p.LeftOut, one)
	}
}

// find tells what is probably not as it was meant.
func (p *Prepared) find(of *plan.Plan, chosen []chosenSuite) {
	for _, f := range p.Selection.Factors {
		known := fleet.FactorNamed(f.Name)
		if known.Ability == "" || len(p.Groups) == 0 {
			continue
		}
		able := 0
		for _, g := range p.Groups {
			if slices.ContainsFunc(g.Members, func(m matrix.Member) bool {
				return slices.Contains(m.Abilities,
					known.Ability)
			}) {
				able++
			}
		}
		if able == 0 && slices.ContainsFunc(f.Levels, func(l string) bool { return l != known.Usual }) {
			p.Findings = append(p.Findings, fmt.Sprintf("no device of these has the ability `%s`, so %s stays %s",
				known.Ability,
				f.Name, known.Usual))
		} else if able < len(p.Groups) {
			p.Findings = append(p.Findings, fmt.Sprintf("%d of %d kinds of device lack the ability `%s`: there %s stays %s",
				len(p.Groups)-able, len(p.Groups), known.Ability, f.Name, known.Usual))
		}
	}
	for _, d := range p.Selection.Dead {
		p.Findings = append(p.Findings, fmt.Sprintf("%s %s appears in no combination: %s", d.Levels[0].Factor,
			d.Levels[0].Value,
			strings.Join(d.Why, "; ")))
	}
	given := map[string]bool{}
	for _, s := range chosen {
		for _, n := range s.names {
			for _, g := range n.Given {
				given[g] = true
			}
		}
	}
	for _, f := range p.Selection.Factors {
		if known := fleet.FactorNamed(f.Name); known.Free && !given[f.Name] && known.Of == nil {
			p.Findings = append(p.Findings, fmt.Sprintf("no suite reads $%s: write `given %s = …` in the one that does",
				f.Name, f.Name))
		}
	}
	if p.Guessed > 0 {
		p.Findings = append(p.Findings, fmt.Sprintf("%d of %d cases have never run: each is taken to last %s",
			p.Guessed, p.Cases,
			plan.Guess))
	}
	if p.Build.RemovedAt != nil {
		p.Findings = append(p.Findings, "retention has removed the packages of this build")
	}
}

// had gives the combinations that a saved plan has run lately, by factor.
func (s *Part) had(ctx context.Context, in Planned) (out []map[string]string, err error) {
	if in.ID == 0 || in.Plan.Recent == 0 {
		return nil, nil
	}
	rows, err := s.Store.Combined(ctx, in.ID, time.Duration(in.Plan.Recent), maxLegs)
	for _, r := range rows {
		is, one := fleet.Device{}.As(fleet.Class{Kind: r.Kind, Model: r.Model, Platform: r.Platform, OS: r.OS}),
			map[string]string{}
		for _, f := range fleet.OfDevices() {
			if level := fleet.FactorNamed(f).Of(is); level != "" {
				one[f] = level
			}
		}
		for _, l := range r.Levels.V {
			one[l.Factor] = l.Value
		}
		out = append(out, one)
	}
	return out, err
}
