package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/service/base"
	"yamato/internal/service/plans"
)

// ListPlans lists plans.
func (h *handlers) ListPlans(ctx context.Context, _ ListPlansRequestObject) (ListPlansResponseObject, error) {
	list, err := h.service.Plans.Plans(ctx, caller(ctx))
	return ListPlans200JSONResponse(wire.Each(list, wire.Plan)), err
}

// SavePlan keeps a plan.
func (h *handlers) SavePlan(ctx context.Context, r SavePlanRequestObject) (SavePlanResponseObject, error) {
	p, err := h.service.Plans.SavePlan(ctx, caller(ctx), r.Body.Text)
	return SavePlan200JSONResponse(wire.Plan(p)), err
}

// GetPlan gives a plan.
func (h *handlers) GetPlan(ctx context.Context, r GetPlanRequestObject) (GetPlanResponseObject, error) {
	p, err := h.service.Plans.Plan(ctx, caller(ctx), r.Plan)
	return GetPlan200JSONResponse(wire.Plan(p)), err
}

// RemovePlan takes a plan off the list.
func (h *handlers) RemovePlan(ctx context.Context, r RemovePlanRequestObject) (RemovePlanResponseObject, error) {
	if err := h.service.Plans.RemovePlan(ctx, caller(ctx), r.Plan, base.Deref(r.Params.Anyway)); err != nil {
		return nil, err
	}
	return RemovePlan204Response{}, nil
}

// TryPlan tells what a plan comes to now.
func (h *handlers) TryPlan(ctx context.Context, r TryPlanRequestObject) (TryPlanResponseObject, error) {
	if (r.Body.Name == nil) == (r.Body.Text == nil) {
		return nil, base.Invalid("a plan is tried by its name, or as a text", "send `name` or `text`")
	}
	ch := contract.PlanChanges{}
	if r.Body.Changes != nil {
		ch = *r.Body.Changes
	}
	t, err := h.service.Plans.TryPlan(ctx, caller(ctx), text(r.Body.Name), text(r.Body.Text), changes(ch))
	if err != nil {
		return nil, err
	}
	return TryPlan200JSONResponse(wire.PlanTrial(t)), nil
}

func changes(in contract.PlanChanges) plans.Changes {
	return plans.Changes{Build: text(in.Build), Lineup: text(in.Lineup), Devices: words(in.Devices),
		Suites: words(in.Suites),
		Tags:   words(in.Tags), Cover: text(in.Cover), Combinations: base.Deref(in.Combinations),
		Minutes: base.Deref(in.Minutes),
		Seed:    uint64(base.Deref(in.Seed)), Keep: wire.Keep(in.Keep)}
}

// StartPlan starts a plan now.
func (h *handlers) StartPlan(ctx context.Context, r StartPlanRequestObject) (StartPlanResponseObject, error) {
	run, err := h.service.Plans.StartPlan(ctx, caller(ctx), r.Plan, changes(*r.Body), text(r.Params.IdempotencyKey))
	return StartPlan200JSONResponse(wire.Run(run)), err
}

// PausePlan has a plan start nothing by itself, or again do so.
func (h *handlers) PausePlan(ctx context.Context, r PausePlanRequestObject) (PausePlanResponseObject, error) {
	p, err := h.service.Plans.PausePlan(ctx, caller(ctx), r.Plan, r.Body.Paused)
	return PausePlan200JSONResponse(wire.Plan(p)), err
}

// MoveStart has one coming start be at another time.
func (h *handlers) MoveStart(ctx context.Context, r MoveStartRequestObject) (MoveStartResponseObject, error) {
	if err := h.service.Plans.MoveStart(ctx, caller(ctx), r.Plan, r.Body.From, r.Body.To); err != nil {
		return nil, err
	}
	return MoveStart204Response{}, nil
}

// ListPlanStarts tells what started a plan, and what came of it.
func (h *handlers) ListPlanStarts(ctx context.Context, r ListPlanStartsRequestObject) (ListPlanStartsResponseObject,
	error) {
	limit := base.Deref(r.Params.Limit)
	if limit == 0 {
		limit = 50
	}
	list, next, err := h.service.Plans.PlanHistory(ctx, caller(ctx), r.Plan, base.Deref(r.Params.Cursor),
		min(limit, 200))
	return ListPlanStarts200JSONResponse{Items: wire.Each(list, wire.PlanStart), Next: next}, err
}

// ListPlanRevisions lists the versions of a plan.
func (h *handlers) ListPlanRevisions(ctx context.Context,
	r ListPlanRevisionsRequestObject) (ListPlanRevisionsResponseObject, error) {
	list, err := h.service.Plans.PlanRevisions(ctx, caller(ctx), r.Plan)
	return ListPlanRevisions200JSONResponse(wire.Each(list, wire.PlanRevision)), err
}

// GetCalendar tells what started and what will start.
func (h *handlers) GetCalendar(ctx context.Context, r GetCalendarRequestObject) (GetCalendarResponseObject, error) {
	list, err := h.service.Plans.Calendar(ctx, caller(ctx).ProjectID, r.Params.From, r.Params.Until, time.Now())
	return GetCalendar200JSONResponse(wire.Each(list, wire.CalendarEntry)), err
}

// MakeFeed makes an address at which calendars read the project's.
func (h *handlers) MakeFeed(ctx context.Context, _ MakeFeedRequestObject) (MakeFeedResponseObject, error) {
	secret, err := h.service.Plans.MakeFeed(ctx, caller(ctx))
	if err != nil {
		return nil, err
	}
	at := "/feed/" + secret + ".ics"
	if g := served(ctx); g != nil {
		at = h.baseOf(g) + at
	}
	return MakeFeed200JSONResponse{Address: at}, nil
}

// feed serves a calendar to whoever knows its secret (RFC 5545).
func (h *handlers) feed(g *gin.Context) {
	if !h.knownHost(g.Request.Host) {
		h.fail(g, base.Forbidden("this service does not go by that name", "open it by its address"))
		return
	}
	body, err := h.service.Plans.Feed(g.Request.Context(), strings.TrimSuffix(g.Param("secret"), ".ics"), h.baseOf(g),
		time.Now())
	if err != nil {
		h.fail(g, err)
		return
	}
	g.Data(http.StatusOK, "text/calendar; charset=utf-8", body)
}
