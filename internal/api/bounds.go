package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"yamato/internal/core/plain"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/service/dispatch"
	"yamato/internal/service/sessions"
)

// Bounds on what a caller sends, in bytes. They go by the call, never by what the caller
// says of its body.
const (
	maxJSON   = 8 << 20  // of a call's body
	maxSignIn = 16 << 10 // of one that needs no token
	maxHeader = 2000     // of a header that is kept
)

// How long a call's body may take to come.
const (
	bodyTime     = time.Minute
	openBodyTime = 5 * time.Second // of one that needs no token
)

// Bounds on the shape of a JSON body.
const (
	maxNesting = 32
	maxItems   = 10_000 // of one list or object
)

// streams are the calls whose bodies are files, and how large they may be.
var streams = map[string]int64{
	"POST /api/v1/projects/:project/packages":         builds.MaxPackage,
	"POST /api/v1/projects/:project/uploads":          1 << 20,
	"PATCH /api/v1/projects/:project/uploads/:upload": builds.MaxPackage,
	"PUT /api/v1/blobs/:digest":                       dispatch.MaxEvidence,
	"POST /api/v1/parts":                              1 << 20,
	"PATCH /api/v1/parts/:upload":                     dispatch.MaxEvidence,

	"POST /api/v1/projects/:project/sessions/:session/files": sessions.MaxFile,
}

// bound limits the body of a call by what the call is for.
func bound(g *gin.Context) {
	if g.Request.Body == nil {
		return
	}
	limit, isStream := streams[g.Request.Method+" "+g.FullPath()]
	switch {
	case isStream:
	case isOpen(g.Request.URL.Path), g.FullPath() == "":
		limit = maxSignIn
	default:
		limit = maxJSON
	}
	g.Request.Body = http.MaxBytesReader(g.Writer, g.Request.Body, limit)
}

// plainText refuses calls whose address, kept headers or body are no text. It comes after
// whoever calls is known, so that nobody else has a body read.
func (h *handlers) plainText(g *gin.Context) {
	if err := h.checkText(g); err != nil {
		h.fail(g, err)
	}
}

func (h *handlers) checkText(g *gin.Context) error {
	u := g.Request.URL
	query, err := url.QueryUnescape(u.RawQuery)
	if err != nil || !plain.Is(u.Path) || !plain.Is(query) {
		return unreadable(errors.New("its address holds something that is no text"))
	}
	for _, name := range []string{"Idempotency-Key", "Last-Event-ID", "Upload-Metadata"} {
		if v := g.GetHeader(name); !plain.Is(v) || len(v) > maxHeader {
			return unreadable(fmt.Errorf("the header %s is no text, or too long", name))
		}
	}
	if _, isStream := streams[g.Request.Method+" "+g.FullPath()]; isStream || g.Request.Body == nil ||
		g.FullPath() == "/api/v1/link" {
		return nil
	}
	// Who sends a body sends it: nobody has a connection kept by a byte now and then.
	within := bodyTime
	if isOpen(u.Path) {
		within = openBodyTime
	}
	way := http.NewResponseController(g.Writer)
	_ = way.SetReadDeadline(time.Now().Add(within)) // what cannot be bounded so is bounded by its size
	body, err := io.ReadAll(g.Request.Body)
	if err == nil {
		_ = way.SetReadDeadline(time.Time{})
	} else { // the rest is not waited for either
		g.Header("Connection", "close")
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return base.Invalid(fmt.Sprintf("its body did not come within %s", within), "send it whole")
	}
	if err != nil {
		return unreadable(err)
	}
	g.Request.Body = io.NopCloser(bytes.NewReader(body))
	return checkJSON(body)
}

// checkJSON refuses a body that holds what is no text, or more than a call needs. What is
// no JSON is left to whoever reads it.
func checkJSON(body []byte) error {
	if !plain.Is(string(body)) {
		return unreadable(errors.New("its body is no text"))
	}
	d := json.NewDecoder(bytes.NewReader(body))
	var items []int
	for {
		token, err := d.Token()
		if err != nil {
			return nil
		}
		if n := len(items); n > 0 && token != json.Delim('}') && token != json.Delim(']') {
			if items[n-1]++; items[n-1] > 2*maxItems {
				return unreadable(fmt.Errorf("a list in its body has more than %d items", maxItems))
			}
		}
		switch token := token.(type) {
		case json.Delim:
			if token == '{' || token == '[' {
				if items = append(items, 0); len(items) > maxNesting {
					return unreadable(fmt.Errorf("its body is nested more than %d deep", maxNesting))
				}
			} else if len(items) > 0 {
				items = items[:len(items)-1]
			}
		case string:
			if strings.IndexByte(token, 0) >= 0 {
				return unreadable(errors.New("its body holds U+0000, which is no text"))
			}
		}
	}
}
