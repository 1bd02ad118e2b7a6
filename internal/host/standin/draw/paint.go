package draw

import (
	"hash/maphash"
	"image"
	"time"

	"github.com/fogleman/gg"
	"golang.org/x/image/font"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"

	"image/draw"
	"math"
	"yamato/internal/core/screen"
)

// Picture is a scene that can be drawn whenever somebody wants it.
type Picture struct {
	Scene *Scene
	Look  Chrome
	Scale float64
}

// Key is the same for pictures that look the same, within one process.
func (p Picture) Key() string {
	var one, other maphash.Hash // 128 bits together
	one.SetSeed(keySeeds[0])
	other.SetSeed(keySeeds[1])
	look := p.Look
	look.Clock = look.Clock.Truncate(time.Minute) // finer than that nobody sees it
	for _, h := range []*maphash.Hash{&one, &other} {
		maphash.WriteComparable(h, look)
		maphash.WriteComparable(h, [3]float64{p.Scale, p.Scene.Tree.Width, p.Scene.Tree.Height})
	}
	for _, b := range p.Scene.boxes {
		s := seen{looksOf(b.element), b.bounds, b.clip, b.focused, len(b.lines)}
		for _, h := range []*maphash.Hash{&one, &other} {
			maphash.WriteComparable(h, s)
			for _, line := range b.lines {
				maphash.WriteComparable(h, line)
			}
		}
	}
	return string(other.Sum(one.Sum(nil)))
}

var keySeeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// seen is all that is drawn of a box but for its lines.
type seen struct {
	looks
	bounds, clip screen.Rect
	focused      bool
	lines        int
}

// looks are an element's fields but for what is in it, which is a box of its own, and its handlers, which nobody sees.
type looks struct {
	T, ID, Role, Name, Text, Value, Hint, Icon, Checked, Align, Spread, Face string
	Disabled, Selected, Busy, Middle                                         bool
	Pad                                                                      lengths
	Gap, Grow, W, H, Round, Size                                             float64
	Ground, Ink, Line                                                        tint
	Lines                                                                    int
}

func looksOf(e *Element) looks {
	return looks{
		T: e.T, ID: e.ID, Role: e.Role, Name: e.Name, Text: e.Text, Value: e.Value, Hint: e.Hint, Icon: e.Icon,
		Checked: e.Checked, Align: e.Align, Spread: e.Spread, Face: e.Face,
		Disabled: e.Disabled, Selected: e.Selected, Busy: e.Busy, Middle: e.Middle,
		Pad: e.Pad, Gap: e.Gap, Grow: e.Grow, W: e.W, H: e.H, Round: e.Round, Size: e.Size,
		Ground: e.Ground, Ink: e.Ink, Line: e.Line, Lines: e.Lines,
	}
}

// Image draws the picture.
func (p Picture) Image() (image.Image, error) {
	c := newCanvas(p.Scene.Tree.Width, p.Scene.Tree.Height, p.Scale)
	p.Look.paintUnder(c)
	for _, b := range p.Scene.boxes {
		c.box(b)
	}
	p.Look.paintOver(c)
	return c.dc.Image(), nil
}

// canvas draws in density-independent pixels.
type canvas struct {
	dc      *gg.Context
	scale   float64
	faces   map[faceKey]font.Face
	clipped bool
}

type faceKey struct {
	name string
	size float64
}

func newCanvas(w, h, scale float64) *canvas {
	dc := gg.NewContext(int(w*scale), int(h*scale))
	dc.Scale(scale, scale)
	return &canvas{dc: dc, scale: scale, faces: map[faceKey]font.Face{}}
}

// face gives a font at the size it has in pixels: text is drawn unscaled, since
// a scaled bitmap would blur.
func (c *canvas) face(name string, size float64) font.Face {
	k := faceKey{name, size}
	if f, ok := c.faces[k]; ok {
		return f
	}
	f, err := opentype.NewFace(faceOf(name).font, &opentype.FaceOptions{Size: size * c.scale, DPI: 72,
		Hinting: font.HintingNone})
	if err != nil {
		panic(err) // the fonts are compiled in and the size is bounded
	}
	c.faces[k] = stepped{f}
	return c.faces[k]
}

// stepped is a font whose letters are covered in 16 steps and not in 256: nobody sees it, and a screen has few colours
// then, so that its picture is a list of them with an index a pixel.
type stepped struct{ font.Face }

func (s stepped) Glyph(dot fixed.Point26_6, r rune) (dr image.Rectangle, mask image.Image, at image.Point,
	advance fixed.Int26_6, ok bool) {
	dr, mask, at, advance, ok = s.Face.Glyph(dot, r)
	if m, is := mask.(*image.Alpha); ok && is {
		for y := range dr.Dy() {
			row := m.Pix[m.PixOffset(at.X, at.Y+y):][:dr.Dx()]
			for x, v := range row {
				row[x] = uint8((int(v) + 8) / 17 * 17)
			}
		}
	}
	return dr, mask, at, advance, ok
}

func (c *canvas) fill(r screen.Rect, round float64, t tint) {
	if !t.Set || r.Empty() {
		return
	}
	c.dc.SetColor(t.NRGBA)
	whole := screen.Rect{W: float64(c.dc.Width()) / c.scale, H: float64(c.dc.Height()) / c.scale}
	if round <= 0 {
		if r = r.Intersect(whole); r.Empty() {
			return
		}
	}
	c.shape(r, round)
	// A shape with a hole that goes beyond the picture is drawn wrongly by the package.
	if inner := c.inner(r, round); !inner.Empty() && !c.clipped && within(r, whole) {
		if target, ok := c.dc.Image().(*image.RGBA); ok { // most of a screen: no edge runs through it
			draw.Draw(target, inner, image.NewUniform(t.NRGBA), image.Point{}, draw.Over)
			x, y, w, h := c.units(inner)
			c.dc.DrawRectangle(x, y, w, h)
			c.dc.SetFillRuleEvenOdd()
			defer c.dc.SetFillRuleWinding()
		}
	}
	c.dc.Fill()
}

// inner gives the pixels that a shape covers wholly, as far as they are one rectangle.
func (c *canvas) inner(r screen.Rect, round float64) image.Rectangle {
	round = max(0, min(round, r.W/2, r.H/2))
	return image.Rectangle{
		Min: image.Pt(int(math.Ceil(r.X*c.scale)), int(math.Ceil((r.Y+round)*c.scale))),
		Max: image.Pt(int(math.Floor((r.X+r.W)*c.scale)), int(math.Floor((r.Y+r.H-round)*c.scale))),
	}.Intersect(c.dc.Image().Bounds()) // empty where there are none
}

// units gives a rectangle of pixels in those of the canvas.
func (c *canvas) units(r image.Rectangle) (x, y, w, h float64) {
	return float64(r.Min.X) / c.scale, float64(r.Min.Y) / c.scale, float64(r.Dx()) / c.scale, float64(r.Dy()) / c.scale
}

func (c *canvas) stroke(r screen.Rect, round, width float64, t tint) {
	if !t.Set || r.Empty() {
		return
	}
	c.dc.SetColor(t.NRGBA)
	c.dc.SetLineWidth(width * c.scale)
	h := width / 2
	c.shape(screen.Rect{X: r.X + h, Y: r.Y + h, W: r.W - width, H: r.H - width}, round)
	c.dc.Stroke()
}

func (c *canvas) shape(r screen.Rect, round float64) {
	if round = min(round, r.W/2, r.H/2); round > 0 {
		c.dc.DrawRoundedRectangle(r.X, r.Y, r.W, r.H, round)
	} else {
		c.dc.DrawRectangle(r.X, r.Y, r.W, r.H)
	}
}

// text draws one line with its box's top left corner at x, y.
func (c *canvas) text(line string, x, y, size float64, face string, t tint) {
	if target, ok := c.dc.Image().(*image.RGBA); ok && !c.clipped { // glyph by glyph, without a detour over masks
		d := font.Drawer{Dst: target, Src: image.NewUniform(t.NRGBA), Face: c.face(face, size)}
		d.Dot = fixed.Point26_6{X: fixed.Int26_6(x * c.scale * 64), Y: fixed.Int26_6((y + size*1.02) * c.scale * 64)}
		d.DrawString(line)
		return
	}
	c.dc.Push()
	c.dc.Identity()
	c.dc.SetFontFace(c.face(face, size))
	c.dc.SetColor(t.NRGBA)
	c.dc.DrawString(line, x*c.scale, (y+size*1.02)*c.scale)
	c.dc.Pop()
}

var (
	plainInk = Hex("#16202c")
	hintInk  = Hex("#7b8794")
	focusInk = Hex("#1c6dd0")
)

// within reports whether r lies in clip, but for what sums of fractions lose.
func within(r, clip screen.Rect) bool {
	const slack = 0.01
	return r.X >= clip.X-slack && r.Y >= clip.Y-slack && r.X+r.W <= clip.X+clip.W+slack &&
		r.Y+r.H <= clip.Y+clip.H+slack
}

func (c *canvas) box(b box) {
	if b.bounds.Intersect(b.clip).Empty() {
		return
	}
	if !within(b.bounds, b.clip) { // a clip costs a mask of the whole picture
		c.dc.DrawRectangle(b.clip.X, b.clip.Y, b.clip.W, b.clip.H)
		c.dc.Clip()
		c.clipped = true
		defer func() { c.dc.ResetClip(); c.clipped = false }()
	}
	e := b.element
	c.fill(b.bounds, e.Round, e.Ground)
	if e.T == "keyboard" {
		c.keyboard(e, b.bounds)
		return
	}
	c.stroke(b.bounds, e.Round, 1, e.Line)
	if b.focused {
		c.stroke(b.bounds, e.Round, 2, focusInk)
	}
	ink := e.Ink
	if !ink.Set {
		ink = plainInk
	}
	if e.Disabled {
		ink.A = ink.A / 5 * 2
	}
	if e.T == "icon" {
		c.icon(e.Icon, b.bounds, ink)
	}
	if e.T == "field" && e.Value == "" {
		ink = hintInk
	}
	c.lines(b, ink)
}

func (c *canvas) lines(b box, ink tint) {
	e := b.element
	face := faceOf(e.Face)
	inner := screen.Rect{X: b.bounds.X + e.Pad.left, Y: b.bounds.Y + e.Pad.top, W: e.inner(b.bounds.W),
		H: b.bounds.H - e.Pad.top - e.Pad.bottom}
	step := e.Size * lineHeight
	y := inner.Y
	if e.T != "text" || e.Middle {
		y += max(0, (inner.H-step*float64(len(b.lines)))/2)
	}
	for _, line := range b.lines {
		x, w := inner.X, face.width(line, e.Size)
		if e.Middle || e.T == "button" {
			x += max(0, (inner.W-w)/2)
		}
		c.text(line, x, y+e.Size*(lineHeight-1)/2-e.Size*0.06, e.Size, e.Face, ink)
		if b.focused {
			at := x
			if e.Value != "" {
				at += w + 1
			}
			c.fill(screen.Rect{X: at, Y: y + 1, W: 1.5, H: step - 2}, 0, focusInk)
		}
		y += step
	}
}
