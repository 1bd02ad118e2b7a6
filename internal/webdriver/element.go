package webdriver

import (
	"context"
	"encoding/base64"
	"net/http"
	"net/url"
)

// ShadowRoot is a reference to one.
type ShadowRoot struct {
	ID string `json:"shadow-6066-11e4-a52e-4f735466cecf"`
}

func (e Element) path(rest string) string { return "/element/" + url.PathEscape(e.ID) + rest }

// FindIn finds the first element within another.
func (s *Session) FindIn(ctx context.Context, in Element, using, value string) (out Element, err error) {
	return out, s.post(ctx, in.path("/element"), map[string]string{"using": using, "value": value}, &out)
}

// FindAllIn finds all elements within another.
func (s *Session) FindAllIn(ctx context.Context, in Element, using, value string) (out []Element, err error) {
	return out, s.post(ctx, in.path("/elements"), map[string]string{"using": using, "value": value}, &out)
}

// Shadow gives the shadow root of an element.
func (s *Session) Shadow(ctx context.Context, of Element) (out ShadowRoot, err error) {
	return out, s.get(ctx, of.path("/shadow"), &out)
}

// FindInShadow finds the first element within a shadow root.
func (s *Session) FindInShadow(ctx context.Context, in ShadowRoot, using, value string) (out Element, err error) {
	return out, s.post(ctx, "/shadow/"+url.PathEscape(in.ID)+"/element", map[string]string{"using": using, "value": value}, &out)
}

// Active is the element that has the focus.
func (s *Session) Active(ctx context.Context) (out Element, err error) {
	return out, s.get(ctx, "/element/active", &out)
}

// Click clicks an element where it is.
func (s *Session) Click(ctx context.Context, e Element) error {
	return s.post(ctx, e.path("/click"), nil, nil)
}

// Clear empties a field.
func (s *Session) Clear(ctx context.Context, e Element) error {
	return s.post(ctx, e.path("/clear"), nil, nil)
}

// Type types into an element; a file field takes paths instead.
func (s *Session) Type(ctx context.Context, e Element, text string) error {
	return s.SetFiles(ctx, e, text)
}

// Text is what an element shows.
func (s *Session) Text(ctx context.Context, e Element) (out string, err error) {
	return out, s.get(ctx, e.path("/text"), &out)
}

// Tag is an element's name.
func (s *Session) Tag(ctx context.Context, e Element) (out string, err error) {
	return out, s.get(ctx, e.path("/name"), &out)
}

// Attribute is one of an element's, nil where it has none of that name.
func (s *Session) Attribute(ctx context.Context, e Element, name string) (out *string, err error) {
	return out, s.get(ctx, e.path("/attribute/"+url.PathEscape(name)), &out)
}

// Property is one of an element's, as JSON has it.
func (s *Session) Property(ctx context.Context, e Element, name string) (out any, err error) {
	return out, s.get(ctx, e.path("/property/"+url.PathEscape(name)), &out)
}

// Style is a computed property of CSS.
func (s *Session) Style(ctx context.Context, e Element, name string) (out string, err error) {
	return out, s.get(ctx, e.path("/css/"+url.PathEscape(name)), &out)
}

// Lies is where an element lies on the page, in CSS pixels.
func (s *Session) Lies(ctx context.Context, e Element) (out Rect, err error) {
	return out, s.get(ctx, e.path("/rect"), &out)
}

// Enabled, Selected and Displayed tell what an element is; the last is no command of the standard's, and most have it.
func (s *Session) Enabled(ctx context.Context, e Element) (out bool, err error) {
	return out, s.get(ctx, e.path("/enabled"), &out)
}

// Selected tells whether an option, a box or a radio button is.
func (s *Session) Selected(ctx context.Context, e Element) (out bool, err error) {
	return out, s.get(ctx, e.path("/selected"), &out)
}

// Role is an element's, as assistive technology is told it.
func (s *Session) Role(ctx context.Context, e Element) (out string, err error) {
	return out, s.get(ctx, e.path("/computedrole"), &out)
}

// Label is an element's name, as assistive technology is told it.
func (s *Session) Label(ctx context.Context, e Element) (out string, err error) {
	return out, s.get(ctx, e.path("/computedlabel"), &out)
}

// PictureOf is what is to be seen of an element, as a PNG.
func (s *Session) PictureOf(ctx context.Context, e Element) ([]byte, error) {
	var text string
	if err := s.get(ctx, e.path("/screenshot"), &text); err != nil {
		return nil, err
	}
	data, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, &Broken{Why: "its picture is not in base64", Err: err}
	}
	return data, nil
}

// ToParent has commands go to the document about the frame that they go to.
func (s *Session) ToParent(ctx context.Context) error { return s.post(ctx, "/frame/parent", nil, nil) }

// Forward goes forward by one.
func (s *Session) Forward(ctx context.Context) error { return s.post(ctx, "/forward", nil, nil) }

// RectNow is where the window lies.
func (s *Session) RectNow(ctx context.Context) (out Rect, err error) {
	return out, s.get(ctx, "/window/rect", &out)
}

// Cookie gives one of the page's.
func (s *Session) Cookie(ctx context.Context, name string) (out Cookie, err error) {
	return out, s.get(ctx, "/cookie/"+url.PathEscape(name), &out)
}

// DeleteCookie deletes one of the page's.
func (s *Session) DeleteCookie(ctx context.Context, name string) error {
	return s.Do(ctx, http.MethodDelete, "/cookie/"+url.PathEscape(name), nil, nil)
}
