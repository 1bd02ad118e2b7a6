package handset

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/draw"
	"os"
	"testing"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
	"yamato/internal/testbin"
)

// Three witnesses of what is shown, beside the eye of the handset: the picture (what we say is shown changes it when
// it is made see-through, and what we say is not does not), hit testing, and the browser's own accessibility tree.

// witness makes an element that was told see-through, by its number, and back again; and tells what a point meets.
const witness = `((n, how) => {
  const el = yamatoElements[n];
  if (!el || !el.isConnected) return 'gone';
  switch (how) {
    case 'hide': el.dataset.witness = el.getAttribute('style') || ''; el.style.setProperty('transition', 'none', 'important'); el.style.setProperty('opacity', '0', 'important'); return '';
    case 'show': { const was = el.dataset.witness; delete el.dataset.witness; if (was) el.setAttribute('style', was); else el.removeAttribute('style'); return ''; }
    case 'moves': return String(document.getAnimations().length);
  }
  return '';
})`

// fields may be drawn by what they lie in, and closed lists have options that nobody sees.
var fields = map[string]bool{"textbox": true, "searchbox": true, "spinbutton": true, "combobox": true}

type testimony struct{ elements, shownUnseen, unseenShown, missing, named int }

// snapshot is the screen at one pixel a dp.
func snapshot(t *testing.T, ctx context.Context, d *Device) *image.RGBA {
	t.Helper()
	p, err := d.Picture(ctx)
	require.NoError(t, err)
	img, err := p.Image()
	require.NoError(t, err)
	out := image.NewRGBA(img.Bounds())
	draw.Draw(out, out.Bounds(), img, img.Bounds().Min, draw.Src)
	return out
}

// differs counts the pixels in which two pictures differ within an area given in dp, all of it where that is empty.
func differs(a, b *image.RGBA, in screen.Rect) int {
	r := a.Bounds()
	if !in.Empty() {
		r = r.Intersect(image.Rect(int(in.X-3), int(in.Y-3), int(in.X+in.W+3)+1, int(in.Y+in.H+3)+1))
	}
	n := 0
	for y := r.Min.Y; y < r.Max.Y; y++ {
		from, to := a.PixOffset(r.Min.X, y), a.PixOffset(r.Min.X, y)+4*r.Dx()
		if bytes.Equal(a.Pix[from:to], b.Pix[from:to]) {
			continue
		}
		for x := from; x < to; x += 4 {
			if !bytes.Equal(a.Pix[x:x+4], b.Pix[x:x+4]) {
				n++
			}
		}
	}
	return n
}

// testify holds what a page's tree says of at most so many of its elements to the witnesses.
func testify(t *testing.T, ctx context.Context, d *Device, name string, most int) testimony {
	t.Helper()
	visited(t, ctx, d, name)
	rows := d.Rows
	before := snapshot(t, ctx, d)
	var out testimony
	tell := func(what string, i int) {
		n := rows[i].Node
		t.Logf("%s: %s: %s #%s %q %q at %v, seen %v", name, what, n.Role, n.ID, n.Name, n.Text, n.Bounds, n.Visible)
	}
	step := max(1, len(rows)/most)
	tree, err := d.Tree(ctx)
	require.NoError(t, err)
	var all []*screen.Node
	tree.Walk(func(n *screen.Node, depth int) bool {
		if depth > 0 {
			all = append(all, n)
		}
		return true
	})
	for i := 0; i < len(rows) && len(all) == len(rows); i += step {
		said, err := d.tab.ask(ctx, fmt.Sprintf("%s(%d, 'hide')", witness, i))
		require.NoError(t, err)
		if said == "gone" {
			continue
		}
		after := snapshot(t, ctx, d)
		_, err = d.tab.ask(ctx, fmt.Sprintf("%s(%d, 'show')", witness, i))
		require.NoError(t, err)
		out.elements++
		shown := len(tree.Shown([]*screen.Node{all[i]})) > 0
		switch {
		case shown && fields[rows[i].Node.Role]: // what they lie in draws them
		case shown && differs(before, after, rows[i].Node.Visible) == 0:
			out.shownUnseen++
			tell("said to be shown, and nothing of it is drawn", i)
		case !shown && differs(before, after, screen.Rect{}) > 4:
			out.unseenShown++
			tell("said not to be shown, and something of it is drawn", i)
		}
	}
	// Words that the browser's tree has on the screen, and ours has nowhere.
	nodes, err := accessibility.GetFullAXTree().Do(d.tab.On(ctx))
	require.NoError(t, err)
	words := map[string]bool{}
	tree.Walk(func(n *screen.Node, _ int) bool {
		for _, s := range []string{n.Name, n.Text, n.Value} {
			words[screen.Fold(s)] = true
		}
		return true
	})
	for _, n := range nodes {
		if n.Ignored || n.Role == nil || n.Name == nil {
			continue
		}
		var role, text string
		_ = json.Unmarshal(n.Role.Value, &role)
		_ = json.Unmarshal(n.Name.Value, &text)
		if text = screen.Fold(text); text == "" || role == "StaticText" || role == "InlineTextBox" ||
			role == "RootWebArea" || role == "option" || role == "MenuListPopup" || role == "LabelText" {
			continue
		}
		if out.named++; !words[text] {
			out.missing++
			t.Logf("%s: the browser's tree has %s %q, and ours has no such words", name, role, text)
		}
	}
	return out
}

func TestTheEyeIsHeldToThreeWitnesses(t *testing.T) {
	testbin.Unhurried(t)
	t.Parallel()
	most := 4
	if os.Getenv("YAMATO_WITNESSES") != "" {
		most = 400
	}
	d := kaede(t)
	ctx := opened(t, d, corpusApp(t))
	var all testimony
	for _, p := range corpus {
		one := testify(t, ctx, d, fileOf(p.name), most)
		all.elements, all.shownUnseen, all.unseenShown = all.elements+one.elements, all.shownUnseen+one.shownUnseen,
			all.unseenShown+one.unseenShown
		all.missing, all.named = all.missing+one.missing, all.named+one.named
	}
	t.Logf("in all %d elements: %d said to be shown and not drawn, %d drawn and said not to be shown; %d names of the browser's tree, %d of them nowhere in ours",
		all.elements, all.shownUnseen, all.unseenShown, all.named, all.missing)
	require.LessOrEqual(t, all.shownUnseen+all.unseenShown, all.elements/50)
}
