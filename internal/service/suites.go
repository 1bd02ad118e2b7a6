package service

import (
	"context"
	"fmt"
	"strings"

	"yamato/internal/contract"
	"yamato/internal/core/script"
	"yamato/internal/store"
)

// PushSuite checks a script and keeps it as a revision of the suite it names.
func (s *Service) PushSuite(ctx context.Context, c Caller, fileName, text string, tried bool) (contract.Suite, error) {
	suite, findings := script.Read(text)
	if n := script.Faults(findings); n > 0 {
		p := Invalid(fmt.Sprintf("%s has %d faults", clean(fileName), n), "`yamato suite check FILE` shows each with its place")
		p.Body.Findings = ptr(findingsOut(findings))
		return contract.Suite{}, p
	}
	info, err := s.put(ctx, strings.NewReader(text), "", 2<<20)
	if err != nil {
		return contract.Suite{}, err
	}
	in := store.Suite{Name: suite.Name, Digest: info.Digest, FileName: clean(fileName), Tried: tried}
	in.Locators.V = suite.Locators()
	for _, one := range suite.Cases {
		tags := append(append([]string{}, suite.Tags...), one.Tags...)
		in.Cases.V = append(in.Cases.V, store.CaseName{Name: one.Name, Tags: tags})
	}
	kept, fresh, err := s.store.AddSuite(ctx, c.ProjectID, in)
	if err != nil {
		return contract.Suite{}, err
	}
	s.bell.ring()
	out := suiteOut(kept)
	out.Fresh = &fresh
	if len(findings) > 0 {
		out.Findings = ptr(findingsOut(findings))
	}
	return out, nil
}

// RemoveSuite takes a suite off the list; its runs stay.
func (s *Service) RemoveSuite(ctx context.Context, c Caller, name string) error {
	suite, err := s.store.SuiteNamed(ctx, c.ProjectID, name)
	if err == nil {
		err = s.store.RemoveSuite(ctx, c.ProjectID, suite.Name)
	}
	if err != nil {
		return notThere(err, "`yamato suite ls` lists the suites", "there is no suite %q", name)
	}
	s.bell.ring()
	return nil
}

// Suites lists the newest revision of each suite.
func (s *Service) Suites(ctx context.Context, c Caller) ([]contract.Suite, error) {
	list, err := s.store.Suites(ctx, c.ProjectID)
	out := []contract.Suite{}
	for _, one := range list {
		if !own(one.Name) {
			out = append(out, suiteOut(one))
		}
	}
	return out, err
}

// own tells whether a suite is one that the service made for itself.
func own(name string) bool { return strings.HasPrefix(name, "yamato: ") }

func suiteOut(in store.Suite) contract.Suite {
	out := contract.Suite{Name: in.Name, Revision: in.Number, Digest: in.Digest, FileName: in.FileName, CreatedAt: in.CreatedAt, Cases: []contract.CaseName{}}
	for _, c := range in.Cases.V {
		out.Cases = append(out.Cases, contract.CaseName{Name: c.Name, Tags: c.Tags})
	}
	return out
}

func findingsOut(in []script.Finding) []contract.Finding {
	out := []contract.Finding{}
	for _, f := range in {
		one := contract.Finding{Line: f.Pos.Line, Column: f.Pos.Column, Length: f.Length, Text: f.Line, Message: f.Message, Shift: stated(f.Shift)}
		if f.Hint != "" {
			one.Hint = ptr(f.Hint)
		}
		if f.Advice {
			one.Advice = ptr(true)
		}
		out = append(out, one)
	}
	return out
}

func ptr[T any](v T) *T { return &v }

// CheckSuite gives what the check finds in a script that is not kept, with what nothing
// has ever matched in an app.
func (s *Service) CheckSuite(ctx context.Context, c Caller, text, app string) ([]contract.Finding, error) {
	id, err := s.store.AppNamed(ctx, c.ProjectID, app)
	if err != nil {
		return nil, notThere(err, "`yamato build ls` lists the apps", "there is no app %q", app)
	}
	read, findings := script.Read(text)
	unmatched, _, err := s.unmatched(ctx, c, id, read, text)
	return findingsOut(append(findings, unmatched...)), err
}

// unmatched gives advice on what has never matched in an app, or in any where that is 0,
// and how many of the suite's locators have.
func (s *Service) unmatched(ctx context.Context, c Caller, app int64, suite *script.Suite, text string) ([]script.Finding, int, error) {
	list, err := s.store.KnownLocators(ctx, c.ProjectID, app, suite.Locators())
	if err != nil {
		return nil, 0, err
	}
	known := map[string]bool{}
	for _, l := range list {
		known[l] = true
	}
	return suite.Unmatched(text, func(l string) bool { return known[l] }), len(known), nil
}
