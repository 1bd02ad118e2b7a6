package handset

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/png"
	"slices"
	"time"

	"github.com/chromedp/cdproto/page"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
	"yamato/internal/host/handset/pipe"
	"yamato/internal/host/inpage"
	"yamato/internal/host/sketch"
)

// Tree is what is on the screen now.
func (d *Device) Tree(ctx context.Context) (*screen.Tree, error) {
	began := time.Now()
	t, err := d.see(ctx)
	d.looks += time.Since(began)
	if err != nil || d.tab == nil || d.away || d.tab.asked() != nil {
		return t, err
	}
	return d.over(d.offered(t)), nil
}

// see is the screen but for what lies over it.
func (d *Device) see(ctx context.Context) (*screen.Tree, error) {
	if err := d.reach(ctx); err != nil {
		return nil, err
	}
	if err := d.windows(ctx); err != nil {
		return nil, err
	}
	if d.tab == nil || d.away {
		return d.home(), nil
	}
	if asked := d.tab.asked(); asked != nil {
		return d.asking(asked), nil
	}
	doc := &d.Document
	if d.seen != d.tab {
		*doc, d.seen, d.tree = inpage.Document{}, d.tab, nil
	}
	changed, err := doc.Look(ctx, d.tab, inpage.Place{})
	if err == nil {
		var more bool
		more, err = doc.LookInto(ctx, d.tab, inpage.Place{}, 0)
		changed = changed || more
	}
	switch {
	case errors.Is(err, errDialog), err != nil && d.leftBehind():
		return d.see(ctx)
	case err != nil:
		return nil, err
	}
	awaits, open := d.tab.pending.Awaited(d.config.Overlook)
	if doc.Calm { // the app says itself that nobody waits for that
		awaits, open = nil, append(open, awaits...)
	}
	busy := doc.Busy || len(awaits) > 0
	rests := doc.Rests
	if busy || len(doc.InFrames) > 0 || len(open) > 0 || d.config.Unhurried {
		rests = 0
	}
	if !changed && d.tree != nil {
		if d.tree.Busy != busy || d.tree.Rests != rests || !slices.Equal(d.tree.Awaits, awaits) ||
			!slices.Equal(d.tree.Open, open) {
			next := *d.tree
			if next.Busy != busy || next.Rests < rests { // who waits for that is to wake
				d.revision++
			}
			next.Rests = rests
			next.Busy, next.Awaits, next.Open, next.Revision = busy, awaits, open, d.revision
			d.tree = &next
		}
		return d.tree, nil
	}
	d.revision++
	t := d.newTree(d.front)
	t.Busy, t.Awaits, t.Open, t.Rests = busy, awaits, open, rests
	t.Root.Name = doc.Title
	nodes := make([]screen.Node, 0, len(doc.Rows)) // a tree that was handed out does not change
	left := inpage.MaxRows
	doc.Lay(t.Root, func(n screen.Node) *screen.Node {
		if left--; left < 0 {
			return nil
		}
		if len(nodes) == cap(nodes) {
			nodes = make([]screen.Node, 0, 256)
		}
		nodes = append(nodes, n)
		return &nodes[len(nodes)-1]
	})
	d.tree = t
	return t, nil
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
	return d.tab.film != nil
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
	ctx, stop := context.WithTimeoutCause(ctx, patience,
		errors.New("the browser drew nothing within "+patience.String()))
	defer stop()
	zoom := d.zoom()
	data, err := page.CaptureScreenshot().WithFormat(page.CaptureScreenshotFormatPng).WithOptimizeForSpeed(true).
		WithClip(&page.Viewport{Width: w / zoom, Height: h / zoom, Scale: zoom / d.config.Density}).Do(d.tab.On(ctx))
	if err != nil {
		if crash := d.tab.alive(); crash != nil {
			return nil, crash
		}
		return nil, lost(err)
	}
	if q := d.tab.question(); q != "" {
		return sketch.Over{Under: picture{data}, Dialog: d.asks(q).Node(d.size())}, nil
	}
	if d.Offers != nil {
		return sketch.Over{Under: picture{data}, Dialog: d.list().Node(d.size())}, nil
	}
	return picture{data}, nil
}
