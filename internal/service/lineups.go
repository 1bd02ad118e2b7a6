package service

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yamato/internal/contract"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/store"
)

const lineupHint = "docs/lineups.md says how a lineup is written"

// SaveLineup keeps a lineup under the name that stands in it.
func (s *Service) SaveLineup(ctx context.Context, c Caller, text string) (contract.Lineup, error) {
	l, err := fleet.ReadLineup(text)
	if err != nil {
		return contract.Lineup{}, Invalid(err.Error(), lineupHint)
	}
	if err := s.store.SaveLineup(ctx, c.ProjectID, store.Lineup{Name: l.Name, Text: text, SavedBy: c.Name}); err != nil {
		return contract.Lineup{}, err
	}
	return s.Lineup(ctx, c, l.Name)
}

// Lineup gives one lineup.
func (s *Service) Lineup(ctx context.Context, c Caller, name string) (contract.Lineup, error) {
	l, err := s.store.LineupNamed(ctx, c.ProjectID, name)
	if err != nil {
		return contract.Lineup{}, notThere(err, "`yamato lineup ls` lists the lineups; `yamato lineup save FILE` keeps one", "there is no lineup %q", name)
	}
	return lineupOut(l), nil
}

func lineupOut(l store.Lineup) contract.Lineup {
	out := contract.Lineup{Name: l.Name, Text: l.Text, SavedBy: l.SavedBy, SavedAt: l.SavedAt}
	if read, err := fleet.ReadLineup(l.Text); err == nil && read.About != "" {
		out.About = &read.About
	}
	return out
}

// Lineups gives the lineups by name.
func (s *Service) Lineups(ctx context.Context, c Caller) ([]contract.Lineup, error) {
	list, err := s.store.Lineups(ctx, c.ProjectID)
	out := []contract.Lineup{}
	for _, l := range list {
		out = append(out, lineupOut(l))
	}
	return out, err
}

// RemoveLineup forgets a lineup.
func (s *Service) RemoveLineup(ctx context.Context, c Caller, name string) error {
	err := s.store.RemoveLineup(ctx, c.ProjectID, name)
	return notThere(err, "`yamato lineup ls` lists the lineups", "there is no lineup %q", name)
}

// TryLineup tells what a lineup takes now, and why each other device is passed
// over; with a build, also what of that the build runs on.
func (s *Service) TryLineup(ctx context.Context, c Caller, in contract.TryLineup) (contract.Choice, error) {
	out := contract.Choice{Taken: []contract.Chosen{}, Passed: []contract.Chosen{}}
	text := deref(in.Text)
	if in.Name != nil {
		l, err := s.Lineup(ctx, c, *in.Name)
		if err != nil {
			return out, err
		}
		text = l.Text
	}
	l, err := fleet.ReadLineup(text)
	if err != nil {
		return out, Invalid(err.Error(), lineupHint)
	}
	devices, err := s.candidates(ctx, c)
	if err != nil {
		return out, err
	}
	out.Name = l.Name
	choice := l.Choose(standings(devices), c.Name, time.Now())
	at := map[string]matrix.Candidate{}
	for _, d := range devices {
		at[d.Name] = d
	}
	runs := func(matrix.Candidate) (reason string) { return "" }
	if deref(in.Build) != "" {
		build, err := s.buildNamed(ctx, c, deref(in.App), *in.Build)
		if err != nil {
			return out, err
		}
		fits := fleet.NewFitter(facts(build), time.Now())
		runs = func(d matrix.Candidate) string {
			if i, reasons := fits.Fit(&d.Device, d.Condition.Installed); i < 0 {
				return fmt.Sprintf("%s %s does not run on it: %s", build.App, build.VersionName, reasons[0].Why)
			}
			return ""
		}
	}
	for _, t := range choice.Taken {
		if why := runs(at[t.Name]); why != "" {
			out.Passed = append(out.Passed, chosenOut(at[t.Name], why))
		} else {
			out.Taken = append(out.Taken, chosenOut(at[t.Name], t.Why))
		}
	}
	for _, p := range choice.Passed {
		out.Passed = append(out.Passed, chosenOut(at[p.Name], p.Why))
	}
	return out, nil
}

func standings(devices []matrix.Candidate) []fleet.Standing {
	out := make([]fleet.Standing, len(devices))
	for i, d := range devices {
		out[i] = d.Standing
	}
	return out
}

func chosenOut(d matrix.Candidate, why string) contract.Chosen {
	return contract.Chosen{Device: d.Name, Site: d.Site, Kind: d.Kind, Model: d.Model, Platform: d.Platform, Os: d.OS, State: d.State, Why: why}
}

// chosenBy keeps the candidates that a saved lineup takes now.
func (s *Service) chosenBy(ctx context.Context, c Caller, name string, devices []matrix.Candidate) ([]matrix.Candidate, error) {
	saved, err := s.Lineup(ctx, c, name)
	if err != nil {
		return nil, err
	}
	l, err := fleet.ReadLineup(saved.Text)
	if err != nil {
		return nil, Invalid(fmt.Sprintf("the lineup %q cannot be read: %v", name, err), lineupHint)
	}
	taken := map[string]bool{}
	for _, t := range l.Choose(standings(devices), c.Name, time.Now()).Taken {
		taken[t.Name] = true
	}
	if len(taken) == 0 {
		return nil, Invalid(fmt.Sprintf("the lineup %q takes no device now", name), fmt.Sprintf("`yamato lineup try %q` says why each was passed over", name))
	}
	return slices.DeleteFunc(devices, func(d matrix.Candidate) bool { return !taken[d.Name] }), nil
}
