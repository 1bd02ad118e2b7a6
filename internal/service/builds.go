package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"regexp"
	"strings"

	"yamato/internal/blob"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/plain"
	"yamato/internal/store"
)

// MaxPackage bounds a package, in bytes.
const MaxPackage = 4 << 30

// AddPackage keeps a package's bytes and what it says of itself. Nothing is kept
// of one that cannot be read.
func (s *Service) AddPackage(ctx context.Context, c Caller, fileName string, r io.Reader) (contract.Package, error) {
	info, err := s.put(ctx, r, "", MaxPackage)
	if errors.Is(err, blob.ErrTooLarge) {
		return contract.Package{}, problem(http.StatusRequestEntityTooLarge, "too-large", fmt.Sprintf("a package has at most %d GB", MaxPackage>>30), "hand in a smaller package")
	}
	if err != nil {
		return contract.Package{}, err
	}
	f, err := s.blobs.Open(ctx, info.Digest)
	if err != nil {
		return contract.Package{}, err
	}
	defer f.Close()
	facts, err := appfile.Read(f, f.Size())
	if err != nil {
		return contract.Package{}, err
	}
	plain.Deep(facts, maxFact) // names come from the package, and may be anything
	p := store.Package{Digest: info.Digest, Size: info.Size, FileName: clean(fileName), Facts: store.JSON[appfile.Package]{V: *facts}}
	if err := s.store.AddPackage(ctx, c.ProjectID, p); err != nil {
		return contract.Package{}, err
	}
	return packageOut(p), nil
}

func clean(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	return plain.Text(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, plain.Text(name, 1000)), 255)
}

// maxFact bounds a text among a package's facts, in bytes.
const maxFact = 8000

// MakeBuild gathers packages of one version into a build: the newest of that
// version which lacks these kinds of package, or a new one.
func (s *Service) MakeBuild(ctx context.Context, c Caller, digests []string) (contract.Build, error) {
	packages, err := s.store.Packages(ctx, c.ProjectID, digests)
	if err != nil {
		return contract.Build{}, err
	}
	if len(packages) < len(digests) {
		return contract.Build{}, NotFound("some of these packages have not been handed in", "hand every package in before making a build of them")
	}
	first := packages[0]
	if err := oneApp(packages); err != nil {
		return contract.Build{}, err
	}
	kinds := map[appfile.Kind]string{}
	for _, p := range packages {
		f, g := first.Facts.V, p.Facts.V
		if f.VersionName != g.VersionName || f.VersionCode != g.VersionCode {
			return contract.Build{}, Invalid(fmt.Sprintf("%s is version %s (%s), but %s is %s (%s)", first.FileName, f.VersionName, f.VersionCode, p.FileName, g.VersionName, g.VersionCode),
				"a build holds packages of one version: push each version by itself")
		}
		if other, ok := kinds[g.Kind]; ok {
			return contract.Build{}, Invalid(fmt.Sprintf("%s and %s are the same kind of package", other, p.FileName), "a build holds one package of each kind")
		}
		kinds[g.Kind] = p.FileName
	}
	var g gathered
	err = s.store.InTx(ctx, func(t *store.Tx) error {
		var err error
		g, err = gather(ctx, t, c.ProjectID, packages)
		return err
	})
	if err != nil {
		return contract.Build{}, err
	}
	s.bell.ring()
	b, err := s.store.Build(ctx, c.ProjectID, g.build)
	out := buildOut(b)
	for i := range out.Packages {
		out.Packages[i].Fresh = ptr(!g.same && !g.had[out.Packages[i].Digest])
	}
	return out, err
}

// oneApp refuses packages of which one is plainly another app's than the first: its
// platform's id for an app is another one.
func oneApp(packages []store.Package) error {
	at := map[string]store.Package{}
	for _, p := range packages {
		f := p.Facts.V
		before, ok := at[f.Platform]
		if !ok {
			at[f.Platform] = p
			continue
		}
		if id := before.Facts.V.ApplicationID; id != f.ApplicationID {
			return Invalid(fmt.Sprintf("%s is the app %s, but %s is %s: another app", before.FileName, id, p.FileName, f.ApplicationID), "a build holds packages of one app: push each app by itself")
		}
	}
	return nil
}

// gathered is a build that packages went into, and which packages it had before.
type gathered struct {
	build int64
	same  bool            // it held all of them
	had   map[string]bool // by digest
}

func gather(ctx context.Context, t *store.Tx, project int64, packages []store.Package) (gathered, error) {
	g := gathered{had: map[string]bool{}}
	facts := packages[0].Facts.V
	name := facts.Name
	if name == "" {
		name = facts.ApplicationID
	}
	app, err := t.AppOf(ctx, project, name, packages)
	if err != nil {
		return g, err
	}
	digests := make([]string, len(packages))
	for i, p := range packages {
		digests[i] = p.Digest
	}
	if id, err := t.BuildHolding(ctx, app, digests); err == nil { // the same content is the same build
		g.build, g.same = id, true
		return g, nil
	} else if !errors.Is(err, store.ErrNone) {
		return g, err
	}
	newest, err := t.NewestBuildOf(ctx, app, facts.VersionName, facts.VersionCode)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return g, err
	}
	id := newest.ID
	for _, p := range newest.Packages {
		g.had[p.Digest] = true
	}
	if err != nil || clashes(newest, packages) {
		clear(g.had)
		if id, err = t.AddBuild(ctx, project, app, facts.VersionName, facts.VersionCode); err != nil {
			return g, err
		}
	}
	for _, p := range packages {
		if err := t.AddToBuild(ctx, project, id, p); err != nil {
			return g, err
		}
	}
	g.build = id
	return g, nil
}

// clashes tells whether a build holds another package of one of these kinds.
func clashes(b store.Build, packages []store.Package) bool {
	for _, have := range b.Packages {
		for _, p := range packages {
			if have.Facts.V.Kind == p.Facts.V.Kind && have.Digest != p.Digest {
				return true
			}
		}
	}
	return false
}

// Builds lists builds, newest first.
func (s *Service) Builds(ctx context.Context, c Caller, app, q string, wanted []string, cursor int64, limit int) (contract.BuildList, error) {
	labels, err := labelsOf(wanted)
	if err != nil {
		return contract.BuildList{}, err
	}
	list, err := s.store.Builds(ctx, c.ProjectID, app, q, labels, cursor, limit+1)
	if err != nil {
		return contract.BuildList{}, err
	}
	out := contract.BuildList{Items: []contract.Build{}}
	for i, b := range list {
		if i == limit {
			out.Next = &list[i-1].ID
			break
		}
		out.Items = append(out.Items, buildOut(b))
	}
	return out, nil
}

// Build finds the one build that ref means: its number, or its version.
func (s *Service) Build(ctx context.Context, c Caller, app, ref string) (contract.Build, error) {
	b, err := s.buildNamed(ctx, c, app, ref)
	return buildOut(b), err
}

func (s *Service) buildNamed(ctx context.Context, c Caller, app, ref string) (store.Build, error) {
	var list []store.Build
	labels, err := labelsOf(strings.Split(ref, ","))
	if strings.Contains(ref, "=") && err == nil {
		list, err = s.store.NewestLabelled(ctx, c.ProjectID, app, labels)
	} else {
		list, err = s.store.BuildsNamed(ctx, c.ProjectID, app, ref)
	}
	if err != nil {
		return store.Build{}, err
	}
	if len(list) == 0 {
		return store.Build{}, NotFound(fmt.Sprintf("there is no build %q", ref), "`yamato build ls` lists the builds; `yamato build push FILE…` hands one in")
	}
	for _, b := range list[1:] {
		if b.AppID != list[0].AppID {
			return store.Build{}, Invalid(fmt.Sprintf("both %s and %s have a build %q", list[0].App, b.App, ref), "say which app is meant with --app")
		}
	}
	return list[0], nil
}

// labelsOf reads labels as they are written: key=value.
func labelsOf(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, l := range list {
		if l == "" {
			continue
		}
		key, value, ok := strings.Cut(strings.TrimSpace(l), "=")
		if !ok || !labelKey.MatchString(key) {
			return nil, Invalid(fmt.Sprintf("%q is no label", l), "labels are written as in branch=main")
		}
		out[key] = value
	}
	return out, nil
}

var labelKey = regexp.MustCompile(`^[a-z][a-z0-9_.-]{0,62}$`)

func packageOut(p store.Package) contract.Package {
	f := p.Facts.V
	out := contract.Package{Digest: p.Digest, Size: p.Size, FileName: p.FileName, Kind: string(f.Kind), Platform: f.Platform, ApplicationId: f.ApplicationID,
		VersionName: f.VersionName, VersionCode: f.VersionCode, MinimumOs: f.MinimumOS, Permissions: f.Permissions,
		Name: stated(f.Name), MinimumApi: stated(f.MinimumAPI), TargetOs: stated(f.TargetOS), TargetApi: stated(f.TargetAPI), Abis: listed(f.ABIs), Launch: stated(f.Launch),
		Instruments: stated(f.Instruments), Debuggable: stated(f.Debuggable), Needs: listed(f.Needs), Forms: listed(f.Forms), Languages: listed(f.Languages), Rotation: stated(f.Rotation), Icon: stated(f.Icon != "")}
	if g := f.Signing; g != nil {
		out.Signing = &contract.Signing{Schemes: g.Schemes, Subject: g.Subject, Fingerprint: g.Fingerprint, Expires: g.Expires}
	}
	if r := f.Profile; r != nil {
		out.Profile = &contract.Profile{Name: r.Name, Team: r.Team, TeamId: r.TeamID, Expires: r.Expires, Devices: r.Devices, AllDevices: r.AllDevices, Entitlements: r.Entitlements}
	}
	if len(f.Parts) > 0 {
		parts := []contract.Part{}
		for _, part := range f.Parts {
			parts = append(parts, contract.Part{Name: part.Name, Size: part.Size})
		}
		out.Parts = &parts
	}
	return out
}

// stated gives nil for what a package does not state.
func stated[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

func listed[T any](list []T) *[]T {
	if len(list) == 0 {
		return nil
	}
	return &list
}

func buildOut(b store.Build) contract.Build {
	out := contract.Build{App: b.App, Number: b.Number, VersionName: b.VersionName, VersionCode: b.VersionCode, CreatedAt: b.CreatedAt, Note: b.Note, Pinned: b.Pinned, RemovedAt: b.RemovedAt,
		Labels: b.Labels, Packages: []contract.Package{}}
	if out.Labels == nil {
		out.Labels = map[string]string{}
	}
	for _, p := range b.Packages {
		out.Packages = append(out.Packages, packageOut(p))
	}
	return out
}
