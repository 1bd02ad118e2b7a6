package service

import (
	"errors"
	"fmt"
	"net/http"
	"syscall"

	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/store"
)

// Problem is an error that its reader can do something about. Its form is that
// of RFC 9457.
type Problem struct {
	Body contract.Problem
	Err  error
}

func (p *Problem) Error() string { return p.Body.Title }
func (p *Problem) Unwrap() error { return p.Err }

func problem(status int, kind, title, hint string) *Problem {
	body := contract.Problem{Type: "yamato:" + kind, Title: title, Status: status}
	if hint != "" {
		body.Hint = &hint
	}
	return &Problem{Body: body}
}

var unauthorised = problem(http.StatusUnauthorized, "no-token", "this call needs a token that the service knows", "pass the token that the service made at its first start, as a bearer token")

var signedOut = problem(http.StatusUnauthorized, "signed-out", "this browser is not signed in", "`yamato console` makes a link that signs it in")

// NoRoom gives the problem of a service whose disk is full.
func NoRoom() *Problem {
	return problem(http.StatusInsufficientStorage, "no-room", "the service's disk is full; nothing was kept", "free some room where the service keeps its data, or have retention remove builds (`yamato build retention`), then try again")
}

// NotFound gives a problem for something that is not there.
func NotFound(what, hint string) *Problem {
	return problem(http.StatusNotFound, "not-found", what, hint)
}

// Invalid gives a problem for a call that cannot be carried out as it stands.
func Invalid(title, hint string) *Problem {
	return problem(http.StatusUnprocessableEntity, "invalid", title, hint)
}

// Forbidden gives a problem for a caller that may not do this.
func Forbidden(title, hint string) *Problem {
	return problem(http.StatusForbidden, "forbidden", title, hint)
}

// AsProblem turns any error into a problem. What is not meant for the caller
// becomes a plain "internal" one.
func AsProblem(err error) *Problem {
	var p *Problem
	var refusal *appfile.Refusal
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &refusal):
		return problem(http.StatusUnprocessableEntity, "package-refused", refusal.Reason, refusal.Hint)
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		p := NoRoom()
		p.Err = err
		return p
	case store.Unfit(err):
		p := Invalid("a value in this call is larger than it can be, or no text", "api/openapi.yaml describes the call")
		p.Err = err
		return p
	case errors.Is(err, store.ErrNone):
		return NotFound("there is no such thing", "list what there is")
	}
	return &Problem{Body: problem(http.StatusInternalServerError, "internal", "the service could not do this", "try again; the service's log says more").Body, Err: err}
}

func notThere(err error, hint, format string, args ...any) error {
	if errors.Is(err, store.ErrNone) {
		return NotFound(fmt.Sprintf(format, args...), hint)
	}
	return err
}
