package builds

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/skip2/go-qrcode"

	"yamato/internal/blob"
	"yamato/internal/core/appfile"
	"yamato/internal/core/plan"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// Words are what people say of a build; nil leaves it as it is, and so does a label that is not named.
type Words struct {
	Note   *string
	Pinned *bool
	Labels map[string]string // "" takes one away
}

// ChangeBuild changes what people say of a build.
func (s *Part) ChangeBuild(ctx context.Context, c base.Caller, app, ref string, in Words) (store.Build, error) {
	b, err := s.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return store.Build{}, err
	}
	if n := base.Deref(in.Note); len(n) > 2000 {
		return store.Build{}, base.Invalid("a note has at most 2000 characters",
			"put the rest where it can be linked to")
	}
	for key, value := range in.Labels {
		if !labelKey.MatchString(key) || len(value) > 200 {
			return store.Build{}, base.Invalid(fmt.Sprintf("%q cannot be a label", key+"="+base.Short(value, 40)),
				"a label is a word of small letters and a value of up to 200 characters: branch=main")
		}
	}
	err = s.Store.InTx(ctx, func(t *store.Tx) error {
		return t.Builds.ChangeBuild(ctx, b.ID, in.Note, in.Pinned, in.Labels)
	})
	if errors.Is(err, store.ErrTooMany) {
		return store.Build{}, base.Invalid(fmt.Sprintf("a build has at most %d labels", store.MaxLabels),
			"take one away first")
	}
	if err != nil {
		return store.Build{}, err
	}
	s.Bell.Ring()
	return s.Store.Build(ctx, c.ProjectID, b.ID)
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

// SetRetention changes what may be taken away. It is taken within the hour.
func (s *Part) SetRetention(ctx context.Context, c base.Caller, keep, days int) error {
	if keep < 0 || keep > 10_000 || days < 0 || days > 3650 {
		return base.Invalid("retention keeps 0 to 10000 builds of each app, for 0 to 3650 days",
			"0 and 0 keep everything")
	}
	return s.Store.SetRetention(ctx, c.ProjectID, store.Retention{Keep: keep, Days: days, ChangedBy: c.Name})
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
		list, err := s.Outgoing(ctx, p, r, 1000)
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

// Outgoing gives the builds that a rule takes away, but for those that plans name.
func (s *Part) Outgoing(ctx context.Context, project int64, r store.Retention, limit int) ([]store.Build, error) {
	list, err := s.Store.Outdated(ctx, project, r.Keep, r.Days, limit)
	if err != nil || len(list) == 0 {
		return list, err
	}
	needed, err := s.planned(ctx, project)
	return slices.DeleteFunc(list, func(b store.Build) bool { return needed[b.ID] }), err
}

// planned gives the builds that plans name: they stay, whatever the rules say.
func (s *Part) planned(ctx context.Context, project int64) (map[int64]bool, error) {
	list, err := s.Store.AllPlans(ctx, project)
	if err != nil {
		return nil, err
	}
	out := map[int64]bool{}
	for _, one := range list {
		p, _, err := plan.Read(one.Text)
		if err != nil || p.Build == plan.Newest || p.Build == plan.Arriving {
			continue // the newest is none that goes
		}
		b, err := s.BuildNamed(ctx, base.Caller{ProjectID: project}, p.App, p.Build)
		var none *base.Problem
		switch {
		case err == nil:
			out[b.ID] = true
		case !errors.As(err, &none): // a plan of a build that there is none of keeps none
			return nil, err
		}
	}
	return out, nil
}

const handoverTime = 60 * time.Minute

// Handover is a page from which a phone can install a build.
type Handover struct {
	Address   string
	Picture   []byte // of the address, as a QR code: PNG
	Until     time.Time
	Reachable bool
	Hint      *string
}

// HandOver makes a page from which a phone can install a build, at base, the
// address by which the caller reaches the service.
func (s *Part) HandOver(ctx context.Context, c base.Caller, app, ref, address string,
	minutes int) (Handover, error) {
	b, err := s.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return Handover{}, err
	}
	if !slices.ContainsFunc(b.Packages, func(p store.Package) bool {
		return p.Facts.V.Kind == appfile.Android || p.Facts.V.Kind == appfile.IOSDevice
	}) {
		return Handover{}, base.Invalid("the build holds nothing that a phone could install",
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
		return Handover{}, err
	}
	out := Handover{Address: address + "/install/" + code, Until: until}
	out.Reachable, out.Hint = reachable(address, b)
	out.Picture, err = qrcode.Encode(out.Address, qrcode.Medium, 320)
	return out, err
}

// Handed gives the build of an install page, and until when.
func (s *Part) Handed(ctx context.Context, code string) (store.Build, time.Time, error) {
	b, until, err := s.Store.HandoverOf(ctx, code)
	if err != nil {
		return store.Build{}, until, base.NotThere(err, remedy.Say("ask for a new one: %s", remedy.BuildHand),
			"this page has expired, or never was")
	}
	return b, until, nil
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
func (s *Part) HandedPackage(ctx context.Context, code, kind string) (blob.File, store.Package, error) {
	b, _, err := s.Store.HandoverOf(ctx, code)
	if err != nil {
		return nil, store.Package{}, base.NotThere(err, "", "this page has expired, or never was")
	}
	for _, p := range b.Packages {
		if string(p.Facts.V.Kind) == kind {
			f, err := s.Blobs.Open(ctx, p.Digest)
			return f, p, err
		}
	}
	return nil, store.Package{}, base.NotFound("the build has no such package", "")
}
