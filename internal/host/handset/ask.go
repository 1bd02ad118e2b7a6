package handset

import (
	"context"
	"slices"
	"strings"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/inpage"
	"yamato/internal/host/overlay"
)

// A permission that nobody has answered beforehand is a question on the screen. The page waits
// (ask.js); all else of it goes on behind the question.

const askBinding = "yamatoAsk"

// questioned are the permissions that ask.js tells of.
var questioned = []string{"location", "notifications", "camera", "microphone"}

// listenForAsking has a page tell what it is about to ask for.
func (t *tab) listenForAsking(ctx context.Context) error {
	if err := runtime.AddBinding(askBinding).Do(t.On(ctx)); err != nil {
		return err
	}
	_, err := page.AddScriptToEvaluateOnNewDocument(inpage.Ask).Do(t.On(ctx))
	return err
}

// wants notes that the page asks for a permission.
func (t *tab) wants(permission string) {
	if said, ok := strings.CutPrefix(permission, "said:"); ok {
		t.events.logged("info", "browser", plain.Text(said, 500))
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if text, ok := strings.CutPrefix(permission, "copied:"); ok {
		t.copied = &text
		return
	}
	if slices.Contains(questioned, permission) && !slices.Contains(t.questions, permission) {
		t.questions = append(t.questions, permission)
	}
}

// question is what the page asks for, "" for nothing.
func (t *tab) question() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.questions) == 0 {
		return ""
	}
	return t.questions[0]
}

// settled notes that a permission was answered.
func (t *tab) settled(permission string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.questions = slices.DeleteFunc(t.questions, func(q string) bool { return q == permission })
}

// over lays a question, if there is one, over the screen of the app in front.
func (d *Device) over(t *screen.Tree) *screen.Tree {
	q := d.tab.question()
	if q != d.questioned {
		d.questioned = q
		d.revision++
		next := *t
		next.Revision = d.revision
		d.tree, t = &next, &next
	}
	if q == "" {
		return t
	}
	next, root := *t, *t.Root
	root.Children = append(slices.Clone(root.Children), d.asks(q).Node(d.size()))
	next.Root = &root
	return &next
}

// asks is a question for a permission.
func (d *Device) asks(permission string) overlay.Question {
	name := d.front
	if i := d.apps[d.front]; i != nil && i.app.Package.Name != "" {
		name = plain.Text(i.app.Package.Name, 100)
	}
	return overlay.Question{App: name, Permission: permission}
}

// replied answers the question by what was touched.
func (d *Device) replied(ctx context.Context, permission string, at screen.Point) error {
	d.tree = nil
	answer := d.asks(permission).Touched(d.size(), at)
	if answer == "" {
		return nil
	}
	d.given[[2]string{d.front, permission}] = true
	return d.permit(ctx, d.front, permission, answer)
}

// settings are the answers as the browser calls them.
var settings = map[string]browser.PermissionSetting{device.Allow: browser.PermissionSettingGranted,
	device.Deny: browser.PermissionSettingDenied, device.Ask: browser.PermissionSettingPrompt}

// permit has the browser give or refuse an app a permission.
func (d *Device) permit(ctx context.Context, app, permission, answer string) error {
	room, err := d.room(ctx, app)
	if err != nil {
		return lost(err)
	}
	for _, n := range asked[permission] {
		if err := browser.SetPermission(&browser.PermissionDescriptor{Name: n, UserVisibleOnly: true},
			settings[answer]).
			WithOrigin(d.apps[app].origin).WithBrowserContextID(room).Do(d.running.On(ctx)); err != nil {
			return lost(err)
		}
	}
	if d.tab != nil && answer != device.Ask {
		d.tab.settled(permission)
	}
	return nil
}

// unasked has an app ask anew for what a person has answered on the screen, and for what nobody
// has answered yet.
func (d *Device) unasked(ctx context.Context, app string, fresh bool) error {
	for _, permission := range questioned {
		key := [2]string{app, permission}
		if a := d.answers[key]; a == device.Allow || a == device.Deny || d.given[key] && !fresh {
			continue
		}
		delete(d.given, key)
		if err := d.permit(ctx, app, permission, device.Ask); err != nil {
			return err
		}
	}
	return nil
}
