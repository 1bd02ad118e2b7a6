package api

import (
	"errors"
	"net/http"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
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

// problemOut gives a problem as RFC 9457 has it.
func problemOut(p *base.Problem) contract.Problem {
	status, ok := statuses[p.Kind]
	if !ok {
		status = http.StatusInternalServerError
	}
	out := contract.Problem{Type: "yamato:" + string(p.Kind), Title: p.Title, Status: status, Hint: base.Stated(p.Hint)}
	if len(p.Findings) > 0 {
		out.Findings = base.Ptr(wire.Findings(p.Findings))
	}
	if len(p.LeftOut) > 0 {
		out.LeftOut = base.Ptr(wire.LeftOut(p.LeftOut))
	}
	return out
}

func unreadable(err error) error {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return &base.Problem{Kind: base.TooLarge, Title: "the body of this call is too large", Err: err}
	}
	return &base.Problem{Kind: badCall, Title: "the call cannot be read: " + err.Error(),
		Hint: "api/openapi.yaml describes the call", Err: err}
}

func notAllowed(method, path string) error {
	return base.Refuse(badMethod, method+" is not for "+path, "api/openapi.yaml lists the calls")
}
