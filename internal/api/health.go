package api

import (
	"net/http"

	"github.com/gin-gonic/gin"
)

// health tells whoever keeps the service running what of it is well, part by part: 200 where all is, 503 where not.
// It tells nothing that only some may know, and needs no token.
func (h *handlers) health(g *gin.Context) {
	parts, well := h.service.Health(g.Request.Context())
	status := http.StatusOK
	if !well {
		status = http.StatusServiceUnavailable
	}
	g.Header("Cache-Control", "no-store")
	g.JSON(status, map[string]any{"well": well, "parts": parts})
}
