package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/report"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// ListCrashes lists crashes by their stacks.
func (h *handlers) ListCrashes(ctx context.Context, r ListCrashesRequestObject) (ListCrashesResponseObject, error) {
	list, more, err := h.service.Archive.Crashes(ctx, caller(ctx), text(r.Params.App), base.Deref(r.Params.Run),
		base.Deref(r.Params.Offset),
		base.Deref(r.Params.Limit))
	return ListCrashes200JSONResponse{Items: wire.Crashes(list), More: more}, err
}

// GetCrash tells of a crash and where it was met.
func (h *handlers) GetCrash(ctx context.Context, r GetCrashRequestObject) (GetCrashResponseObject, error) {
	one, met, err := h.service.Archive.Crash(ctx, caller(ctx), r.Crash)
	if err != nil {
		return nil, err
	}
	out := GetCrash200JSONResponse{Crash: wire.Crash(one), Met: []contract.CrashMet{}}
	for _, m := range met {
		out.Met = append(out.Met, wire.Meeting(m))
	}
	return out, nil
}

// GetEvidenceRetention tells how long, and how much, evidence stays.
func (h *handlers) GetEvidenceRetention(ctx context.Context,
	_ GetEvidenceRetentionRequestObject) (GetEvidenceRetentionResponseObject, error) {
	k, err := h.service.Archive.EvidenceRetention(ctx, caller(ctx))
	return GetEvidenceRetention200JSONResponse(wire.Kept(k)), err
}

// SetEvidenceRetention changes it.
func (h *handlers) SetEvidenceRetention(ctx context.Context,
	r SetEvidenceRetentionRequestObject) (SetEvidenceRetentionResponseObject, error) {
	if err := h.service.Archive.SetEvidenceRetention(ctx, caller(ctx),
		store.EvidenceRetention{PassedDays: r.Body.PassedDays, Days: r.Body.Days,
			Bytes: r.Body.Bytes}); err != nil {
		return nil, err
	}
	k, err := h.service.Archive.EvidenceRetention(ctx, caller(ctx))
	return SetEvidenceRetention200JSONResponse(wire.Kept(k)), err
}

// PinRun has a run's evidence stay, or no more.
func (h *handlers) PinRun(ctx context.Context, r PinRunRequestObject) (PinRunResponseObject, error) {
	run, err := h.service.Archive.PinRun(ctx, caller(ctx), r.Run, r.Body.Pinned)
	return PinRun200JSONResponse(wire.Run(run)), err
}

// ListPictures lists the names of a run's pictures, and one of them in every combination.
func (h *handlers) ListPictures(ctx context.Context, r ListPicturesRequestObject) (ListPicturesResponseObject, error) {
	names, list, err := h.service.Archive.Pictures(ctx, caller(ctx), r.Run, text(r.Params.Name))
	return ListPictures200JSONResponse(wire.Pictures(names, list)), err
}

// GetSummary gives a run in brief.
func (h *handlers) GetSummary(ctx context.Context, r GetSummaryRequestObject) (GetSummaryResponseObject, error) {
	out, err := h.views.Summary(ctx, caller(ctx), r.Run)
	return GetSummary200JSONResponse(out), err
}

// usualSpan is what is told of where nobody says.
const usualSpan = 30 * 24 * time.Hour

// span reads from when to when something is asked for; a day that it ends with is whole.
func span(from, to string, now time.Time) (time.Time, time.Time, error) {
	read := func(text string, usual time.Time, whole time.Duration) (time.Time, error) {
		if text == "" {
			return usual, nil
		}
		if day, err := time.Parse(time.DateOnly, text); err == nil {
			return day.Add(whole), nil
		}
		at, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return at, base.Invalid(strconv.Quote(text)+" is neither a day nor a moment",
				"write 2026-03-01, or 2026-03-01T08:00:00Z")
		}
		return at, nil
	}
	end, err := read(to, now, 24*time.Hour)
	if err != nil {
		return end, end, err
	}
	begin, err := read(from, end.Add(-usualSpan), 0)
	return begin, end, err
}

// GetCovered tells which devices, OS versions and languages were covered by which builds.
func (h *handlers) GetCovered(ctx context.Context, r GetCoveredRequestObject) (GetCoveredResponseObject, error) {
	out, err := h.covered(ctx, text(r.Params.App), text(r.Params.From), text(r.Params.To))
	return GetCovered200JSONResponse(out), err
}

func (h *handlers) covered(ctx context.Context, app, first, last string) (contract.CoveredDevices, error) {
	from, to, err := span(first, last, time.Now().UTC())
	if err != nil {
		return contract.CoveredDevices{}, err
	}
	list, err := h.service.Archive.Coverage(ctx, caller(ctx), app, from, to)
	return contract.CoveredDevices{From: from, To: to, Items: wire.Covered(list)}, err
}

// coveredTable gives the same as a table.
func (h *handlers) coveredTable(g *gin.Context) {
	covered, err := h.covered(g, g.Query("app"), g.Query("from"), g.Query("to"))
	if err != nil {
		h.fail(g, err)
		return
	}
	g.Header("Content-Type", "text/csv; charset=utf-8")
	g.Header("Content-Disposition", `attachment; filename="covered.csv"`)
	w := csv.NewWriter(g.Writer)
	_ = w.Write([]string{"app", "build", "version", "platform", "os", "model", "kind", "language", "runs", "cases",
		"passed", "failed", "errors",
		"last run", "last at"})
	for _, c := range covered.Items {
		_ = w.Write([]string{inert(c.App), strconv.FormatInt(c.Build, 10), inert(c.Version), c.Platform, inert(c.Os),
			inert(c.Model), c.Kind, c.Language,
			strconv.Itoa(c.Runs), strconv.Itoa(c.Cases), strconv.Itoa(c.Passed), strconv.Itoa(c.Failed),
			strconv.Itoa(c.Errors),
			strconv.FormatInt(c.LastRun, 10), c.LastAt.UTC().Format(time.RFC3339)})
	}
	w.Flush() // whoever reads has gone where that fails
}

// coveredPage gives the same as one page without script.
func (h *handlers) coveredPage(g *gin.Context) {
	covered, err := h.covered(g, g.Query("app"), g.Query("from"), g.Query("to"))
	if err != nil {
		h.fail(g, err)
		return
	}
	var page bytes.Buffer // bounded by how much is told at once
	if err := report.CoveredHTML(&page, covered, time.Now().UTC()); err != nil {
		h.fail(g, err)
		return
	}
	if g.Query("save") != "" {
		g.Header("Content-Disposition", `attachment; filename="covered.html"`)
	}
	g.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; sandbox")
	g.Data(http.StatusOK, "text/html; charset=utf-8", page.Bytes())
}

// inert has a text from outside be a text in a spreadsheet, and no formula.
func inert(s string) string {
	if s != "" && (s[0] == '=' || s[0] == '+' || s[0] == '-' || s[0] == '@' || s[0] == '\t' || s[0] == '\r') {
		return "'" + s
	}
	return s
}
