package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/skip2/go-qrcode"

	"yamato/internal/blob"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/store"
)

// ChangeBuild changes what people say of a build: its note, labels and pin.
func (s *Service) ChangeBuild(ctx context.Context, c Caller, app, ref string, in contract.BuildPatch) (contract.Build, error) {
	b, err := s.buildNamed(ctx, c, app, ref)
	if err != nil {
		return contract.Build{}, err
	}
	if n := deref(in.Note); len(n) > 2000 {
		return contract.Build{}, Invalid("a note has at most 2000 characters", "put the rest where it can be linked to")
	}
	for key, value := range deref(in.Labels) {
		if !labelKey.MatchString(key) || len(value) > 200 {
			return contract.Build{}, Invalid(fmt.Sprintf("%q cannot be a label", key+"="+short(value, 40)), "a label is a word of small letters and a value of up to 200 characters: branch=main")
		}
	}
	err = s.store.InTx(ctx, func(t *store.Tx) error { return t.ChangeBuild(ctx, b.ID, in.Note, in.Pinned, deref(in.Labels)) })
	if errors.Is(err, store.ErrTooMany) {
		return contract.Build{}, Invalid(fmt.Sprintf("a build has at most %d labels", store.MaxLabels), "take one away first")
	}
	if err != nil {
		return contract.Build{}, err
	}
	s.bell.ring()
	b, err = s.store.Build(ctx, c.ProjectID, b.ID)
	return buildOut(b), err
}

// Fit tells which devices can run a build with which package, and for each other
// every reason why not.
func (s *Service) Fit(ctx context.Context, c Caller, app, ref string) ([]contract.Fit, error) {
	b, err := s.buildNamed(ctx, c, app, ref)
	if err != nil {
		return nil, err
	}
	devices, err := s.candidates(ctx, c)
	if err != nil {
		return nil, err
	}
	packages, now := facts(b), time.Now()
	out := make([]contract.Fit, 0, len(devices))
	fits := fleet.NewFitter(packages, now)
	for _, d := range devices {
		one := contract.Fit{Device: d.Name, Site: d.Site, Kind: d.Kind, Model: d.Model, Platform: d.Platform, Os: d.OS, State: d.State, StateReason: stated(d.Reason)}
		at, reasons := fits.Fit(&d.Device, d.Condition.Installed)
		if r, ok := d.Admits(c.Name, now); !ok {
			at, reasons = -1, append(reasons, r)
		}
		if at >= 0 {
			one.Package, one.PackageKind = &b.Packages[at].FileName, stated(string(packages[at].Kind))
		}
		one.Reasons = reasonsOut(reasons)
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
func (s *Service) Changes(ctx context.Context, c Caller, app, ref, against string) (contract.Changes, error) {
	out := contract.Changes{Changes: []contract.Change{}}
	b, err := s.buildNamed(ctx, c, app, ref)
	if err != nil {
		return out, err
	}
	out.Build = buildOut(b)
	var before store.Build
	if against != "" {
		before, err = s.buildNamed(ctx, c, b.App, against)
	} else {
		before, err = s.store.BuildBefore(ctx, c.ProjectID, b)
		if errors.Is(err, store.ErrNone) {
			return out, nil // it is the first
		}
	}
	if err != nil {
		return out, err
	}
	out.Against = ptr(buildOut(before))
	old := map[appfile.Kind]*appfile.Package{}
	for i := range before.Packages {
		old[before.Packages[i].Facts.V.Kind] = &before.Packages[i].Facts.V
	}
	for i := range b.Packages {
		p := &b.Packages[i].Facts.V
		was := old[p.Kind]
		delete(old, p.Kind)
		if was == nil {
			out.Changes = append(out.Changes, contract.Change{Package: string(p.Kind), What: "package", After: stated("there")})
			continue
		}
		for _, ch := range appfile.Changes(was, p) {
			out.Changes = append(out.Changes, contract.Change{Package: string(p.Kind), What: ch.What, Before: stated(ch.Before), After: stated(ch.After), Added: listed(ch.Added), Removed: listed(ch.Removed)})
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(old)) {
		out.Changes = append(out.Changes, contract.Change{Package: string(kind), What: "package", Before: stated("there")})
	}
	return out, nil
}

// Texts gives the texts of a build's Android package.
func (s *Service) Texts(ctx context.Context, c Caller, app, ref string) (contract.Texts, error) {
	b, err := s.buildNamed(ctx, c, app, ref)
	if err != nil {
		return nil, err
	}
	for _, p := range b.Packages {
		if p.Facts.V.Kind != appfile.Android {
			continue
		}
		f, err := s.blobs.Open(ctx, p.Digest)
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
func (s *Service) Icon(ctx context.Context, c Caller, app, ref string) ([]byte, string, error) {
	b, err := s.buildNamed(ctx, c, app, ref)
	if err != nil {
		return nil, "", err
	}
	return s.iconOf(ctx, b)
}

func (s *Service) iconOf(ctx context.Context, b store.Build) ([]byte, string, error) {
	for _, p := range b.Packages {
		if p.Facts.V.Icon == "" {
			continue
		}
		f, err := s.blobs.Open(ctx, p.Digest)
		if err != nil {
			return nil, "", err
		}
		data, media, err := p.Facts.V.ReadIcon(f, f.Size())
		_ = f.Close()
		if err == nil {
			return data, media, nil
		}
	}
	return nil, "", NotFound("the build has no icon that browsers show", "")
}

// Settings gives what starts a run of a build on a device's class or a lineup, ready to copy.
func (s *Service) Settings(ctx context.Context, c Caller, app, ref, device, lineup string, suites []string) (contract.Settings, error) {
	b, err := s.buildNamed(ctx, c, app, ref)
	if err != nil {
		return contract.Settings{}, err
	}
	if len(suites) == 0 {
		list, err := s.store.Suites(ctx, c.ProjectID)
		if err != nil {
			return contract.Settings{}, err
		}
		for _, one := range list {
			if !own(one.Name) {
				suites = append(suites, one.Name)
			}
		}
	}
	if len(suites) == 0 {
		return contract.Settings{}, Invalid("there are no suites yet, and a run needs one", "hand one in: `yamato suite push DIR`")
	}
	in := contract.NewRun{Build: fmt.Sprint(b.Number), App: &b.App, Suites: suites}
	command := []string{"yamato run start --build", fmt.Sprint(b.Number), "--app", quote(b.App)}
	switch {
	case device != "" && lineup != "":
		return contract.Settings{}, Invalid("settings are for a device or for a lineup, not both", "")
	case device != "":
		d, err := s.store.DeviceNamed(ctx, c.ProjectID, device)
		if err != nil {
			return contract.Settings{}, notThere(err, "`yamato device ls` lists the devices", "there is no device %q", device)
		}
		in.On = &[]string{d.Facts.V.Name}
		command = append(command, "--on", quote(d.Facts.V.Name))
	case lineup != "":
		l, err := s.Lineup(ctx, c, lineup)
		if err != nil {
			return contract.Settings{}, err
		}
		in.Lineup = &l.Name
		command = append(command, "--lineup", quote(l.Name))
	}
	for _, one := range suites {
		command = append(command, "--suite", quote(one))
	}
	request, err := json.MarshalIndent(in, "", "  ")
	if err != nil {
		return contract.Settings{}, err
	}
	plan, err := yaml.JSONToYAML(request)
	return contract.Settings{Command: strings.Join(command, " "), Plan: string(plan), Request: string(request), Path: "/api/v1/projects/" + c.Project + "/runs"}, err
}

// quote writes a word for a shell.
func quote(word string) string {
	if word != "" && strings.IndexFunc(word, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_./:=", r))
	}) < 0 {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Retention tells what may be taken away, and what would be now.
func (s *Service) Retention(ctx context.Context, c Caller) (contract.Retention, error) {
	out := contract.Retention{WouldRemove: []contract.Build{}}
	r, err := s.store.RetentionOf(ctx, c.ProjectID)
	if errors.Is(err, store.ErrNone) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Keep, out.Days, out.ChangedBy, out.ChangedAt = r.Keep, r.Days, &r.ChangedBy, &r.ChangedAt
	list, err := s.store.Outdated(ctx, c.ProjectID, r.Keep, r.Days, 200)
	for _, b := range list {
		out.WouldRemove = append(out.WouldRemove, buildOut(b))
	}
	return out, err
}

// SetRetention changes what may be taken away. It is taken within the hour.
func (s *Service) SetRetention(ctx context.Context, c Caller, in contract.NewRetention) (contract.Retention, error) {
	if in.Keep < 0 || in.Keep > 10_000 || in.Days < 0 || in.Days > 3650 {
		return contract.Retention{}, Invalid("retention keeps 0 to 10000 builds of each app, for 0 to 3650 days", "0 and 0 keep everything")
	}
	if err := s.store.SetRetention(ctx, c.ProjectID, store.Retention{Keep: in.Keep, Days: in.Days, ChangedBy: c.Name}); err != nil {
		return contract.Retention{}, err
	}
	return s.Retention(ctx, c)
}

// Retain takes away what the rules of all projects let go, and gives how many
// builds that were.
func (s *Service) Retain(ctx context.Context) (int, error) {
	projects, err := s.store.Ruled(ctx)
	if err != nil {
		return 0, err
	}
	n := 0
	for _, p := range projects {
		r, err := s.store.RetentionOf(ctx, p)
		if err != nil {
			return n, err
		}
		list, err := s.store.Outdated(ctx, p, r.Keep, r.Days, 1000)
		if err != nil {
			return n, err
		}
		for _, b := range list {
			if err := s.store.RemoveBuild(ctx, p, b.ID); err != nil {
				return n, err
			}
			n++
		}
	}
	if n > 0 {
		s.bell.ring()
	}
	return n, nil
}

const handoverTime = 60 * time.Minute

// HandOver makes a page from which a phone can install a build, at base, the
// address by which the caller reaches the service.
func (s *Service) HandOver(ctx context.Context, c Caller, app, ref, base string, minutes int) (contract.Handover, error) {
	b, err := s.buildNamed(ctx, c, app, ref)
	if err != nil {
		return contract.Handover{}, err
	}
	if !slices.ContainsFunc(b.Packages, func(p store.Package) bool {
		return p.Facts.V.Kind == appfile.Android || p.Facts.V.Kind == appfile.IOSDevice
	}) {
		return contract.Handover{}, Invalid("the build holds nothing that a phone could install", "push its .apk or its .ipa")
	}
	ttl := handoverTime
	if minutes > 0 {
		ttl = time.Duration(minutes) * time.Minute
	}
	var raw [18]byte
	_, _ = rand.Read(raw[:]) // never fails (crypto/rand)
	code := base64.RawURLEncoding.EncodeToString(raw[:])
	until, err := s.store.AddHandover(ctx, c.ProjectID, b.ID, code, c.Name, ttl)
	if err != nil {
		return contract.Handover{}, err
	}
	out := contract.Handover{Url: base + "/install/" + code, ExpiresAt: until}
	out.Reachable, out.Hint = reachable(base, b)
	out.Qr, err = qrcode.Encode(out.Url, qrcode.Medium, 320)
	return out, err
}

// Handed gives the build of an install page, and until when.
func (s *Service) Handed(ctx context.Context, code string) (contract.Build, time.Time, error) {
	b, until, err := s.store.HandoverOf(ctx, code)
	if err != nil {
		return contract.Build{}, until, notThere(err, "ask for a new one: `yamato build hand BUILD`", "this page has expired, or never was")
	}
	return buildOut(b), until, nil
}

// HandedIcon gives the icon of an install page's build.
func (s *Service) HandedIcon(ctx context.Context, code string) ([]byte, string, error) {
	b, _, err := s.store.HandoverOf(ctx, code)
	if err != nil {
		return nil, "", err
	}
	return s.iconOf(ctx, b)
}

// HandedPackage opens a package of an install page's build.
func (s *Service) HandedPackage(ctx context.Context, code, kind string) (blob.File, contract.Package, error) {
	b, _, err := s.store.HandoverOf(ctx, code)
	if err != nil {
		return nil, contract.Package{}, notThere(err, "", "this page has expired, or never was")
	}
	for _, p := range b.Packages {
		if string(p.Facts.V.Kind) == kind {
			f, err := s.blobs.Open(ctx, p.Digest)
			return f, packageOut(p), err
		}
	}
	return nil, contract.Package{}, NotFound("the build has no such package", "")
}
