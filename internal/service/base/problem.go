package base

import (
	"errors"
	"fmt"
	"syscall"

	"yamato/internal/core/appfile"
	"yamato/internal/core/matrix"
	"yamato/internal/core/remedy"
	"yamato/internal/core/script"
	"yamato/internal/store/pg"
)

// Kind is a stable name for a sort of problem. How each is told over HTTP is the
// interface's matter.
type Kind string

// The kinds.
const (
	NoToken        Kind = "no-token"
	SignedOff      Kind = "signed-out"
	Forbid         Kind = "forbidden"
	Missing        Kind = "not-found"
	Wrong          Kind = "invalid"
	PackageRefused Kind = "package-refused"
	TooLarge       Kind = "too-large"
	Damaged        Kind = "damaged"
	DiskFull       Kind = "disk-full"
	TooMuch        Kind = "too-much-begun"
	NoRoomOnHost   Kind = "no-room"
	LinkVersion    Kind = "link-version"
	HostName       Kind = "host-name"
	Licence        Kind = "licence"
	NoSight        Kind = "no-sight"
	NoAnswer       Kind = "no-answer"
	OtherCall      Kind = "idempotency-key"
	SignInUsed     Kind = "sign-in-used"
	LetGone        Kind = "let-go"
	Needed         Kind = "needed"
	Internal       Kind = "internal"
)

// Problem is an error that its reader can do something about.
type Problem struct {
	Kind     Kind
	Title    string
	Hint     remedy.Remedy // what to do next
	Findings []script.Finding
	LeftOut  []matrix.LeftOut
	Err      error
}

func (p *Problem) Error() string { return p.Title }
func (p *Problem) Unwrap() error { return p.Err }

// Hint is how a remedy may be given: plain words name nothing to do.
type Hint interface{ string | remedy.Remedy }

// Refuse gives a problem of a kind.
func Refuse[H Hint](kind Kind, title string, hint H) *Problem {
	p := &Problem{Kind: kind, Title: title}
	switch hint := any(hint).(type) {
	case string:
		p.Hint = remedy.Plain(hint)
	case remedy.Remedy:
		p.Hint = hint
	}
	return p
}

// Unauthorised tells that nobody is known by this token.
var Unauthorised = Refuse(NoToken, "this call needs a token that the service knows",
	"pass the token that the service made at its first start, as a bearer token")

// SignedOut tells that nobody is known by this cookie.
var SignedOut = Refuse(SignedOff, "this browser is not signed in", remedy.Say("%s makes a link that signs it in", remedy.Console))

// NoRoom gives the problem of a service whose disk is full.
func NoRoom() *Problem {
	return Refuse(DiskFull, "the service's disk is full; nothing was kept", remedy.Say("free some room where the service "+
		"keeps its data, or have retention remove builds (%s), then try again", remedy.BuildRetention))
}

// NotFound gives a problem for something that is not there.
func NotFound[H Hint](what string, hint H) *Problem { return Refuse(Missing, what, hint) }

// Invalid gives a problem for a call that cannot be carried out as it stands.
func Invalid[H Hint](title string, hint H) *Problem { return Refuse(Wrong, title, hint) }

// Forbidden gives a problem for a caller that may not do this.
func Forbidden[H Hint](title string, hint H) *Problem { return Refuse(Forbid, title, hint) }

// AsProblem turns any error into a problem. What is not meant for the caller
// becomes a plain "internal" one.
func AsProblem(err error) *Problem {
	var p *Problem
	var refusal *appfile.Refusal
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &refusal):
		return Refuse(PackageRefused, refusal.Reason, refusal.Hint)
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		p := NoRoom()
		p.Err = err
		return p
	case pg.Unfit(err):
		p := Invalid("a value in this call is larger than it can be, or no text", "/calls describes the call")
		p.Err = err
		return p
	case errors.Is(err, pg.ErrNone):
		return NotFound("there is no such thing", "list what there is")
	}
	return &Problem{Kind: Internal, Title: "the service could not do this",
		Hint: remedy.Plain("try again; the service's log says more"), Err: err}
}

// NotThere turns the records' word that there is none into a problem that says of what.
func NotThere[H Hint](err error, hint H, format string, args ...any) error {
	if errors.Is(err, pg.ErrNone) {
		return NotFound(fmt.Sprintf(format, args...), hint)
	}
	return err
}
