package builds

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"strings"

	"yamato/internal/blob"
	"yamato/internal/core/appfile"
	"yamato/internal/core/plain"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// MaxPackage bounds a package, in bytes.
const MaxPackage = 4 << 30

// AddPackage keeps a package's bytes and what it says of itself. Nothing is kept
// of one that cannot be read.
func (s *Part) AddPackage(ctx context.Context, c base.Caller, fileName string, r io.Reader) (store.Package, error) {
	info, err := s.Put(ctx, r, "", MaxPackage)
	if errors.Is(err, blob.ErrTooLarge) {
		return store.Package{}, base.Refuse(base.TooLarge, fmt.Sprintf("a package has at most %d GB", MaxPackage>>30),
			"hand in a smaller package")
	}
	if err != nil {
		return store.Package{}, err
	}
	f, err := s.Blobs.Open(ctx, info.Digest)
	if err != nil {
		return store.Package{}, err
	}
	defer f.Close()
	facts, err := appfile.Read(f, f.Size())
	if err != nil {
		return store.Package{}, err
	}
	plain.Deep(facts, maxFact) // names come from the package, and may be anything
	p := store.Package{Digest: info.Digest, Size: info.Size, FileName: Clean(fileName),
		Facts: pg.JSON[appfile.Package]{V: *facts}}
	if err := s.Store.AddPackage(ctx, c.ProjectID, p); err != nil {
		return store.Package{}, err
	}
	return (p), nil
}

func Clean(name string) string {
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

// Made is a build that packages were gathered in.
type Made struct {
	store.Build
	Fresh map[string]bool // by digest: it is new in this build
}

// MakeBuild gathers packages of one version into a build: the newest of that
// version which lacks these kinds of package, or a new one.
func (s *Part) MakeBuild(ctx context.Context, c base.Caller, digests []string) (Made, error) {
	packages, err := s.Store.Packages(ctx, c.ProjectID, digests)
	if err != nil {
		return Made{}, err
	}
	if len(packages) < len(digests) {
		return Made{}, base.NotFound("some of these packages have not been handed in",
			"hand every package in before making a build of them")
	}
	first := packages[0]
	if err := oneApp(packages); err != nil {
		return Made{}, err
	}
	kinds := map[appfile.Kind]string{}
	for _, p := range packages {
		f, g := first.Facts.V, p.Facts.V
		if f.VersionName != g.VersionName || f.VersionCode != g.VersionCode {
			return Made{}, base.Invalid(fmt.Sprintf("%s is version %s (%s), but %s is %s (%s)", first.FileName,
				f.VersionName, f.VersionCode, p.FileName, g.VersionName, g.VersionCode),
				"a build holds packages of one version: push each version by itself")
		}
		if other, ok := kinds[g.Kind]; ok {
			return Made{}, base.Invalid(fmt.Sprintf("%s and %s are the same kind of package", other, p.FileName),
				"a build holds one package of each kind")
		}
		kinds[g.Kind] = p.FileName
	}
	var g gathered
	err = s.Store.InTx(ctx, func(t *store.Tx) error {
		var err error
		g, err = gather(ctx, t.Builds, c.ProjectID, packages)
		return err
	})
	if err != nil {
		return Made{}, err
	}
	s.Bell.Ring()
	b, err := s.Store.Build(ctx, c.ProjectID, g.build)
	out := Made{b, map[string]bool{}}
	for _, p := range b.Packages {
		out.Fresh[p.Digest] = !g.same && !g.had[p.Digest]
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
			return base.Invalid(fmt.Sprintf("%s is the app %s, but %s is %s: another app", before.FileName, id,
				p.FileName,
				f.ApplicationID), "a build holds packages of one app: push each app by itself")
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

func gather(ctx context.Context, t store.Builds, project int64, packages []store.Package) (gathered, error) {
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
	} else if !errors.Is(err, pg.ErrNone) {
		return g, err
	}
	newest, err := t.NewestBuildOf(ctx, app, facts.VersionName, facts.VersionCode)
	if err != nil && !errors.Is(err, pg.ErrNone) {
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
func (s *Part) Builds(ctx context.Context, c base.Caller, app, q string, wanted []string, cursor int64,
	limit int) (list []store.Build, next *int64, err error) {
	labels, err := labelsOf(wanted)
	if err != nil {
		return nil, nil, err
	}
	list, err = s.Store.Builds(ctx, c.ProjectID, app, q, labels, cursor, limit+1)
	if len(list) > limit {
		list, next = list[:limit], &list[limit-1].ID
	}
	return list, next, err
}

// BuildNamed finds the one build that ref means: its number, as 12 or, where a version is called
// that too, as #12; its version; or labels.
func (s *Part) BuildNamed(ctx context.Context, c base.Caller, app, ref string) (store.Build, error) {
	var list []store.Build
	labels, err := labelsOf(strings.Split(ref, ","))
	if strings.Contains(ref, "=") && err == nil {
		list, err = s.Store.NewestLabelled(ctx, c.ProjectID, app, labels)
	} else {
		list, err = s.Store.BuildsNamed(ctx, c.ProjectID, app, ref)
	}
	if err != nil {
		return store.Build{}, err
	}
	if len(list) == 0 {
		return store.Build{}, base.NotFound(fmt.Sprintf("there is no build %q", ref),
			remedy.Say("%s lists the builds; %s hands one in", remedy.BuildList, remedy.BuildPush))
	}
	for _, b := range list[1:] {
		if b.AppID != list[0].AppID {
			if list[0].App == b.App { // a name does not tell them apart
				return store.Build{}, base.Invalid(fmt.Sprintf("two apps called %s have a build %q", b.App, ref),
					remedy.Say("say which app is meant with %s and its application id: %s or %s", remedy.Option("app"),
						identity(list[0]), identity(b)))
			}
			return store.Build{}, base.Invalid(fmt.Sprintf("both %s and %s have a build %q", list[0].App, b.App, ref),
				remedy.Say("say which app is meant with %s", remedy.Option("app")))
		}
	}
	return list[0], nil
}

// NewestOf gives the newest build of an app.
func (s *Part) NewestOf(ctx context.Context, c base.Caller, app string) (store.Build, error) {
	list, err := s.Store.NewestLabelled(ctx, c.ProjectID, app, map[string]string{})
	switch {
	case err != nil:
		return store.Build{}, err
	case len(list) == 0:
		return store.Build{}, base.NotFound(fmt.Sprintf("there is no build of %q", app),
			remedy.Say("%s lists the builds; %s hands one in", remedy.BuildList, remedy.BuildPush))
	case len(list) > 1:
		return store.Build{}, base.Invalid(fmt.Sprintf("two apps are called %s", app),
			"name the one that is meant by its application id: "+identity(list[0])+" or "+identity(list[1]))
	}
	return list[0], nil
}

// identity gives the application id of a build.
func identity(b store.Build) string {
	for _, p := range b.Packages {
		if id := p.Facts.V.ApplicationID; id != "" {
			return id
		}
	}
	return b.App
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
			return nil, base.Invalid(fmt.Sprintf("%q is no label", l), "labels are written as in branch=main")
		}
		out[key] = value
	}
	return out, nil
}

var labelKey = regexp.MustCompile(`^[a-z][a-z0-9_.-]{0,62}$`)

// TextsOf gives a build's own texts by key and language: those of the first of its packages that
// has some.
func (s *Part) TextsOf(ctx context.Context, b store.Build) (appfile.Texts, error) {
	for _, p := range b.Packages {
		texts, err := s.textsIn(ctx, p.Digest)
		if err != nil || len(texts) > 0 {
			return texts, err
		}
	}
	return appfile.Texts{}, nil
}

func (s *Part) textsIn(ctx context.Context, digest string) (appfile.Texts, error) {
	f, err := s.Blobs.Open(ctx, digest)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return appfile.ReadTexts(f, f.Size())
}
