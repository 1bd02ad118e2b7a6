package api

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strings"

	"github.com/gin-gonic/gin"

	"yamato/internal/api/views"
	"yamato/internal/api/watch"
	"yamato/internal/service"
	"yamato/internal/service/base"
)

// Config is what the interface needs beside the service.
type Config struct {
	Stopping context.Context // done once the service is to stop; nil where it never does
	Program  string          // version of the program
	Names    []string        // that browsers may know the service by, beside its addresses and localhost
	Console  fs.FS           // the console's files, nil for none
	Uploads  string          // folder for uploads in pieces; services that share a database share it; "" for none
	Log      *slog.Logger
}

// New gives the handler of all calls.
func New(s *service.Service, c Config) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	h := &handlers{service: s, views: views.New(s.Base, s.Builds, s.Care), watch: watch.New(s.Base), config: c}
	var err error
	if h.checker, err = newChecker(); err != nil {
		panic(err) // it is compiled in
	}
	if c.Console != nil {
		var err error
		if h.assets, err = assets(c.Console); err != nil {
			c.Log.Error("the console cannot be read", "error", err)
		}
	}
	if c.Uploads != "" {
		var err error
		if h.uploads, err = newUploads(c.Uploads, c.Log); err != nil {
			c.Log.Error("uploads in pieces cannot be taken", "error", err)
		}
	}
	r := gin.New()
	r.HandleMethodNotAllowed = true
	r.Use(h.recover, secure, bound, h.authenticate, h.plainText, h.described, h.lasts)
	r.NoRoute(func(g *gin.Context) {
		if isPage(g.Request.URL.Path) {
			h.page(g)
			return
		}
		h.fail(g, base.NotFound("there is nothing at "+g.Request.URL.Path, "/calls lists the calls"))
	})
	r.NoMethod(func(g *gin.Context) { h.fail(g, notAllowed(g.Request.Method, g.Request.URL.Path)) })
	strict := NewStrictHandlerWithOptions(h, nil, StrictGinServerOptions{
		RequestErrorHandlerFunc:  func(g *gin.Context, err error) { h.fail(g, unreadable(err)) },
		HandlerErrorFunc:         h.fail,
		ResponseErrorHandlerFunc: h.fail,
	})
	RegisterHandlersWithOptions(r, strict, GinServerOptions{ErrorHandler: func(g *gin.Context, err error, _ int) {
		h.fail(g, unreadable(err))
	}})
	h.byHand(r)
	return r
}

// byHand adds what is generated from nothing: streams, files, pages, and what hosts and other instances call.
func (h *handlers) byHand(r *gin.Engine) {
	r.GET("/healthz", h.health)
	byHand := r.Group("/api/v1")
	byHand.GET("/projects/:project/runs/:run/events", h.events)
	byHand.GET("/projects/:project/runs/:run/evidence/:id", h.evidence)
	byHand.GET("/projects/:project/runs/:run/evidence/:id/frames/:index", h.frame)
	byHand.GET("/projects/:project/runs/:run/evidence.zip", h.archive)
	byHand.GET("/projects/:project/covered.csv", h.coveredTable)
	byHand.GET("/projects/:project/covered.html", h.coveredPage)
	byHand.GET("/projects/:project/runs/:run/report.html", h.runReport)
	byHand.GET("/projects/:project/stream", h.stream)
	byHand.GET("/projects/:project/builds/:build/icon", h.icon)
	byHand.GET("/projects/:project/devices/:device/remains/:what", h.sidelined)
	byHand.POST("/projects/:project/uploads", h.upload)
	for _, method := range []string{http.MethodHead, http.MethodPatch, http.MethodDelete} {
		byHand.Handle(method, "/projects/:project/uploads/:upload", h.upload)
	}
	byHand.GET("/projects/:project/sessions/:session/live", h.lookOn)
	byHand.GET("/projects/:project/sessions/:session/log", h.sessionLog)
	byHand.GET("/projects/:project/sessions/:session/kept/:lease/:seq", h.keptOfSession)
	byHand.GET("/projects/:project/findings/:finding/picture", h.findingPicture)
	byHand.GET("/projects/:project/findings/:finding/finding.zip", h.findingFile)
	byHand.GET("/projects/:project/sessions/:session/port", h.port)
	byHand.GET("/live/:lease", h.live)
	byHand.GET("/live/:lease/port/:id", h.meetPort)
	byHand.GET("/relay/:lease", h.relay)
	byHand.GET("/relay/:lease/port", h.relayPort)
	byHand.GET("/contract", h.contract)
	r.GET("/calls", h.callsPage)
	r.GET("/feed/:secret", h.feed)
	r.GET("/install/:code", h.install)
	r.GET("/install/:code/*rest", h.install)
	byHand.POST("/session", h.signIn)
	byHand.DELETE("/session", h.signOut)
	byHand.GET("/link", h.link)
	byHand.PUT("/blobs/:digest", h.putBlob)
	byHand.POST("/parts", h.upload)
	for _, method := range []string{http.MethodHead, http.MethodPatch, http.MethodDelete} {
		byHand.Handle(method, "/parts/:upload", h.upload)
	}
	byHand.GET("/blobs/:digest", h.getBlob)
	byHand.GET("/lent/:lease", h.lent)
}

type handlers struct {
	service *service.Service
	views   *views.Part // what is shown
	watch   *watch.Part // what is followed
	config  Config
	assets  map[string]asset // the console's files by path
	uploads *uploads         // nil where none are taken in pieces
	checker *checker
}

func secure(g *gin.Context) {
	g.Header("X-Content-Type-Options", "nosniff")
	g.Header("Cache-Control", "no-store")
	g.Header("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'; sandbox")
}

// calling is what the context of a request holds: who makes the call, and how it is answered.
type calling struct {
	by base.Caller
	g  *gin.Context
}

type callingKey struct{}

// hostPaths are the calls that a host's token may make, and no other token.
func hostPath(path string) bool {
	return path == "/api/v1/link" || path == "/api/v1/parts" || strings.HasPrefix(path, "/api/v1/parts/") ||
		strings.HasPrefix(path, "/api/v1/blobs/") ||
		strings.HasPrefix(path, "/api/v1/lent/") || strings.HasPrefix(path, "/api/v1/live/")
}

// authenticate lets nobody pass whose token is unknown, or of another project,
// or not of the kind that the call is for.
func (h *handlers) authenticate(g *gin.Context) {
	if isOpen(g.Request.URL.Path) {
		return
	}
	var c base.Caller
	var err error
	if token, ok := strings.CutPrefix(g.GetHeader("Authorization"), "Bearer "); ok {
		c, err = h.service.Authenticate(g.Request.Context(), token)
	} else if _, none := g.Cookie(cookieName(g.Request)); none == nil {
		c, err = h.browser(g)
	} else {
		c, err = h.service.Authenticate(g.Request.Context(), "")
	}
	switch {
	case err != nil:
	case g.Param("project") != "" && g.Param("project") != c.Project:
		err = base.NotFound(fmt.Sprintf("there is no project %q that this token may see", g.Param("project")),
			"this token belongs to the project "+c.Project)
	case hostPath(g.Request.URL.Path) && c.Kind != "host":
		err = base.Forbidden("only a host's token may do this", "use a token that may do this")
	case !hostPath(g.Request.URL.Path) && c.Kind != "user":
		err = base.Forbidden("a host's token may only link and exchange blobs", "use a token that may do this")
	}
	if err != nil {
		h.fail(g, err)
		return
	}
	g.Request = g.Request.WithContext(context.WithValue(g.Request.Context(), callingKey{}, calling{c, g}))
}

// isOpen tells the addresses that nobody needs a token for: pages, whoever signs in, who is nobody yet, and another
// instance, which signs its calls.
func isOpen(path string) bool {
	return isPage(path) || path == "/api/v1/session" || path == "/api/v1/contract" ||
		strings.HasPrefix(path, "/api/v1/relay/")
}

// isPage tells the console's addresses from calls.
func isPage(path string) bool { return path != "/api" && !strings.HasPrefix(path, "/api/") }

// caller gives who makes the call of a request's context.
func caller(ctx context.Context) base.Caller {
	c, _ := ctx.Value(callingKey{}).(calling)
	return c.by
}

// served gives a call as gin has it, nil where there is none. It may not leave the call's handler: gin uses it again for
// the next request.
func served(ctx context.Context) *gin.Context {
	c, _ := ctx.Value(callingKey{}).(calling)
	return c.g
}

// fail answers with a problem document, and logs what the caller is not told.
func (h *handlers) fail(g *gin.Context, err error) {
	p := base.AsProblem(err)
	if p.Kind == base.Internal && h.stopping() {
		g.Header("Retry-After", "1")
		p = base.Refuse(stopping, "the service is stopping, and did not do this",
			"try again in a moment, or at another service of the same records")
	}
	body := problemOut(p, readerOf(g))
	if body.Status >= 500 && g.Request.Context().Err() == nil {
		h.config.Log.Error("a call failed", "path", g.Request.URL.Path, "error", err)
	}
	g.Abort()
	if g.Writer.Written() {
		return
	}
	g.Header("Content-Type", "application/problem+json")
	g.JSON(body.Status, body)
}

func (h *handlers) recover(g *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if err, ok := r.(error); ok && errors.Is(err, http.ErrAbortHandler) {
				panic(r)
			}
			h.fail(g, fmt.Errorf("a handler panicked: %v\n%s", r, debug.Stack()))
		}
	}()
	g.Next()
}
