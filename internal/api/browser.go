package api

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"yamato/internal/api/watch"
	"yamato/internal/contract"
	"yamato/internal/report"
	"yamato/internal/service"
	"yamato/internal/service/base"
)

// cookieName is the name of the cookie that keeps a browser signed in. Cookies do
// not tell ports apart, so the name does: two services on one machine both work.
func cookieName(r *http.Request) string {
	_, port, err := net.SplitHostPort(r.Host)
	if err != nil {
		port = "main"
	}
	return "yamato_" + port
}

func setCookie(g *gin.Context, value string, lasts time.Duration) {
	http.SetCookie(g.Writer, &http.Cookie{Name: cookieName(g.Request), Value: value, Path: "/",
		MaxAge: int(lasts.Seconds()), HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: g.Request.TLS != nil || g.GetHeader("X-Forwarded-Proto") == "https"})
}

// knownHost reports whether a browser may have meant this service by the name it
// used. A page elsewhere can have its own name resolve to this address (DNS
// rebinding), but never an address itself, nor localhost.
func (h *handlers) knownHost(host string) bool {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	name = strings.Trim(name, "[]")
	if net.ParseIP(name) != nil || name == "localhost" || strings.HasSuffix(name, ".localhost") {
		return true
	}
	for _, n := range h.config.Names {
		if strings.EqualFold(n, name) {
			return true
		}
	}
	return false
}

// fromOwnPage reports whether a browser's call comes from a page of this service:
// by its Origin, which browsers send with every call that changes something, and
// by Sec-Fetch-Site where there is none.
func fromOwnPage(r *http.Request) bool {
	if origin := r.Header.Get("Origin"); origin != "" {
		u, err := url.Parse(origin)
		return err == nil && strings.EqualFold(u.Host, r.Host)
	}
	site := r.Header.Get("Sec-Fetch-Site")
	safe := r.Method == http.MethodGet || r.Method == http.MethodHead
	return site == "same-origin" || safe && (site == "" || site == "none")
}

// browser finds the caller of a call that has no token, by its cookie.
func (h *handlers) browser(g *gin.Context) (base.Caller, error) {
	c, err := g.Cookie(cookieName(g.Request))
	if err != nil {
		c = ""
	}
	caller, err := h.service.BrowserCaller(g.Request.Context(), c)
	if err != nil {
		return caller, err
	}
	return caller, h.trusted(g)
}

func (h *handlers) trusted(g *gin.Context) error {
	if !h.knownHost(g.Request.Host) {
		return base.Forbidden(fmt.Sprintf("this service does not go by the name %q", g.Request.Host),
			"open it by its address, or start it with --name "+g.Request.Host)
	}
	if !fromOwnPage(g.Request) {
		return base.Forbidden("this call comes from another site's page", "open the console by itself")
	}
	return nil
}

// signIn takes a code and signs the browser in.
func (h *handlers) signIn(g *gin.Context) {
	if err := h.trusted(g); err != nil {
		h.fail(g, err)
		return
	}
	var in struct {
		Code string `json:"code"`
	}
	if err := json.NewDecoder(g.Request.Body).Decode(&in); err != nil {
		h.fail(g, unreadable(err))
		return
	}
	cookie, c, err := h.service.SignIn(g.Request.Context(), in.Code)
	if err != nil {
		h.fail(g, err)
		return
	}
	setCookie(g, cookie, service.BrowserLasts)
	g.JSON(http.StatusOK, contract.About{Program: h.config.Program, Project: c.Project, Caller: c.Name})
}

// signOut signs the browser out.
func (h *handlers) signOut(g *gin.Context) {
	err := h.trusted(g)
	if c, none := g.Cookie(cookieName(g.Request)); err == nil && none == nil {
		err = h.service.SignOut(g.Request.Context(), c)
	}
	if err != nil {
		h.fail(g, err)
		return
	}
	setCookie(g, "", -time.Second)
	g.Status(http.StatusNoContent)
}

// maxWatched bounds how many runs one browser follows at once.
const maxWatched = 20

// stream tells one browser what happens, as server-sent events (WHATWG HTML, 9.2):
// ?watch=fleet&watch=runs&watch=library, and ?run=142:55 for the events of run 142
// after its event 55.
func (h *handlers) stream(g *gin.Context) {
	w := watch.Watch{Events: map[int64]int64{}}
	for _, what := range g.QueryArray("watch") {
		switch what {
		case "fleet":
			w.Fleet = true
		case "runs":
			w.Runs = true
		case "library":
			w.Library = true
		default:
			h.fail(g, unreadable(fmt.Errorf("%q is nothing to watch; fleet, runs and library are", what)))
			return
		}
	}
	runs := g.QueryArray("run")
	if len(runs) > maxWatched {
		h.fail(g, unreadable(fmt.Errorf("at most %d runs are followed at once", maxWatched)))
		return
	}
	for _, r := range runs {
		number, after, _ := strings.Cut(r, ":")
		n, err := strconv.ParseInt(number, 10, 64)
		a, err2 := strconv.ParseInt(after, 10, 64)
		if err = errors.Join(err, err2); err != nil || n < 1 || a < 0 {
			h.fail(g, unreadable(fmt.Errorf("%q is no run and event, as 142:55", r)))
			return
		}
		w.Events[n] = a
	}
	g.Header("Content-Type", "text/event-stream")
	g.Header("X-Accel-Buffering", "no")
	g.Status(http.StatusOK)
	g.Writer.Flush()
	err := h.watch.Follow(g.Request.Context(), caller(g.Request.Context()), w, func(told []watch.Told) error {
		for _, t := range told {
			body, err := json.Marshal(t.Body)
			if err != nil {
				return err
			}
			if _, err := fmt.Fprintf(g.Writer, "event: %s\ndata: %s\n\n", t.Kind, body); err != nil {
				return err
			}
		}
		g.Writer.Flush()
		return nil
	})
	if err != nil && g.Request.Context().Err() == nil {
		h.config.Log.Warn("a browser's stream ended", "error", err)
	}
}

// frame serves one picture of a film.
func (h *handlers) frame(g *gin.Context) {
	run, err := number(g, "run")
	id, err2 := number(g, "id")
	index, err3 := strconv.Atoi(g.Param("index"))
	if err3 != nil {
		err3 = base.NotFound("a picture of a film has a number", "")
	}
	if err = errors.Join(err, err2, err3); err != nil {
		h.fail(g, err)
		return
	}
	png, err := h.views.Frame(g.Request.Context(), caller(g.Request.Context()), run, id, index)
	if err != nil {
		h.fail(g, err)
		return
	}
	keepable(g)
	g.Data(http.StatusOK, "image/png", png)
}

// keepable lets the browser keep what will never change: evidence stands once it
// has been accepted.
func keepable(g *gin.Context) {
	g.Header("Cache-Control", "private, max-age=86400, immutable")
}

// archive serves the evidence of a run, or of one case in it, as one zip.
func (h *handlers) archive(g *gin.Context) {
	run, err := number(g, "run")
	if err != nil {
		h.fail(g, err)
		return
	}
	list, err := h.views.Evidence(g.Request.Context(), caller(g.Request.Context()), run)
	if err != nil {
		h.fail(g, err)
		return
	}
	name := fmt.Sprintf("run-%d-evidence.zip", run)
	leg, index := g.Query("leg"), g.Query("case")
	g.Header("Content-Type", "application/zip")
	g.Header("Content-Disposition", `attachment; filename="`+name+`"`)
	z := zip.NewWriter(g.Writer)
	for _, e := range list {
		if leg != "" && leg != fmt.Sprint(e.Leg) || index != "" && index != fmt.Sprint(e.CaseIndex) {
			continue
		}
		if e.Gone != nil {
			continue // its row says why
		}
		if err := h.pack(g, z, run, e); err != nil {
			h.config.Log.Warn("evidence could not be packed", "run", run, "evidence", e.Id, "error", err)
			panic(http.ErrAbortHandler) // the answer has begun: only a broken one tells that it is not whole
		}
	}
	if err := z.Close(); err != nil {
		panic(http.ErrAbortHandler)
	}
}

func (h *handlers) pack(g *gin.Context, z *zip.Writer, run int64, e contract.Evidence) error {
	_, f, err := h.views.OpenEvidence(g.Request.Context(), caller(g.Request.Context()), run, e.Id)
	if err != nil {
		return err
	}
	defer f.Close()
	w, err := z.Create(fmt.Sprintf("leg-%d/case-%d/attempt-%d-%s-%d-%s%s", e.Leg, e.CaseIndex, e.Attempt, e.Sort, e.Id,
		report.Plain(e.Name), report.Extension(e.MediaType)))
	if err != nil {
		return err
	}
	_, err = io.Copy(w, f)
	return err
}
