// Package wire makes the words of the HTTP interface of what the records hold.
package wire

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"yamato/internal/contract"
	"yamato/internal/core/evidence"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/remedy"
	"yamato/internal/core/script"
	"yamato/internal/core/script/bundle"
	"yamato/internal/core/states"
	"yamato/internal/core/verdict"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/runs"
	"yamato/internal/store"
)

// Package tells of a package.
func Package(p store.Package) contract.Package {
	f := p.Facts.V
	out := contract.Package{Digest: p.Digest, Size: p.Size, FileName: p.FileName, Kind: string(f.Kind),
		Platform: f.Platform, ApplicationId: f.ApplicationID,
		VersionName: f.VersionName, VersionCode: f.VersionCode, MinimumOs: f.MinimumOS, Permissions: f.Permissions,
		Name: base.Stated(f.Name), MinimumApi: base.Stated(f.MinimumAPI), TargetOs: base.Stated(f.TargetOS),
		TargetApi: base.Stated(f.TargetAPI), Abis: base.Listed(f.ABIs), Launch: base.Stated(f.Launch),
		Instruments: base.Stated(f.Instruments), Debuggable: base.Stated(f.Debuggable), Needs: base.Listed(f.Needs),
		Forms: base.Listed(f.Forms), Languages: base.Listed(f.Languages), Rotation: base.Stated(f.Rotation),
		Icon: base.Stated(f.Icon != ""), Lacks: base.Listed(f.Lacks)}
	if g := f.Signing; g != nil {
		out.Signing = &contract.Signing{Schemes: g.Schemes, Subject: g.Subject, Fingerprint: g.Fingerprint,
			Expires: g.Expires}
	}
	if r := f.Profile; r != nil {
		out.Profile = &contract.Profile{Name: r.Name, Team: r.Team, TeamId: r.TeamID, Expires: r.Expires,
			Devices: r.Devices, AllDevices: r.AllDevices, Entitlements: r.Entitlements}
	}
	if len(f.Parts) > 0 {
		parts := []contract.Part{}
		for _, part := range f.Parts {
			parts = append(parts, contract.Part{Name: part.Name, Size: part.Size})
		}
		out.Parts = &parts
	}
	if len(f.Splits) > 0 {
		splits := []contract.Part{}
		for _, s := range f.Splits {
			splits = append(splits, contract.Part{Name: cmp.Or(s.Name, "base"), Size: s.Size})
		}
		out.Splits = &splits
	}
	return out
}

// Build tells of a build.
func Build(b store.Build) contract.Build {
	out := contract.Build{App: b.App, Number: b.Number, VersionName: b.VersionName, VersionCode: b.VersionCode,
		CreatedAt: b.CreatedAt, Note: b.Note, Pinned: b.Pinned, RemovedAt: b.RemovedAt,
		Labels: b.Labels, Packages: []contract.Package{}}
	if out.Labels == nil {
		out.Labels = map[string]string{}
	}
	for _, p := range b.Packages {
		out.Packages = append(out.Packages, Package(p))
	}
	return out
}

// LeftOut tells a reader of what is left out.
func LeftOut(in []matrix.LeftOut, to remedy.Reader) []contract.LeftOut {
	out := []contract.LeftOut{}
	for _, l := range in {
		out = append(out, contract.LeftOut{Combination: Combination(l.Combination), Reasons: Reasons(l.Reasons, to)})
	}
	return out
}

// Reasons tells a reader of reasons.
func Reasons(in []fleet.Reason, to remedy.Reader) []contract.Reason {
	out := []contract.Reason{}
	for _, r := range in {
		out = append(out, contract.Reason{Why: r.Why, Remedy: r.Remedy.For(to)})
	}
	return out
}

// Combination tells of a combination.
func Combination(c fleet.Combination) contract.Combination {
	out := contract.Combination{Kind: c.Kind, Model: c.Model, Platform: c.Platform, Os: c.OS,
		Language: c.Levels.Of(feel.Language), Levels: []contract.Level{}, Label: base.Ptr(c.Label())}
	for _, l := range c.Levels {
		out.Levels = append(out.Levels, contract.Level{Factor: l.Factor, Value: l.Value,
			Words: base.Ptr(fleet.FactorNamed(l.Factor).Read(l.Value))})
	}
	return out
}

// Run tells of a run.
func Run(r store.Run) contract.Run {
	return contract.Run{Number: r.Number, App: r.App, Build: r.BuildNumber, VersionName: r.VersionName,
		VersionCode: r.VersionCode, State: contract.RunState(r.State), Verdict: r.Verdict,
		Seed: r.Seed, RepeatFailed: r.RepeatFailed, Language: r.Language, AskedBy: r.AskedBy, Legs: r.Legs,
		OpenLegs: r.OpenLegs, Expected: r.Expected, Results: r.Results, Fails: r.Fails, Errors: r.Errors,
		RealTime: r.RealTime, LastEvent: r.LastEvent, Order: orderOut(r.Order),
		CreatedAt: r.CreatedAt, StartedAt: r.StartedAt, FinishedAt: r.FinishedAt, Lineup: base.Stated(r.Lineup),
		LeaveInstalled: base.Stated(r.Leave), Checklist: base.Stated(r.Checklist), Plan: base.Stated(r.Plan),
		Keep: keepOut(r.Keep.V), PinnedBy: base.Stated(r.PinnedBy), PlanRevision: r.PlanRevision,
		Changed: base.Listed(r.Changed.V), Factors: base.Listed(r.Factors.V)}
}

// keepOut tells what rules a run has of what is kept of it, nil for none.
func keepOut(k evidence.Keeping) *contract.KeepRules {
	out := contract.KeepRules{}
	if len(k.Run) > 0 {
		out.Run = base.Ptr(contract.Keep(k.Run))
	}
	if len(k.Plan) > 0 {
		out.Plan = base.Ptr(contract.Keep(k.Plan))
	}
	return base.Stated(out)
}

// Keep reads rules of what is kept.
func Keep(in *contract.Keep) evidence.Rules {
	if in == nil {
		return nil
	}
	return evidence.Rules(*in)
}

// orderOut tells of an order that is not the one in which cases are written.
func orderOut(order string) *string {
	if order == "written" {
		return nil
	}
	return base.Stated(order)
}

func orderIn(order *string) string {
	if order == nil {
		return "written"
	}
	return string(*order)
}

// Suite tells of a suite.
func Suite(in store.Suite) contract.Suite {
	out := contract.Suite{Name: in.Name, Revision: in.Number, Digest: in.Digest, FileName: in.FileName,
		CreatedAt: in.CreatedAt, Cases: []contract.CaseName{}, Origin: base.Stated(in.Origin), By: base.Stated(in.By)}
	for _, c := range in.Cases.V {
		out.Cases = append(out.Cases, contract.CaseName{Name: c.Name, Tags: c.Tags, Line: base.Stated(c.Line),
			End: base.Stated(c.End)})
	}
	return out
}

// SuiteFiles tells of the files that lie beside a suite, by path.
func SuiteFiles(b bundle.Bundle) []contract.SuiteFile {
	out := []contract.SuiteFile{}
	for _, name := range slices.Sorted(maps.Keys(b.Files)) {
		out = append(out, contract.SuiteFile{Path: name, Content: b.Files[name]})
	}
	return out
}

// Findings tells of what the check of a script found.
func Findings(in []script.Finding) []contract.Finding {
	out := []contract.Finding{}
	for _, f := range in {
		one := contract.Finding{Line: f.Pos.Line, Column: f.Pos.Column, Length: f.Length, Text: f.Line,
			Message: f.Message,
			Shift:   base.Stated(f.Shift), File: base.Stated(f.Pos.File), Rule: base.Stated(string(f.Rule))}
		if f.Hint != "" {
			one.Hint = base.Ptr(f.Hint)
		}
		if f.Advice {
			one.Advice = base.Ptr(true)
		}
		out = append(out, one)
	}
	return out
}

// Leg tells of a leg.
func Leg(l store.Leg) contract.Leg {
	out := contract.Leg{Id: l.ID, Suite: l.Suite, Combination: Combination(l.Combination()), State: contract.LegState(l.State),
		Attempts: []contract.Attempt{}, Cases: []contract.Crossing{}}
	out.Device = l.Device
	for _, i := range l.Cases {
		out.Cases = append(out.Cases, contract.Crossing{Index: i, Name: l.CaseNames.V[i].Name,
			Verdict: string(verdict.None), Results: []contract.Result{}})
	}
	return out
}

// Attempt tells of an attempt.
func Attempt(a store.Attempt) contract.Attempt {
	out := contract.Attempt{Number: a.Attempt, Device: a.Device, Began: a.Granted, Ended: a.Ended}
	if a.Trouble != "" {
		out.Trouble = &a.Trouble
	}
	return out
}

// AddResult adds a result to the case that it is of.
func AddResult(l *contract.Leg, r store.Result) error {
	for i := range l.Cases {
		if l.Cases[i].Index != r.Case {
			continue
		}
		out, err := Result(r)
		if err != nil {
			return err
		}
		l.Cases[i].Results = append(l.Cases[i].Results, out)
	}
	return nil
}

// Result tells of a result.
func Result(r store.Result) (contract.Result, error) {
	out := contract.Result{Attempt: r.Attempt, Device: r.Device, Verdict: r.Verdict, TookMs: r.TookMS}
	if r.Sentence != "" {
		out.Sentence = &r.Sentence
	}
	if len(r.NotKept.V) > 0 {
		list := []contract.NotKept{}
		for _, n := range r.NotKept.V {
			list = append(list, contract.NotKept{Sort: n.Sort, Why: n.Why})
		}
		out.NotKept = &list
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

func FoldLeg(l *contract.Leg) {
	leg := verdict.Outcome{State: states.Leg(l.State), Results: map[int][]verdict.Verdict{}}
	for i := range l.Cases {
		x := &l.Cases[i]
		for _, r := range x.Results {
			leg.Results[x.Index] = append(leg.Results[x.Index], verdict.Verdict(r.Verdict))
		}
		c := leg.Crossing(x.Index)
		x.Verdict, x.Flaky, x.Recovered = string(c.Verdict), c.Flaky, base.Stated(c.Recovered)
	}
}

// Evidence tells of a piece of evidence.
func Evidence(e store.Evidence) contract.Evidence {
	out := contract.Evidence{Id: e.ID, Leg: e.LegID, Attempt: e.Attempt, Device: e.Device, CaseIndex: e.Case,
		Sort: e.Sort, Name: e.Name,
		MediaType: e.MediaType, Digest: e.Digest, Size: e.Size, Gone: base.Stated(e.Gone)}
	var facts map[string]any
	if json.Unmarshal(e.Facts.V, &facts) == nil && facts != nil { // what cannot be read says nothing
		out.Facts = &facts
	}
	return out
}

// Device tells of a device.
func Device(d store.Device) contract.Device {
	f := d.Facts.V
	one := contract.Device{Name: f.Name, Site: f.Site, Kind: f.Kind, Platform: f.Platform, Model: f.Model, Form: f.Form,
		Os: f.OS, Width: f.Width, Height: f.Height,
		MemoryMb: f.MemoryMB, Traits: f.Traits, Abilities: f.Abilities, State: string(d.State), Since: d.Since, Run: d.Run,
		AtHand:   base.Stated(d.AtHand),
		Reason:   base.Stated(d.Reason),
		Released: base.Stated(f.Released), Abi: base.Stated(f.ABI), HardwareId: base.Stated(f.HardwareID),
		Labels: base.Listed(f.Labels), Owner: base.Stated(f.Owner), TakesMb: base.Stated(f.TakesMB), Used: &d.Used}
	if u := f.Use; len(u.People) > 0 || u.Hours != "" {
		people := u.People
		if people == nil {
			people = []string{}
		}
		one.Use = &contract.Use{People: people, Hours: base.Stated(u.Hours), Zone: base.Stated(u.Zone)}
	}
	if checks := Checks(d.Condition.V.Checks); len(checks) > 0 {
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
		out := contract.Sideline{By: s.By, Reason: s.Reason, At: s.At, Until: s.Until, Automatic: s.Automatic,
			ProbeAt: s.ProbeAt}
		if b := s.Broken; b != nil {
			out.Diagnosis, out.Remedy, out.Picture, out.Log = base.Stated(b.Diagnosis), base.Stated(b.Remedy),
				base.Stated(b.Picture), base.Stated(b.Log)
		}
		one.Sideline = &out
	}
	return one
}

// Checks tells of checks of readiness.
func Checks(list []fleet.Check) []contract.Check {
	out := []contract.Check{}
	for _, c := range list {
		out = append(out, contract.Check{Id: c.ID, Title: c.Title, Ok: c.OK, Why: base.Stated(c.Why),
			Remedy: base.Stated(c.Remedy)})
	}
	return out
}

// Glimpse tells of a device as a list shows it.
func Glimpse(d store.Glimpse) contract.Glimpse {
	out := contract.Glimpse{Name: d.Name, Site: d.Site, Kind: d.Kind, Platform: d.Platform, Model: d.Model, Os: d.OS,
		Form: d.Form, State: string(d.State), Since: d.Since, Owner: base.Stated(d.Owner), Labels: base.Listed(words(d.Labels)),
		AtHand: base.Stated(d.AtHand)}
	if d.Reason != "" {
		out.Reason = &d.Reason
	}
	if d.Run != 0 {
		out.Run = &d.Run
	}
	return out
}

// Errand tells of an errand.
func Errand(e store.Errand) contract.Errand {
	out := contract.Errand{Id: e.ID, What: e.What, Device: e.Device, AskedBy: e.AskedBy, AskedAt: e.AskedAt,
		DoneAt: e.DoneAt}
	if e.Args.V.Image != "" {
		out.Image = &e.Args.V.Image
	}
	if e.Trouble != "" {
		out.Trouble, out.Remedy = &e.Trouble, &e.Remedy
	}
	return out
}

// Site tells of a site.
func Site(h store.HostRow, accepted []store.Accepted) contract.Site {
	o, l := h.Offer.V, h.Load.V
	out := contract.Site{Site: h.Site, Host: h.Name, Linked: h.Linked, SeenAt: h.SeenAt, Models: []contract.Model{},
		Images: []contract.OSImage{}, Licences: []contract.Licence{}, Running: []contract.Running{},
		Capacity: contract.Capacity{MemoryMb: o.Capacity.MemoryMB, Cpus: o.Capacity.CPUs, Devices: base.Stated(o.Capacity.Devices)},
		Machine:  contract.Machine{UsedMb: l.UsedMB, TotalMb: l.TotalMB, Cpu: float32(l.CPU), Cpus: l.CPUs}}
	for _, m := range o.Models {
		out.Models = append(out.Models, contract.Model{Model: m.Model, Platform: m.Platform, Form: m.Form,
			Width:  m.Width,
			Height: m.Height, MemoryMb: m.MemoryMB, TakesMb: m.TakesMB, Released: m.Released})
	}
	for _, i := range o.Images {
		one := contract.OSImage{Name: i.Name(), Platform: i.Platform, Os: i.OS, SizeMb: i.SizeMB, State: i.State,
			FetchedMb: i.FetchedMB}
		if i.Licence != "" {
			one.Licence = &i.Licence
		}
		out.Images = append(out.Images, one)
	}
	for _, li := range o.Licences {
		one := contract.Licence{Name: li.Name, Text: li.Text}
		digest := fleet.LicenceDigest(o.Licences, li.Name)
		for _, a := range accepted {
			if a.Name == li.Name && a.Digest == digest {
				one.AcceptedBy, one.AcceptedAt = &a.By, &a.At
			}
		}
		out.Licences = append(out.Licences, one)
	}
	for _, r := range l.Running {
		out.Running = append(out.Running, contract.Running{Name: r.Name, TakesMb: r.TakesMB, TakesCpus: r.TakesCPUs,
			Busy: r.Busy})
	}
	return out
}

// Lineup tells of a lineup.
func Lineup(l store.Lineup) contract.Lineup {
	out := contract.Lineup{Name: l.Name, Text: l.Text, SavedBy: l.SavedBy, SavedAt: l.SavedAt}
	if read, err := fleet.ReadLineup(l.Text); err == nil && read.About != "" {
		out.About = &read.About
	}
	return out
}

func chosen(d builds.Chosen) contract.Chosen {
	return contract.Chosen{Device: d.Name, Site: d.Site, Kind: d.Kind, Model: d.Model, Platform: d.Platform, Os: d.OS,
		State: string(d.State), Why: d.Why}
}

// words reads a JSON array of words, nothing where it is none.
func words(array string) []string {
	if array == "" {
		return nil
	}
	var out []string
	_ = json.Unmarshal([]byte(array), &out) // it was written by us
	return out
}

// Each tells of each of a list.
func Each[T, U any](list []T, tell func(T) U) []U {
	out := make([]U, len(list))
	for i, v := range list {
		out[i] = tell(v)
	}
	return out
}

// Made tells of a build that packages were gathered in.
func Made(in builds.Made) contract.Build {
	out := Build(in.Build)
	for i := range out.Packages {
		out.Packages[i].Fresh = base.Ptr(in.Fresh[out.Packages[i].Digest])
	}
	return out
}

// Pushed tells of a suite that was handed in.
func Pushed(in builds.Pushed) contract.Suite {
	out := Suite(in.Suite)
	out.Fresh = &in.Fresh
	if len(in.Findings) > 0 {
		out.Findings = base.Ptr(Findings(in.Findings))
	}
	return out
}

// Preview tells what a run would cover.
func Preview(in runs.Preview) contract.RunPreview {
	return contract.RunPreview{Legs: in.Legs, Cases: in.Cases, LeftOut: LeftOut(in.LeftOut, remedy.Person),
		Combinations: Each(in.Combinations, func(p runs.Previewed) contract.PreviewCombination {
			return contract.PreviewCombination{Combination: Combination(p.Combination), Package: p.Package,
				Devices: p.Devices, Idle: p.Idle}
		})}
}

// Choice tells what a lineup takes and passes over.
func Choice(in builds.Choice) contract.Choice {
	return contract.Choice{Name: in.Name, Taken: Each(in.Taken, chosen), Passed: Each(in.Passed, chosen)}
}

// Handover tells of an install page.
func Handover(in builds.Handover) contract.Handover {
	return contract.Handover{Url: in.Address, Qr: in.Picture, ExpiresAt: in.Until, Reachable: in.Reachable,
		Hint: in.Hint}
}

// Order reads what a run is to be.
func Order(in *contract.NewRun) runs.Order {
	return runs.Order{Build: in.Build, App: base.Deref(in.App), Suites: in.Suites, Cases: base.Deref(in.Cases),
		Tags: base.Deref(in.Tags),
		On:   base.Deref(in.On), Lineup: base.Deref(in.Lineup), Language: base.Deref(in.Language),
		RepeatFailed: base.Deref(in.RepeatFailed),
		Seed:         in.Seed, RealTime: base.Deref(in.RealTime), LeaveInstalled: base.Deref(in.LeaveInstalled),
		FromLine: base.Deref(in.FromLine), Order: orderIn(in.Order), Steps: base.Deref(in.TellSteps),
		Keep: Keep(in.Keep)}
}
