package views

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
	"yamato/internal/store/pg"
)

// Fit tells which devices can run a build with which package, and for each other
// every reason why not.
func (s *Part) Fit(ctx context.Context, c base.Caller, app, ref string) ([]contract.Fit, error) {
	b, err := s.builds.BuildNamed(ctx, c, app, ref)
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
			State: string(d.State), StateReason: base.Stated(d.Reason)}
		at, reasons := fits.Fit(&d.Device, d.Condition.Installed)
		if r, ok := d.Admits(c.Name, now); !ok {
			at, reasons = -1, append(reasons, r)
		}
		if at >= 0 {
			one.Package, one.PackageKind = &b.Packages[at].FileName, base.Stated(string(packages[at].Kind))
		}
		one.Reasons = wire.Reasons(reasons, remedy.Person)
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
	b, err := s.builds.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return out, err
	}
	out.Build = wire.Build(b)
	var before store.Build
	if against != "" {
		before, err = s.builds.BuildNamed(ctx, c, b.App, against)
	} else {
		before, err = s.Store.BuildBefore(ctx, c.ProjectID, b)
		if errors.Is(err, pg.ErrNone) {
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
	b, err := s.builds.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return nil, err
	}
	texts, err := s.builds.TextsOf(ctx, b)
	return contract.Texts(texts), err
}

// Retention tells what may be taken away, and what would be now.
func (s *Part) Retention(ctx context.Context, c base.Caller) (contract.Retention, error) {
	out := contract.Retention{WouldRemove: []contract.Build{}}
	r, err := s.Store.RetentionOf(ctx, c.ProjectID)
	if errors.Is(err, pg.ErrNone) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Keep, out.Days, out.ChangedBy, out.ChangedAt = r.Keep, r.Days, &r.ChangedBy, &r.ChangedAt
	list, err := s.builds.Outgoing(ctx, c.ProjectID, r, 200)
	for _, b := range list {
		out.WouldRemove = append(out.WouldRemove, wire.Build(b))
	}
	return out, err
}
