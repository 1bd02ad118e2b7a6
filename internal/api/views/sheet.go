package views

import (
	"archive/zip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/device"
	"yamato/internal/core/evidence"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/remedy"
	"yamato/internal/core/verdict"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Sheet gives all that is known of one case in one combination.
func (s *Part) Sheet(ctx context.Context, c base.Caller, number, leg int64, index int) (contract.Sheet, error) {
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return contract.Sheet{}, base.NotThere(err, remedy.Say("%s lists the runs", remedy.RunList), "there is no run %d", number)
	}
	legs, err := s.Store.Legs(ctx, r.ID)
	if err != nil {
		return contract.Sheet{}, err
	}
	var l *contract.Leg
	for _, one := range legs {
		if one.ID == leg {
			out := wire.Leg(one)
			l = &out
		}
	}
	if l == nil {
		return contract.Sheet{}, base.NotFound(fmt.Sprintf("run %d has no leg %d", number, leg),
			"open it from the run's page")
	}
	at := -1
	for i, x := range l.Cases {
		if x.Index == index {
			at = i
		}
	}
	if at < 0 {
		return contract.Sheet{}, base.NotFound(fmt.Sprintf("this leg of run %d has no case %d", number, index),
			"open it from the run's page")
	}
	out := contract.Sheet{Run: number, Leg: leg, Suite: l.Suite, Case: l.Cases[at].Name, CaseIndex: index,
		Combination: l.Combination, State: l.State, Attempts: []contract.SheetAttempt{}}
	if err := s.fillSheet(ctx, r.ID, l, at, &out); err != nil {
		return out, err
	}
	wire.FoldLeg(l)
	if err := s.settleDoubts(ctx, c, r.AppID, []contract.Leg{*l}); err != nil {
		return out, err
	}
	for i := range out.Attempts {
		one := &out.Attempts[i]
		if one.Result == nil || one.Result.Failure == nil {
			continue
		}
		if one.Bearing, err = s.bearing(ctx, c, r, l, l.Cases[at], *one.Result.Failure); err != nil {
			return out, err
		}
	}
	out.Verdict, out.Flaky, out.Recovered = l.Cases[at].Verdict, l.Cases[at].Flaky, l.Cases[at].Recovered
	return out, nil
}

func (s *Part) fillSheet(ctx context.Context, run int64, l *contract.Leg, at int, out *contract.Sheet) error {
	attempts, err := s.Store.LegAttempts(ctx, l.Id)
	if err != nil {
		return err
	}
	results, err := s.Store.CrossingResults(ctx, l.Id, out.CaseIndex)
	if err != nil {
		return err
	}
	kept, err := s.Store.CrossingEvidence(ctx, run, l.Id, out.CaseIndex)
	if err != nil {
		return err
	}
	for _, res := range results {
		if res.LeaseID > 0 {
			continue
		}
		r, err := wire.Result(res) // of a leg that never had a lease
		if err != nil {
			return err
		}
		l.Cases[at].Results = append(l.Cases[at].Results, r)
		one := contract.SheetAttempt{Attempt: contract.Attempt{Trouble: base.Stated(res.Sentence), Began: res.At,
			Ended: &res.At},
			Result: &r, Evidence: []contract.Evidence{}, Frames: []contract.Frame{}}
		for _, e := range kept { // a person may have kept a picture
			if e.LeaseID == res.LeaseID {
				one.Evidence = append(one.Evidence, wire.Evidence(e))
			}
		}
		out.Attempts = append(out.Attempts, one)
	}
	for _, a := range attempts {
		one := contract.SheetAttempt{Attempt: wire.Attempt(a), Evidence: []contract.Evidence{},
			Frames: []contract.Frame{}}
		l.Attempts = append(l.Attempts, one.Attempt)
		var circumstances map[string]any
		if err := json.Unmarshal(a.Circumstances, &circumstances); err == nil && circumstances != nil {
			one.Circumstances = &circumstances
		}
		for _, res := range results {
			if res.LeaseID != a.Lease {
				continue
			}
			r, err := wire.Result(res)
			if err != nil {
				return err
			}
			one.Result = &r
			l.Cases[at].Results = append(l.Cases[at].Results, r)
		}
		for _, e := range kept {
			if e.LeaseID != a.Lease {
				continue
			}
			one.Evidence = append(one.Evidence, wire.Evidence(e))
			if e.Sort == evidence.Film.Name && e.Gone == "" {
				frames, err := s.frames(ctx, e)
				if err != nil {
					s.Log.Warn("a film cannot be read", "evidence", e.ID, "error", err)
				}
				one.Frames = append(one.Frames, frames...)
			}
		}
		if one.Result != nil || a.Ended == nil || a.Trouble != "" { // else it was about other cases
			out.Attempts = append(out.Attempts, one)
		}
	}
	return nil
}

// film opens a film: a zip of PNGs, stored as they are, with a list of them.
func (s *Part) film(ctx context.Context, digest string) (*zip.Reader, []link.Frame, func() error, error) {
	f, err := s.Blobs.Open(ctx, digest)
	if err != nil {
		return nil, nil, nil, err
	}
	z, err := zip.NewReader(f, f.Size())
	if err != nil {
		_ = f.Close()
		return nil, nil, nil, fmt.Errorf("the film is no zip: %w", err)
	}
	list, err := z.Open(link.FilmList)
	if err == nil {
		var frames []link.Frame
		err = json.NewDecoder(io.LimitReader(list, 1<<20)).Decode(&frames)
		_ = list.Close()
		if err == nil {
			return z, frames, f.Close, nil
		}
	}
	_ = f.Close()
	return nil, nil, nil, fmt.Errorf("the film's list cannot be read: %w", err)
}

func (s *Part) frames(ctx context.Context, e store.Evidence) ([]contract.Frame, error) {
	_, list, done, err := s.film(ctx, e.Digest)
	if err != nil {
		return nil, err
	}
	var out []contract.Frame
	for i, f := range list {
		out = append(out, contract.Frame{Evidence: e.ID, Index: i, AtMs: f.AtMS})
	}
	return out, done()
}

// maxFrame bounds a picture of a film, in bytes.
const maxFrame = 32 << 20

// Frame gives one picture of a film, as PNG.
func (s *Part) Frame(ctx context.Context, c base.Caller, number, id int64, index int) ([]byte, error) {
	e, err := s.Store.EvidenceNumbered(ctx, c.ProjectID, number, id)
	if err != nil {
		return nil, base.NotThere(err, "list its evidence", "run %d has no evidence %d", number, id)
	}
	if e.Gone != "" {
		return nil, base.Refuse(base.LetGone, "its content is gone: "+e.Gone, "")
	}
	if e.Sort != evidence.Film.Name {
		return nil, base.NotFound(fmt.Sprintf("evidence %d is no film", id), "")
	}
	z, list, done, err := s.film(ctx, e.Digest)
	if err != nil {
		return nil, err
	}
	defer func() { _ = done() }()
	if index < 0 || index >= len(list) {
		return nil, base.NotFound(fmt.Sprintf("this film has %d pictures", len(list)), "")
	}
	f, err := z.Open(list[index].File)
	if err != nil {
		return nil, fmt.Errorf("the film lacks a picture of its list: %w", err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxFrame))
}

// Causes says what failed in a run and why, by cause.
func (s *Part) Causes(ctx context.Context, c base.Caller, number int64) ([]contract.Cause, error) {
	d, err := s.Detail(ctx, c, number, WithFailures)
	if err != nil {
		return nil, err
	}
	devices, err := s.Store.Candidates(ctx, c.ProjectID)
	if err != nil {
		return nil, err
	}
	classes := make([]fleet.Device, len(devices))
	for i, d := range devices {
		classes[i] = d.Facts.V
	}
	met, ran, place := metIn(d, classes)
	causes := verdict.Causes(met, place, ran)
	out := []contract.Cause{}
	since, err := s.since(ctx, c, number, causes, placesOf(d))
	if err != nil {
		return nil, err
	}
	for i, one := range causes {
		cause := contract.Cause{Verdict: string(one.Verdict), Kind: one.Kind, Flaky: one.Flaky, Expected: one.Expected,
			Actual: one.Actual, Cases: one.Cases, Crossings: one.Crossings,
			Combinations: one.Combinations, Of: one.Of, Shared: one.Shared, Leg: one.Leg, CaseIndex: one.Index}
		if cause.Suite = &one.Suite; one.Suite == "" {
			cause.Suite = nil
		}
		each := []contract.CauseCase{}
		for _, m := range one.Each[:min(len(one.Each), maxCauseCases)] {
			each = append(each, contract.CauseCase{Case: m.Case, Suite: m.Suite, Line: m.Line, Leg: m.Leg,
				CaseIndex: m.Index})
		}
		cause.Each = &each
		if one.Step != "" {
			cause.Step, cause.Line = &one.Step, &one.Line
		}
		if since[i] != "" {
			cause.Since = &since[i]
		}
		if i < maxBearings {
			if cause.Bearing, err = s.bearingOf(ctx, c, d, one.Leg, one.Index); err != nil {
				return nil, err
			}
		}
		out = append(out, cause)
	}
	return out, nil
}

// maxCauseCases bounds the cases of a cause that are told one by one.
const maxCauseCases = 50

// placesOf gives what makes the combination of each leg the same one in another run.
func placesOf(d contract.RunDetail) map[int64]string {
	out := map[int64]string{}
	for _, l := range d.Legs {
		var levels fleet.Levels
		for _, one := range l.Combination.Levels {
			levels = append(levels, fleet.Level{Factor: one.Factor, Value: one.Value})
		}
		out[l.Id] = placeKey(l.Combination.Kind, l.Combination.Model, l.Combination.Platform, l.Combination.Os, levels)
	}
	return out
}

// placeKey is the same for combinations that are the same: what is as usual need not have been named.
func placeKey(kind, model, platform, os string, levels fleet.Levels) string {
	kept := fleet.Levels{}
	for _, l := range levels {
		if l.Factor == feel.Language || !fleet.FactorNamed(l.Factor).IsUsual(l.Value) {
			kept = append(kept, l)
		}
	}
	slices.SortFunc(kept, func(a, b fleet.Level) int { return strings.Compare(a.Factor, b.Factor) })
	return strings.Join([]string{kind, model, platform, os, kept.Key()}, "\x00")
}

func metIn(d contract.RunDetail, classes []fleet.Device) (met, ran []verdict.Met, place map[int64]verdict.Place) {
	place = map[int64]verdict.Place{}
	for _, l := range d.Legs {
		place[l.Id] = placeOf(l.Combination, classes)
		for _, x := range l.Cases {
			m := verdict.Met{Suite: l.Suite, Case: x.Name, Leg: l.Id, Index: x.Index,
				Verdict: verdict.Verdict(x.Verdict),
				Flaky:   x.Flaky}
			if m.Verdict == verdict.None {
				continue // not there yet: it says nothing of what combinations share
			}
			ran = append(ran, m)
			if x.Flaky || m.Verdict == verdict.Fail || m.Verdict == verdict.Error || m.Verdict == verdict.Skip {
				met = append(met, told(m, l, x))
			}
		}
	}
	return met, ran, place
}

// told adds what the last result that failed says.
func told(m verdict.Met, l contract.Leg, x contract.Crossing) verdict.Met {
	for _, r := range x.Results {
		if r.Failure == nil {
			continue
		}
		f := *r.Failure
		word := func(k string) string { w, _ := f[k].(string); return w }
		line, _ := f["line"].(float64)
		m.Kind, m.Expected, m.Actual, m.Step, m.Line = word("cause"), word("expected"), word("actual"), word("step"),
			int(line)
	}
	if m.Actual == "" {
		m.Kind, m.Expected, m.Actual = "trouble", "the attempt to be carried out", "it was not"
		for _, a := range l.Attempts {
			if a.Trouble != nil && *a.Trouble != "" {
				m.Actual = *a.Trouble
			}
		}
	}
	return m
}

// placeOf gives a combination's levels, and what its class of device measures.
func placeOf(c contract.Combination, classes []fleet.Device) verdict.Place {
	memory, width := verdict.Level{Factor: "memory"}, verdict.Level{Factor: "width"}
	want := fleet.Class{Kind: c.Kind, Model: c.Model, Platform: c.Platform, OS: c.Os}
	for _, d := range classes {
		if !want.Matches(d) {
			continue
		}
		gb := fmt.Sprintf("%g GB of memory", float64(d.MemoryMB)/1024)
		memory.Figure, memory.Below, memory.Beyond = float64(d.MemoryMB), "devices with at most "+gb,
			"devices with at least "+gb
		across := d.Width // as the device is held
		for _, l := range c.Levels {
			if l.Factor == feel.Rotation && l.Value == device.Landscape {
				across = d.Height
			}
		}
		dp := fmt.Sprintf("%d dp wide", across)
		width.Figure, width.Below, width.Beyond = float64(across), "screens at most "+dp, "screens at least "+dp
	}
	place := verdict.Place{
		memory, width,
		{Factor: "platform", Value: c.Platform, Words: fleet.PlatformName(c.Platform)},
		{Factor: "kind", Value: c.Kind, Words: map[string]string{"real": "real devices", "emulator": "emulators",
			"simulator": "simulators"}[c.Kind]},
		{Factor: "model", Value: c.Model, Words: c.Model},
		{Factor: "os", Value: c.Platform + " " + c.Os, Words: fleet.SystemName(c.Platform, c.Os)},
	}
	for _, l := range c.Levels {
		place = append(place, verdict.Level{Factor: l.Factor, Value: l.Value,
			Words: fleet.FactorNamed(l.Factor).Read(l.Value)})
	}
	return place
}

// since says of each cause how its first case went in earlier builds.
// It looks at the combinations in which the cause was met, and at no others.
func (s *Part) since(ctx context.Context, c base.Caller, number int64, causes []verdict.Cause,
	places map[int64]string) ([]string, error) {
	out := make([]string, len(causes))
	if len(causes) == 0 {
		return out, nil
	}
	r, err := s.Store.RunNumbered(ctx, c.ProjectID, number)
	if err != nil {
		return nil, err
	}
	of := map[string][]store.CaseInRun{}
	for i, one := range causes {
		if of[one.Suite] == nil {
			history, err := s.Store.CaseHistory(ctx, c.ProjectID, r.AppID, one.Suite, number, historyRuns)
			if err != nil {
				return nil, err
			}
			of[one.Suite] = history
		}
		met := map[string]bool{}
		for _, leg := range one.Legs {
			met[places[leg]] = true
		}
		same := slices.DeleteFunc(slices.Clone(of[one.Suite]), func(r store.CaseInRun) bool {
			return r.Case != one.Case || !met[placeKey(r.Kind, r.Model, r.Platform, r.OS, r.Levels.V)]
		})
		out[i] = sinceWords(r.BuildID, foldHistory(same)[one.Case])
	}
	return out, nil
}

// sinceWords tells how a case went in the builds before, newest run first.
func sinceWords(build int64, runs []past) string {
	name := func(p past) string { return fmt.Sprintf("%s (%s)", p.VersionName, p.VersionCode) }
	var oldest *past
	for i, p := range runs {
		if p.BuildID == build || !p.fold.Verdict.Decided() || p.fold.Verdict == verdict.Skip {
			continue
		}
		if p.fold.Verdict == verdict.Pass && !p.fold.Flaky {
			if oldest != nil {
				return fmt.Sprintf("since %s; it last passed in %s", name(*oldest), name(p))
			}
			return "new in this build; it passed in " + name(p)
		}
		oldest = &runs[i]
	}
	if oldest != nil {
		return "failed in " + name(*oldest) + " already"
	}
	return ""
}
