package appfile

import (
	"archive/zip"
	"encoding/base64"
	"fmt"
	"math"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Attributes of drawings (android.R.attr).
const (
	drawDrawable      = 0x01010199
	drawSrc           = 0x01010119
	drawColor         = 0x010101a5
	drawStartColor    = 0x0101019d
	drawCenterColor   = 0x0101020b
	drawEndColor      = 0x0101019e
	drawAngle         = 0x010101a0
	drawType          = 0x010101a1
	drawCenterX       = 0x010101a2
	drawCenterY       = 0x010101a3
	drawRadius        = 0x010101a4
	drawPivotX        = 0x010101b5
	drawPivotY        = 0x010101b6
	drawInsetLeft     = 0x010101b7
	drawInsetRight    = 0x010101b8
	drawInsetTop      = 0x010101b9
	drawInsetBottom   = 0x010101ba
	drawInset         = 0x010104b5
	drawScaleX        = 0x01010324
	drawScaleY        = 0x01010325
	drawRotation      = 0x01010326
	drawWidth         = 0x01010402
	drawHeight        = 0x01010403
	drawFill          = 0x01010404
	drawPath          = 0x01010405
	drawStroke        = 0x01010406
	drawStrokeWidth   = 0x01010407
	drawCap           = 0x0101040b
	drawJoin          = 0x0101040c
	drawTranslateX    = 0x0101045a
	drawTranslateY    = 0x0101045b
	drawStrokeAlpha   = 0x010104cb
	drawFillAlpha     = 0x010104cc
	drawStartX        = 0x01010510
	drawStartY        = 0x01010511
	drawEndX          = 0x01010512
	drawEndY          = 0x01010513
	drawOffset        = 0x01010514
	drawFillType      = 0x0101051e
	typeFloat         = 0x04
	typeDimension     = 0x05
	typeFraction      = 0x06
	typeColorFirst    = 0x1c
	typeColorLast     = 0x1f
	maxDrawnElements  = 5000
	maxDrawing        = 4 << 20 // bytes of SVG
	maxDrawingsNested = 8
	maxDrawingsRead   = 60
)

// systemColours are those of the system's own colours that drawings refer to.
var systemColours = map[uint32]uint32{0x0106000b: 0xffffffff, 0x0106000c: 0xff000000, 0x0106000d: 0}

// xmlElement is an element of a binary XML document, with what is in it.
type xmlElement struct {
	xmlEvent
	inside []*xmlElement
}

func (e *xmlElement) first(name string) *xmlElement {
	i := slices.IndexFunc(e.inside, func(o *xmlElement) bool { return o.name == name })
	if i < 0 {
		return nil
	}
	return e.inside[i]
}

func readElements(file string, data []byte) (*xmlElement, error) {
	top := &xmlElement{}
	open := []*xmlElement{top}
	n := 0
	err := readBinaryXML(file, data, func(e xmlEvent) error {
		if e.end {
			open = open[:len(open)-1]
			return nil
		}
		if n++; n > maxDrawnElements {
			return refuse("", "%s holds more than %d elements", show(file), maxDrawnElements)
		}
		one := &xmlElement{xmlEvent: e}
		parent := open[len(open)-1]
		parent.inside = append(parent.inside, one)
		open = append(open, one)
		return nil
	})
	if err == nil && len(top.inside) == 0 {
		err = refuse(hintDamaged, "%s is empty", show(file))
	}
	if err != nil {
		return nil, err
	}
	return top.inside[0], nil
}

// drawer turns drawings of Android's into SVG. All that it writes is numbers, colours
// and words of its own, so that nothing of a package is markup.
type drawer struct {
	archive *zip.Reader
	table   *table
	out     strings.Builder
	ids     int
	reads   int
	nested  int
}

// drawIcon draws the entry as an icon: what launchers show of an adaptive icon, or a
// vector drawing as it is.
func drawIcon(archive *zip.Reader, entry string) ([]byte, error) {
	t, err := tableOf(archive)
	if err != nil {
		return nil, err
	}
	if t == nil {
		return nil, refuse("", "the icon refers to a resource table, which the package does not hold")
	}
	d := &drawer{archive: archive, table: t}
	e, err := d.read(entry)
	if err != nil {
		return nil, err
	}
	view := "0 0 108 108"
	if e.name == "adaptive-icon" { // launchers cut 18 of 108 off on each side (AdaptiveIconDrawable)
		view = "18 18 72 72"
	}
	fmt.Fprintf(&d.out, `<svg xmlns="http://www.w3.org/2000/svg" width="192" height="192" viewBox="%s">`, view)
	if err := d.element(e); err != nil {
		return nil, err
	}
	d.out.WriteString(`</svg>`)
	if d.out.Len() > maxDrawing {
		return nil, refuse("", "the icon's drawing is larger than %d MB", maxDrawing>>20)
	}
	return []byte(d.out.String()), nil
}

func (d *drawer) read(entry string) (*xmlElement, error) {
	if d.reads++; d.reads > maxDrawingsRead {
		return nil, refuse("", "the icon is made of more than %d drawings", maxDrawingsRead)
	}
	data, err := entryOf(d.archive, entry, maxIcon, "drawing")
	if err != nil {
		return nil, err
	}
	return readElements(entry, data)
}

// element draws one drawing into a square of 108.
func (d *drawer) element(e *xmlElement) error {
	if d.nested++; d.nested > maxDrawingsNested {
		return refuse("", "the icon's drawings lie in each other more than %d deep", maxDrawingsNested)
	}
	defer func() { d.nested-- }()
	switch e.name {
	case "adaptive-icon", "layer-list":
		for _, layer := range e.inside {
			if layer.name == "monochrome" {
				continue
			}
			if err := d.layer(layer); err != nil {
				return err
			}
		}
	case "background", "foreground", "inset", "item", "selector", "ripple":
		return d.layer(e)
	case "vector":
		return d.vector(e)
	case "bitmap":
		if a, ok := e.attr(drawSrc); ok {
			return d.resource(a.number)
		}
	case "color":
		if a, ok := e.attr(drawColor); ok {
			return d.solid(d.paint(a))
		}
	case "shape":
		return d.shape(e)
	}
	return nil
}

// layer draws what an element refers to, or what is in it, within its insets.
func (d *drawer) layer(e *xmlElement) error {
	all := d.part(e, drawInset, 0)
	left, top := d.part(e, drawInsetLeft, all), d.part(e, drawInsetTop, all)
	w, h := 1-left-d.part(e, drawInsetRight, all), 1-top-d.part(e, drawInsetBottom, all)
	inset := (left != 0 || top != 0 || w != 1 || h != 1) && w > 0 && h > 0
	if inset {
		fmt.Fprintf(&d.out, `<g transform="translate(%s %s) scale(%s %s)">`, number(left*108), number(top*108),
			number(w),
			number(h))
		defer d.out.WriteString(`</g>`)
	}
	if a, ok := e.attr(drawDrawable); ok {
		if isColour(a.kind) {
			return d.solid(d.paint(a))
		}
		return d.resource(a.number)
	}
	if len(e.inside) > 0 {
		return d.element(e.inside[0])
	}
	return nil
}

// part reads an inset as a part of the whole: a fraction, or a dimension of 108.
func (d *drawer) part(e *xmlElement, id uint32, otherwise float64) float64 {
	a, ok := e.attr(id)
	if !ok {
		return otherwise
	}
	if a.kind == typeFraction {
		return complexNumber(a.number)
	}
	return d.number(a, 0) / 108
}

// resource draws what a reference leads to.
func (d *drawer) resource(id uint32) error {
	if c, ok := systemColours[id]; ok {
		return d.solid(colour(c), alpha(c))
	}
	v, err := d.table.general(id)
	if err != nil {
		return err
	}
	if isColour(v.kind) {
		return d.solid(colour(v.data), alpha(v.data))
	}
	if v.kind != typeString {
		return nil
	}
	file, err := d.table.values.get(v.data)
	if err != nil {
		return err
	}
	if path.Ext(file) == ".xml" {
		e, err := d.read(file)
		if err != nil {
			return err
		}
		return d.element(e)
	}
	data, err := entryOf(d.archive, file, maxIcon, "picture")
	if err != nil {
		return err
	}
	kind := pictureType(data)
	if kind == "" || d.out.Len()+len(data) > maxDrawing {
		return nil
	}
	fmt.Fprintf(&d.out, `<image width="108" height="108" href="data:%s;base64,%s"/>`, kind,
		base64.StdEncoding.EncodeToString(data))
	return nil
}

func (d *drawer) solid(fill string, opacity float64) error {
	fmt.Fprintf(&d.out, `<rect width="108" height="108" fill="%s" fill-opacity="%s"/>`, fill, number(opacity))
	return nil
}

// shape draws a shape's ground; as an icon's layer it fills the square.
func (d *drawer) shape(e *xmlElement) error {
	if s := e.first("solid"); s != nil {
		if a, ok := s.attr(drawColor); ok {
			return d.solid(d.paint(a))
		}
	}
	g := e.first("gradient")
	if g == nil {
		return nil
	}
	// Angles turn against the clock from left to right, in steps of 45 degrees.
	a, _ := g.attr(drawAngle)
	turn := d.number(a, 0) * math.Pi / 180
	x, y := math.Cos(turn)/2, -math.Sin(turn)/2
	id := d.id()
	fmt.Fprintf(&d.out, `<linearGradient id="%s" x1="%s" y1="%s" x2="%s" y2="%s">`, id, number(0.5-x), number(0.5-y),
		number(0.5+x), number(0.5+y))
	d.stops(g)
	d.out.WriteString(`</linearGradient>`)
	return d.solid("url(#"+id+")", 1)
}

func (d *drawer) id() string {
	d.ids++
	return "g" + strconv.Itoa(d.ids)
}

// stops writes a gradient's colours.
func (d *drawer) stops(g *xmlElement) {
	stop := func(at float64, a xmlAttr) {
		fill, opacity := d.paint(a)
		fmt.Fprintf(&d.out, `<stop offset="%s" stop-color="%s" stop-opacity="%s"/>`, number(at), fill, number(opacity))
	}
	for _, i := range g.inside {
		at, _ := i.attr(drawOffset)
		if c, ok := i.attr(drawColor); ok {
			stop(d.number(at, 0), c)
		}
	}
	for _, c := range []struct {
		id uint32
		at float64
	}{{drawStartColor, 0}, {drawCenterColor, 0.5}, {drawEndColor, 1}} {
		if a, ok := g.attr(c.id); ok && len(g.inside) == 0 {
			stop(c.at, a)
		}
	}
}

// vector draws a vector drawing, whose paths are written as those of SVG.
func (d *drawer) vector(e *xmlElement) error {
	width, _ := e.attr(drawWidth)
	height, _ := e.attr(drawHeight)
	fmt.Fprintf(&d.out, `<svg width="108" height="108" viewBox="0 0 %s %s">`, number(max(d.number(width, 24), 0.01)),
		number(max(d.number(height, 24), 0.01)))
	err := d.inside(e)
	d.out.WriteString(`</svg>`)
	return err
}

// inside draws the paths and groups of a vector drawing. A clip holds for what
// follows it in its group.
func (d *drawer) inside(e *xmlElement) error {
	clips := 0
	for _, one := range e.inside {
		if d.out.Len() > maxDrawing {
			break
		}
		switch one.name {
		case "group":
			d.out.WriteString(`<g` + d.transform(one) + `>`)
			if err := d.inside(one); err != nil {
				return err
			}
			d.out.WriteString(`</g>`)
		case "clip-path":
			id := d.id()
			fmt.Fprintf(&d.out, `<clipPath id="%s"><path d="%s"/></clipPath><g clip-path="url(#%s)">`, id,
				d.pathData(one), id)
			clips++
		case "path":
			if err := d.path(one); err != nil {
				return err
			}
		}
	}
	d.out.WriteString(strings.Repeat(`</g>`, clips))
	return nil
}

// transform words a group's, in the order of VectorDrawable: about its pivot, scale,
// then rotate, then move.
func (d *drawer) transform(e *xmlElement) string {
	get := func(id uint32, otherwise float64) float64 {
		a, ok := e.attr(id)
		if !ok {
			return otherwise
		}
		return d.number(a, otherwise)
	}
	px, py := get(drawPivotX, 0), get(drawPivotY, 0)
	return fmt.Sprintf(` transform="translate(%s %s) rotate(%s) scale(%s %s) translate(%s %s)"`,
		number(get(drawTranslateX, 0)+px), number(get(drawTranslateY, 0)+py), number(get(drawRotation, 0)),
		number(get(drawScaleX, 1)), number(get(drawScaleY, 1)), number(-px), number(-py))
}

func (d *drawer) path(e *xmlElement) error {
	shape := d.pathData(e)
	if shape == "" {
		return nil
	}
	var style strings.Builder
	fill, opacity := "none", 1.0
	if a, ok := e.attr(drawFill); ok {
		if fill, opacity = d.paint(a); fill == "" {
			var err error
			if fill, err = d.gradient(a.number); err != nil {
				return err
			}
			opacity = 1
		}
	}
	if a, ok := e.attr(drawFillAlpha); ok {
		opacity *= d.number(a, 1)
	}
	fmt.Fprintf(&style, ` fill="%s" fill-opacity="%s"`, fill, number(opacity))
	if a, ok := e.attr(drawFillType); ok && a.number == 1 {
		style.WriteString(` fill-rule="evenodd"`)
	}
	if a, ok := e.attr(drawStroke); ok {
		line, opacity := d.paint(a)
		if line == "" {
			line = "none"
		}
		width, _ := e.attr(drawStrokeWidth)
		if a, ok := e.attr(drawStrokeAlpha); ok {
			opacity *= d.number(a, 1)
		}
		ends, _ := e.attr(drawCap)
		joins, _ := e.attr(drawJoin)
		words := func(list []string, n uint32) string { return list[min(int(n&3), len(list)-1)] }
		fmt.Fprintf(&style, ` stroke="%s" stroke-opacity="%s" stroke-width="%s" stroke-linecap="%s" stroke-linejoin="%s"`,
			line, number(opacity), number(d.number(width, 0)),
			words([]string{"butt", "round", "square"}, ends.number), words([]string{"miter", "round", "bevel"},
				joins.number))
	}
	fmt.Fprintf(&d.out, `<path d="%s"%s/>`, shape, style.String())
	return nil
}

// gradient writes a path's gradient, which stands in a file of its own, and gives how
// a fill names it.
func (d *drawer) gradient(id uint32) (string, error) {
	v, err := d.table.general(id)
	if err != nil || v.kind != typeString {
		return "none", err
	}
	file, err := d.table.values.get(v.data)
	if err != nil || path.Ext(file) != ".xml" {
		return "none", err
	}
	g, err := d.read(file)
	if err != nil || g.name != "gradient" {
		return "none", err
	}
	at := func(id uint32) string {
		a, _ := g.attr(id)
		return number(d.number(a, 0))
	}
	name := d.id()
	kind, _ := g.attr(drawType)
	if kind.number == 1 {
		fmt.Fprintf(&d.out, `<radialGradient id="%s" gradientUnits="userSpaceOnUse" cx="%s" cy="%s" r="%s">`, name,
			at(drawCenterX), at(drawCenterY), at(drawRadius))
		d.stops(g)
		d.out.WriteString(`</radialGradient>`)
	} else {
		fmt.Fprintf(&d.out, `<linearGradient id="%s" gradientUnits="userSpaceOnUse" x1="%s" y1="%s" x2="%s" y2="%s">`,
			name,
			at(drawStartX), at(drawStartY), at(drawEndX), at(drawEndY))
		d.stops(g)
		d.out.WriteString(`</linearGradient>`)
	}
	return "url(#" + name + ")", nil
}

// pathData gives an element's path, "" where it holds anything but a path.
func (d *drawer) pathData(e *xmlElement) string {
	a, _ := e.attr(drawPath)
	shape := a.text
	if a.kind == typeReference {
		shape, _ = d.table.text(a.number) // none is drawn where it cannot be read
	}
	if strings.Trim(shape, "MmLlHhVvCcSsQqTtAaZz0123456789+-.,eE \t\r\n") != "" {
		return ""
	}
	return shape
}

// paint gives a colour and its opacity; the colour is "" for what is none.
func (d *drawer) paint(a xmlAttr) (string, float64) {
	switch {
	case isColour(a.kind):
		return colour(a.number), alpha(a.number)
	case a.kind == typeReference || a.kind == typeDynamic:
		if c, ok := systemColours[a.number]; ok {
			return colour(c), alpha(c)
		}
		if v, err := d.table.general(a.number); err == nil && isColour(v.kind) {
			return colour(v.data), alpha(v.data)
		}
		return "", 1
	}
	return "#808080", 1 // of a theme, which is not known here
}

// number gives an attribute as a number.
func (d *drawer) number(a xmlAttr, otherwise float64) float64 {
	kind, n := a.kind, a.number
	if kind == typeReference {
		if v, err := d.table.general(n); err == nil {
			kind, n = v.kind, v.data
		}
	}
	switch kind {
	case typeFloat:
		if f := float64(math.Float32frombits(n)); !math.IsNaN(f) && !math.IsInf(f, 0) {
			return f
		}
	case typeDimension, typeFraction:
		return complexNumber(n)
	case typeInt, typeIntHex:
		return float64(int32(n))
	}
	return otherwise
}

// complexNumber reads a number with a binary point that moves (Res_value, "complex").
func complexNumber(n uint32) float64 {
	return float64(int32(n)>>8) / []float64{1, 1 << 7, 1 << 15, 1 << 23}[n>>4&3]
}

func isColour(kind byte) bool   { return kind >= typeColorFirst && kind <= typeColorLast }
func colour(argb uint32) string { return fmt.Sprintf("#%06x", argb&0xffffff) }
func alpha(argb uint32) float64 { return float64(argb>>24) / 255 }

func number(f float64) string { return strconv.FormatFloat(f, 'g', 6, 64) }
