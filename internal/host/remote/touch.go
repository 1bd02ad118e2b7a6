package remote

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/inpage"
	"yamato/internal/webdriver"
)

// pointerKind is what fingers are to a page: touches where the engine has them.
func (d *browserDevice) pointerKind() string {
	if d.what == "WebKit" {
		return "mouse" // WebKitGTK's WebDriver has no touch screen
	}
	return "touch"
}

// inPixels gives a place in the page's CSS pixels, in which the browser takes input.
func (d *browserDevice) inPixels(p screen.Point) screen.Point {
	zoom := d.Document.Zoom
	if zoom <= 0 {
		zoom = 1
	}
	zoom *= d.scale()
	return screen.Point{X: p.X / zoom, Y: p.Y / zoom}
}

// Tap touches the screen with one finger.
func (d *browserDevice) Tap(ctx context.Context, at screen.Point) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	if d.front == "" || d.away {
		return nil
	}
	if asked := d.engine.asked(); asked != nil {
		d.asking(asked)
		if yes, answered := d.dialog(asked).Touched(d.area(), at); answered {
			return d.answer(ctx, yes)
		}
		return nil
	}
	if q := d.engine.question(); q != "" {
		return d.replied(ctx, q, at)
	}
	if d.Offers != nil {
		option, goes := d.list().Touched(d.area(), at)
		if !goes {
			return nil
		}
		return d.pick(ctx, option)
	}
	if err := d.engine.alive(); err != nil {
		return err
	}
	if err := d.engine.perform(ctx, webdriver.Tap(d.pointerKind(), d.inPixels(at))); err != nil {
		return offScreen(err)
	}
	return nil
}

// offScreen lets what is asked for beyond the screen be: a finger beside the screen touches nothing.
func offScreen(err error) error {
	if webdriver.Is(err, webdriver.MoveOutOfBounds) {
		return nil
	}
	return err
}

// pick chooses by number what is offered, or none with -1.
func (d *browserDevice) pick(ctx context.Context, n int) error {
	d.revision++
	d.tree = nil
	_, err := d.engine.AskAt(ctx, inpage.Place{}, fmt.Sprintf("yamatoPick(%d)", n))
	return err
}

// replied answers a question for a permission by what was touched.
func (d *browserDevice) replied(ctx context.Context, permission string, at screen.Point) error {
	d.tree = nil
	answer := d.asks(permission).Touched(d.area(), at)
	if answer == "" {
		return nil
	}
	d.given[[2]string{d.front, permission}] = true
	return d.engine.permit(ctx, d.page(d.apps[d.front]), permission, answer)
}

func (d *browserDevice) answer(ctx context.Context, yes bool) error {
	asked := d.engine.asked()
	d.shown = nil
	d.render()
	if asked == nil {
		return nil
	}
	return d.engine.answer(ctx, yes, asked.entry)
}

// Perform does what fingers do.
func (d *browserDevice) Perform(ctx context.Context, fingers ...device.Finger) error {
	if err := device.CheckFingers(fingers); err != nil {
		return err
	}
	if err := d.reach(ctx); err != nil || d.front == "" || d.away {
		return err
	}
	if d.engine.asked() != nil || d.engine.question() != "" {
		return nil
	}
	if d.Offers != nil {
		if l := d.list(); l.Move(d.area(), fingers) {
			d.scrolled = l.Scrolled
			d.revision++
			d.tree = nil
		}
		return nil
	}
	if err := d.engine.perform(ctx, webdriver.Fingers(d.pointerKind(), fingers, d.inPixels)...); err != nil {
		return offScreen(err)
	}
	if at, ok := held(fingers); ok && d.engine.alive() == nil && d.engine.asked() == nil {
		p := d.inPixels(at)
		if _, err := d.engine.AskAt(ctx, inpage.Place{}, fmt.Sprintf("yamatoHeld(%g, %g)", p.X, p.Y)); err != nil && !errors.Is(err, errDialog) {
			return err
		}
	}
	return nil
}

// longPress is from when on a finger that stays asks for what else there is to be done (UI Events, contextmenu).
const longPress = 500 * time.Millisecond

// held tells where one finger stays on its place for so long.
func held(fingers []device.Finger) (at screen.Point, ok bool) {
	if len(fingers) != 1 {
		return at, false
	}
	down, stays := false, time.Duration(0)
	for _, a := range fingers[0] {
		switch {
		case a.Do == "down":
			down = true
		case a.Do == "move" && down:
			return at, false
		case a.Do == "move":
			at = a.At
		case a.Do == "pause" && down:
			stays += a.Over
		}
	}
	return at, stays >= longPress
}

// Keys presses keys: plain characters, or those of W3C WebDriver 17.4.2.
func (d *browserDevice) Keys(ctx context.Context, keys string) error {
	if err := d.reach(ctx); err != nil || d.front == "" || d.away {
		return err
	}
	if asked := d.engine.asked(); asked != nil {
		for _, k := range keys {
			switch {
			case k == '\uE006' || k == '\uE007':
				return d.answer(ctx, true)
			case k == '\uE00C':
				return d.answer(ctx, false)
			case k == '\uE003':
				entry := []rune(asked.entry)
				asked.entry, d.tree = string(entry[:max(0, len(entry)-1)]), nil
			case k < '\uE000' || k > '\uE05D':
				d.typed(asked, string(k))
			}
		}
		return nil
	}
	if keys == "" || d.engine.question() != "" {
		return nil
	}
	return d.engine.perform(ctx, webdriver.Typed(keys))
}

// typed enters text in a dialog's field.
func (d *browserDevice) typed(asked *dialog, text string) {
	if asked.kind == "prompt" {
		asked.entry = plain.Text(asked.entry+text, 2000)
		d.tree = nil
	}
}

// EnterText enters text where the focus is, as an input method does.
func (d *browserDevice) EnterText(ctx context.Context, text string) error {
	if err := d.reach(ctx); err != nil || d.front == "" || d.away {
		return err
	}
	if asked := d.engine.asked(); asked != nil {
		d.typed(asked, text)
		return nil
	}
	if d.engine.question() != "" {
		return nil
	}
	said, err := d.engine.AskAt(ctx, inpage.Place{}, fmt.Sprintf("yamatoEnter(%s, %s) || yamatoInsert(%s)", inScript(text), inScript(d.language), inScript(text)))
	switch {
	case errors.Is(err, errDialog):
		return nil
	case err != nil:
		return err
	case said == "entered":
		return nil
	case said == "elsewhere": // in a document that cannot be reached from here
		return d.engine.perform(ctx, webdriver.Typed(text))
	case said != "":
		return &device.Refusal{Why: plain.Text(said, 500)}
	}
	return nil
}

// Press presses the handset's own keys: back and home.
func (d *browserDevice) Press(ctx context.Context, key string) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	if d.front == "" || d.away {
		return nil
	}
	if key == "back" {
		if d.engine.asked() != nil {
			return d.answer(ctx, false)
		}
		if d.Offers != nil {
			return d.pick(ctx, -1)
		}
		before, err := d.engine.AskAt(ctx, inpage.Place{}, "String(yamatoBehind())")
		if err != nil && !errors.Is(err, errDialog) {
			return err
		}
		if before == "true" {
			went, err := d.engine.back(ctx)
			if went || err != nil {
				return err
			}
		}
		if d.engine.windows() > 1 {
			d.render()
			return d.engine.leave(ctx)
		}
	}
	return d.sendAway(ctx)
}

// sendAway has the home screen in front.
func (d *browserDevice) sendAway(ctx context.Context) error {
	if d.front == "" || d.away {
		return nil
	}
	d.keepCopied()
	d.away = true
	d.render()
	return d.engine.hide(ctx, true)
}

// unasked has an app ask anew for what a person has answered on the screen, and for what nobody has answered yet, and
// be answered what was told beforehand.
func (d *browserDevice) unasked(ctx context.Context, page appPage, fresh bool) error {
	for _, permission := range slices.Concat(questioned, []string{"motion"}) {
		key := [2]string{page.id, permission}
		answer := d.answers[key]
		if answer == "" || answer == device.Ask {
			if d.given[key] && !fresh {
				continue
			}
			delete(d.given, key)
			answer = device.Ask
		}
		if err := d.engine.permit(ctx, page, permission, answer); err != nil {
			return err
		}
	}
	return nil
}
