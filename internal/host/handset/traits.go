package handset

import (
	"context"
	"fmt"
	"slices"

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
		script += fmt.Sprintf(chance, uint32(d.seed), uint32(d.seed>>32))
	}
	if i := d.apps[app]; i != nil {
		mode := i.bundle.Facts.Display
		if !slices.Contains([]string{"fullscreen", "standalone", "minimal-ui"}, mode) {
			mode = "browser" // the default, and what is not known
		}
		script += fmt.Sprintf(displayed, mode)
	}
	_, err := page.AddScriptToEvaluateOnNewDocument(script).Do(t.On(ctx))
	return err
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

// displayed is how an app's manifest wants to be shown, for scripts that ask (W3C Web Application
// Manifest, 1.8): the browser itself always tells them that it shows a page.
const displayed = `
(() => {
  const mode = %q, query = window.matchMedia;
  if (window !== top) return;
  window.matchMedia = function matchMedia(text) {
    return query.call(this, String(text).replace(/\(\s*display-mode\s*:\s*([a-z-]+)\s*\)/gi, (_, m) => (m.toLowerCase() === mode ? '(min-width: 0px)' : 'not all')));
  };
  Object.defineProperty(Navigator.prototype, 'standalone', { configurable: true, get() { return mode !== 'browser'; } });
})();`

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

// chance draws as Math.random does, from a seed (sfc32 of PractRand, which passes its tests).
const chance = `
(() => {
  let a = %d | 0, b = %d | 0, c = 0x9e3779b9 | 0, n = 1;
  const next = () => {
    const t = (a + b | 0) + n | 0;
    n = n + 1 | 0;
    a = b ^ b >>> 9;
    b = c + (c << 3) | 0;
    c = (c << 21 | c >>> 11) + t | 0;
    return t >>> 0;
  };
  for (let i = 0; i < 15; i++) next();
  Math.random = function random() { return (next() * 2097152 + (next() >>> 11)) / 9007199254740992; };
})();`
