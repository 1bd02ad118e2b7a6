package builds

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/skip2/go-qrcode"

	"yamato/internal/blob"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/service/base"
	"yamato/internal/service/wire"
	"yamato/internal/store"
)

// ChangeBuild changes what people say of a build: its note, labels and pin.
func (s *Part) ChangeBuild(ctx context.Context, c base.Caller, app, ref string,
	in contract.BuildPatch) (contract.Build, error) {
	b, err := s.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return contract.Build{}, err
	}
	if n := base.Deref(in.Note); len(n) > 2000 {
		return contract.Build{}, base.Invalid("a note has at most 2000 characters", "put the rest where it can be linked to")
	}
	for key, value := range base.Deref(in.Labels) {
		if !labelKey.MatchString(key) || len(value) > 200 {
			return contract.Build{}, base.Invalid(fmt.Sprintf("%q cannot be a label", key+"="+base.Short(value, 40)),
				"a label is a word of small letters and a value of up to 200 characters: branch=main")
		}
	}
	err = s.Store.InTx(ctx, func(t *store.Tx) error {
		return t.ChangeBuild(ctx, b.ID, in.Note, in.Pinned, base.Deref(in.Labels))
	})
	if errors.Is(err, store.ErrTooMany) {
		return contract.Build{}, base.Invalid(fmt.Sprintf("a build has at most %d labels", store.MaxLabels),
			"take one away first")
	}
	if err != nil {
		return contract.Build{}, err
	}
	s.Bell.Ring()
	b, err = s.Store.Build(ctx, c.ProjectID, b.ID)
	return wire.Build(b), err
}

// Fit tells which devices can run a build with which package, and for each other
// base.Every reason why not.
func (s *Part) Fit(ctx context.Context, c base.Caller, app, ref string) ([]contract.Fit, error) {
	b, err := s.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return nil, err
	}
	devices, err := s.Candidates(ctx, c)
	if err != nil {
		return nil, err
	}
	packages, now := b.Facts(), time.Now()
	out := make([]contract.Fit, 0, len(devices))
	fits := fleet.NewFitter(packages, now)
	for _, d := range devices {
		one := contract.Fit{Device: d.Name, Site: d.Site, Kind: d.Kind, Model: d.Model, Platform: d.Platform, Os: d.OS,
			State: d.State, StateReason: base.Stated(d.Reason)}
		at, reasons := fits.Fit(&d.Device, d.Condition.Installed)
		if r, ok := d.Admits(c.Name, now); !ok {
			at, reasons = -1, append(reasons, r)
		}
		if at >= 0 {
			one.Package, one.PackageKind = &b.Packages[at].FileName, base.Stated(string(packages[at].Kind))
		}
		one.Reasons = wire.Reasons(reasons)
		out = append(out, one)
	}
	slices.SortStableFunc(out, func(a, b contract.Fit) int {
		if c := strings.Compare(a.Site, b.Site); c != 0 {
			return c
		}
		return strings.Compare(a.Device, b.Device)
	})
	return out, nil
}

// Changes tells what differs between a build and another of its app; the one
// before where none is named.
func (s *Part) Changes(ctx context.Context, c base.Caller, app, ref, against string) (contract.Changes, error) {
	out := contract.Changes{Changes: []contract.Change{}}
	b, err := s.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return out, err
	}
	out.Build = wire.Build(b)
	var before store.Build
	if against != "" {
		before, err = s.BuildNamed(ctx, c, b.App, against)
	} else {
		before, err = s.Store.BuildBefore(ctx, c.ProjectID, b)
		if errors.Is(err, store.ErrNone) {
			return out, nil // it is the first
		}
	}
	if err != nil {
		return out, err
	}
	out.Against = base.Ptr(wire.Build(before))
	old := map[appfile.Kind]*appfile.Package{}
	for i := range before.Packages {
		old[before.Packages[i].Facts.V.Kind] = &before.Packages[i].Facts.V
	}
	for i := range b.Packages {
		p := &b.Packages[i].Facts.V
		was := old[p.Kind]
		delete(old, p.Kind)
		if was == nil {
			out.Changes = append(out.Changes, contract.Change{Package: string(p.Kind), What: "package",
				After: base.Stated("there")})
			continue
		}
		for _, ch := range appfile.Changes(was, p) {
			out.Changes = append(out.Changes, contract.Change{Package: string(p.Kind), What: ch.What,
				Before: base.Stated(ch.Before), After: base.Stated(ch.After), Added: base.Listed(ch.Added),
				Removed: base.Listed(ch.Removed)})
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(old)) {
		out.Changes = append(out.Changes, contract.Change{Package: string(kind), What: "package",
			Before: base.Stated("there")})
	}
	return out, nil
}

// Texts gives the texts of a build's Android package.
func (s *Part) Texts(ctx context.Context, c base.Caller, app, ref string) (contract.Texts, error) {
	b, err := s.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return nil, err
	}
	for _, p := range b.Packages {
		if p.Facts.V.Kind != appfile.Android {
			continue
		}
		f, err := s.Blobs.Open(ctx, p.Digest)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		texts, err := appfile.ReadTexts(f, f.Size())
		return contract.Texts(texts), err
	}
	return contract.Texts{}, nil
}

// Icon gives a build's icon and its media type.
func (s *Part) Icon(ctx context.Context, c base.Caller, app, ref string) ([]byte, string, error) {
	b, err := s.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return nil, "", err
	}
	return s.iconOf(ctx, b)
}

func (s *Part) iconOf(ctx context.Context, b store.Build) ([]byte, string, error) {
	for _, p := range b.Packages {
		if p.Facts.V.Icon == "" {
			continue
		}
		f, err := s.Blobs.Open(ctx, p.Digest)
		if err != nil {
			return nil, "", err
		}
		data, media, err := p.Facts.V.ReadIcon(f, f.Size())
		_ = f.Close()
		if err == nil {
			return data, media, nil
		}
	}
	return nil, "", base.NotFound("the build has no icon that browsers show", "")
}

// Retention tells what may be taken away, and what would be now.
func (s *Part) Retention(ctx context.Context, c base.Caller) (contract.Retention, error) {
	out := contract.Retention{WouldRemove: []contract.Build{}}
	r, err := s.Store.RetentionOf(ctx, c.ProjectID)
	if errors.Is(err, store.ErrNone) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Keep, out.Days, out.ChangedBy, out.ChangedAt = r.Keep, r.Days, &r.ChangedBy, &r.ChangedAt
	list, err := s.Store.Outdated(ctx, c.ProjectID, r.Keep, r.Days, 200)
	for _, b := range list {
		out.WouldRemove = append(out.WouldRemove, wire.Build(b))
	}
	return out, err
}

// SetRetention changes what may be taken away. It is taken within the hour.
func (s *Part) SetRetention(ctx context.Context, c base.Caller, in contract.NewRetention) (contract.Retention, error) {
	if in.Keep < 0 || in.Keep > 10_000 || in.Days < 0 || in.Days > 3650 {
		return contract.Retention{}, base.Invalid("retention keeps 0 to 10000 builds of each app, for 0 to 3650 days",
			"0 and 0 keep everything")
	}
	if err := s.Store.SetRetention(ctx, c.ProjectID, store.Retention{Keep: in.Keep, Days: in.Days,
		ChangedBy: c.Name}); err != nil {
		return contract.Retention{}, err
	}
	return s.Retention(ctx, c)
}

// Retain takes away what the rules of all projects let go, and gives how many
// builds that were.
func (s *Part) Retain(ctx context.Context) (int, error) {
	projects, err := s.Store.Ruled(ctx)
	if err != nil {
		return 0, err
	}
	n := 0
	for _, p := range projects {
		r, err := s.Store.RetentionOf(ctx, p)
		if err != nil {
			return n, err
		}
		list, err := s.Store.Outdated(ctx, p, r.Keep, r.Days, 1000)
		if err != nil {
			return n, err
		}
		for _, b := range list {
			if err := s.Store.RemoveBuild(ctx, p, b.ID); err != nil {
				return n, err
			}
			n++
		}
	}
	if n > 0 {
		s.Bell.Ring()
	}
	return n, nil
}

const handoverTime = 60 * time.Minute

// HandOver makes a page from which a phone can install a build, at base, the
// address by which the caller reaches the service.
func (s *Part) HandOver(ctx context.Context, c base.Caller, app, ref, address string,
	minutes int) (contract.Handover, error) {
	b, err := s.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return contract.Handover{}, err
	}
	if !slices.ContainsFunc(b.Packages, func(p store.Package) bool {
		return p.Facts.V.Kind == appfile.Android || p.Facts.V.Kind == appfile.IOSDevice
	}) {
		return contract.Handover{}, base.Invalid("the build holds nothing that a phone could install",
			"push its .apk or its .ipa")
	}
	ttl := handoverTime
	if minutes > 0 {
		ttl = time.Duration(minutes) * time.Minute
	}
	var raw [18]byte
	_, _ = rand.Read(raw[:]) // never fails (crypto/rand)
	code := base64.RawURLEncoding.EncodeToString(raw[:])
	until, err := s.Store.AddHandover(ctx, c.ProjectID, b.ID, code, c.Name, ttl)
	if err != nil {
		return contract.Handover{}, err
	}
	out := contract.Handover{Url: address + "/install/" + code, ExpiresAt: until}
	out.Reachable, out.Hint = reachable(address, b)
	out.Qr, err = qrcode.Encode(out.Url, qrcode.Medium, 320)
	return out, err
}

// Handed gives the build of an install page, and until when.
func (s *Part) Handed(ctx context.Context, code string) (contract.Build, time.Time, error) {
	b, until, err := s.Store.HandoverOf(ctx, code)
	if err != nil {
		return contract.Build{}, until, base.NotThere(err, "ask for a new one: `yamato build hand BUILD`",
			"this page has expired, or never was")
	}
	return wire.Build(b), until, nil
}

// HandedIcon gives the icon of an install page's build.
func (s *Part) HandedIcon(ctx context.Context, code string) ([]byte, string, error) {
	b, _, err := s.Store.HandoverOf(ctx, code)
	if err != nil {
		return nil, "", err
	}
	return s.iconOf(ctx, b)
}

// HandedPackage opens a package of an install page's build.
func (s *Part) HandedPackage(ctx context.Context, code, kind string) (blob.File, contract.Package, error) {
	b, _, err := s.Store.HandoverOf(ctx, code)
	if err != nil {
		return nil, contract.Package{}, base.NotThere(err, "", "this page has expired, or never was")
	}
	for _, p := range b.Packages {
		if string(p.Facts.V.Kind) == kind {
			f, err := s.Blobs.Open(ctx, p.Digest)
			return f, wire.Package(p), err
		}
	}
	return nil, contract.Package{}, base.NotFound("the build has no such package", "")
}
