package webdriver

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"time"

	"yamato/internal/core/plain"
)

// Capabilities are what a session is asked for, or what was matched: names of the standard, and those of extensions,
// which have a colon in them.
type Capabilities map[string]any

// Session is one with a remote end. It is used by one goroutine at a time.
type Session struct {
	*Client
	ID      string
	Matched Capabilities
}

// ids are what a remote end may call a session, an element or a window: they become part of paths.
var ids = regexp.MustCompile(`^[A-Za-z0-9._:@=+-]{1,300}$`)

// New asks for a session. always is what it has to have; of first, what matches first is taken.
func (c *Client) New(ctx context.Context, always Capabilities, first ...Capabilities) (*Session, error) {
	ask := map[string]any{}
	if len(always) > 0 {
		ask["alwaysMatch"] = always
	}
	if len(first) > 0 {
		ask["firstMatch"] = first
	}
	var out struct {
		SessionID    string       `json:"sessionId"`
		Capabilities Capabilities `json:"capabilities"`
	}
	if err := c.Do(ctx, http.MethodPost, "/session", map[string]any{"capabilities": ask}, &out); err != nil {
		return nil, err
	}
	if !ids.MatchString(out.SessionID) {
		return nil, &Broken{Why: fmt.Sprintf("it calls the session %q, which is no id", plain.Clip(out.SessionID, 60))}
	}
	return &Session{Client: c, ID: out.SessionID, Matched: out.Capabilities}, nil
}

// Text gives a capability that is a text, "" where it is none.
func (c Capabilities) Text(name string) string {
	text, _ := c[name].(string)
	return plain.Text(text, 500)
}

// Do sends a command of the session: path begins behind its id.
func (s *Session) Do(ctx context.Context, method, path string, in, out any) error {
	return s.Client.Do(ctx, method, "/session/"+url.PathEscape(s.ID)+path, in, out)
}

func (s *Session) get(ctx context.Context, path string, out any) error {
	return s.Do(ctx, http.MethodGet, path, nil, out)
}

func (s *Session) post(ctx context.Context, path string, in, out any) error {
	return s.Do(ctx, http.MethodPost, path, in, out)
}

// Delete ends it. One that is no more has ended.
func (s *Session) Delete(ctx context.Context) error {
	err := s.Do(ctx, http.MethodDelete, "", nil, nil)
	if Is(err, InvalidSession) {
		return nil
	}
	return err
}

// Timeouts bound what scripts, loading and finding may take (WebDriver 9); nothing of them is changed where 0.
func (s *Session) Timeouts(ctx context.Context, script, load time.Duration) error {
	in := map[string]int64{}
	if script > 0 {
		in["script"] = script.Milliseconds()
	}
	if load > 0 {
		in["pageLoad"] = load.Milliseconds()
	}
	return s.post(ctx, "/timeouts", in, nil)
}

// Go loads an address, and waits as the session's page load strategy says.
func (s *Session) Go(ctx context.Context, address string) error {
	return s.post(ctx, "/url", map[string]string{"url": address}, nil)
}

// Address is where the page is.
func (s *Session) Address(ctx context.Context) (out string, err error) {
	return out, s.get(ctx, "/url", &out)
}

// Back goes back by one.
func (s *Session) Back(ctx context.Context) error { return s.post(ctx, "/back", nil, nil) }

// Reload loads the page anew.
func (s *Session) Reload(ctx context.Context) error { return s.post(ctx, "/refresh", nil, nil) }

// Title is the page's.
func (s *Session) Title(ctx context.Context) (out string, err error) {
	return out, s.get(ctx, "/title", &out)
}

// Window is a top-level browsing context.
type Window string

// Windows are those that there are.
func (s *Session) Windows(ctx context.Context) ([]Window, error) {
	var out []Window
	if err := s.get(ctx, "/window/handles", &out); err != nil {
		return nil, err
	}
	return out, nil
}

// InFront is the one that commands go to.
func (s *Session) InFront(ctx context.Context) (out Window, err error) {
	return out, s.get(ctx, "/window", &out)
}

// To has commands go to a window.
func (s *Session) To(ctx context.Context, w Window) error {
	return s.post(ctx, "/window", map[string]Window{"handle": w}, nil)
}

// Open opens a window, or a tab, and gives it.
func (s *Session) Open(ctx context.Context, kind string) (Window, error) {
	var out struct {
		Handle Window `json:"handle"`
	}
	err := s.post(ctx, "/window/new", map[string]string{"type": kind}, &out)
	return out.Handle, err
}

// CloseWindow closes the one that commands go to, and gives those that are left.
func (s *Session) CloseWindow(ctx context.Context) (left []Window, err error) {
	return left, s.Do(ctx, http.MethodDelete, "/window", nil, &left)
}

// Rect is where a window lies on its screen, in CSS pixels.
type Rect struct {
	X, Y          int
	Width, Height int
}

// UnmarshalJSON reads one: remote ends may give fractions.
func (r *Rect) UnmarshalJSON(b []byte) error {
	var in struct{ X, Y, Width, Height float64 }
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	*r = Rect{X: int(in.X), Y: int(in.Y), Width: int(in.Width), Height: int(in.Height)}
	return nil
}

// SetRect moves the window and makes it as large.
func (s *Session) SetRect(ctx context.Context, r Rect) (out Rect, err error) {
	return out, s.post(ctx, "/window/rect", map[string]int{"x": r.X, "y": r.Y, "width": r.Width, "height": r.Height}, &out)
}

// The names under which elements, shadow roots, frames and windows stand in JSON (WebDriver 6.4, 12.1, 13.1, 11.1).
const (
	ElementID    = "element-6066-11e4-a52e-4f735466cecf"
	ShadowRootID = "shadow-6066-11e4-a52e-4f735466cecf"
	FrameID      = "frame-075b-4da1-b6ba-e579c2d3230a"
	WindowID     = "window-fcc6-11e5-b4f8-330a88ab9d7f"
)

// Element is a reference to one.
type Element struct {
	ID string `json:"element-6066-11e4-a52e-4f735466cecf"`
}

// Find finds the first element by a strategy of the standard: css selector, link text, partial link text, tag name,
// xpath.
func (s *Session) Find(ctx context.Context, using, value string) (out Element, err error) {
	if err = s.post(ctx, "/element", map[string]string{"using": using, "value": value}, &out); err == nil && !ids.MatchString(out.ID) {
		err = &Broken{Why: "it gives an element without an id"}
	}
	return out, err
}

// FindAll finds all elements.
func (s *Session) FindAll(ctx context.Context, using, value string) (out []Element, err error) {
	return out, s.post(ctx, "/elements", map[string]string{"using": using, "value": value}, &out)
}

// SetFiles has a file field hold files of the remote end's machine (WebDriver 12.5.3).
func (s *Session) SetFiles(ctx context.Context, field Element, paths string) error {
	return s.post(ctx, "/element/"+url.PathEscape(field.ID)+"/value", map[string]string{"text": paths}, nil)
}

// ToFrame has commands go to a frame's document: nil is the page's own.
func (s *Session) ToFrame(ctx context.Context, frame any) error {
	return s.post(ctx, "/frame", map[string]any{"id": frame}, nil)
}

// Run runs a function's body in the page, and reads what it returns into out.
func (s *Session) Run(ctx context.Context, body string, out any, args ...any) error {
	return s.post(ctx, "/execute/sync", script(body, args), out)
}

// RunAsync runs a function's body whose last argument is called with what it gives.
func (s *Session) RunAsync(ctx context.Context, body string, out any, args ...any) error {
	return s.post(ctx, "/execute/async", script(body, args), out)
}

func script(body string, args []any) map[string]any {
	if args == nil {
		args = []any{}
	}
	return map[string]any{"script": body, "args": args}
}

// Picture is what is to be seen of the page, as a PNG.
func (s *Session) Picture(ctx context.Context) ([]byte, error) {
	var text string
	if err := s.get(ctx, "/screenshot", &text); err != nil {
		return nil, err
	}
	data, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, &Broken{Why: "its picture is not in base64", Err: err}
	}
	return data, nil
}

// Source is the page as the remote end writes it: HTML, or XML of a native app's.
func (s *Session) Source(ctx context.Context) (out string, err error) {
	return out, s.get(ctx, "/source", &out)
}

// AlertText is what the dialog in front says.
func (s *Session) AlertText(ctx context.Context) (out string, err error) {
	return out, s.get(ctx, "/alert/text", &out)
}

// Answer answers the dialog in front. text, where it is not "", is entered first.
func (s *Session) Answer(ctx context.Context, yes bool, text string) error {
	if text != "" {
		if err := s.post(ctx, "/alert/text", map[string]string{"text": text}, nil); err != nil {
			return err
		}
	}
	if yes {
		return s.post(ctx, "/alert/accept", nil, nil)
	}
	return s.post(ctx, "/alert/dismiss", nil, nil)
}

// Perform does what sources of input do; Release has them let go of all that they hold.
func (s *Session) Perform(ctx context.Context, sources ...Source) error {
	return s.post(ctx, "/actions", map[string]any{"actions": sources}, nil)
}

// Release lets go of keys and buttons.
func (s *Session) Release(ctx context.Context) error {
	return s.Do(ctx, http.MethodDelete, "/actions", nil, nil)
}

// Cookie is one of the page's (WebDriver 14).
type Cookie struct {
	Name     string `json:"name"`
	Value    string `json:"value"`
	Path     string `json:"path,omitempty"`
	Domain   string `json:"domain,omitempty"`
	Secure   bool   `json:"secure,omitempty"`
	HTTPOnly bool   `json:"httpOnly,omitempty"`
	Expiry   int64  `json:"expiry,omitempty"`
	SameSite string `json:"sameSite,omitempty"`
}

// Cookies are those of the page.
func (s *Session) Cookies(ctx context.Context) (out []Cookie, err error) {
	return out, s.get(ctx, "/cookie", &out)
}

// AddCookie adds one to the page's.
func (s *Session) AddCookie(ctx context.Context, c Cookie) error {
	return s.post(ctx, "/cookie", map[string]Cookie{"cookie": c}, nil)
}

// DeleteCookies deletes all that the page has.
func (s *Session) DeleteCookies(ctx context.Context) error {
	return s.Do(ctx, http.MethodDelete, "/cookie", nil, nil)
}

// Print gives the page as a PDF.
func (s *Session) Print(ctx context.Context) ([]byte, error) {
	var text string
	if err := s.post(ctx, "/print", nil, &text); err != nil {
		return nil, err
	}
	return base64.StdEncoding.DecodeString(text)
}
