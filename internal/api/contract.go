package api

import (
	"crypto/rand"
	"encoding/base64"
	"net/http"
	"sync"

	"github.com/gin-gonic/gin"

	description "yamato/api"
	"yamato/internal/api/described"
)

// contract gives the description of the interface as it stands.
func (h *handlers) contract(g *gin.Context) {
	g.Data(http.StatusOK, "application/yaml; charset=utf-8", description.Contract)
}

var calls = sync.OnceValues(func() ([]described.Part, error) { return described.Parts(description.Contract) })

// callsPage shows each call as a line of curl. It says nothing of a project, and needs no sign-in.
func (h *handlers) callsPage(g *gin.Context) {
	parts, err := calls()
	if err != nil {
		h.fail(g, err)
		return
	}
	nonce := newNonce()
	page, err := described.Page(parts, nonce)
	if err != nil {
		h.fail(g, err)
		return
	}
	g.Header("Content-Security-Policy", "default-src 'none'; style-src 'nonce-"+nonce+
		"'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
	g.Data(http.StatusOK, "text/html; charset=utf-8", page)
}

// newNonce makes a word that lets one answer's styles be used, and no others.
func newNonce() string {
	var nonce [12]byte
	_, _ = rand.Read(nonce[:]) // never fails (crypto/rand)
	return base64.StdEncoding.EncodeToString(nonce[:])
}
