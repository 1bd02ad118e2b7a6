package handset

import (
	"context"
	"fmt"
	"slices"

	"yamato/internal/core/plain"
	"yamato/internal/host/inpage"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/page"
)

// SetChance makes what scripts draw from Math.random a function of seed and of nothing before,
// in apps that are started from now on.
func (d *Device) SetChance(seed uint64) { d.seed = seed }

// be has the documents of a page find the handset that the browser cannot be made to be by
// its protocol: how much memory it has, and the chance that it draws.
func (d *Device) be(ctx context.Context, t *tab, app string) error {
	script := fmt.Sprintf("Object.defineProperty(Navigator.prototype, 'deviceMemory', {configurable: true, enumerable: true, "+
		"get() { return %g; }});", memory(d.config.Device.MemoryMB))
	if d.seed != 0 {
		script += fmt.Sprintf(inpage.Chance, uint32(d.seed), uint32(d.seed>>32))
	}
	if d.keepCopied(); d.clip != "" {
		script += "globalThis.yamatoCopied = " + inScript(d.clip) + ";"
	}
	if i := d.apps[app]; i != nil {
		mode := i.bundle.Facts.Display
		if !slices.Contains([]string{"fullscreen", "standalone", "minimal-ui"}, mode) {
			mode = "browser" // the default, and what is not known
		}
		script += fmt.Sprintf(inpage.Displayed, mode)
	}
	id, err := page.AddScriptToEvaluateOnNewDocument(script).Do(t.On(ctx))
	t.scripts = append(t.scripts, id)
	return err
}

// keepCopied keeps what was copied in the page in front: it outlives the page, and not the case (Tidy).
func (d *Device) keepCopied() {
	if d.tab == nil {
		return
	}
	d.tab.mu.Lock()
	defer d.tab.mu.Unlock()
	if d.tab.copied != nil {
		d.clip = plain.Text(*d.tab.copied, 100_000)
		d.tab.copied = nil
	}
}

// Tidy takes away what a case has left beside an app's data: what was copied. What a person has answered on
// the screen, and messages that were pushed, go with the data at the next fresh start.
func (d *Device) Tidy(context.Context, string) error {
	d.keepCopied()
	d.clip = ""
	return nil
}

// forgetScripts has the documents of a page find no more what an app before was made to.
func (t *tab) forgetScripts(ctx context.Context) error {
	for _, id := range t.scripts {
		if err := page.RemoveScriptToEvaluateOnNewDocument(id).Do(t.On(ctx)); err != nil {
			return err
		}
	}
	t.scripts = nil
	return nil
}

// cutouts are how far from the edge a cut-out takes the screen away, in dp.
var cutouts = map[string]int64{"hole": 32, "bar": 44}

// keepClear tells pages which part of the screen a cut-out leaves them (CSS Environment Variables,
// safe-area-inset-*): it is at the top, which is on the left where the handset is held across.
func (d *Device) keepClear(ctx context.Context, t *tab) error {
	in := &emulation.SafeAreaInsets{}
	if cut := cutouts[d.config.Cutout]; d.across {
		in.Left, in.LeftMax = cut, cut
	} else {
		in.Top, in.TopMax = cut, cut
	}
	return emulation.SetSafeAreaInsetsOverride(in).Do(t.On(ctx))
}

// memory is what pages are told of it: a power of two of gigabytes, from 0.25 to 8 (W3C
// Device Memory, 2).
func memory(mb int) float64 {
	if mb <= 0 {
		return 8
	}
	gb, power := float64(mb)/1024, 0.25
	for power < 8 && gb > power*1.5 {
		power *= 2
	}
	return power
}
