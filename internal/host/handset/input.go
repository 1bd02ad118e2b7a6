package handset

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"

	"yamato/internal/contain"
	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/handset/pipe"
	"yamato/internal/host/silence"
)

// Tap touches the screen with one finger.
func (d *Device) Tap(ctx context.Context, at screen.Point) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	if d.tab == nil || d.away {
		return nil
	}
	if asked := d.tab.asked(); asked != nil {
		return d.reply(ctx, asked, at)
	}
	if q := d.tab.question(); q != "" {
		return d.replied(ctx, q, at)
	}
	if d.Offers != nil {
		return d.chosen(ctx, at)
	}
	if err := d.tab.alive(); err != nil {
		return err
	}
	at = d.inPixels(at)
	done, err := d.tab.begin("yamatoTapped()")
	if err != nil {
		return err
	}
	return d.do(ctx, func(ctx context.Context) error {
		// Both are sent before either is answered: the browser answers with the next frame.
		for _, touch := range []*input.DispatchTouchEventParams{
			input.DispatchTouchEvent(input.TouchStart, []*input.TouchPoint{{X: at.X, Y: at.Y}}),
			input.DispatchTouchEvent(input.TouchEnd, []*input.TouchPoint{})} {
			id, _, err := d.tab.Send(d.tab.ID, input.CommandDispatchTouchEvent, touch)
			if err != nil {
				return err
			}
			defer d.tab.Forget(id)
		}
		select { // what the touch does to the page is done
		case <-done:
		case <-d.tab.Gone:
			return pipe.ErrGone
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		return nil
	})
}

// inPixels gives a place in the page's CSS pixels, in which the browser takes input.
func (d *Device) inPixels(p screen.Point) screen.Point {
	zoom := d.zoom()
	return screen.Point{X: p.X / zoom, Y: p.Y / zoom}
}

// do sends input to the page. A page that does not answer to it has stopped answering; a
// dialog that comes up meanwhile keeps the answer back, and the input has arrived all the same.
func (d *Device) do(ctx context.Context, what func(context.Context) error) error {
	t := d.tab
	if t.asked() != nil {
		return nil
	}
	q := silence.From(t.browser.pid())
	inner, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var over sync.WaitGroup
	done := make(chan error, 1)
	over.Go(func() { done <- contain.Do("a touch", func() error { return what(t.On(inner)) }) })
	defer over.Wait()
	end := time.NewTimer(silence.Unmeasured)
	defer end.Stop()
	for {
		select {
		case err := <-done:
			if err != nil && ctx.Err() == nil {
				if d.leftBehind() { // what was touched has closed its window
					return nil
				}
				if crash := t.alive(); crash != nil {
					return crash
				}
			}
			return lost(err)
		case <-t.changed:
			t.wake()
			if t.asked() != nil || t.alive() != nil {
				stop(errDialog)
				<-done
				return nil
			}
			select { // it may go on changing while the input is on its way
			case err := <-done:
				return lost(err)
			case <-time.After(5 * time.Millisecond):
			case <-ctx.Done():
			}
		case <-end.C:
			if left := q.Left(); left > 0 {
				end.Reset(left)
				continue
			}
			stop(errDialog)
			return t.stuck()
		}
	}
}

// EnterText enters text where the focus is, as an input method does.
func (d *Device) EnterText(ctx context.Context, text string) error {
	if err := d.reach(ctx); err != nil || d.tab == nil || d.away {
		return err
	}
	if asked := d.tab.asked(); asked != nil {
		d.typed(text)
		return nil
	}
	if d.tab.question() != "" {
		return nil
	}
	said, err := d.tab.ask(ctx, fmt.Sprintf("yamatoEnter(%s, %s)", inScript(text), inScript(d.language)))
	switch {
	case errors.Is(err, errDialog):
		return nil
	case err != nil:
		return err
	case said == "entered":
		return nil
	case said != "":
		return &device.Refusal{Why: plain.Text(said, 500)}
	}
	return d.do(ctx, func(ctx context.Context) error { return input.InsertText(text).Do(ctx) })
}

// inScript writes a text as scripts do.
func inScript(text string) string {
	out, _ := json.Marshal(text) // a text can always be written
	return string(out)
}

// Press presses the handset's own keys: back and home.
func (d *Device) Press(ctx context.Context, key string) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	if d.tab == nil || d.away {
		return nil
	}
	if key == "back" {
		if d.tab.asked() != nil {
			return d.answer(ctx, false)
		}
		if d.Offers != nil {
			return d.pick(ctx, -1)
		}
		at, entries, err := page.GetNavigationHistory().Do(d.tab.On(ctx))
		if err != nil {
			return lost(err)
		}
		if i := d.apps[d.front]; i != nil && at > 0 && strings.HasPrefix(entries[at-1].URL, i.origin) {
			if _, err := d.tab.ask(ctx, "yamatoLeaves()"); err != nil && !errors.Is(err, errDialog) {
				return err
			}
			return lost(page.NavigateToHistoryEntry(entries[at-1].ID).Do(d.tab.On(ctx)))
		}
		if len(d.behind) > 0 {
			return d.leaveWindow(ctx)
		}
	}
	return d.SendAway(ctx)
}
