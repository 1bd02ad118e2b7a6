package handset

import (
	"context"

	"github.com/chromedp/cdproto/page"

	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
)

// A dialog of the browser's own (alert, confirm, prompt, HTML 8.8.1) is no part of the page,
// which stands still behind it. The handset shows it as an element.

// asking is the screen with a dialog in front.
func (d *Device) asking(e *page.EventJavascriptDialogOpening) *screen.Tree {
	if d.tree != nil && len(d.tree.Root.Children) == 1 && d.tree.Root.Children[0].ID == dialogID && d.asked == e {
		return d.tree
	}
	if d.asked != e {
		d.asked, d.entry = e, plain.Text(e.DefaultPrompt, 2000)
	}
	d.revision++
	t := d.newTree(d.front)
	w, h := d.width()
	box := screen.Rect{X: 24, Y: h/2 - 90, W: w - 48, H: 180}
	place := func(n *screen.Node, r screen.Rect) *screen.Node {
		n.Bounds, n.Visible = r, r.Intersect(screen.Rect{W: w, H: h})
		return n
	}
	dialog := place(&screen.Node{Role: "alertdialog", ID: dialogID, Opaque: true, Touch: true}, box)
	message, ok := e.Message, "OK"
	if e.Type == page.DialogTypeBeforeunload { // HTML 7.4.3.4: the words are the browser's own
		message, ok = "Leave this page? What was entered may not be kept.", "Leave"
	}
	dialog.Children = append(dialog.Children, place(&screen.Node{Text: plain.Text(message, 2000)},
		screen.Rect{X: box.X + 12, Y: box.Y + 12, W: box.W - 24, H: 60}))
	if e.Type == page.DialogTypePrompt {
		dialog.Children = append(dialog.Children, place(&screen.Node{Role: "textbox", ID: dialogID + "-field",
			Value:   d.entry,
			Focused: true, Touch: true}, screen.Rect{X: box.X + 12, Y: box.Y + 80, W: box.W - 24, H: 36}))
	}
	yes := screen.Rect{X: box.X + box.W - 92, Y: box.Y + 128, W: 80, H: 40}
	if e.Type != page.DialogTypeAlert {
		dialog.Children = append(dialog.Children, place(&screen.Node{Role: "button", ID: dialogID + "-cancel",
			Text:  "Cancel",
			Touch: true, Opaque: true}, screen.Rect{X: box.X + 12, Y: yes.Y, W: 80, H: 40}))
	}
	dialog.Children = append(dialog.Children, place(&screen.Node{Role: "button", ID: dialogID + "-ok", Text: ok,
		Touch: true, Opaque: true}, yes))
	t.Root.Children = []*screen.Node{dialog}
	d.tree = t
	return t
}

const dialogID = "browser-dialog"

// reply answers the dialog by what was touched.
func (d *Device) reply(ctx context.Context, e *page.EventJavascriptDialogOpening, at screen.Point) error {
	n := d.asking(e).Hit(at)
	if n == nil {
		return nil
	}
	switch n.ID {
	case dialogID + "-ok":
		return d.answer(ctx, true)
	case dialogID + "-cancel":
		return d.answer(ctx, false)
	}
	return nil
}

func (d *Device) answer(ctx context.Context, yes bool) error {
	text := d.entry
	d.asked, d.entry = nil, ""
	d.render()
	return lost(d.tab.answer(ctx, yes, text))
}

// typed enters text in the dialog's field.
func (d *Device) typed(text string) {
	if d.asked != nil && d.asked.Type == page.DialogTypePrompt {
		d.entry = plain.Text(d.entry+text, 2000)
		d.tree = nil
	}
}
