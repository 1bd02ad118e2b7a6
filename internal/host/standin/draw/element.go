package draw

import (
	"encoding/json"
	"fmt"
	"image/color"
	"math"
	"strconv"
	"unicode/utf8"

	"yamato/internal/core/plain"
)

// Bounds on a screen.
const (
	maxNodes    = 6000 // elements
	maxDepth    = 64
	maxTextRune = 20_000
	maxScreen   = 400_000 // characters of all texts
)

// Element is one part of a screen as an app describes it. Lengths are in
// density-independent pixels.
type Element struct {
	T     string     `json:"t"` // column, row, stack, scroll, text, button, field, icon or space
	ID    string     `json:"id"`
	Role  string     `json:"role"`
	Name  string     `json:"name"`
	Text  string     `json:"text"`
	Value string     `json:"value"`
	Hint  string     `json:"hint"` // what an empty field says
	Icon  string     `json:"icon"`
	Tap   int        `json:"onTap"` // numbers of handlers, 0 for none
	Input int        `json:"onInput"`
	Enter int        `json:"onEnter"`
	Hold  int        `json:"onHold"`
	Twice int        `json:"onDouble"`
	Swipe int        `json:"onSwipe"` // gets left, right, up or down
	Pinch int        `json:"onPinch"` // gets the ratio of the distances, before to after
	Drop  int        `json:"onDrop"`  // gets what was dragged onto it
	Drag  string     `json:"drag"`    // what it is called where it is dropped
	Kids  []*Element `json:"kids"`

	Disabled bool   `json:"disabled"`
	Selected bool   `json:"selected"`
	Busy     bool   `json:"busy"`
	Checked  string `json:"checked"`

	Pad    lengths `json:"pad"`
	Gap    float64 `json:"gap"`
	Grow   float64 `json:"grow"`
	W      float64 `json:"w"`
	H      float64 `json:"h"`
	Align  string  `json:"align"`  // across: start, center, end; stretch where absent
	Spread string  `json:"spread"` // along: start, center, end, between
	Ground tint    `json:"ground"`
	Ink    tint    `json:"ink"`
	Line   tint    `json:"line"` // of the border
	Round  float64 `json:"round"`
	Size   float64 `json:"size"`
	Face   string  `json:"face"` // regular, medium, bold, mono
	Lines  int     `json:"lines"`
	Middle bool    `json:"middle"` // text in the middle of its box
}

// lengths is one number for all sides, two for vertical and horizontal, or four
// from the top, clockwise.
type lengths struct{ top, right, bottom, left float64 }

func (l *lengths) UnmarshalJSON(data []byte) error {
	var list []float64
	if err := json.Unmarshal(data, &list); err != nil {
		var one float64
		if err := json.Unmarshal(data, &one); err != nil {
			return fmt.Errorf("pad is a number, or a list of 2 or 4")
		}
		list = []float64{one}
	}
	for i := range list {
		list[i] = bounded(list[i])
	}
	switch len(list) {
	case 1:
		*l = lengths{list[0], list[0], list[0], list[0]}
	case 2:
		*l = lengths{list[0], list[1], list[0], list[1]}
	case 4:
		*l = lengths{list[0], list[1], list[2], list[3]}
	default:
		return fmt.Errorf("pad is a number, or a list of 2 or 4")
	}
	return nil
}

// tint is a colour written #rrggbb or #rrggbbaa; nothing is drawn where absent.
type tint struct {
	color.NRGBA
	Set bool
}

func (t *tint) UnmarshalJSON(data []byte) error {
	var s string
	if err := json.Unmarshal(data, &s); err != nil || len(s) != 7 && len(s) != 9 || s[0] != '#' {
		return fmt.Errorf("a colour is written #rrggbb or #rrggbbaa")
	}
	v, err := strconv.ParseUint(s[1:], 16, 32)
	if err != nil {
		return fmt.Errorf("a colour is written #rrggbb or #rrggbbaa")
	}
	if len(s) == 7 {
		v = v<<8 | 0xff
	}
	*t = tint{color.NRGBA{uint8(v >> 24), uint8(v >> 16), uint8(v >> 8), uint8(v)}, true}
	return nil
}

func Hex(s string) tint {
	var t tint
	_ = t.UnmarshalJSON([]byte(`"` + s + `"`))
	return t
}

// ParseScreen reads what an app wants shown, within bounds.
func ParseScreen(data []byte) (*Element, error) {
	var root Element
	if err := json.Unmarshal(data, &root); err != nil {
		return nil, fmt.Errorf("the app shows something that is no screen: %w", err)
	}
	var c counted
	if err := root.check(0, &c); err != nil {
		return nil, err
	}
	return &root, nil
}

// counted is what a screen has so far.
type counted struct{ elements, characters int }

func (e *Element) check(depth int, c *counted) error {
	c.elements++
	switch {
	case depth > maxDepth:
		return fmt.Errorf("the app's screen is nested more than %d deep", maxDepth)
	case c.elements > maxNodes:
		return fmt.Errorf("the app's screen has more than %d elements", maxNodes)
	}
	for _, s := range []*string{&e.ID, &e.Role, &e.Name, &e.Text, &e.Value, &e.Hint, &e.Drag} {
		n := utf8.RuneCountInString(*s)
		if c.characters += n; n > maxTextRune {
			return fmt.Errorf("the app shows a text of more than %d characters", maxTextRune)
		}
		*s = plain.Text(*s, len(*s))
	}
	if c.characters > maxScreen {
		return fmt.Errorf("the app shows more than %d characters at once", maxScreen)
	}
	for _, f := range []*float64{&e.Gap, &e.Grow, &e.W, &e.H, &e.Round, &e.Size} {
		*f = bounded(*f)
	}
	if e.Size == 0 {
		e.Size = 15
	}
	e.Size = min(max(e.Size, 4), 200)
	for i, k := range e.Kids {
		if k == nil {
			return fmt.Errorf("the app shows an empty element")
		}
		if err := e.Kids[i].check(depth+1, c); err != nil {
			return err
		}
	}
	return nil
}

func bounded(f float64) float64 {
	if math.IsNaN(f) || f < 0 {
		return 0
	}
	return math.Min(f, 20_000)
}
