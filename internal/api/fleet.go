package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/care"
)

// ChangeBuild changes what people say of a build.
func (h *handlers) ChangeBuild(ctx context.Context, r ChangeBuildRequestObject) (ChangeBuildResponseObject, error) {
	b, err := h.service.Builds.ChangeBuild(ctx, caller(ctx), text(r.Params.App), r.Build,
		builds.Words{Note: r.Body.Note, Pinned: r.Body.Pinned, Labels: base.Deref(r.Body.Labels)})
	return ChangeBuild200JSONResponse(wire.Build(b)), err
}

// GetFit tells which devices can run a build.
func (h *handlers) GetFit(ctx context.Context, r GetFitRequestObject) (GetFitResponseObject, error) {
	list, err := h.views.Fit(ctx, caller(ctx), text(r.Params.App), r.Build)
	return GetFit200JSONResponse(list), err
}

// GetChanges tells what changed since another build.
func (h *handlers) GetChanges(ctx context.Context, r GetChangesRequestObject) (GetChangesResponseObject, error) {
	out, err := h.views.Changes(ctx, caller(ctx), text(r.Params.App), r.Build, text(r.Params.Against))
	return GetChanges200JSONResponse(out), err
}

// GetTexts gives a build's texts.
func (h *handlers) GetTexts(ctx context.Context, r GetTextsRequestObject) (GetTextsResponseObject, error) {
	out, err := h.views.Texts(ctx, caller(ctx), text(r.Params.App), r.Build)
	return GetTexts200JSONResponse(out), err
}

// GetSettings gives what starts a run, to copy.
func (h *handlers) GetSettings(ctx context.Context, r GetSettingsRequestObject) (GetSettingsResponseObject, error) {
	out, err := h.views.Settings(ctx, caller(ctx), text(r.Params.App), r.Build, text(r.Params.Device),
		text(r.Params.Lineup), words(r.Params.Suite))
	return GetSettings200JSONResponse(out), err
}

// GetRetention tells what may be taken away.
func (h *handlers) GetRetention(ctx context.Context, _ GetRetentionRequestObject) (GetRetentionResponseObject, error) {
	out, err := h.views.Retention(ctx, caller(ctx))
	return GetRetention200JSONResponse(out), err
}

// SetRetention changes what may be taken away.
func (h *handlers) SetRetention(ctx context.Context, r SetRetentionRequestObject) (SetRetentionResponseObject, error) {
	if err := h.service.Builds.SetRetention(ctx, caller(ctx), r.Body.Keep, r.Body.Days); err != nil {
		return nil, err
	}
	out, err := h.views.Retention(ctx, caller(ctx))
	return SetRetention200JSONResponse(out), err
}

// FetchPackage takes in a package from an address.
func (h *handlers) FetchPackage(ctx context.Context, r FetchPackageRequestObject) (FetchPackageResponseObject, error) {
	if g := served(ctx); g != nil && strings.Contains(g.GetHeader("Accept"), "text/event-stream") {
		return fetching{h, g, r.Body.Url}, nil
	}
	p, err := h.service.Builds.FetchPackage(ctx, caller(ctx), r.Body.Url, func(int64, int64) {})
	return FetchPackage200JSONResponse(wire.Package(p)), err
}

// fetching answers a fetch with server-sent events. What is refused before anything
// has come is a plain problem document.
type fetching struct {
	h       *handlers
	g       *gin.Context
	address string
}

// VisitFetchPackageResponse carries the fetch out.
func (f fetching) VisitFetchPackageResponse(http.ResponseWriter) error {
	g := f.g
	var last time.Time
	say := func(kind string, what any) {
		body, err := json.Marshal(what)
		if err == nil {
			_, err = fmt.Fprintf(g.Writer, "event: %s\ndata: %s\n\n", kind, body)
		}
		if err == nil { // who has gone is noticed by the request's context
			g.Writer.Flush()
		}
	}
	p, err := f.h.service.Builds.FetchPackage(g.Request.Context(), caller(g.Request.Context()), f.address, func(got, of int64) {
		if last.IsZero() {
			g.Header("Content-Type", "text/event-stream")
			g.Header("X-Accel-Buffering", "no")
			g.Status(http.StatusOK)
		} else if time.Since(last) < tellEvery {
			return
		}
		last = time.Now()
		told := contract.FetchProgress{Got: got}
		if of >= 0 {
			told.Of = &of
		}
		say("progress", told)
	})
	switch {
	case err != nil && last.IsZero():
		f.h.fail(g, err)
	case err != nil:
		say("problem", problemOut(base.AsProblem(err), remedy.Person))
	default:
		say("package", wire.Package(p))
	}
	return nil
}

// tellEvery is how often a long answer tells how far it is.
const tellEvery = 250 * time.Millisecond

// SidelineDevice takes a device out of use.
func (h *handlers) SidelineDevice(ctx context.Context,
	r SidelineDeviceRequestObject) (SidelineDeviceResponseObject, error) {
	d, err := h.service.Care.Sideline(ctx, caller(ctx), r.Device, r.Body.Reason, r.Body.Until)
	return SidelineDevice200JSONResponse(wire.Device(d)), err
}

// RestoreDevice brings a device back.
func (h *handlers) RestoreDevice(ctx context.Context,
	r RestoreDeviceRequestObject) (RestoreDeviceResponseObject, error) {
	d, err := h.service.Care.Restore(ctx, caller(ctx), r.Device)
	return RestoreDevice200JSONResponse(wire.Device(d)), err
}

// DoErrand asks a host to do something.
func (h *handlers) DoErrand(ctx context.Context, r DoErrandRequestObject) (DoErrandResponseObject, error) {
	in := r.Body
	e, err := h.service.Care.Do(ctx, caller(ctx), care.Wish{What: in.What, Device: text(in.Device),
		Site: text(in.Site), Model: text(in.Model), Image: text(in.Image), Deed: text(in.Deed),
		Count: base.Deref(in.Count), Boot: base.Deref(in.Boot)}, text(r.Params.IdempotencyKey))
	return DoErrand200JSONResponse(wire.Errand(e)), err
}

// ListSites tells what the sites offer.
func (h *handlers) ListSites(ctx context.Context, _ ListSitesRequestObject) (ListSitesResponseObject, error) {
	list, err := h.views.Sites(ctx, caller(ctx))
	return ListSites200JSONResponse(list), err
}

// AcceptLicence accepts a licence.
func (h *handlers) AcceptLicence(ctx context.Context,
	r AcceptLicenceRequestObject) (AcceptLicenceResponseObject, error) {
	if err := h.service.Care.AcceptLicence(ctx, caller(ctx), r.Licence); err != nil {
		return nil, err
	}
	l, err := h.views.Licence(ctx, caller(ctx), r.Licence)
	return AcceptLicence200JSONResponse(l), err
}

// ListLineups lists lineups.
func (h *handlers) ListLineups(ctx context.Context, _ ListLineupsRequestObject) (ListLineupsResponseObject, error) {
	list, err := h.service.Builds.Lineups(ctx, caller(ctx))
	return ListLineups200JSONResponse(wire.Each(list, wire.Lineup)), err
}

// SaveLineup keeps a lineup.
func (h *handlers) SaveLineup(ctx context.Context, r SaveLineupRequestObject) (SaveLineupResponseObject, error) {
	l, err := h.service.Builds.SaveLineup(ctx, caller(ctx), r.Body.Text)
	return SaveLineup200JSONResponse(wire.Lineup(l)), err
}

// GetLineup gives a lineup.
func (h *handlers) GetLineup(ctx context.Context, r GetLineupRequestObject) (GetLineupResponseObject, error) {
	l, err := h.service.Builds.Lineup(ctx, caller(ctx), r.Lineup)
	return GetLineup200JSONResponse(wire.Lineup(l)), err
}

// TryLineup tells what a lineup takes now.
func (h *handlers) TryLineup(ctx context.Context, r TryLineupRequestObject) (TryLineupResponseObject, error) {
	out, err := h.service.Builds.TryLineup(ctx, caller(ctx), builds.Trial{Name: text(r.Body.Name),
		Text: text(r.Body.Text), Build: text(r.Body.Build), App: text(r.Body.App)})
	return TryLineup200JSONResponse(wire.Choice(out)), err
}

// GetErrand gives an errand, once it is done or after a time.
func (h *handlers) GetErrand(ctx context.Context, r GetErrandRequestObject) (GetErrandResponseObject, error) {
	wait := time.Duration(0)
	if r.Params.WaitMs != nil {
		wait = time.Duration(*r.Params.WaitMs) * time.Millisecond
	}
	e, err := h.service.Care.Errand(ctx, caller(ctx), r.Errand, wait)
	return GetErrand200JSONResponse(wire.Errand(e)), err
}

// GetNeeds tells what needs something, before it is removed.
func (h *handlers) GetNeeds(ctx context.Context, r GetNeedsRequestObject) (GetNeedsResponseObject, error) {
	by, err := h.service.NeededBy(ctx, caller(ctx), string(r.Params.Kind), r.Params.Name)
	return GetNeeds200JSONResponse{NeededBy: by}, err
}

// RemoveLineup forgets a lineup.
func (h *handlers) RemoveLineup(ctx context.Context, r RemoveLineupRequestObject) (RemoveLineupResponseObject, error) {
	if err := h.service.Builds.RemoveLineup(ctx, caller(ctx), r.Lineup, base.Deref(r.Params.Anyway)); err != nil {
		return nil, err
	}
	return RemoveLineup204Response{}, nil
}

// HandOver makes an install page at the address by which the caller came.
func (h *handlers) HandOver(ctx context.Context, r HandOverRequestObject) (HandOverResponseObject, error) {
	minutes := 0
	if r.Body.Minutes != nil {
		if minutes = *r.Body.Minutes; minutes < 1 || minutes > 7*24*60 {
			return nil, base.Invalid("an install page is there for 1 minute to 7 days", "")
		}
	}
	base := ""
	if g := served(ctx); g != nil {
		base = h.baseOf(g)
	}
	out, err := h.service.Builds.HandOver(ctx, caller(ctx), text(r.Params.App), r.Build, base, minutes)
	return HandOver200JSONResponse(wire.Handover(out)), err
}
