package builds

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/script"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Pushed is a suite that was handed in.
type Pushed struct {
	store.Suite
	Fresh    bool // it is a new revision
	Findings []script.Finding
}

// PushSuite checks a script and keeps it as a revision of the suite it names.
func (s *Part) PushSuite(ctx context.Context, c base.Caller, fileName, text string,
	tried bool) (Pushed, error) {
	suite, findings := script.Read(text)
	if n := script.Faults(findings); n > 0 {
		p := base.Invalid(fmt.Sprintf("%s has %d faults", Clean(fileName), n),
			"`yamato suite check FILE` shows each with its place")
		p.Findings = findings
		return Pushed{}, p
	}
	info, err := s.Put(ctx, strings.NewReader(text), "", 2<<20)
	if err != nil {
		return Pushed{}, err
	}
	in := store.Suite{Name: suite.Name, Digest: info.Digest, FileName: Clean(fileName), Tried: tried}
	in.Locators.V = suite.Locators()
	for _, one := range suite.Cases {
		tags := append(append([]string{}, suite.Tags...), one.Tags...)
		in.Cases.V = append(in.Cases.V, store.CaseName{Name: one.Name, Tags: tags})
	}
	kept, fresh, err := s.Store.AddSuite(ctx, c.ProjectID, in)
	if err != nil {
		return Pushed{}, err
	}
	s.Bell.Ring()
	return Pushed{kept, fresh, findings}, nil
}

// RemoveSuite takes a suite off the list; its runs stay.
func (s *Part) RemoveSuite(ctx context.Context, c base.Caller, name string) error {
	suite, err := s.Store.SuiteNamed(ctx, c.ProjectID, name)
	if err == nil {
		err = s.Store.RemoveSuite(ctx, c.ProjectID, suite.Name)
	}
	if err != nil {
		return base.NotThere(err, "`yamato suite ls` lists the suites", "there is no suite %q", name)
	}
	s.Bell.Ring()
	return nil
}

// Suites lists the newest revision of each suite.
func (s *Part) Suites(ctx context.Context, c base.Caller) ([]store.Suite, error) {
	list, err := s.Store.Suites(ctx, c.ProjectID)
	return slices.DeleteFunc(list, func(one store.Suite) bool { return Own(one.Name) }), err
}

// CheckSuite gives what the check finds in a script that is not kept, with what nothing
// has ever matched in an app.
func (s *Part) CheckSuite(ctx context.Context, c base.Caller, text, app string) ([]script.Finding, error) {
	id, err := s.Store.AppNamed(ctx, c.ProjectID, app)
	if err != nil {
		return nil, base.NotThere(err, "`yamato build ls` lists the apps", "there is no app %q", app)
	}
	read, findings := script.Read(text)
	unmatched, _, err := s.Unmatched(ctx, c, id, read, text)
	return append(findings, unmatched...), err
}

// Unmatched gives advice on what has never matched in an app, or in any where that is 0,
// and how many of the suite's locators have.
func (s *Part) Unmatched(ctx context.Context, c base.Caller, app int64, suite *script.Suite,
	text string) ([]script.Finding, int, error) {
	list, err := s.Store.KnownLocators(ctx, c.ProjectID, app, suite.Locators())
	if err != nil {
		return nil, 0, err
	}
	known := map[string]bool{}
	for _, l := range list {
		known[l] = true
	}
	return suite.Unmatched(text, func(l string) bool { return known[l] }), len(known), nil
}

// Own tells whether a suite is one that the service made for itself.
func Own(name string) bool { return strings.HasPrefix(name, "yamato: ") }
