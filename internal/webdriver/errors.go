package webdriver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"yamato/internal/core/plain"
)

// Code is an error code of the standard (WebDriver 6.6; BiDi 5.1).
type Code string

// The codes that somebody decides on.
const (
	InvalidArgument     Code = "invalid argument"
	InvalidSession      Code = "invalid session id"
	JavaScriptError     Code = "javascript error"
	NoSuchAlert         Code = "no such alert"
	NoSuchElement       Code = "no such element"
	NoSuchFrame         Code = "no such frame"
	NoSuchWindow        Code = "no such window"
	NoSuchShadowRoot    Code = "no such shadow root"
	NoSuchCookie        Code = "no such cookie"
	InvalidSelector     Code = "invalid selector"
	MoveOutOfBounds     Code = "move target out of bounds"
	NotInteractable     Code = "element not interactable"
	ScriptTimeout       Code = "script timeout"
	SessionNotCreated   Code = "session not created"
	StaleElement        Code = "stale element reference"
	DetachedShadowRoot  Code = "detached shadow root"
	Timeout             Code = "timeout"
	UnexpectedAlert     Code = "unexpected alert open"
	UnknownCommand      Code = "unknown command"
	UnknownError        Code = "unknown error"
	UnknownMethod       Code = "unknown method"
	UnsupportedOp       Code = "unsupported operation"
	UnableToSetCookie   Code = "unable to set cookie"
	UnableToCapture     Code = "unable to capture screen"
	InsecureCertificate Code = "insecure certificate"
)

// Fault is whose trouble an error is.
type Fault string

// Whose it may be. Only what is the app's decides anything about it.
const (
	OfApp    Fault = "app"    // what the app shows, asks or runs
	OfScript Fault = "script" // what was asked for cannot be asked for
	OfDevice Fault = "device" // the device is not there, or cannot do it
	OfSite   Fault = "site"   // what is between us and the device: a service, a network, a certificate
)

// Kind is what is known of a code: the status that it comes with, and whose trouble it is.
type Kind struct {
	Status int
	Fault  Fault
}

// Kinds are all codes of the standard, those of BiDi among them. What is not among them is the site's.
var Kinds = map[Code]Kind{
	"element click intercepted": {400, OfApp},
	NotInteractable:             {400, OfApp},
	InsecureCertificate:         {400, OfSite},
	InvalidArgument:             {400, OfScript},
	"invalid cookie domain":     {400, OfScript},
	"invalid element state":     {400, OfApp},
	InvalidSelector:             {400, OfScript},
	InvalidSession:              {404, OfDevice},
	JavaScriptError:             {500, OfApp},
	MoveOutOfBounds:             {500, OfScript},
	NoSuchAlert:                 {404, OfApp},
	NoSuchCookie:                {404, OfApp},
	NoSuchElement:               {404, OfApp},
	NoSuchFrame:                 {404, OfApp},
	NoSuchWindow:                {404, OfApp},
	NoSuchShadowRoot:            {404, OfApp},
	ScriptTimeout:               {500, OfApp},
	SessionNotCreated:           {500, OfSite},
	StaleElement:                {404, OfApp},
	DetachedShadowRoot:          {404, OfApp},
	Timeout:                     {500, OfApp},
	UnableToSetCookie:           {500, OfScript},
	UnableToCapture:             {500, OfDevice},
	UnexpectedAlert:             {500, OfApp},
	UnknownCommand:              {404, OfDevice},
	UnknownError:                {500, OfDevice},
	UnknownMethod:               {405, OfDevice},
	UnsupportedOp:               {500, OfDevice},

	"invalid web extension":            {500, OfScript},
	"no such client window":            {404, OfDevice},
	"no such handle":                   {404, OfApp},
	"no such history entry":            {404, OfApp},
	"no such intercept":                {404, OfScript},
	"no such network collector":        {404, OfDevice},
	"no such network data":             {404, OfDevice},
	"no such node":                     {404, OfApp},
	"no such request":                  {404, OfApp},
	"no such script":                   {404, OfDevice},
	"no such storage partition":        {404, OfDevice},
	"no such user context":             {404, OfDevice},
	"no such web extension":            {404, OfScript},
	"unable to close browser":          {500, OfDevice},
	"unable to set file input":         {500, OfApp},
	"unavailable network data":         {500, OfDevice},
	"underspecified storage partition": {500, OfScript},
}

// Error is what a remote end answers instead of a value.
type Error struct {
	Code    Code
	Message string // in words, bounded
	Status  int    // of HTTP; 0 where it came otherwise
	Data    map[string]json.RawMessage
}

func (e *Error) Error() string {
	if e.Message == "" {
		return string(e.Code)
	}
	return string(e.Code) + ": " + e.Message
}

// Fault tells whose trouble it is.
func (e *Error) Fault() Fault {
	if k, ok := Kinds[e.Code]; ok {
		return k.Fault
	}
	return OfSite
}

// Is tells whether an error is one of these codes.
func Is(err error, codes ...Code) bool {
	var e *Error
	if !errors.As(err, &e) {
		return false
	}
	for _, c := range codes {
		if e.Code == c {
			return true
		}
	}
	return false
}

// FaultOf tells whose trouble an error is: what is none of a remote end's answers is the site's.
func FaultOf(err error) Fault {
	var e *Error
	if errors.As(err, &e) {
		return e.Fault()
	}
	return OfSite
}

// Broken is an answer that is none of the standard's: of a proxy in between, of a remote end that lies, or none.
type Broken struct {
	Why    string
	Status int // of HTTP, 0 where there was none
	// Retry is what Retry-After asks for (RFC 9110, 10.2.3), "" where it asks for nothing.
	Retry string
	Err   error
}

func (b *Broken) Error() string {
	if b.Err != nil {
		return b.Why + ": " + b.Err.Error()
	}
	return b.Why
}

func (b *Broken) Unwrap() error { return b.Err }

// broken gives one, unless it was the call's own end.
func broken(ctx context.Context, err error, form string, args ...any) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return &Broken{Why: fmt.Sprintf(form, args...), Err: err}
}

// failed reads an answer that is an error.
func failed(status int, header http.Header, body []byte) error {
	var in struct {
		Value struct {
			Error   *string                    `json:"error"`
			Message string                     `json:"message"`
			Data    map[string]json.RawMessage `json:"data"`
		} `json:"value"`
	}
	if json.Unmarshal(body, &in) != nil || in.Value.Error == nil {
		return &Broken{Why: fmt.Sprintf("it answers %d %s, and not as WebDriver does: %s", status, http.StatusText(status),
			plain.Clip(plain.Text(string(body), 300), 200)), Status: status, Retry: plain.Clip(header.Get("Retry-After"), 60)}
	}
	return &Error{Code: Code(plain.Text(*in.Value.Error, 100)), Message: plain.Text(in.Value.Message, 2000), Status: status,
		Data: in.Value.Data}
}
