package builds

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"yamato/internal/core/plain"
	"yamato/internal/core/remedy"
	"yamato/internal/core/script"
	"yamato/internal/core/script/bundle"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
	"yamato/internal/store/vault"
)

// Pushed is a suite that was handed in.
type Pushed struct {
	store.Suite
	Fresh    bool // it is a new revision
	Findings []script.Finding
}

// NewSuite is a suite that is handed in.
type NewSuite struct {
	FileName string
	Text     string
	Files    map[string][]byte // what lies beside it
	Tried    bool              // to be run once
	Kept     bool              // it is written here, and nowhere else
	Over     int64             // the revision that it was made of; 0 where that does not matter
}

// PushSuite checks a script with what it uses, and keeps it as a revision of the suite it names.
func (s *Part) PushSuite(ctx context.Context, c base.Caller, n NewSuite) (Pushed, error) {
	whole, err := bundled(n.Text, n.Files)
	if err != nil {
		return Pushed{}, err
	}
	suite, findings := script.ReadWith(n.Text, whole.Beside())
	fileName := Clean(n.FileName)
	if faults := script.Faults(findings); faults > 0 {
		p := base.Invalid(fmt.Sprintf("%s has %d faults", fileName, faults),
			remedy.Say("%s shows each with its place", remedy.SuiteCheck))
		p.Findings = findings
		return Pushed{}, p
	}
	asks := suite.Asks()
	for _, f := range asks.Files {
		if _, ok := whole.Files[f]; !ok {
			return Pushed{}, base.Invalid(fmt.Sprintf("%s gives the file %s, which was not handed in with it", fileName,
				f),
				remedy.Say("it lies in the suite's folder: %s takes it along", remedy.SuitePush))
		}
	}
	keepOnly(&whole, suite, asks.Files)
	blob, err := whole.Encode()
	if err != nil {
		return Pushed{}, base.Invalid(err.Error(), "hand in smaller files")
	}
	info, err := s.Put(ctx, bytes.NewReader(blob), "", bundle.MaxSize+1<<20)
	if err != nil {
		return Pushed{}, err
	}
	in := store.Suite{Name: suite.Name, Digest: info.Digest, FileName: fileName, Tried: n.Tried, Origin: "folder",
		By: c.Name}
	if n.Kept {
		in.Origin = "kept"
	}
	in.Locators.V = suite.Locators()
	in.Asks = pg.JSON[vault.Asked]{V: vault.Asked(asks)}
	var given []string
	for _, g := range suite.Given {
		given = append(given, g.Name)
	}
	for _, one := range suite.Cases {
		tags := append(append([]string{}, suite.Tags...), one.Tags...)
		line := one.Pos.Line
		if one.Row.Line > 0 {
			line = one.Row.Line
		}
		in.Cases.V = append(in.Cases.V, store.CaseName{Name: one.Name, Tags: tags, Line: line, End: one.End,
			Given: given})
	}
	may := func(newest store.Suite) error {
		switch {
		case n.Tried:
			return nil
		case n.Kept && newest.Origin == "folder":
			return base.Refuse(base.OtherCall, fmt.Sprintf("%s is handed in from a folder, by %s", suite.Name,
				newest.By),
				"change it where it comes from, or give this one a name of its own")
		case n.Kept && n.Over == 0:
			return base.Refuse(base.OtherCall, fmt.Sprintf("there is a suite %s already", suite.Name),
				"give this one a name of its own, or change that one")
		case n.Over > 0 && newest.Number != n.Over:
			return base.Refuse(base.OtherCall, fmt.Sprintf("%s handed in revision %d meanwhile", newest.By,
				newest.Number),
				"look at what has changed, and put yours on top of it")
		}
		return nil
	}
	kept, fresh, err := s.Store.AddSuite(ctx, c.ProjectID, in, may)
	if err != nil {
		return Pushed{}, err
	}
	s.Bell.Ring()
	return Pushed{kept, fresh, findings}, nil
}

// bundled gathers a script and what lies beside it.
func bundled(text string, files map[string][]byte) (bundle.Bundle, error) {
	b := bundle.Bundle{Text: text, Files: map[string][]byte{}}
	for name, data := range files {
		at, why := script.Beside("", name)
		if why != "" || at != name || plain.Text(name, 400) != name {
			return b, base.Invalid(fmt.Sprintf("%q is no path from the suite's folder on", base.Short(name, 100)), "")
		}
		b.Files[name] = data
	}
	if err := b.Check(); err != nil {
		return b, base.Invalid(err.Error(), "hand in less")
	}
	return b, nil
}

// keepOnly leaves what a suite uses and gives, so that nothing else makes another revision of it.
func keepOnly(b *bundle.Bundle, suite *script.Suite, given []string) {
	used := slices.Clone(given)
	for _, u := range suite.Uses {
		used = append(used, u.File)
	}
	for name := range b.Files {
		if !slices.Contains(used, name) {
			delete(b.Files, name)
		}
	}
}

// RemoveSuite takes a suite off the list; its runs stay.
func (s *Part) RemoveSuite(ctx context.Context, c base.Caller, name string, anyway bool) error {
	suite, err := s.Store.SuiteNamed(ctx, c.ProjectID, name)
	if err == nil {
		if err := s.Spare(ctx, c, base.NeedsSuite, suite.Name, anyway); err != nil {
			return err
		}
	}
	if err == nil {
		err = s.Store.RemoveSuite(ctx, c.ProjectID, suite.Name)
	}
	if err != nil {
		return noSuite(err, name)
	}
	s.Bell.Ring()
	return nil
}

func noSuite(err error, name string) error {
	return base.NotThere(err, remedy.Say("%s lists the suites; %s hands them in", remedy.SuiteList, remedy.SuitePush),
		"there is no suite %q", name)
}

// Suites lists the newest revision of each suite.
func (s *Part) Suites(ctx context.Context, c base.Caller) ([]store.Suite, error) {
	list, err := s.Store.Suites(ctx, c.ProjectID)
	return slices.DeleteFunc(list, func(one store.Suite) bool { return Own(one.Name) }), err
}

// SuiteText gives a suite's text with the files that it uses.
func (s *Part) SuiteText(ctx context.Context, suite store.Suite) (bundle.Bundle, error) {
	f, err := s.Blobs.Open(ctx, suite.Digest)
	if err != nil {
		return bundle.Bundle{}, err
	}
	defer f.Close()
	blob, err := io.ReadAll(io.LimitReader(f, bundle.MaxSize+1<<20))
	if err != nil {
		return bundle.Bundle{}, err
	}
	return bundle.Decode(blob)
}

// Revisions lists the revisions of a suite, newest first.
func (s *Part) Revisions(ctx context.Context, c base.Caller, name string) ([]store.Suite, error) {
	suite, err := s.Store.SuiteNamed(ctx, c.ProjectID, name)
	if err != nil {
		return nil, noSuite(err, name)
	}
	return s.Store.SuiteRevisions(ctx, c.ProjectID, suite.Name, 200)
}

// Revision gives one revision of a suite.
func (s *Part) Revision(ctx context.Context, c base.Caller, name string, number int64) (store.Suite, bundle.Bundle,
	error) {
	suite, err := s.Store.SuiteNamed(ctx, c.ProjectID, name)
	if err != nil {
		return suite, bundle.Bundle{}, noSuite(err, name)
	}
	suite, err = s.Store.SuiteRevision(ctx, c.ProjectID, suite.Name, number)
	if err != nil {
		return suite, bundle.Bundle{}, base.NotThere(err, "its page lists them", "there is no revision %d of %s",
			number, name)
	}
	text, err := s.SuiteText(ctx, suite)
	return suite, text, err
}

// ToCheck is a script that is checked and not kept, against what is named.
type ToCheck struct {
	Text               string
	Files              map[string][]byte
	App, Build, Lineup string
}

// CheckSuite gives what the check finds in a script, and in what is known of the app, the build,
// the project and the devices that are named.
func (s *Part) CheckSuite(ctx context.Context, c base.Caller, in ToCheck) ([]script.Finding, error) {
	whole, err := bundled(in.Text, in.Files)
	if err != nil {
		return nil, err
	}
	read, findings := script.ReadWith(in.Text, whole.Beside())
	if script.IsShared(in.Text) {
		read, findings = script.ReadShared("", in.Text, whole.Beside())
	}
	against, err := s.against(ctx, c, in, read)
	if err != nil {
		return nil, err
	}
	return append(findings, read.Against(against)...), nil
}

func (s *Part) against(ctx context.Context, c base.Caller, in ToCheck, read *script.Suite) (script.Against, error) {
	var out script.Against
	secrets, err := s.Store.Secrets(ctx, c.ProjectID, nil)
	if err != nil {
		return out, err
	}
	out.Secrets, out.Accounts = []string{}, []string{}
	for _, one := range secrets {
		out.Secrets = append(out.Secrets, one.Name)
	}
	accounts, err := s.Store.Accounts(ctx, c.ProjectID)
	if err != nil {
		return out, err
	}
	for _, one := range accounts {
		if !slices.Contains(out.Accounts, one.Name) {
			out.Accounts = append(out.Accounts, one.Name)
		}
	}
	if in.App != "" {
		id, err := s.Store.AppNamed(ctx, c.ProjectID, in.App)
		if err != nil {
			return out, base.NotThere(err, remedy.Say("%s lists the apps", remedy.BuildList), "there is no app %q", in.App)
		}
		if err := s.ofApp(ctx, c, id, in.App, read, &out); err != nil {
			return out, err
		}
	}
	if in.Build != "" {
		b, err := s.BuildNamed(ctx, c, in.App, in.Build)
		if err != nil {
			return out, err
		}
		texts, err := s.TextsOf(ctx, b)
		if err != nil {
			return out, err
		}
		out.Texts = script.Texts(texts)
	}
	if in.Lineup != "" {
		devices, err := s.Candidates(ctx, c)
		if err != nil {
			return out, err
		}
		if devices, err = s.ChosenBy(ctx, c, in.Lineup, devices); err != nil {
			return out, err
		}
		for _, d := range devices {
			out.Devices = append(out.Devices, script.Able{Name: d.Name, Abilities: d.Abilities, Traits: d.Traits})
		}
	}
	return out, nil
}

// ofApp adds what is known of an app.
func (s *Part) ofApp(ctx context.Context, c base.Caller, id int64, app string, read *script.Suite,
	out *script.Against) error {
	known, err := s.Store.KnownLocators(ctx, c.ProjectID, id, read.Locators())
	if err != nil {
		return err
	}
	out.App = app
	list, err := s.Store.Seen(ctx, c.ProjectID, id)
	if err != nil {
		return err
	}
	for _, e := range list {
		out.Seen = append(out.Seen, script.Seen{ID: e.ID, Text: e.Text, Role: e.Role, Screen: e.Screen,
			Unsure: e.Unsure})
	}
	if len(known) > 0 || len(list) > 0 { // of an app that has never run nothing is known
		out.Known = among(known)
	}
	out.Builds = func(name string) bool {
		_, err := s.BuildNamed(ctx, c, app, name)
		return err == nil
	}
	return nil
}

// Seen gives what screens of an app had on them.
func (s *Part) Seen(ctx context.Context, c base.Caller, app string) ([]vault.Element, error) {
	id, err := s.Store.AppNamed(ctx, c.ProjectID, app)
	if err != nil {
		return nil, base.NotThere(err, remedy.Say("%s lists the apps", remedy.BuildList), "there is no app %q", app)
	}
	return s.Store.Seen(ctx, c.ProjectID, id)
}

// Unmatched gives advice on what has never matched in any app, and how many of the suite's
// locators have.
func (s *Part) Unmatched(ctx context.Context, c base.Caller, suite *script.Suite) ([]script.Finding, int, error) {
	known, err := s.Store.KnownLocators(ctx, c.ProjectID, 0, suite.Locators())
	if err != nil {
		return nil, 0, err
	}
	return suite.Against(script.Against{Known: among(known)}), len(known), nil
}

func among(list []string) func(string) bool {
	has := map[string]bool{}
	for _, one := range list {
		has[one] = true
	}
	return func(one string) bool { return has[one] }
}

// Own tells whether a suite is one that the service made for itself.
func Own(name string) bool { return strings.HasPrefix(name, "yamato: ") }
