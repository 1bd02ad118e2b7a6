package api

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"
	"yamato/internal/service/base"

	"github.com/gin-gonic/gin"
)

// pagePolicy lets the console's own files run, and nothing else. Styles may be set
// by its scripts: what opens and scrolls is placed that way.
const pagePolicy = "default-src 'none'; script-src 'self'; worker-src 'self'; style-src 'self' 'unsafe-inline'; " +
	"img-src 'self' data: blob:; media-src 'self'; font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; " +
	"form-action 'none'; frame-ancestors 'none'"

// asset is a file of the console, plain and packed.
type asset struct {
	plain, packed []byte
	kind          string
	immutable     bool // its name changes with its content
}

// assets reads the console's files once; they are part of the program.
func assets(files fs.FS) (map[string]asset, error) {
	out := map[string]asset{}
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		body, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		a := asset{plain: body, kind: mime.TypeByExtension(path.Ext(name)), immutable: strings.HasPrefix(name,
			"assets/")}
		if strings.HasSuffix(name, ".woff2") {
			a.kind = "font/woff2"
		} else {
			var b bytes.Buffer
			w, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
			_, _ = w.Write(body) // into memory
			_ = w.Close()
			a.packed = b.Bytes()
		}
		out["/"+name] = a
		return nil
	})
	return out, err
}

// places are the addresses of the console's pages, as its router has them (web/src/routes.tsx); a part with a colon
// stands for anything.
var places = []string{"/", "/runs", "/runs/:run", "/runs/:run/pictures", "/runs/:run/summary", "/beside", "/over-time",
	"/crashes/:crash",
	"/plans", "/plans/:plan", "/new-plan", "/calendar", "/suites", "/suites/:suite", "/write", "/write/:suite",
	"/builds", "/builds/:build",
	"/fleet", "/fleet/:device", "/by-hand", "/by-hand/side", "/by-hand/:session", "/by-hand/:session/sheet",
	"/findings", "/findings/:finding",
	"/lineups", "/sign-in"}

// isPlace tells whether the console has a page at an address.
func isPlace(address string) bool {
	if len(address) > 1 {
		address = strings.TrimSuffix(address, "/")
	}
	parts := strings.Split(address, "/")
	return slices.ContainsFunc(places, func(place string) bool {
		want := strings.Split(place, "/")
		if len(want) != len(parts) {
			return false
		}
		for i, w := range want {
			if w != parts[i] && (!strings.HasPrefix(w, ":") || parts[i] == "") {
				return false
			}
		}
		return true
	})
}

// page serves the console: its files by name, and for every address of a page the page
// that finds its way by itself; for any other it does so too, and says that there is none.
func (h *handlers) page(g *gin.Context) {
	if g.Request.Method != http.MethodGet && g.Request.Method != http.MethodHead {
		h.fail(g, notAllowed(g.Request.Method, g.Request.URL.Path))
		return
	}
	a, ok := h.assets[g.Request.URL.Path]
	status := http.StatusOK
	if !ok {
		if !isPlace(g.Request.URL.EscapedPath()) {
			if !strings.Contains(g.GetHeader("Accept"), "text/html") {
				h.fail(g, base.NotFound("there is nothing at "+g.Request.URL.Path,
					"the console is at /, and /healthz tells how this service is"))
				return
			}
			status = http.StatusNotFound
		}
		if path.Ext(g.Request.URL.Path) != "" && strings.HasPrefix(g.Request.URL.Path, "/assets/") {
			h.fail(g, base.NotFound("there is no file "+g.Request.URL.Path, "load the page anew"))
			return
		}
		if a, ok = h.assets["/index.html"]; !ok {
			h.fail(g, base.NotFound("this program was built without its console", "build it with `make`"))
			return
		}
	}
	g.Header("Content-Security-Policy", pagePolicy)
	g.Header("Referrer-Policy", "no-referrer")
	g.Header("Cross-Origin-Opener-Policy", "same-origin")
	g.Header("Vary", "Accept-Encoding")
	g.Header("Content-Type", a.kind)
	g.Header("Cache-Control", "no-cache")
	if a.immutable {
		g.Header("Cache-Control", "public, max-age=31536000, immutable")
	}
	body := a.plain
	if a.packed != nil && strings.Contains(g.GetHeader("Accept-Encoding"), "gzip") {
		g.Header("Content-Encoding", "gzip")
		body = a.packed
	}
	if status != http.StatusOK {
		g.Data(status, a.kind, body)
		return
	}
	http.ServeContent(g.Writer, g.Request, "", time.Time{}, bytes.NewReader(body))
}
