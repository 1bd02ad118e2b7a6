package handset

import (
	"context"

	"github.com/chromedp/cdproto/target"
)

// What a page opens in a window of its own (a sign-in, target=_blank) is a second screen of the app, in
// front of the first until it is closed, as on a phone.

// maxWindows bounds the windows of an app.
const maxWindows = 5

// windows has the window in front be the one that was opened last, and the one before where that is closed.
func (d *Device) windows(ctx context.Context) error {
	for d.tab != nil {
		d.tab.mu.Lock()
		opened, closed := d.tab.windows, d.tab.closed
		d.tab.windows = nil
		d.tab.mu.Unlock()
		if closed && len(d.behind) > 0 {
			d.tab.close(ctx)
			d.backToFront()
			continue
		}
		if len(opened) == 0 {
			return nil
		}
		for _, info := range opened {
			if len(d.behind)+1 >= maxWindows {
				d.tab.events.logged("warn", "browser", "a window was opened and is not shown, as there are many: "+
					short(info.URL))
				d.running.Post(target.CommandCloseTarget, target.CloseTarget(info.TargetID))
				continue
			}
			t, err := joinTab(ctx, d.running, info.TargetID, d.events(d.front))
			if err == nil {
				err = d.dressed(ctx, t, d.front)
			}
			if err != nil { // it was closed meanwhile
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				if gone := d.lost(); gone != nil {
					return gone
				}
				continue
			}
			d.behind = append(d.behind, d.tab)
			d.tab = t
			d.render()
		}
	}
	return nil
}

// backToFront has the window behind the one in front be in front.
func (d *Device) backToFront() {
	last := len(d.behind) - 1
	d.tab, d.behind = d.behind[last], d.behind[:last]
	d.questioned = ""
	d.render()
}

// leftBehind tells whether the window in front has been closed, with another behind it.
func (d *Device) leftBehind() bool {
	if d.tab == nil || len(d.behind) == 0 {
		return false
	}
	d.tab.mu.Lock()
	defer d.tab.mu.Unlock()
	return d.tab.closed
}

// leaveWindow closes the window in front; the one behind it is there again.
func (d *Device) leaveWindow(ctx context.Context) error {
	d.tab.close(ctx)
	d.backToFront()
	return nil
}

// closeWindows closes all that is in front.
func (d *Device) closeWindows(ctx context.Context) {
	d.keepCopied()
	if d.tab != nil {
		d.tab.close(ctx)
	}
	for _, t := range d.behind {
		t.close(ctx)
	}
	d.tab, d.behind = nil, nil
}
