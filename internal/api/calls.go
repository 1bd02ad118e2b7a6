package api

import (
	"bytes"
	"context"
	"time"

	"yamato/internal/api/views"
	"yamato/internal/api/wire"
	"yamato/internal/core/remedy"
	"yamato/internal/report"
	"yamato/internal/service/base"
	"yamato/internal/service/care"
	"yamato/internal/service/runs"
	"yamato/internal/store"
)

const (
	pageDefault = 50
	pageMost    = 200
)

func page(cursor *int64, limit *int) (int64, int, error) {
	c, l := int64(0), pageDefault
	if cursor != nil {
		c = *cursor
	}
	if limit != nil {
		l = *limit
	}
	if l < 1 || l > pageMost || c < 0 {
		return 0, 0, base.Invalid("a page has 1 to 200 items", "choose a limit within that")
	}
	return c, l, nil
}

func text(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

func words(p *[]string) []string {
	if p == nil {
		return nil
	}
	return *p
}

// About tells who answers.
func (h *handlers) About(ctx context.Context, _ AboutRequestObject) (AboutResponseObject, error) {
	c := caller(ctx)
	return About200JSONResponse{Program: h.config.Program, Project: c.Project, Caller: c.Name}, nil
}

// AddPackage takes a package in.
func (h *handlers) AddPackage(ctx context.Context, r AddPackageRequestObject) (AddPackageResponseObject, error) {
	p, err := h.service.Builds.AddPackage(ctx, caller(ctx), r.Params.FileName, r.Body)
	return AddPackage200JSONResponse(wire.Package(p)), err
}

// MakeBuild makes a build of packages.
func (h *handlers) MakeBuild(ctx context.Context, r MakeBuildRequestObject) (MakeBuildResponseObject, error) {
	if n := len(r.Body.Packages); n == 0 || n > 20 {
		return nil, base.Invalid("a build is made of 1 to 20 packages", "")
	}
	b, err := h.service.Builds.MakeBuild(ctx, caller(ctx), r.Body.Packages)
	return MakeBuild200JSONResponse(wire.Made(b)), err
}

// ListBuilds lists builds.
func (h *handlers) ListBuilds(ctx context.Context, r ListBuildsRequestObject) (ListBuildsResponseObject, error) {
	cursor, limit, err := page(r.Params.Cursor, r.Params.Limit)
	if err != nil {
		return nil, err
	}
	list, next, err := h.service.Builds.Builds(ctx, caller(ctx), text(r.Params.App), text(r.Params.Q),
		words(r.Params.Label), cursor, limit)
	return ListBuilds200JSONResponse{Items: wire.Each(list, wire.Build), Next: next}, err
}

// GetBuild gives one build.
func (h *handlers) GetBuild(ctx context.Context, r GetBuildRequestObject) (GetBuildResponseObject, error) {
	b, err := h.service.Builds.BuildNamed(ctx, caller(ctx), text(r.Params.App), r.Build)
	return GetBuild200JSONResponse(wire.Build(b)), err
}

// ListSuites lists suites.
func (h *handlers) ListSuites(ctx context.Context, _ ListSuitesRequestObject) (ListSuitesResponseObject, error) {
	list, err := h.service.Builds.Suites(ctx, caller(ctx))
	return ListSuites200JSONResponse(wire.Each(list, wire.Suite)), err
}

// ListDevices lists the fleet.
func (h *handlers) ListDevices(ctx context.Context, r ListDevicesRequestObject) (ListDevicesResponseObject, error) {
	p := r.Params
	list, err := h.service.Care.Devices(ctx, caller(ctx), care.DeviceFilter{Q: text(p.Q), Site: text(p.Site),
		State: text(p.State), Platform: text(p.Platform), Kind: text(p.Kind)})
	return ListDevices200JSONResponse(wire.Each(list, wire.Device)), err
}

// LookAtDevice starts a look.
func (h *handlers) LookAtDevice(ctx context.Context, r LookAtDeviceRequestObject) (LookAtDeviceResponseObject, error) {
	run, err := h.service.Runs.Look(ctx, caller(ctx), r.Device, runs.Order{Build: r.Body.Build,
		App:      text(r.Body.App),
		Language: text(r.Body.Language)}, text(r.Params.IdempotencyKey))
	return LookAtDevice200JSONResponse(wire.Run(run)), err
}

// StartRun starts a run.
func (h *handlers) StartRun(ctx context.Context, r StartRunRequestObject) (StartRunResponseObject, error) {
	if len(r.Body.Suites) == 0 || len(r.Body.Suites) > 100 {
		return nil, base.Invalid("a run has 1 to 100 suites", remedy.Say("name a suite with %s", remedy.Option("suite")))
	}
	run, err := h.service.Runs.StartRun(ctx, caller(ctx), wire.Order(r.Body), text(r.Params.IdempotencyKey))
	return StartRun200JSONResponse(wire.Run(run)), err
}

// ListRuns lists runs.
func (h *handlers) ListRuns(ctx context.Context, r ListRunsRequestObject) (ListRunsResponseObject, error) {
	cursor, limit, err := page(r.Params.Cursor, r.Params.Limit)
	if err != nil {
		return nil, err
	}
	list, next, err := h.service.Runs.Runs(ctx, caller(ctx), store.RunFilter{Q: text(r.Params.Q),
		State: text(r.Params.State), Verdict: text(r.Params.Verdict), Build: text(r.Params.Build),
		AskedBy: text(r.Params.AskedBy)}, cursor, limit)
	return ListRuns200JSONResponse{Items: wire.Each(list, wire.Run), Next: next}, err
}

// GetRun gives one run.
func (h *handlers) GetRun(ctx context.Context, r GetRunRequestObject) (GetRunResponseObject, error) {
	depth := views.Whole
	if r.Params.Brief != nil && *r.Params.Brief {
		depth = views.InBrief
	}
	if r.Params.WaitMs != nil && *r.Params.WaitMs > 0 {
		if err := h.service.Runs.AwaitRun(ctx, caller(ctx), r.Run,
			time.Duration(*r.Params.WaitMs)*time.Millisecond); err != nil {
			return nil, err
		}
	}
	d, err := h.views.Detail(ctx, caller(ctx), r.Run, depth)
	return GetRun200JSONResponse(d), err
}

// GetJUnit gives a run's results as JUnit XML.
func (h *handlers) GetJUnit(ctx context.Context, r GetJUnitRequestObject) (GetJUnitResponseObject, error) {
	d, err := h.views.Detail(ctx, caller(ctx), r.Run, views.WithFailures)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if err := report.JUnit(&out, d); err != nil {
		return nil, err
	}
	return GetJUnit200ApplicationxmlResponse{Body: &out, ContentLength: int64(out.Len())}, nil
}

// RemoveSuite takes a suite off the list.
func (h *handlers) RemoveSuite(ctx context.Context, r RemoveSuiteRequestObject) (RemoveSuiteResponseObject, error) {
	return RemoveSuite204Response{}, h.service.Builds.RemoveSuite(ctx, caller(ctx), r.Suite,
		base.Deref(r.Params.Anyway))
}

// CancelRun cancels a run.
func (h *handlers) CancelRun(ctx context.Context, r CancelRunRequestObject) (CancelRunResponseObject, error) {
	run, err := h.service.Runs.CancelRun(ctx, caller(ctx), r.Run)
	return CancelRun200JSONResponse(wire.Run(run)), err
}

// ListEvidence lists what is kept of a run.
func (h *handlers) ListEvidence(ctx context.Context, r ListEvidenceRequestObject) (ListEvidenceResponseObject, error) {
	list, err := h.views.Evidence(ctx, caller(ctx), r.Run)
	return ListEvidence200JSONResponse(list), err
}

// MakeSignIn makes a code that signs a browser in.
func (h *handlers) MakeSignIn(ctx context.Context, _ MakeSignInRequestObject) (MakeSignInResponseObject, error) {
	code, until, err := h.service.MakeSignIn(ctx, caller(ctx))
	return MakeSignIn200JSONResponse{Code: code, ExpiresAt: until}, err
}

// Now tells what runs, what failed last, and what waits.
func (h *handlers) Now(ctx context.Context, _ NowRequestObject) (NowResponseObject, error) {
	now, err := h.views.Now(ctx, caller(ctx))
	return Now200JSONResponse(now), err
}

// Search finds things by part of a name.
func (h *handlers) Search(ctx context.Context, r SearchRequestObject) (SearchResponseObject, error) {
	list, err := h.views.Search(ctx, caller(ctx), r.Params.Q)
	return Search200JSONResponse(list), err
}

// GetSuite gives one suite with its text.
func (h *handlers) GetSuite(ctx context.Context, r GetSuiteRequestObject) (GetSuiteResponseObject, error) {
	d, err := h.views.SuiteDetail(ctx, caller(ctx), r.Suite)
	return GetSuite200JSONResponse(d), err
}

// GetDevice gives one device with its history.
func (h *handlers) GetDevice(ctx context.Context, r GetDeviceRequestObject) (GetDeviceResponseObject, error) {
	d, err := h.views.DeviceDetail(ctx, caller(ctx), r.Device)
	return GetDevice200JSONResponse(d), err
}

// SeeScreen gives what is on a device's screen.
func (h *handlers) SeeScreen(ctx context.Context, r SeeScreenRequestObject) (SeeScreenResponseObject, error) {
	out, err := h.views.SeeScreen(ctx, caller(ctx), r.Device)
	return SeeScreen200JSONResponse(out), err
}

// PreviewRun tells what a run would cover.
func (h *handlers) PreviewRun(ctx context.Context, r PreviewRunRequestObject) (PreviewRunResponseObject, error) {
	out, err := h.service.Runs.Preview(ctx, caller(ctx), wire.Order(r.Body))
	return PreviewRun200JSONResponse(wire.Preview(out)), err
}

// RunAgain starts a run of what a run ran.
func (h *handlers) RunAgain(ctx context.Context, r RunAgainRequestObject) (RunAgainResponseObject, error) {
	in := runs.Repeat{Which: string(r.Body.Which), Leg: base.Deref(r.Body.Leg), Case: r.Body.CaseIndex,
		SameSeed: base.Deref(r.Body.SameSeed), RealTime: base.Deref(r.Body.RealTime), Keep: wire.Keep(r.Body.Keep)}
	run, err := h.service.Runs.Again(ctx, caller(ctx), r.Run, in, text(r.Params.IdempotencyKey))
	return RunAgain200JSONResponse(wire.Run(run)), err
}

// ListCauses says what failed and why.
func (h *handlers) ListCauses(ctx context.Context, r ListCausesRequestObject) (ListCausesResponseObject, error) {
	list, err := h.views.Causes(ctx, caller(ctx), r.Run)
	return ListCauses200JSONResponse(list), err
}

// GetSheet gives one case in one combination.
func (h *handlers) GetSheet(ctx context.Context, r GetSheetRequestObject) (GetSheetResponseObject, error) {
	out, err := h.views.Sheet(ctx, caller(ctx), r.Run, r.Leg, r.Case)
	return GetSheet200JSONResponse(out), err
}

// ListElements gives the elements of a screen tree that was kept.
func (h *handlers) ListElements(ctx context.Context, r ListElementsRequestObject) (ListElementsResponseObject, error) {
	list, err := h.views.ElementsOf(ctx, caller(ctx), r.Run, r.Id)
	return ListElements200JSONResponse(list), err
}
