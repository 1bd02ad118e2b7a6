package draw

import (
	"fmt"
	"time"

	"yamato/internal/core/screen"
)

// Chrome is what the system draws round an app: the status bar with the time,
// and the bar to go home by.
type Chrome struct {
	Platform string
	Cutout   string // hole, bar or none
	Width    float64
	Height   float64
	Clock    time.Duration
	Ink      tint
	Ground   tint
	Dark     bool // the screen shows nothing at all
}

// across reports whether the device is held so.
func (c Chrome) across() bool { return c.Width > c.Height }

// top is the height of the status bar, bottom that of the bar below. A cut-out is at the
// device's top, which is on the left where it is held across.
func (c Chrome) top() float64 {
	switch {
	case c.across() && c.Cutout != "none" && c.Cutout != "":
		return 24
	case c.Platform == "ios" && c.Cutout == "bar":
		return 44
	case c.Platform == "ios":
		return 22
	case c.Cutout == "hole":
		return 32
	}
	return 26
}

// left is what the cut-out takes of the left side of a device that is held across.
func (c Chrome) left() float64 {
	if !c.across() {
		return 0
	}
	return map[string]float64{"bar": 44, "hole": 32}[c.Cutout]
}

func (c Chrome) bottom() float64 {
	if c.Platform == "ios" && c.Cutout != "bar" && max(c.Height, c.Width) < 700 {
		return 0 // a home button below the screen
	}
	return 20
}

// Area is what apps have of the screen.
func (c Chrome) Area() screen.Rect {
	return screen.Rect{X: c.left(), Y: c.top(), W: c.Width - c.left(), H: c.Height - c.top() - c.bottom()}
}

// Cutouts are the places where the screen has none.
func (c Chrome) Cutouts() []screen.Rect { return screen.Cutouts(c.Cutout, c.Width, c.Height) }

func (c Chrome) paintUnder(v *canvas) {
	if c.Dark {
		c.Ground = Hex("#000000")
	}
	v.fill(screen.Rect{W: c.Width, H: c.Height}, 0, c.Ground)
}

func (c Chrome) paintOver(v *canvas) {
	if c.Dark {
		return
	}
	h := c.top()
	at := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC).Add(c.Clock)
	label := at.Format("15:04")
	size := 12.5
	y := h/2 - size*0.62
	x := 16.0
	if c.Cutout == "bar" {
		x = 28
	}
	x += c.left()
	v.text(label, x, y, size, "medium", c.Ink)
	c.battery(v, c.Width-x-20, h/2)
	c.signal(v, c.Width-x-42, h/2)
	for _, r := range c.Cutouts() {
		v.fill(r, min(r.W, r.H)/2, Hex("#000000"))
	}
	if b := c.bottom(); b > 0 {
		bar := c.Ink
		bar.A = 150
		v.fill(screen.Rect{X: c.Width/2 - 54, Y: c.Height - b/2 - 2, W: 108, H: 4}, 2, bar)
	}
}

func (c Chrome) battery(v *canvas, x, y float64) {
	v.stroke(screen.Rect{X: x, Y: y - 5, W: 18, H: 10}, 3, 1.2, c.Ink)
	v.fill(screen.Rect{X: x + 2.5, Y: y - 2.5, W: 10, H: 5}, 1, c.Ink)
	v.fill(screen.Rect{X: x + 18.5, Y: y - 2, W: 1.8, H: 4}, 1, c.Ink)
}

func (c Chrome) signal(v *canvas, x, y float64) {
	for i := range 4 {
		h := 3 + float64(i)*2.4
		v.fill(screen.Rect{X: x + float64(i)*4, Y: y + 5 - h, W: 2.8, H: h}, 1, c.Ink)
	}
}

// Home is the system's own screen, with a button for each app.
func (c Chrome) Home(apps []HomeApp) *Element {
	at := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC).Add(c.Clock)
	row := &Element{T: "row", Gap: 18, Pad: lengths{28, 24, 28, 24}, Size: 12, Align: "start"}
	for _, a := range apps {
		row.Kids = append(row.Kids, &Element{T: "button", Role: "button", Name: a.Name, Tap: a.Handler, Gap: 6,
			Align: "center", Size: 12, Kids: []*Element{
				{T: "row", W: 56, H: 56, Round: 15, Ground: Hex("#f4efe4"), Align: "center", Spread: "center", Size: 12,
					Kids: []*Element{
						{T: "text", Text: initial(a.Name), Face: "bold", Size: 26, Ink: Hex("#1d4e6b")},
					}},
				{T: "text", Text: a.Name, Size: 12, Ink: Hex("#f7f4ec"), Face: "medium"},
			}})
	}
	return &Element{T: "column", Size: 15, Kids: []*Element{
		{T: "column", Pad: lengths{72, 0, 0, 0}, Align: "center", Size: 15, Kids: []*Element{
			{T: "text", Text: at.Format("15:04"), Face: "regular", Size: 58, Ink: Hex("#f7f4ec")},
			{T: "text", Text: fmt.Sprintf("%s %d %s", at.Weekday(), at.Day(), at.Month()), Size: 15,
				Ink: Hex("#dfe7e6")},
		}},
		{T: "space", Grow: 1, Size: 15},
		row,
	}}
}

type HomeApp struct {
	Name    string
	Handler int
}

func initial(name string) string {
	for _, r := range name {
		return string(r)
	}
	return "?"
}

// Lock is the screen of a device that is locked and wants no code.
func (c Chrome) Lock() *Element {
	at := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC).Add(c.Clock)
	return &Element{T: "column", Size: 15, Kids: []*Element{
		{T: "column", Pad: lengths{96, 0, 0, 0}, Align: "center", Gap: 6, Size: 15, Kids: []*Element{
			{T: "text", Text: at.Format("15:04"), Face: "regular", Size: 64, Ink: Hex("#f7f4ec")},
			{T: "text", Text: fmt.Sprintf("%s %d %s", at.Weekday(), at.Day(), at.Month()), Size: 16,
				Ink: Hex("#dfe7e6")},
		}},
		{T: "space", Grow: 1, Size: 15},
		{T: "column", Pad: lengths{0, 0, 36, 0}, Align: "center", Size: 15,
			Kids: []*Element{{T: "text", Role: "status", Text: "Swipe up to unlock", Size: 15, Ink: Hex("#dfe7e6")}}},
	}}
}

// Dialog is a question of the system's, with the answer that sends it away, if any does.
func (c Chrome) Dialog(title, answer string, handler int) *Element {
	card := &Element{T: "column", Role: "dialog", Name: title, Ground: Hex("#f4efe4"), Round: 18,
		Pad: lengths{20, 20, 16, 20}, Gap: 14, Size: 15, Kids: []*Element{
			{T: "text", Role: "heading", Text: title, Size: 19, Face: "bold", Ink: Hex("#1d2b36")},
		}}
	if answer == "" {
		card.Kids = append(card.Kids, &Element{T: "text", Text: "Please wait. Do not switch the device off.", Size: 14,
			Ink: Hex("#4d5d69")})
	} else {
		card.Kids = append(card.Kids, &Element{T: "text", Text: "You can change this later in Settings.", Size: 14,
			Ink: Hex("#4d5d69")},
			&Element{T: "row", Spread: "end", Size: 15,
				Kids: []*Element{{T: "button", Text: answer, Tap: handler, Size: 15,
					Face: "medium",
					Ink:  Hex("#1d5a78"), Pad: lengths{8, 10, 8, 10}}}})
	}
	return &Element{T: "column", Pad: lengths{40, 22, 40, 22}, Spread: "center", Size: 15, Kids: []*Element{card}}
}

// BarInk picks light or dark for the status bar, by the ground below it.
func BarInk(e *Element) tint {
	if g := e.Ground; g.Set && int(g.R)*3+int(g.G)*6+int(g.B) < 1300 {
		return Hex("#ffffff")
	}
	return plainInk
}

// Answer is a button of a question.
type Answer struct {
	Text    string
	Handler int
}

// Question is something that the system asks for an app: it lies over it, and nothing under it
// can be touched.
func (c Chrome) Question(title string, dark bool, answers ...Answer) *Element {
	ground, ink := Hex("#f4efe4"), Hex("#1d2b36")
	if dark {
		ground, ink = Hex("#25313a"), Hex("#eef2f3")
	}
	card := &Element{T: "column", Role: "alertdialog", Name: title, Ground: ground, Round: 18,
		Pad: lengths{20, 20, 12, 20}, Gap: 10, Size: 15,
		Kids: []*Element{{T: "text", Text: title, Size: 17, Face: "medium", Ink: ink}}}
	for _, a := range answers {
		card.Kids = append(card.Kids, &Element{T: "button", Text: a.Text, Tap: a.Handler, Size: 16, Face: "medium",
			Ink: Hex("#f7f4ec"), Ground: Hex("#1d5a78"), Round: 10, Pad: lengths{10, 12, 10, 12}})
	}
	width := min(c.Width-44, 340)
	card.W = width
	return &Element{T: "column", Ground: Hex("#0c1a22a6"), Spread: "center", Align: "center", Size: 15,
		Kids: []*Element{card}}
}

// Notice is a notification that has come.
func (c Chrome) Notice(app, text string, handler int, dark bool) *Element {
	ground, ink, soft := Hex("#fdfbf6"), Hex("#1d2b36"), Hex("#4d5d69")
	if dark {
		ground, ink, soft = Hex("#25313a"), Hex("#eef2f3"), Hex("#b9c4c9")
	}
	return &Element{T: "column", Pad: lengths{8, 10, 0, 10}, Size: 15, Kids: []*Element{
		{T: "button", ID: "notification", Role: "button", Name: app + ": " + text, Tap: handler, Ground: ground,
			Line: Hex("#c9d1d4"), Round: 14, Pad: lengths{10, 14, 10, 14}, Gap: 2, Size: 15, Align: "start",
			Kids: []*Element{{T: "text", Text: app, Size: 12, Face: "medium", Ink: soft, Lines: 1},
				{T: "text", Text: text, Size: 15, Ink: ink, Lines: 3}}},
	}}
}
