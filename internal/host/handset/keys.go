package handset

import (
	"context"
	"strings"

	"github.com/chromedp/cdproto/input"
)

// pressed are the keys of W3C WebDriver 17.4.2 as the browser knows them.
var pressed = map[rune]struct {
	key, code string
	number    int64
	text      string
}{
	'\uE003': {"Backspace", "Backspace", 8, ""}, '\uE004': {"Tab", "Tab", 9, ""}, '\uE006': {"Enter", "Enter",
		13, "\r"},
	'\uE007': {"Enter", "Enter", 13, "\r"}, '\uE00C': {"Escape", "Escape", 27, ""}, '\uE00D': {" ", "Space", 32, " "},
	'\uE00E': {"PageUp", "PageUp", 33, ""}, '\uE00F': {"PageDown", "PageDown", 34, ""}, '\uE010': {"End", "End", 35,
		""},
	'\uE011': {"Home", "Home", 36, ""}, '\uE012': {"ArrowLeft", "ArrowLeft", 37, ""}, '\uE013': {"ArrowUp", "ArrowUp",
		38, ""},
	'\uE014': {"ArrowRight", "ArrowRight", 39, ""}, '\uE015': {"ArrowDown", "ArrowDown", 40, ""},
	'\uE017': {"Delete", "Delete", 46, ""},
}

// Keys presses keys: plain characters, or those of W3C WebDriver 17.4.2.
func (d *Device) Keys(ctx context.Context, keys string) error {
	if err := d.reach(ctx); err != nil || d.tab == nil || d.away {
		return err
	}
	for _, k := range keys {
		if err := d.key(ctx, k); err != nil {
			return err
		}
	}
	return nil
}

func (d *Device) key(ctx context.Context, k rune) error {
	if asked := d.tab.asked(); asked != nil {
		switch special := pressed[k]; {
		case special.key == "Enter":
			return d.answer(ctx, true)
		case special.key == "Escape":
			return d.answer(ctx, false)
		case special.key == "Backspace":
			entry := []rune(d.entry)
			d.entry, d.tree = string(entry[:max(0, len(entry)-1)]), nil
		case special.key == "":
			d.typed(string(k))
		}
		return nil
	}
	special, ok := pressed[k]
	if !ok && k >= '\uE000' && k <= '\uE05D' {
		return nil // a key that handsets do not have
	}
	return d.do(ctx, func(ctx context.Context) error {
		down, up := input.DispatchKeyEvent(input.KeyDown), input.DispatchKeyEvent(input.KeyUp)
		if ok {
			down = down.WithKey(special.key).WithCode(special.code).WithWindowsVirtualKeyCode(special.number).WithText(special.text)
			up = up.WithKey(special.key).WithCode(special.code).WithWindowsVirtualKeyCode(special.number)
		} else {
			text := string(k)
			code := int64(0)
			if upper := strings.ToUpper(text); len(upper) == 1 && (upper[0] >= 'A' && upper[0] <= 'Z' ||
				upper[0] >= '0' && upper[0] <= '9') {
				code = int64(upper[0])
			}
			down = down.WithKey(text).WithText(text).WithWindowsVirtualKeyCode(code)
			up = up.WithKey(text).WithWindowsVirtualKeyCode(code)
		}
		if err := down.Do(ctx); err != nil {
			return err
		}
		return up.Do(ctx)
	})
}
