package api

import (
	"context"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/checklist"
	"yamato/internal/service/base"
	"yamato/internal/service/checklists"
	"yamato/internal/service/runs"
	"yamato/internal/store"
)

func checklistOut(c store.Checklist) contract.Checklist {
	out := contract.Checklist{Name: c.Name, Version: c.Number, Text: c.Text, Items: []string{}, SavedBy: c.SavedBy,
		SavedAt: c.SavedAt}
	list, _ := checklist.Read(c.Text) // it was read before it was kept
	for _, i := range list.Items {
		out.Items = append(out.Items, i.Name())
	}
	return out
}

// ListChecklists lists them.
func (h *handlers) ListChecklists(ctx context.Context, _ ListChecklistsRequestObject) (ListChecklistsResponseObject,
	error) {
	list, err := h.service.Checklists.Checklists(ctx, caller(ctx))
	out := ListChecklists200JSONResponse{}
	for _, c := range list {
		out = append(out, checklistOut(c))
	}
	return out, err
}

// SaveChecklist keeps one.
func (h *handlers) SaveChecklist(ctx context.Context, r SaveChecklistRequestObject) (SaveChecklistResponseObject,
	error) {
	c, err := h.service.Checklists.SaveChecklist(ctx, caller(ctx), r.Body.Text)
	return SaveChecklist200JSONResponse(checklistOut(c)), err
}

// ListChecklistRuns lists those that people go through.
func (h *handlers) ListChecklistRuns(ctx context.Context,
	_ ListChecklistRunsRequestObject) (ListChecklistRunsResponseObject, error) {
	list, err := h.service.Checklists.ChecklistRuns(ctx, caller(ctx))
	out := ListChecklistRuns200JSONResponse{}
	for _, r := range list {
		out = append(out, wire.Run(r))
	}
	return out, err
}

// StartChecklist begins one.
func (h *handlers) StartChecklist(ctx context.Context, r StartChecklistRequestObject) (StartChecklistResponseObject,
	error) {
	b := r.Body
	run, err := h.service.Checklists.StartChecklist(ctx, caller(ctx), b.Checklist, runs.Order{Build: b.Build,
		App: text(b.App),
		On:  words(b.On), Lineup: text(b.Lineup), Language: text(b.Language)}, text(r.Params.IdempotencyKey))
	return StartChecklist200JSONResponse(wire.Run(run)), err
}

// MarkCase keeps what a person says of one thing.
func (h *handlers) MarkCase(ctx context.Context, r MarkCaseRequestObject) (MarkCaseResponseObject, error) {
	b := r.Body
	return MarkCase204Response{}, h.service.Checklists.MarkCase(ctx, caller(ctx), r.Run, r.Leg, r.Case, checklists.Mark{
		Verdict: string(b.Verdict), Note: text(b.Note), Session: base.Deref(b.Session), Lease: base.Deref(b.Lease),
		Seq: base.Deref(b.Seq)})
}
