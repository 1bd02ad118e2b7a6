// Package browser drives a real, headless Chromium for tests, measurements and
// pictures of the console. It is no part of the program.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Path of Debian's Chromium.
const Path = "/usr/bin/chromium"

// Browser is a running Chromium with one profile: its tabs share cookies.
type Browser struct {
	ctx  context.Context
	stop func()
}

// Open starts a Chromium. Close ends it.
func Open(ctx context.Context, more ...chromedp.ExecAllocatorOption) (*Browser, error) {
	if _, err := exec.LookPath(Path); err != nil {
		return nil, fmt.Errorf("no Chromium is installed; as root: apt-get install -y chromium: %w", err)
	}
	dir, err := os.MkdirTemp("", "yamato-browser-")
	if err != nil {
		return nil, err
	}
	options := append([]chromedp.ExecAllocatorOption{
		chromedp.ExecPath(Path), chromedp.UserDataDir(dir), chromedp.NoFirstRun, chromedp.NoDefaultBrowserCheck,
		chromedp.Headless, chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("hide-scrollbars", false),
		chromedp.Flag("disable-renderer-backgrounding", true), chromedp.Flag("disable-background-timer-throttling",
			true),
		chromedp.Flag("disable-backgrounding-occluded-windows", true), chromedp.Flag("force-color-profile", "srgb"),
		chromedp.WindowSize(1280, 800), chromedp.WSURLReadTimeout(time.Minute),
	}, more...)
	allocator, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	first, stopFirst := chromedp.NewContext(allocator)
	stop := func() {
		_ = chromedp.Cancel(first) // closes the browser as a person would
		stopFirst()
		stopAllocator()
		_ = os.RemoveAll(dir)
	}
	if err := chromedp.Run(first); err != nil {
		stop()
		return nil, fmt.Errorf("starting Chromium: %w", err)
	}
	return &Browser{first, stop}, nil
}

// Close ends the browser.
func (b *Browser) Close() { b.stop() }

// Tab is one page.
type Tab struct {
	ctx   context.Context
	stop  func()
	wait  time.Duration
	notes *notes
}

// Tab opens a new tab of 1280 by 800 pixels.
func (b *Browser) Tab() (*Tab, error) {
	// In a window of its own: tabs behind another one are not drawn.
	var id target.ID
	if err := chromedp.Run(b.ctx, chromedp.ActionFunc(func(ctx context.Context) (err error) {
		c := chromedp.FromContext(ctx)
		id, err = target.CreateTarget("about:blank").WithNewWindow(true).Do(cdp.WithExecutor(ctx, c.Browser))
		return err
	})); err != nil {
		return nil, fmt.Errorf("opening a window: %w", err)
	}
	ctx, stop := chromedp.NewContext(b.ctx, chromedp.WithTargetID(id))
	t := &Tab{ctx: ctx, stop: stop, wait: 15 * time.Second, notes: &notes{}}
	chromedp.ListenTarget(ctx, t.notes.hear)
	if err := chromedp.Run(ctx); err != nil { // the tab lives as long as this context
		stop()
		return nil, fmt.Errorf("opening a tab: %w", err)
	}
	if err := t.Do(runtime.Enable(), emulation.SetDeviceMetricsOverride(1280, 800, 1, false),
		emulation.SetFocusEmulationEnabled(true)); err != nil {
		stop()
		return nil, err
	}
	return t, nil
}

// Close closes the tab.
func (t *Tab) Close() { t.stop() }

// Do runs actions of chromedp, for at most the tab's patience.
func (t *Tab) Do(actions ...chromedp.Action) error {
	ctx, stop := context.WithTimeout(t.ctx, t.wait)
	defer stop()
	return chromedp.Run(ctx, actions...)
}

// Go opens an address.
func (t *Tab) Go(url string) error {
	return t.Do(chromedp.ActionFunc(func(ctx context.Context) error {
		_, _, failed, _, err := page.Navigate(url).Do(ctx)
		if err == nil && failed != "" {
			err = fmt.Errorf("opening %s: %s", url, failed)
		}
		return err
	}))
}

// Await waits until a JavaScript expression is true. It looks whenever the page
// draws, and gives what the page shows where it never is.
func (t *Tab) Await(expression string) error {
	ctx, stop := context.WithTimeout(t.ctx, t.wait)
	defer stop()
	var err error
	for again := true; again; { // a page that goes elsewhere takes what waits in it along
		err = chromedp.Run(ctx, chromedp.Poll(`(() => { try { return !!(`+expression+
			`) } catch { return false } })()`, nil,
			chromedp.WithPollingInterval(20*time.Millisecond), chromedp.WithPollingTimeout(0)))
		again = err != nil && ctx.Err() == nil && (strings.Contains(err.Error(), "navigated") ||
			strings.Contains(err.Error(), "context"))
	}
	if err != nil {
		var text string
		_ = t.Do(chromedp.Evaluate(`location.href + "\n" + document.body.innerText.slice(0, 3000)`, &text))
		return fmt.Errorf("waiting for %s: %w; the page shows:\n%s", expression, err, text)
	}
	return nil
}

// See waits until the page shows a text.
func (t *Tab) See(text string) error {
	return t.Await(fmt.Sprintf(`document.body.innerText.includes(%q)`, text))
}

// Ask evaluates an expression, which may await something.
func (t *Tab) Ask(expression string, into any) error {
	if into == nil {
		into = new([]byte) // whatever it is
	}
	return t.Do(chromedp.Evaluate("(async () => ("+expression+"))()", into, promised))
}

// Run runs a script in the page.
func (t *Tab) Run(script string) error { return t.Do(chromedp.Evaluate(script+"\n;true", nil)) }

// control finds what a person would call by that name: a button, link, field, tab,
// option or menu item with that accessible name or text. Where a dialog is open, it
// is in there.
const control = `((name) => {
  const all = [...(document.querySelector("[role=dialog]") || document).querySelectorAll("button, a, input, summary, label, [role=tab], [role=menuitem], [role=option], [role=combobox], [role=switch], [role=checkbox], [role=gridcell], [role=treeitem]")];
  const say = (e) => (e.getAttribute("aria-label") || e.innerText || "").trim().replace(/\s+/g, " ");
  const seen = all.filter((e) => e.getClientRects().length > 0);
  return seen.find((e) => say(e) === name) || seen.find((e) => say(e).startsWith(name)) || seen.find((e) => say(e).includes(name));
})`

// Click presses the control of that name with the pointer, once it is there.
func (t *Tab) Click(name string) error {
	if err := t.Await(fmt.Sprintf(`%s(%q)`, control, name)); err != nil {
		return err
	}
	var at struct{ X, Y float64 }
	// As a person does, it waits until the control stands still.
	still := fmt.Sprintf(`(async () => {
		const frame = () => new Promise((r) => requestAnimationFrame(r));
		let before = "";
		for (let same = 0; ; await frame()) {
			const e = %s(%q);
			if (!e) { same = 0; continue; }
			e.scrollIntoView({block: "nearest", inline: "nearest"});
			const r = e.getBoundingClientRect(), now = [r.x, r.y, r.width].join();
			same = now === before ? same + 1 : 0;
			before = now;
			if (same >= 3) return {X: r.x + r.width / 2, Y: r.y + r.height / 2};
		}
	})()`, control, name)
	if err := t.Do(chromedp.Evaluate(still, &at, promised)); err != nil {
		return fmt.Errorf("pressing %q: %w", name, err)
	}
	return t.Do(chromedp.MouseClickXY(at.X, at.Y))
}

// Promised has an evaluation wait for what it promises.
func Promised(p *runtime.EvaluateParams) *runtime.EvaluateParams { return promised(p) }

func promised(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

// Point moves the pointer.
func (t *Tab) Point(x, y float64) error {
	return t.Do(input.DispatchMouseEvent(input.MouseMoved, x, y))
}

// Key presses a key by its name, as in KeyboardEvent.key: Enter, Tab, ArrowDown.
func (t *Tab) Key(name string) error {
	keys := map[string]string{"Enter": kb.Enter, "Tab": kb.Tab, "Escape": kb.Escape, "ArrowDown": kb.ArrowDown,
		"ArrowUp": kb.ArrowUp, "ArrowLeft": kb.ArrowLeft, "ArrowRight": kb.ArrowRight, "Home": kb.Home, "End": kb.End}
	k, ok := keys[name]
	if !ok {
		return fmt.Errorf("there is no key %q", name)
	}
	return t.Press(k)
}

// Press types characters. A key that the page keeps for itself types nothing, as
// on a keyboard.
func (t *Tab) Press(keys string) error {
	return t.Do(chromedp.ActionFunc(func(ctx context.Context) error {
		for _, r := range keys {
			for _, k := range kb.Encode(r) {
				switch k.Type {
				case input.KeyChar:
					continue // told with the key itself
				case input.KeyRawDown, input.KeyDown:
					k.Type = input.KeyDown
					if r >= ' ' && r < 0x7f || r == '\r' {
						k.Text = string(r)
					}
				}
				if err := k.Do(ctx); err != nil {
					return err
				}
			}
		}
		return nil
	}))
}

// Control presses a key, by its name as in KeyboardEvent.key, while Ctrl is held.
func (t *Tab) Control(key string) error {
	code, which := "Key"+strings.ToUpper(key), int64(0)
	if len(key) == 1 {
		which = int64(strings.ToUpper(key)[0])
	} else {
		code, which = key, 13
	}
	press := func(kind input.KeyType) *input.DispatchKeyEventParams {
		return input.DispatchKeyEvent(kind).WithModifiers(input.ModifierCtrl).WithKey(key).WithCode(code).
			WithWindowsVirtualKeyCode(which)
	}
	return t.Do(press(input.KeyRawDown), press(input.KeyUp))
}

// Insert writes a text where the cursor is, as pasting does.
func (t *Tab) Insert(text string) error { return t.Do(input.InsertText(text)) }

// Picture takes a PNG of what is to be seen, once fonts are there.
func (t *Tab) Picture() ([]byte, error) {
	var png []byte
	err := t.Do(chromedp.Evaluate(`document.fonts.ready.then(() => true)`, nil, promised),
		chromedp.ActionFunc(func(ctx context.Context) (err error) {
			png, err = page.CaptureScreenshot().WithFormat(page.CaptureScreenshotFormatPng).Do(ctx)
			return err
		}))
	return png, err
}

// Sized shows the page in a window of that size, in CSS pixels.
func (t *Tab) Sized(width, height int64) error { return t.Do(chromedp.EmulateViewport(width, height)) }

// Theme turns to "night" or "day", now and for pages to come.
func (t *Tab) Theme(name string) error {
	return t.Do(chromedp.Evaluate(fmt.Sprintf(`localStorage.setItem("yamato.theme", %q); document.documentElement.dataset.theme = %q; true`, name, name), nil))
}

// Drop drops files on the page, as one does from a folder.
func (t *Tab) Drop(paths ...string) error {
	at := func(kind input.DispatchDragEventType) chromedp.Action {
		return input.DispatchDragEvent(kind, 600, 400, &input.DragData{Items: []*input.DragDataItem{}, Files: paths,
			DragOperationsMask: 1})
	}
	if err := t.Do(at(input.DragEnter), at(input.DragOver)); err != nil {
		return err
	}
	// A drop counts where the page has taken the drag; it has once it draws again.
	if err := t.Do(chromedp.Evaluate(`new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(() => r(true))))`, nil, promised)); err != nil {
		return err
	}
	return t.Do(at(input.DragOver), at(input.Drop))
}

// Patience sets how long the tab waits for what it awaits.
func (t *Tab) Patience(d time.Duration) { t.wait = d }

// Troubles are what the page wrote to its console as errors, and what it threw.
func (t *Tab) Troubles() []string { return t.notes.list() }

// Context is the tab's, for what is measured.
func (t *Tab) Context() context.Context { return t.ctx }

func join(args []*runtime.RemoteObject) string {
	var parts []string
	for _, a := range args {
		if a.Description != "" {
			parts = append(parts, a.Description)
		} else {
			parts = append(parts, string(a.Value))
		}
	}
	return strings.Join(parts, " ")
}
