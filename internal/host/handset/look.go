package handset

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"time"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/page"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/handset/pipe"
	"yamato/internal/host/handset/sketch"
)

// Tree is what is on the screen now.
func (d *Device) Tree(ctx context.Context) (*screen.Tree, error) {
	t, err := d.see(ctx)
	if err != nil || d.tab == nil || d.away || d.tab.asked() != nil {
		return t, err
	}
	return d.over(t), nil
}

// see is the screen but for what lies over it.
func (d *Device) see(ctx context.Context) (*screen.Tree, error) {
	if err := d.reach(ctx); err != nil {
		return nil, err
	}
	if d.tab == nil || d.away {
		return d.home(), nil
	}
	if asked := d.tab.asked(); asked != nil {
		return d.asking(asked), nil
	}
	text, err := d.tab.ask(ctx, "yamatoLook("+afresh(d.tree == nil)+")")
	if errors.Is(err, errDialog) {
		return d.see(ctx)
	}
	if err != nil {
		return nil, err
	}
	tree, wants, err := d.read(text)
	if errors.Is(err, errMissed) && d.tree != nil { // all of it, then
		d.tree = nil
		return d.see(ctx)
	}
	if err != nil || !wants {
		return tree, err
	}
	// From here on the browser keeps its accessibility tree, and is asked for roles and names.
	if err := accessibility.Enable().Do(d.tab.On(ctx)); err != nil {
		return nil, lost(err)
	}
	if _, err := accessibility.GetRootAXNode().Do(d.tab.On(ctx)); err != nil { // it is made when it is first looked at
		return nil, lost(err)
	}
	d.tree, d.moment = nil, ""
	if text, err = d.tab.ask(ctx, "yamatoAsks() + yamatoLook(true)"); errors.Is(err, errDialog) {
		return d.see(ctx)
	} else if err != nil {
		return nil, err
	}
	tree, _, err = d.read(text)
	return tree, err
}

func afresh(yes bool) string {
	if yes {
		return "true"
	}
	return ""
}

func (d *Device) width() (float64, float64) {
	w, h := float64(d.config.Device.Width), float64(d.config.Device.Height)
	if d.across {
		return h, w
	}
	return w, h
}

func (d *Device) newTree(app string) *screen.Tree {
	w, h := d.width()
	return &screen.Tree{Width: w, Height: h, Revision: d.revision, App: app, Language: d.language,
		Cutouts: screen.Cutouts(d.config.Cutout, w, h),
		Root:    &screen.Node{Role: "application", Bounds: screen.Rect{W: w, H: h}, Visible: screen.Rect{W: w, H: h}}}
}

// home is the screen with no app in front.
func (d *Device) home() *screen.Tree {
	if d.tree == nil {
		d.tree = d.newTree("")
		d.tree.Root.Name = "Home"
	}
	return d.tree
}

// AwaitChange returns when the screen's revision is past the given one, or at until.
func (d *Device) AwaitChange(ctx context.Context, revision uint64, until time.Duration) error {
	end := d.born.Add(until)
	if revision == device.NoRevision {
		if err := d.reach(ctx); err != nil {
			return err
		}
		return pause(ctx, d.running.Gone, end)
	}
	for {
		t, err := d.Tree(ctx)
		if err != nil {
			return err
		}
		if t.Revision > revision || !time.Now().Before(end) || device.Nudged(ctx) {
			return nil
		}
		next := time.Now().Add(lookEvery) // what moves without a word of it is seen by looking
		if d.watched() {
			next = next.Add(lookRarely) // or else by who is shown the screen as it moves
		}
		if end.Before(next) {
			next = end
		}
		if d.tab == nil || d.away {
			err = pause(ctx, d.running.Gone, end)
		} else {
			err = d.tab.await(ctx, next)
		}
		if err != nil {
			return err
		}
	}
}

// lookEvery is how often the screen is looked at while nothing tells of a change.
const lookEvery = 250 * time.Millisecond

// lookRarely is how much more rarely that is while somebody is shown the screen as it moves.
const lookRarely = 750 * time.Millisecond

// watched tells whether the screen is shown as it moves.
func (d *Device) watched() bool {
	if d.tab == nil {
		return false
	}
	d.tab.mu.Lock()
	defer d.tab.mu.Unlock()
	return d.tab.frames != nil
}

// pause waits until then: with nothing in front nothing changes.
func pause(ctx context.Context, gone <-chan struct{}, until time.Time) error {
	end := time.NewTimer(time.Until(until))
	defer end.Stop()
	select {
	case <-end.C:
		return nil
	case <-device.Nudge(ctx):
		return nil
	case <-gone:
		return lost(pipe.ErrGone)
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// picture is a screen as the browser has drawn it.
type picture struct{ data []byte }

func (p picture) Image() (image.Image, error) { return png.Decode(bytes.NewReader(p.data)) }

// Picture is the screen as a person sees it now, at one pixel a dp.
func (d *Device) Picture(ctx context.Context) (device.Picture, error) {
	if err := d.reach(ctx); err != nil {
		return nil, err
	}
	w, h := d.width()
	if d.tab == nil || d.away {
		return sketch.Screen{Width: int(w), Height: int(h)}, nil
	}
	if asked := d.tab.asked(); asked != nil {
		return sketch.Screen{Width: int(w), Height: int(h), Dialog: d.asking(asked)}, nil
	}
	if err := d.tab.alive(); err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeoutCause(ctx, patience, errors.New("the browser drew nothing within "+patience.String()))
	defer stop()
	zoom := d.zoom
	if zoom <= 0 {
		zoom = 1
	}
	data, err := page.CaptureScreenshot().WithFormat(page.CaptureScreenshotFormatPng).WithOptimizeForSpeed(true).
		WithClip(&page.Viewport{Width: w / zoom, Height: h / zoom, Scale: zoom / d.config.Density}).Do(d.tab.On(ctx))
	if err != nil {
		if crash := d.tab.alive(); crash != nil {
			return nil, crash
		}
		return nil, lost(err)
	}
	if q := d.tab.question(); q != "" {
		return sketch.Over{Under: picture{data}, Dialog: d.asks(q)}, nil
	}
	return picture{data}, nil
}

// row is an element as look.js tells it, without what is in it.
type row struct {
	depth int
	node  screen.Node
}

// errMissed tells that what was told does not go on from what is known of the page.
var errMissed = errors.New("the screen cannot be read: something of it was missed")

// read makes a tree of what look.js found, which tells what differs from what it told before.
func (d *Device) read(text string) (tree *screen.Tree, wants bool, err error) {
	var in struct {
		Moment   string            `json:"moment"`
		Revision uint64            `json:"revision"`
		Busy     bool              `json:"busy"`
		Same     bool              `json:"same"`
		Wants    bool              `json:"wants"`
		Early    bool              `json:"early"` // nothing was read yet: the browser is to be asked first
		Zoom     float64           `json:"zoom"`
		Title    string            `json:"title"`
		Had      int               `json:"had"`   // elements that were told before
		From     int               `json:"from"`  // of those, the first that is another
		Until    int               `json:"until"` // and the first after it that is the same again
		Elements []json.RawMessage `json:"elements"`
	}
	if err := json.Unmarshal([]byte(text), &in); err != nil {
		return nil, false, fmt.Errorf("the screen cannot be read: %w", err)
	}
	if in.Early {
		return nil, true, nil
	}
	busy := in.Busy || d.tab.busy()
	if in.Same && d.tree != nil && in.Moment == d.moment && in.Revision == d.inPage {
		if d.tree.Busy != busy {
			next := *d.tree
			d.revision++
			next.Busy, next.Revision = busy, d.revision
			d.tree = &next
		}
		return d.tree, in.Wants, nil
	}
	if in.Had == 0 {
		d.rows = nil
	}
	if in.Same || in.Had != len(d.rows) || in.From < 0 || in.From > in.Until || in.Until > in.Had ||
		in.Had > 0 && (in.Moment != d.moment || in.Revision != d.inPage+1) {
		return nil, false, errMissed
	}
	rows := make([]row, 0, len(d.rows)+len(in.Elements))
	rows = append(rows, d.rows[:in.From]...)
	for _, raw := range in.Elements {
		r, err := told(raw)
		if err != nil {
			return nil, false, fmt.Errorf("the screen cannot be read: %w", err)
		}
		rows = append(rows, r)
	}
	d.rows = append(rows, d.rows[in.Until:]...)
	d.revision++
	d.moment, d.inPage = in.Moment, in.Revision
	if d.zoom = in.Zoom; d.zoom <= 0 {
		d.zoom = 1
	}
	t := d.newTree(d.front)
	t.Busy = busy
	t.Root.Name = plain.Text(in.Title, 500)
	path := []*screen.Node{t.Root}
	nodes := make([]screen.Node, len(d.rows)) // a tree that was handed out does not change
	for i, r := range d.rows {
		nodes[i] = r.node
		path = path[:max(1, min(r.depth, len(path)))]
		parent := path[len(path)-1]
		parent.Children = append(parent.Children, &nodes[i])
		path = append(path, &nodes[i])
	}
	d.tree = t
	return t, in.Wants, nil
}

func told(raw json.RawMessage) (r row, err error) {
	var flags int
	n := &r.node
	b, v := &n.Bounds, &n.Visible
	err = json.Unmarshal(raw, &[]any{&r.depth, &n.Role, &n.ID, &n.Name, &n.Text, &n.Value, &b.X, &b.Y, &b.W, &b.H, &v.X,
		&v.Y, &v.W, &v.H, &flags, &n.Checked})
	n.Disabled, n.Focused, n.Selected, n.Busy = flags&1 != 0, flags&2 != 0, flags&4 != 0, flags&8 != 0
	n.Opaque, n.Touch, n.Partly = flags&16 != 0, flags&32 != 0, flags&64 != 0
	for _, s := range []*string{&n.Role, &n.ID, &n.Name, &n.Text, &n.Value} {
		*s = plain.Text(*s, 8000)
	}
	return r, err
}
