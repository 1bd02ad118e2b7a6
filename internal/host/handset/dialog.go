package handset

import (
	"context"

	"github.com/chromedp/cdproto/page"

	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/overlay"
)

// dialog is the dialog in front, with what was entered in it.
func (d *Device) dialog() overlay.Dialog {
	return overlay.Dialog{Kind: d.asked.Type.String(), Message: d.asked.Message, Entry: d.entry}
}

// asking is the screen with a dialog in front.
func (d *Device) asking(e *page.EventJavascriptDialogOpening) *screen.Tree {
	if d.tree != nil && len(d.tree.Root.Children) == 1 && d.tree.Root.Children[0].ID == overlay.DialogID && d.asked == e {
		return d.tree
	}
	if d.asked != e {
		d.asked, d.entry = e, plain.Text(e.DefaultPrompt, 2000)
	}
	d.revision++
	t := d.newTree(d.front)
	t.Root.Children = []*screen.Node{d.dialog().Node(d.size())}
	d.tree = t
	return t
}

// reply answers the dialog by what was touched.
func (d *Device) reply(ctx context.Context, e *page.EventJavascriptDialogOpening, at screen.Point) error {
	d.asking(e)
	if yes, answered := d.dialog().Touched(d.size(), at); answered {
		return d.answer(ctx, yes)
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
