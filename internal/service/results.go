package service

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yamato/internal/blob"
	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/verdict"
	"yamato/internal/store"
)

// Detail gives one run with all that is known of it, or less.
func (s *Service) Detail(ctx context.Context, c Caller, number int64, depth Depth) (contract.RunDetail, error) {
	r, err := s.store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return contract.RunDetail{}, notThere(err, "`yamato run ls` lists the runs", "there is no run %d", number)
	}
	legs, err := s.store.Legs(ctx, r.ID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	read := map[Depth]func(context.Context, int64) ([]store.Result, error){Whole: s.store.Results, WithFailures: s.store.Failures, InBrief: s.store.BriefResults}
	results, err := read[depth](ctx, r.ID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	attempts, err := s.store.Attempts(ctx, r.ID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	left, err := s.store.LeftOut(ctx, r.ID)
	if err != nil {
		return contract.RunDetail{}, err
	}
	out := contract.RunDetail{Run: runOut(r), Legs: []contract.Leg{}, LeftOut: []contract.LeftOut{}}
	at := map[int64]*contract.Leg{}
	for _, l := range legs {
		out.Legs = append(out.Legs, legOut(l))
	}
	for i := range out.Legs {
		at[out.Legs[i].Id] = &out.Legs[i]
	}
	for _, a := range attempts {
		at[a.LegID].Attempts = append(at[a.LegID].Attempts, attemptOut(a))
	}
	for _, res := range results {
		if err := addResult(at[res.LegID], res); err != nil {
			return contract.RunDetail{}, err
		}
	}
	for _, l := range out.Legs {
		foldLeg(&l)
	}
	if err := s.settleDoubts(ctx, c, r.AppID, out.Legs); err != nil {
		return contract.RunDetail{}, err
	}
	for _, l := range left {
		out.LeftOut = append(out.LeftOut, contract.LeftOut{Combination: combinationOut(l.Combination), Reasons: reasonsOut(l.Reasons)})
	}
	b, err := s.store.Build(ctx, c.ProjectID, r.BuildID)
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
func (s *Service) settleDoubts(ctx context.Context, c Caller, app int64, legs []contract.Leg) error {
	doubted := map[string][]*contract.Step{}
	for _, l := range legs {
		for _, x := range l.Cases {
			for _, r := range x.Results {
				for i := range deref(r.Steps) {
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
	known, err := s.store.KnownLocators(ctx, c.ProjectID, app, slices.Collect(maps.Keys(doubted)))
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

func legOut(l store.Leg) contract.Leg {
	out := contract.Leg{Id: l.ID, Suite: l.Suite, Combination: combinationOut(l.Combination()), State: l.State, Attempts: []contract.Attempt{}, Cases: []contract.Crossing{}}
	out.Device = l.Device
	for _, i := range l.Cases {
		out.Cases = append(out.Cases, contract.Crossing{Index: i, Name: l.CaseNames.V[i].Name, Verdict: string(verdict.None), Results: []contract.Result{}})
	}
	return out
}

func attemptOut(a store.Attempt) contract.Attempt {
	out := contract.Attempt{Number: a.Attempt, Device: a.Device, Began: a.Granted, Ended: a.Ended}
	if a.Trouble != "" {
		out.Trouble = &a.Trouble
	}
	return out
}

func addResult(l *contract.Leg, r store.Result) error {
	for i := range l.Cases {
		if l.Cases[i].Index != r.Case {
			continue
		}
		out, err := resultOut(r)
		if err != nil {
			return err
		}
		l.Cases[i].Results = append(l.Cases[i].Results, out)
	}
	return nil
}

func resultOut(r store.Result) (contract.Result, error) {
	out := contract.Result{Attempt: r.Attempt, Device: r.Device, Verdict: r.Verdict, TookMs: r.TookMS}
	if r.Sentence != "" {
		out.Sentence = &r.Sentence
	}
	var failure map[string]any
	if r.Failure != nil {
		if err := json.Unmarshal(r.Failure, &failure); err != nil {
			return out, fmt.Errorf("a result's failure cannot be read: %w", err)
		}
	}
	if failure != nil {
		out.Failure = &failure
	}
	if r.Steps == nil {
		return out, nil
	}
	if err := json.Unmarshal(r.Steps, &out.Steps); err != nil {
		return out, fmt.Errorf("a result's steps cannot be read: %w", err)
	}
	return out, nil
}

func foldLeg(l *contract.Leg) {
	leg := verdict.Outcome{State: l.State, Results: map[int][]verdict.Verdict{}}
	for i := range l.Cases {
		x := &l.Cases[i]
		for _, r := range x.Results {
			leg.Results[x.Index] = append(leg.Results[x.Index], verdict.Verdict(r.Verdict))
		}
		c := leg.Crossing(x.Index)
		x.Verdict, x.Flaky, x.Recovered = string(c.Verdict), c.Flaky, stated(c.Recovered)
	}
}

// explainWaiting says of each waiting leg what it waits for.
func (s *Service) explainWaiting(ctx context.Context, c Caller, d *contract.RunDetail, legs []store.Leg) error {
	var models []string
	for _, l := range legs {
		if l.State == "waiting" && !slices.Contains(models, l.Model) {
			models = append(models, l.Model)
		}
	}
	if len(models) == 0 {
		return nil
	}
	devices, err := s.candidates(ctx, c, models...)
	if err != nil {
		return err
	}
	now := time.Now()
	for i, l := range legs {
		if l.State == "waiting" {
			d.Legs[i].WaitsFor = ptr(fleet.WaitsFor(l.Combination().Class, within(devices, l), d.Run.AskedBy, now))
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
func (s *Service) Evidence(ctx context.Context, c Caller, number int64) ([]contract.Evidence, error) {
	r, err := s.store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return nil, notThere(err, "`yamato run ls` lists the runs", "there is no run %d", number)
	}
	list, err := s.store.EvidenceOf(ctx, r.ID)
	out := []contract.Evidence{}
	for _, e := range list {
		out = append(out, evidenceOut(e))
	}
	return out, err
}

func evidenceOut(e store.Evidence) contract.Evidence {
	return contract.Evidence{Id: e.ID, Leg: e.LegID, Attempt: e.Attempt, Device: e.Device, CaseIndex: e.Case, Sort: e.Sort, Name: e.Name,
		MediaType: e.MediaType, Digest: e.Digest, Size: e.Size}
}

// OpenEvidence opens one piece of evidence: whoever may see the run may see it.
func (s *Service) OpenEvidence(ctx context.Context, c Caller, number, id int64) (contract.Evidence, blob.File, error) {
	e, err := s.store.EvidenceNumbered(ctx, c.ProjectID, number, id)
	if err != nil {
		return contract.Evidence{}, nil, notThere(err, "list its evidence", "run %d has no evidence %d", number, id)
	}
	f, err := s.blobs.Open(ctx, e.Digest)
	return evidenceOut(e), f, err
}

// RunEvents gives the events of a run after a number, in order, and whether the
// run has ended. It waits until there are some, or ctx ends.
func (s *Service) RunEvents(ctx context.Context, c Caller, number, after int64) ([]NumberedEvent, bool, error) {
	heard, leave := s.bell.subscribe()
	defer leave()
	for {
		r, err := s.store.RunNumbered(ctx, c.ProjectID, number)
		if err != nil {
			return nil, false, notThere(err, "`yamato run ls` lists the runs", "there is no run %d", number)
		}
		batches, err := s.store.EventsAfter(ctx, r.ID, after, 200)
		if err != nil {
			return nil, false, err
		}
		var out []NumberedEvent
		for _, b := range batches {
			for i, body := range b.Events.V {
				if n := b.First + int64(i); n > after {
					out = append(out, NumberedEvent{n, body})
				}
			}
		}
		ended := r.FinishedAt != nil && (len(out) == 0 && after >= r.LastEvent || len(out) > 0 && out[len(out)-1].Number >= r.LastEvent)
		if len(out) > 0 || ended {
			return out, ended, nil
		}
		select {
		case <-heard:
		case <-ctx.Done():
			return nil, false, ctx.Err()
		case <-time.After(time.Second): // in case the bell was not heard
		}
	}
}

// NumberedEvent is an event of a run. Numbers have no gaps.
type NumberedEvent struct {
	Number int64
	Body   json.RawMessage
}

// DeviceFilter says which devices are wanted; what is empty does not matter.
type DeviceFilter struct {
	Q, Site, State, Platform, Kind string // Q is part of a name, model, site, label or OS version
}

func (f DeviceFilter) takes(d store.Device) bool {
	is := func(want, have string) bool { return want == "" || want == have }
	facts := d.Facts.V
	q := strings.ToLower(f.Q)
	found := q == ""
	for _, text := range append([]string{facts.Name, facts.Site, facts.Model, facts.OS, fleet.PlatformName(facts.Platform) + " " + facts.OS, facts.Owner}, facts.Labels...) {
		found = found || strings.Contains(strings.ToLower(text), q)
	}
	return found && is(f.Site, facts.Site) && is(f.State, d.State) && is(f.Platform, facts.Platform) && is(f.Kind, facts.Kind)
}

// Devices gives the fleet, or part of it.
func (s *Service) Devices(ctx context.Context, c Caller, f DeviceFilter) ([]contract.Device, error) {
	list, err := s.store.Devices(ctx, c.ProjectID)
	out := []contract.Device{}
	for _, d := range list {
		if f.takes(d) {
			out = append(out, deviceOut(d))
		}
	}
	return out, err
}

// AwaitRun waits until a run has ended, or for so long.
func (s *Service) AwaitRun(ctx context.Context, c Caller, number int64, wait time.Duration) error {
	heard, leave := s.bell.subscribe()
	defer leave()
	end := time.NewTimer(wait)
	defer end.Stop()
	tick := time.NewTicker(time.Second) // in case the bell was not heard
	defer tick.Stop()
	for {
		r, err := s.store.RunNumbered(ctx, c.ProjectID, number)
		if err != nil {
			return notThere(err, "`yamato run ls` lists the runs", "there is no run %d", number)
		}
		if r.FinishedAt != nil {
			return nil
		}
		select {
		case <-heard:
		case <-tick.C:
		case <-end.C:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func deviceOut(d store.Device) contract.Device {
	f := d.Facts.V
	one := contract.Device{Name: f.Name, Site: f.Site, Kind: f.Kind, Platform: f.Platform, Model: f.Model, Form: f.Form, Os: f.OS, Width: f.Width, Height: f.Height,
		MemoryMb: f.MemoryMB, Traits: f.Traits, Abilities: f.Abilities, State: d.State, Since: d.Since, Run: d.Run, Reason: stated(d.Reason),
		Released: stated(f.Released), Abi: stated(f.ABI), HardwareId: stated(f.HardwareID), Labels: listed(f.Labels), Owner: stated(f.Owner), TakesMb: stated(f.TakesMB), Used: &d.Used}
	if u := f.Use; len(u.People) > 0 || u.Hours != "" {
		people := u.People
		if people == nil {
			people = []string{}
		}
		one.Use = &contract.Use{People: people, Hours: stated(u.Hours), Zone: stated(u.Zone)}
	}
	if checks := checksOut(d.Condition.V.Checks); len(checks) > 0 {
		one.Checks = &checks
	}
	if len(d.Condition.V.Installed) > 0 {
		list := []contract.Installed{}
		for _, i := range d.Condition.V.Installed {
			list = append(list, contract.Installed{Id: i.ID, VersionCode: i.VersionCode, Signer: i.Signer})
		}
		one.Installed = &list
	}
	if d.Sideline != nil {
		s := d.Sideline.V
		out := contract.Sideline{By: s.By, Reason: s.Reason, At: s.At, Until: s.Until, Automatic: s.Automatic, ProbeAt: s.ProbeAt}
		if b := s.Broken; b != nil {
			out.Diagnosis, out.Remedy, out.Picture, out.Log = stated(b.Diagnosis), stated(b.Remedy), stated(b.Picture), stated(b.Log)
		}
		one.Sideline = &out
	}
	return one
}

func checksOut(list []fleet.Check) []contract.Check {
	out := []contract.Check{}
	for _, c := range list {
		out = append(out, contract.Check{Id: c.ID, Title: c.Title, Ok: c.OK, Why: stated(c.Why), Remedy: stated(c.Remedy)})
	}
	return out
}
