package builds

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

const LineupHint = "docs/lineups.md says how a lineup is written"

// SaveLineup keeps a lineup under the name that stands in it.
func (s *Part) SaveLineup(ctx context.Context, c base.Caller, text string) (store.Lineup, error) {
	l, err := fleet.ReadLineup(text)
	if err != nil {
		return store.Lineup{}, base.Invalid(err.Error(), LineupHint)
	}
	if err := s.Store.SaveLineup(ctx, c.ProjectID, store.Lineup{Name: l.Name, Text: text,
		SavedBy: c.Name}); err != nil {
		return store.Lineup{}, err
	}
	return s.Lineup(ctx, c, l.Name)
}

// Lineup gives one lineup.
func (s *Part) Lineup(ctx context.Context, c base.Caller, name string) (store.Lineup, error) {
	l, err := s.Store.LineupNamed(ctx, c.ProjectID, name)
	if err != nil {
		return store.Lineup{}, base.NotThere(err,
			remedy.Say("%s lists the lineups; %s keeps one", remedy.LineupList, remedy.LineupSave), "there is no lineup %q", name)
	}
	return l, nil
}

// Lineups gives the lineups by name.
func (s *Part) Lineups(ctx context.Context, c base.Caller) ([]store.Lineup, error) {
	return s.Store.Lineups(ctx, c.ProjectID)
}

// RemoveLineup forgets a lineup.
func (s *Part) RemoveLineup(ctx context.Context, c base.Caller, name string, anyway bool) error {
	if err := s.Spare(ctx, c, base.NeedsLineup, name, anyway); err != nil {
		return err
	}
	err := s.Store.RemoveLineup(ctx, c.ProjectID, name)
	return base.NotThere(err, remedy.Say("%s lists the lineups", remedy.LineupList), "there is no lineup %q", name)
}

// Trial is a lineup to be tried: a saved one by name, or a text.
type Trial struct {
	Name, Text string
	Build, App string // what of the lineup this runs on is told, where one is named
}

// Choice is what a lineup takes and passes over.
type Choice struct {
	Name          string
	Taken, Passed []Chosen
}

// Chosen is a device with why it was taken, or passed over.
type Chosen struct {
	matrix.Candidate
	Why string
}

// TryLineup tells what a lineup takes now, and why each other device is passed
// over; with a build, also what of that the build runs on.
func (s *Part) TryLineup(ctx context.Context, c base.Caller, in Trial) (Choice, error) {
	out := Choice{}
	text := in.Text
	if in.Name != "" {
		l, err := s.Lineup(ctx, c, in.Name)
		if err != nil {
			return out, err
		}
		text = l.Text
	}
	l, err := fleet.ReadLineup(text)
	if err != nil {
		return out, base.Invalid(err.Error(), LineupHint)
	}
	devices, err := s.Candidates(ctx, c)
	if err != nil {
		return out, err
	}
	out.Name = l.Name
	choice := l.Choose(Standings(devices), c.Name, time.Now())
	at := map[string]matrix.Candidate{}
	for _, d := range devices {
		at[d.Name] = d
	}
	runs := func(matrix.Candidate) (reason string) { return "" }
	if in.Build != "" {
		build, err := s.BuildNamed(ctx, c, in.App, in.Build)
		if err != nil {
			return out, err
		}
		fits := fleet.NewFitter(build.Facts(), time.Now())
		runs = func(d matrix.Candidate) string {
			if i, reasons := fits.Fit(&d.Device, d.Condition.Installed); i < 0 {
				return fmt.Sprintf("%s %s does not run on it: %s", build.App, build.VersionName, reasons[0].Why)
			}
			return ""
		}
	}
	for _, t := range choice.Taken {
		if why := runs(at[t.Name]); why != "" {
			out.Passed = append(out.Passed, Chosen{at[t.Name], why})
		} else {
			out.Taken = append(out.Taken, Chosen{at[t.Name], t.Why})
		}
	}
	for _, p := range choice.Passed {
		out.Passed = append(out.Passed, Chosen{at[p.Name], p.Why})
	}
	return out, nil
}

func Standings(devices []matrix.Candidate) []fleet.Standing {
	out := make([]fleet.Standing, len(devices))
	for i, d := range devices {
		out[i] = d.Standing
	}
	return out
}

// ChosenBy keeps the candidates that a saved lineup takes now.
func (s *Part) ChosenBy(ctx context.Context, c base.Caller, name string,
	devices []matrix.Candidate) ([]matrix.Candidate, error) {
	saved, err := s.Lineup(ctx, c, name)
	if err != nil {
		return nil, err
	}
	l, err := fleet.ReadLineup(saved.Text)
	if err != nil {
		return nil, base.Invalid(fmt.Sprintf("the lineup %q cannot be read: %v", name, err), LineupHint)
	}
	taken := map[string]bool{}
	for _, t := range l.Choose(Standings(devices), c.Name, time.Now()).Taken {
		taken[t.Name] = true
	}
	if len(taken) == 0 {
		return nil, base.Invalid(fmt.Sprintf("the lineup %q takes no device now", name),
			remedy.Say("%s says why each was passed over", remedy.LineupTry(name)))
	}
	return slices.DeleteFunc(devices, func(d matrix.Candidate) bool { return !taken[d.Name] }), nil
}
