package standin

import (
	"fmt"
	"time"

	"yamato/internal/core/screen"
)

// chrome is what the system draws round an app: the status bar with the time,
// and the bar to go home by.
type chrome struct {
	platform string
	cutout   string // hole, bar or none
	width    float64
	height   float64
	clock    time.Duration
	ink      tint
	ground   tint
	dark     bool // the screen shows nothing at all
}

// top is the height of the status bar, bottom that of the bar below.
func (c chrome) top() float64 {
	switch {
	case c.platform == "ios" && c.cutout == "bar":
		return 44
	case c.platform == "ios":
		return 22
	case c.cutout == "hole":
		return 32
	}
	return 26
}

func (c chrome) bottom() float64 {
	if c.platform == "ios" && c.cutout != "bar" && c.height < 700 {
		return 0 // a home button below the screen
	}
	return 20
}

func (c chrome) area() screen.Rect {
	return screen.Rect{Y: c.top(), W: c.width, H: c.height - c.top() - c.bottom()}
}

func (c chrome) paintUnder(v *canvas) {
	if c.dark {
		c.ground = hex("#000000")
	}
	v.fill(screen.Rect{W: c.width, H: c.height}, 0, c.ground)
}

func (c chrome) paintOver(v *canvas) {
	if c.dark {
		return
	}
	h := c.top()
	at := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC).Add(c.clock)
	label := at.Format("15:04")
	size := 12.5
	y := h/2 - size*0.62
	x := 16.0
	if c.cutout == "bar" {
		x = 28
	}
	v.text(label, x, y, size, "medium", c.ink)
	c.battery(v, c.width-x-20, h/2)
	c.signal(v, c.width-x-42, h/2)
	switch c.cutout {
	case "hole":
		v.fill(screen.Rect{X: c.width/2 - 7, Y: h/2 - 7, W: 14, H: 14}, 7, hex("#000000"))
	case "bar":
		v.fill(screen.Rect{X: c.width/2 - 52, Y: 10, W: 104, H: 26}, 13, hex("#000000"))
	}
	if b := c.bottom(); b > 0 {
		bar := c.ink
		bar.A = 150
		v.fill(screen.Rect{X: c.width/2 - 54, Y: c.height - b/2 - 2, W: 108, H: 4}, 2, bar)
	}
}

func (c chrome) battery(v *canvas, x, y float64) {
	v.stroke(screen.Rect{X: x, Y: y - 5, W: 18, H: 10}, 3, 1.2, c.ink)
	v.fill(screen.Rect{X: x + 2.5, Y: y - 2.5, W: 10, H: 5}, 1, c.ink)
	v.fill(screen.Rect{X: x + 18.5, Y: y - 2, W: 1.8, H: 4}, 1, c.ink)
}

func (c chrome) signal(v *canvas, x, y float64) {
	for i := range 4 {
		h := 3 + float64(i)*2.4
		v.fill(screen.Rect{X: x + float64(i)*4, Y: y + 5 - h, W: 2.8, H: h}, 1, c.ink)
	}
}

// home is the system's own screen, with a button for each app.
func (c chrome) home(apps []homeApp) *element {
	at := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC).Add(c.clock)
	row := &element{T: "row", Gap: 18, Pad: lengths{28, 24, 28, 24}, Size: 12, Align: "start"}
	for _, a := range apps {
		row.Kids = append(row.Kids, &element{T: "button", Role: "button", Name: a.name, Tap: a.handler, Gap: 6,
			Align: "center", Size: 12, Kids: []*element{
				{T: "row", W: 56, H: 56, Round: 15, Ground: hex("#f4efe4"), Align: "center", Spread: "center", Size: 12,
					Kids: []*element{
						{T: "text", Text: initial(a.name), Face: "bold", Size: 26, Ink: hex("#1d4e6b")},
					}},
				{T: "text", Text: a.name, Size: 12, Ink: hex("#f7f4ec"), Face: "medium"},
			}})
	}
	return &element{T: "column", Size: 15, Kids: []*element{
		{T: "column", Pad: lengths{72, 0, 0, 0}, Align: "center", Size: 15, Kids: []*element{
			{T: "text", Text: at.Format("15:04"), Face: "regular", Size: 58, Ink: hex("#f7f4ec")},
			{T: "text", Text: fmt.Sprintf("%s %d %s", at.Weekday(), at.Day(), at.Month()), Size: 15, Ink: hex("#dfe7e6")},
		}},
		{T: "space", Grow: 1, Size: 15},
		row,
	}}
}

type homeApp struct {
	name    string
	handler int
}

func initial(name string) string {
	for _, r := range name {
		return string(r)
	}
	return "?"
}

// lock is the screen of a device that is locked and wants no code.
func (c chrome) lock() *element {
	at := time.Date(2026, 6, 1, 9, 41, 0, 0, time.UTC).Add(c.clock)
	return &element{T: "column", Size: 15, Kids: []*element{
		{T: "column", Pad: lengths{96, 0, 0, 0}, Align: "center", Gap: 6, Size: 15, Kids: []*element{
			{T: "text", Text: at.Format("15:04"), Face: "regular", Size: 64, Ink: hex("#f7f4ec")},
			{T: "text", Text: fmt.Sprintf("%s %d %s", at.Weekday(), at.Day(), at.Month()), Size: 16, Ink: hex("#dfe7e6")},
		}},
		{T: "space", Grow: 1, Size: 15},
		{T: "column", Pad: lengths{0, 0, 36, 0}, Align: "center", Size: 15,
			Kids: []*element{{T: "text", Role: "status", Text: "Swipe up to unlock", Size: 15, Ink: hex("#dfe7e6")}}},
	}}
}

// dialog is a question of the system's, with the answer that sends it away, if any does.
func (c chrome) dialog(title, answer string) *element {
	card := &element{T: "column", Role: "dialog", Name: title, Ground: hex("#f4efe4"), Round: 18,
		Pad: lengths{20, 20, 16, 20}, Gap: 14, Size: 15, Kids: []*element{
			{T: "text", Role: "heading", Text: title, Size: 19, Face: "bold", Ink: hex("#1d2b36")},
		}}
	if answer == "" {
		card.Kids = append(card.Kids, &element{T: "text", Text: "Please wait. Do not switch the device off.", Size: 14,
			Ink: hex("#4d5d69")})
	} else {
		card.Kids = append(card.Kids, &element{T: "text", Text: "You can change this later in Settings.", Size: 14,
			Ink: hex("#4d5d69")},
			&element{T: "row", Spread: "end", Size: 15, Kids: []*element{{T: "button", Text: answer, Size: 15, Face: "medium",
				Ink: hex("#1d5a78"), Pad: lengths{8, 10, 8, 10}}}})
	}
	return &element{T: "column", Pad: lengths{40, 22, 40, 22}, Spread: "center", Size: 15, Kids: []*element{card}}
}
