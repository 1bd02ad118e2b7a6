package api

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"mime"
	"net/http"

	"github.com/gin-gonic/gin"

	"yamato/internal/api/views"
	"yamato/internal/report"
)

// maxReportPicture bounds a picture of a report, in bytes.
const maxReportPicture = 8 << 20

// runReport serves a run as one page with its pictures within.
func (h *handlers) runReport(g *gin.Context) {
	n, err := number(g, "run")
	if err != nil {
		h.fail(g, err)
		return
	}
	ctx, c := g.Request.Context(), caller(g.Request.Context())
	d, err := h.views.Detail(ctx, c, n, views.Whole)
	if err != nil {
		h.fail(g, err)
		return
	}
	causes, err := h.views.Causes(ctx, c, n)
	if err != nil {
		h.fail(g, err)
		return
	}
	kept, err := h.views.Evidence(ctx, c, n)
	if err != nil {
		h.fail(g, err)
		return
	}
	var page bytes.Buffer // bounded by what a page may hold
	err = report.HTML(&page, d, causes, kept, func(id int64) ([]byte, error) { return h.pictureOf(ctx, g, n, id) })
	if err != nil {
		h.fail(g, err)
		return
	}
	if g.Query("save") != "" {
		g.Header("Content-Disposition", mime.FormatMediaType("attachment",
			map[string]string{"filename": fmt.Sprintf("run-%d.html", n)}))
	}
	g.Header("Content-Security-Policy", "default-src 'none'; img-src data:; style-src 'unsafe-inline'; frame-ancestors 'none'; sandbox")
	g.Data(http.StatusOK, "text/html; charset=utf-8", page.Bytes())
}

func (h *handlers) pictureOf(ctx context.Context, g *gin.Context, run, id int64) ([]byte, error) {
	_, f, err := h.views.OpenEvidence(ctx, caller(g.Request.Context()), run, id)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxReportPicture))
}
