package api

import (
	"errors"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
)

// Problems that only calls have.
const (
	badCall   base.Kind = "unreadable"
	badMethod base.Kind = "method"
	stopping  base.Kind = "stopping"
)

// statuses tell each kind of problem over HTTP.
var statuses = map[base.Kind]int{
	base.NoToken: http.StatusUnauthorized, base.SignedOff: http.StatusUnauthorized, base.Forbid: http.StatusForbidden,
	base.Missing: http.StatusNotFound,
	base.Wrong:   http.StatusUnprocessableEntity, base.PackageRefused: http.StatusUnprocessableEntity,
	base.TooLarge: http.StatusRequestEntityTooLarge,
	base.Damaged:  http.StatusUnprocessableEntity, base.DiskFull: http.StatusInsufficientStorage,
	base.NoRoomOnHost: http.StatusConflict, base.TooMuch: http.StatusTooManyRequests,
	base.LinkVersion: http.StatusUpgradeRequired, base.HostName: http.StatusConflict,
	base.Licence: http.StatusForbidden,
	base.NoSight: http.StatusConflict, base.Needed: http.StatusConflict,
	base.NoAnswer: http.StatusGatewayTimeout, base.OtherCall: http.StatusConflict, base.SignInUsed: http.StatusGone,
	base.LetGone:  http.StatusGone,
	base.Internal: http.StatusInternalServerError,
	badCall:       http.StatusBadRequest, badMethod: http.StatusMethodNotAllowed,
	stopping: http.StatusServiceUnavailable,
}

func statusOf(kind base.Kind) int {
	if status, ok := statuses[kind]; ok {
		return status
	}
	return http.StatusInternalServerError
}

// readerOf tells who reads a call's answer. Somebody who gives commands does where the command-line client says who it
// is, or where a console is signed in by a cookie.
func readerOf(g *gin.Context) remedy.Reader {
	person := strings.HasPrefix(g.Request.UserAgent(), "yamato/") || g.GetHeader("Authorization") == ""
	return remedy.Reader(!person)
}

// problemOut gives a problem to a reader, as RFC 9457 has it.
func problemOut(p *base.Problem, to remedy.Reader) contract.Problem {
	status := statusOf(p.Kind)
	out := contract.Problem{Type: "yamato:" + string(p.Kind), Title: p.Title, Status: status, Hint: base.Stated(p.Hint.For(to))}
	if len(p.Findings) > 0 {
		out.Findings = base.Ptr(wire.Findings(p.Findings))
	}
	if len(p.LeftOut) > 0 {
		out.LeftOut = base.Ptr(wire.LeftOut(p.LeftOut, to))
	}
	return out
}

func unreadable(err error) error {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return &base.Problem{Kind: base.TooLarge, Title: "the body of this call is too large", Err: err}
	}
	return &base.Problem{Kind: badCall, Title: "the call cannot be read: " + err.Error(),
		Hint: remedy.Plain("/calls describes the call"), Err: err}
}

func notAllowed(method, path string) error {
	return base.Refuse(badMethod, method+" is not for "+path, "/calls lists the calls")
}
