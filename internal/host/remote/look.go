package remote

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/draw"
	"image/png"
	"math"
	"slices"
	"time"

	xdraw "golang.org/x/image/draw"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/inpage"
	"yamato/internal/host/overlay"
	"yamato/internal/host/silence"
	"yamato/internal/host/sketch"
)

func clipped(text string) string { return plain.Text(text, 100_000) }
func clip64(text string) string  { return plain.Text(text, 64<<10) }

// Tree is what is on the screen now.
func (d *browserDevice) Tree(ctx context.Context) (*screen.Tree, error) {
	began := time.Now()
	t, err := d.see(ctx)
	d.looks += time.Since(began)
	if err != nil || d.front == "" || d.away || d.engine.asked() != nil {
		return t, err
	}
	return d.over(d.offered(t)), nil
}

// see is the screen but for what lies over it.
func (d *browserDevice) see(ctx context.Context) (*screen.Tree, error) {
	if err := d.reach(ctx); err != nil {
		return nil, err
	}
	if d.front == "" || d.away {
		return d.home(), nil
	}
	window, err := d.engine.window(ctx)
	if err != nil {
		return nil, err
	}
	if asked := d.engine.asked(); asked != nil {
		return d.asking(asked), nil
	}
	if window != d.seen {
		d.Document, d.seen, d.posed, d.layout = inpage.Document{}, window, "", 0
		d.render()
	}
	doc := &d.Document
	changed, err := doc.Look(ctx, d.engine, inpage.Place{})
	if err == nil {
		var more bool
		more, err = doc.LookInto(ctx, d.engine, inpage.Place{}, 0)
		changed = changed || more
	}
	switch {
	case errors.Is(err, errDialog):
		if asked := d.engine.asked(); asked != nil {
			return d.asking(asked), nil
		}
		return d.see(ctx)
	case err != nil:
		if now, e := d.engine.window(ctx); e == nil && now != window { // it was closed meanwhile
			return d.see(ctx)
		}
		return nil, err
	}
	if layout := doc.Layout; layout != d.layout && d.lies(layout) {
		if err := d.engine.feel(ctx, &d.feels); err != nil && !errors.Is(err, errDialog) {
			return nil, err
		}
		d.render()
		return d.see(ctx)
	}
	d.put(changed)
	return d.tree, nil
}

// lies has the page be laid out as wide as its document asks for, and tells whether that is another width than before.
func (d *browserDevice) lies(layout int) bool {
	w := d.width
	d.layout = layout
	d.lie()
	return d.width != w
}

// scaled is an area of a page as large as it is shown.
func scaled(r screen.Rect, by float64) screen.Rect {
	return screen.Rect{X: r.X * by, Y: r.Y * by, W: r.W * by, H: r.H * by}
}

// put makes a tree of what is known of the page.
func (d *browserDevice) put(changed bool) {
	doc := &d.Document
	awaits, open := d.engine.waits(d.config.Overlook)
	if doc.Calm { // the app says itself that nobody waits for that
		awaits, open = nil, append(open, awaits...)
	}
	busy, rests := doc.Busy || len(awaits) > 0, doc.Rests
	if busy || len(doc.InFrames) > 0 || len(open) > 0 || !d.knows {
		rests = 0
	}
	if !changed && d.tree != nil {
		if d.tree.Busy != busy || d.tree.Rests != rests || !slices.Equal(d.tree.Awaits, awaits) || !slices.Equal(d.tree.Open, open) {
			next := *d.tree
			if next.Busy != busy || next.Rests < rests { // who waits for that is to wake
				d.revision++
			}
			next.Rests = rests
			next.Busy, next.Awaits, next.Open, next.Revision = busy, awaits, open, d.revision
			d.tree = &next
		}
		return
	}
	d.revision++
	t := d.newTree(d.front)
	t.Busy, t.Awaits, t.Open, t.Rests = busy, awaits, open, rests
	t.Root.Name = doc.Title
	nodes := make([]screen.Node, 0, len(doc.Rows)) // a tree that was handed out does not change
	left, by := inpage.MaxRows, d.scale()
	doc.Lay(t.Root, func(n screen.Node) *screen.Node {
		if left--; left < 0 {
			return nil
		}
		if len(nodes) == cap(nodes) {
			nodes = make([]screen.Node, 0, 256)
		}
		if by != 1 {
			n.Bounds, n.Visible = scaled(n.Bounds, by), scaled(n.Visible, by)
		}
		nodes = append(nodes, n)
		return &nodes[len(nodes)-1]
	})
	d.tree = t
}

func (d *browserDevice) newTree(app string) *screen.Tree {
	s := d.area()
	return &screen.Tree{Width: s.W, Height: s.H, Revision: d.revision, App: app, Language: d.language,
		Cutouts: screen.Cutouts(d.config.Cutout, s.W, s.H),
		Root:    &screen.Node{Role: "application", Bounds: screen.Rect{W: s.W, H: s.H}, Visible: screen.Rect{W: s.W, H: s.H}}}
}

// home is the screen with no app in front.
func (d *browserDevice) home() *screen.Tree {
	if d.tree == nil {
		d.tree = d.newTree("")
		d.tree.Root.Name = "Home"
	}
	return d.tree
}

// dialog is the one in front, as it is laid out.
func (d *browserDevice) dialog(a *dialog) overlay.Dialog {
	return overlay.Dialog{Kind: a.kind, Message: a.message, Entry: a.entry}
}

// asking is the screen with a dialog in front.
func (d *browserDevice) asking(a *dialog) *screen.Tree {
	if d.tree != nil && d.shown == a && len(d.tree.Root.Children) == 1 && d.tree.Root.Children[0].ID == overlay.DialogID {
		return d.tree
	}
	d.shown = a
	d.revision++
	d.Forget()
	d.tree = d.newTree(d.front)
	d.tree.Root.Children = []*screen.Node{d.dialog(a).Node(d.area())}
	return d.tree
}

// list is what there is to choose from, as the handset brings it up.
func (d *browserDevice) list() *overlay.List {
	return &overlay.List{Offer: d.Offers, Scrolled: d.scrolled}
}

// offered lays what there is to choose from, if it is there, over the screen of the app in front.
func (d *browserDevice) offered(t *screen.Tree) *screen.Tree {
	if d.Offers == nil {
		d.scrolled = 0
		return t
	}
	return laid(t, d.list().Node(d.area()))
}

// laid is a screen with an element over it.
func laid(t *screen.Tree, over *screen.Node) *screen.Tree {
	next, root := *t, *t.Root
	root.Children = append(slices.Clone(root.Children), over)
	next.Root = &root
	return &next
}

// asks is a question for a permission.
func (d *browserDevice) asks(permission string) overlay.Question {
	name := d.front
	if i := d.apps[d.front]; i != nil && i.app.Package.Name != "" {
		name = plain.Text(i.app.Package.Name, 100)
	}
	return overlay.Question{App: name, Permission: permission}
}

// over lays a question, if there is one, over the screen of the app in front.
func (d *browserDevice) over(t *screen.Tree) *screen.Tree {
	q := d.engine.question()
	if q != d.posed {
		d.posed = q
		d.revision++
		next := *t
		next.Revision = d.revision
		d.tree, t = &next, &next
	}
	if q == "" {
		return t
	}
	return laid(t, d.asks(q).Node(d.area()))
}

// lookEvery is how often the screen is looked at while nothing tells of a change.
const lookEvery = 250 * time.Millisecond

// AwaitChange returns when the screen's revision is past the given one, or at until.
func (d *browserDevice) AwaitChange(ctx context.Context, revision uint64, until time.Duration) error {
	end := d.born.Add(until)
	for {
		if revision == device.NoRevision {
			if err := d.reach(ctx); err != nil {
				return err
			}
			return pause(ctx, end)
		}
		t, err := d.Tree(ctx)
		if err != nil {
			return err
		}
		if t.Revision > revision || !time.Now().Before(end) || device.Nudged(ctx) {
			return nil
		}
		next := time.Now().Add(lookEvery) // what moves without a word of it is seen by looking
		if end.Before(next) {
			next = end
		}
		if d.front == "" || d.away || d.engine.asked() != nil {
			err = pause(ctx, next)
		} else {
			err = d.engine.await(ctx, next)
		}
		if err != nil {
			return err
		}
	}
}

// pause waits until then.
func pause(ctx context.Context, until time.Time) error {
	end := time.NewTimer(time.Until(until))
	defer end.Stop()
	select {
	case <-end.C:
		return nil
	case <-device.Nudge(ctx):
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// picture is a screen as the browser has drawn it, which may be at any number of pixels a dp.
type picture struct {
	data          []byte
	width, height int // dp
}

// Image gives it at one pixel a dp.
func (p picture) Image() (image.Image, error) {
	head, err := png.DecodeConfig(bytes.NewReader(p.data))
	if err != nil {
		return nil, err
	}
	if head.Width > 10_000 || head.Height > 10_000 || head.Width*head.Height > 40_000_000 {
		return nil, errors.New("the picture is larger than screens are")
	}
	img, err := png.Decode(bytes.NewReader(p.data))
	if err != nil {
		return nil, err
	}
	if img.Bounds().Dx() == p.width && img.Bounds().Dy() == p.height {
		return img, nil
	}
	out := image.NewNRGBA(image.Rect(0, 0, p.width, p.height))
	scale := float64(img.Bounds().Dx()) / float64(p.width)
	if tall := float64(p.height) * scale; math.Abs(tall-float64(img.Bounds().Dy())) <= scale+1 {
		xdraw.BiLinear.Scale(out, out.Bounds(), img, img.Bounds(), draw.Src, nil)
		return out, nil
	}
	draw.Draw(out, out.Bounds(), img, img.Bounds().Min, draw.Src)
	return out, nil
}

// Picture is the screen as a person sees it now, at one pixel a dp.
func (d *browserDevice) Picture(ctx context.Context) (device.Picture, error) {
	if err := d.reach(ctx); err != nil {
		return nil, err
	}
	w, h := d.size()
	if d.front == "" || d.away {
		return sketch.Screen{Width: w, Height: h}, nil
	}
	if asked := d.engine.asked(); asked != nil {
		return sketch.Screen{Width: w, Height: h, Dialog: d.asking(asked)}, nil
	}
	data, err := d.engine.picture(ctx)
	if errors.Is(err, errDialog) {
		if asked := d.engine.asked(); asked != nil {
			return sketch.Screen{Width: w, Height: h, Dialog: d.asking(asked)}, nil
		}
	}
	if err != nil {
		return nil, err
	}
	drawn := picture{data, w, h}
	if q := d.engine.question(); q != "" {
		return sketch.Over{Under: drawn, Dialog: d.asks(q).Node(d.area())}, nil
	}
	if d.Offers != nil {
		return sketch.Over{Under: drawn, Dialog: d.list().Node(d.area())}, nil
	}
	return drawn, nil
}

// Hindered measures for how long the app was not let run (package silence).
func (d *browserDevice) Hindered() func() time.Duration {
	pid := d.engine.keeper()
	before, looks, from := silence.Now(pid), d.looks, time.Now()
	return func() time.Duration {
		wall := time.Since(from)
		if d.looks-looks <= wall/4 { // it answers: nothing need be read
			return 0
		}
		return max(0, min(d.looks-looks, wall-silence.Now(pid).Silent(before, wall)))
	}
}
