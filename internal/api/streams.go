package api

import (
	"context"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"strconv"
	"time"
	"unicode/utf8"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"

	"yamato/internal/core/evidence"
	"yamato/internal/link"
	"yamato/internal/service/base"
)

func number(g *gin.Context, name string) (int64, error) {
	n, err := strconv.ParseInt(g.Param(name), 10, 64)
	if err != nil || n < 1 {
		return 0, base.NotFound(fmt.Sprintf("there is no %s %q", name, g.Param(name)), "it is a number")
	}
	return n, nil
}

// lastingCalls are those that go on until somebody ends them. All others are let finish when the service stops.
var lastingCalls = map[string]bool{
	"/api/v1/projects/:project/runs/:run/events":       true,
	"/api/v1/projects/:project/stream":                 true,
	"/api/v1/projects/:project/sessions/:session/live": true,
	"/api/v1/projects/:project/sessions/:session/port": true,
	"/api/v1/live/:lease":                              true,
	"/api/v1/live/:lease/port/:id":                     true,
	"/api/v1/relay/:lease":                             true,
	"/api/v1/relay/:lease/port":                        true,
	"/api/v1/link":                                     true,
}

// lasts ends what goes on, or waits for something to happen, as soon as the service is to stop.
func (h *handlers) lasts(g *gin.Context) {
	if h.config.Stopping == nil || !lastingCalls[g.FullPath()] && g.Query("wait_ms") == "" {
		return
	}
	ctx, end := context.WithCancel(g.Request.Context())
	defer end()
	defer context.AfterFunc(h.config.Stopping, end)()
	g.Request = g.Request.WithContext(ctx)
	g.Next()
}

func (h *handlers) stopping() bool { return h.config.Stopping != nil && h.config.Stopping.Err() != nil }

// events streams the events of a run as server-sent events (WHATWG HTML, 9.2).
// Each has its number as id; Last-Event-ID, or ?after=, says where to go on. The
// stream ends with the run.
func (h *handlers) events(g *gin.Context) {
	run, err := number(g, "run")
	if err != nil {
		h.fail(g, err)
		return
	}
	last := g.GetHeader("Last-Event-ID")
	if last == "" {
		last = g.DefaultQuery("after", "0")
	}
	after, err := strconv.ParseInt(last, 10, 64)
	if err != nil || after < 0 {
		h.fail(g, unreadable(fmt.Errorf("%q is no event's number", last)))
		return
	}
	started := false
	for {
		ctx, stop := context.WithTimeout(g.Request.Context(), 15*time.Second)
		list, ended, err := h.service.Runs.RunEvents(ctx, caller(g.Request.Context()), run, after)
		stop()
		quiet := errors.Is(err, context.DeadlineExceeded) && g.Request.Context().Err() == nil
		if err != nil && !quiet {
			if !started {
				h.fail(g, err)
			}
			return
		}
		if !started {
			started = true
			g.Header("Content-Type", "text/event-stream")
			g.Header("X-Accel-Buffering", "no")
			g.Status(http.StatusOK)
		}
		if quiet {
			_, err = g.Writer.WriteString(": still here\n\n")
		}
		for _, e := range list {
			after = e.Number
			if _, err = fmt.Fprintf(g.Writer, "id: %d\ndata: %s\n\n", e.Number, e.Body); err != nil {
				return
			}
		}
		if ended && err == nil {
			_, err = g.Writer.WriteString("event: end\ndata: {}\n\n")
		}
		g.Writer.Flush()
		if err != nil || ended {
			return
		}
	}
}

// evidence serves what is kept, so that a browser runs none of it.
func (h *handlers) evidence(g *gin.Context) {
	run, err := number(g, "run")
	if err != nil {
		h.fail(g, err)
		return
	}
	id, err := number(g, "id")
	if err != nil {
		h.fail(g, err)
		return
	}
	e, f, err := h.views.OpenEvidence(g.Request.Context(), caller(g.Request.Context()), run, id)
	if err != nil {
		h.fail(g, err)
		return
	}
	defer f.Close()
	kind := "application/octet-stream"
	if k, ok := evidence.ByMediaType(e.MediaType); ok && k.Passive { // it is shown, and nothing in it runs
		kind = e.MediaType
	}
	g.Header("Content-Type", kind)
	g.Header("Content-Disposition", mime.FormatMediaType("inline", map[string]string{"filename": e.Name}))
	keepable(g)
	http.ServeContent(g.Writer, g.Request, "", time.Time{}, f)
}

// link serves a host's WebSocket.
func (h *handlers) link(g *gin.Context) {
	socket, err := websocket.Accept(g.Writer, g.Request, &websocket.AcceptOptions{})
	if err != nil {
		return // Accept has answered
	}
	socket.SetReadLimit(link.MaxMessage)
	c := caller(g.Request.Context())
	err = h.service.Link.ServeHost(g.Request.Context(), c, link.WebSocket{Socket: socket})
	reason := "the link has ended"
	var p *base.Problem
	if errors.As(err, &p) {
		reason = p.Title
	}
	code := websocket.StatusGoingAway
	if p != nil {
		code = websocket.StatusPolicyViolation
	}
	_ = socket.Close(code, inClosing(reason))
	h.config.Log.Info("host's link ended", "token", c.Name, "why", err)
}

// inClosing cuts a reason to what a WebSocket's close frame holds: 123 bytes of UTF-8 (RFC 6455, 5.5).
func inClosing(reason string) string {
	for len(reason) > 123 {
		_, size := utf8.DecodeLastRuneInString(reason)
		reason = reason[:len(reason)-size]
	}
	return reason
}

func (h *handlers) putBlob(g *gin.Context) {
	put := func() error { return h.service.Link.PutBlob(g.Request.Context(), g.Param("digest"), g.Request.Body) }
	if id := g.Query("part"); id != "" {
		put = func() error { return h.putPart(g, id) }
	}
	if err := put(); err != nil {
		h.fail(g, err)
		return
	}
	g.Status(http.StatusNoContent)
}

func (h *handlers) getBlob(g *gin.Context) {
	f, err := h.service.Link.OpenBlob(g.Request.Context(), caller(g.Request.Context()), g.Param("digest"))
	if err != nil {
		h.fail(g, err)
		return
	}
	defer f.Close()
	g.Header("Content-Type", "application/octet-stream")
	http.ServeContent(g.Writer, g.Request, "", time.Time{}, f)
}
