package handset

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/png"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/storage"
	"github.com/chromedp/cdproto/target"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/host/handset/origin"
)

// Config describes one handset.
type Config struct {
	Device  fleet.Device
	Density float64  // pixels a dp, 2 where 0
	Reach   []string // hosts that apps may reach, beside their own origin
}

// Device is one handset. It keeps to the contract of driver.Device.
type Device struct {
	config  Config
	browser *Browser
	born    time.Time
	caps    []string

	up      bool
	running *running
	context cdp.BrowserContextID
	proxy   *origin.Proxy
	tab     *tab // what is in front: an app, or nothing
	front   string
	away    bool
	apps    map[string]*installed
	bootLog []device.LogLine

	moment   string // of the document that was read last
	inPage   uint64 // its revision
	seed     uint64
	zoom     float64 // dp a CSS pixel of the page: less than 1 where it is laid out wider than the screen
	revision uint64
	tree     *screen.Tree
	surroundings

	asked *page.EventJavascriptDialogOpening // the dialog that is shown, nil for none
	entry string                             // what is in its field

	logs  logs
	calls calls
}

// installed is an app on the handset.
type installed struct {
	app    driver.App
	bundle *origin.Bundle
	origin string
	host   string
	used   bool // it has been started since it was put there, so that it may have data
	stale  bool // it was put there in place of another that has data
}

// surroundings are what the handset feels.
type surroundings struct {
	language string
	across   bool
	dark     bool
	zone     string
	text     int
	place    *device.Place
	network  device.Network
	answers  map[[2]string]string
}

var _ driver.Device = (*Device)(nil)
var _ device.Virtual = (*Device)(nil)

// New gives a handset that is switched off.
func New(c Config, b *Browser) *Device {
	if c.Density <= 0 {
		c.Density = 2
	}
	b.use()
	d := &Device{config: c, browser: b, born: time.Now(), apps: map[string]*installed{}, revision: 1}
	d.surroundings = usual()
	d.caps = append([]string{"back", "tree"}, device.Names(d)...)
	d.config.Device.Abilities = d.caps
	return d
}

func usual() surroundings {
	return surroundings{language: "en-GB", text: 100, answers: map[[2]string]string{}}
}

// Describe tells what the device is.
func (d *Device) Describe() fleet.Device { return d.config.Device }

// Abilities are what the device can do beyond the required core.
func (d *Device) Abilities() []string { return d.caps }

// Now is the device's clock: the wall's, since it was made.
func (d *Device) Now() time.Duration { return time.Since(d.born) }

// Up tells whether the handset is switched on.
func (d *Device) Up() bool { return d.up }

// BootLog gives what the last boot wrote.
func (d *Device) BootLog() []device.LogLine { return d.bootLog }

// Boot gives the handset a context in the browser.
func (d *Device) Boot(ctx context.Context, limit time.Duration, _ bool) error {
	if d.up && d.lost() == nil {
		return nil
	}
	ctx, stop := context.WithTimeoutCause(ctx, max(limit, time.Second), fmt.Errorf("it was not up within %s", limit))
	defer stop()
	d.drop()
	d.bootLog = nil
	r, err := d.browser.up(ctx)
	if err != nil {
		return err
	}
	d.boots("info", "the browser is Chromium "+r.version)
	if !r.sandbox {
		d.boots("warn", "it runs without its sandbox, because the host runs as root")
	}
	if d.proxy, err = origin.OpenProxy(d.config.Reach, d.refused); err != nil {
		return err
	}
	d.context, err = target.CreateBrowserContext().WithDisposeOnDetach(true).WithProxyServer("http://" + d.proxy.Address()).
		WithProxyBypassList("<-loopback>").Do(r.on(ctx))
	if err == nil {
		err = browser.SetDownloadBehavior(browser.SetDownloadBehaviorBehaviorDeny).WithBrowserContextID(d.context).Do(r.on(ctx))
	}
	if err != nil {
		d.drop()
		return lost(err)
	}
	d.running, d.up = r, true
	for _, i := range d.apps {
		d.proxy.Serve(i.host, i.bundle)
		i.used = false
	}
	d.boots("info", fmt.Sprintf("a screen of %d by %d dp, %g pixels a dp", d.config.Device.Width, d.config.Device.Height,
		d.config.Density))
	d.render()
	return nil
}

func (d *Device) boots(level, text string) {
	d.bootLog = append(d.bootLog, device.LogLine{AtMS: d.Now().Milliseconds(), Level: level, Tag: "boot", Text: text})
}

// refused notes that an app was kept from a host. It is called by the proxy.
func (d *Device) refused(host string) {
	d.logs.write(d.Now(), "", "warn", "network", "an app may not reach "+short(host)+", which the site file does not name")
}

// lost tells why the handset has lost its browser, nil while it has it.
func (d *Device) lost() error {
	if d.running == nil {
		return errOff
	}
	select {
	case <-d.running.gone:
		return lost(errGone)
	default:
		return nil
	}
}

var errOff = &device.Trouble{Why: "the handset is switched off", Remedy: "boot it"}

// drop takes away all that the handset has in the browser: its page, its context with
// everything that was stored, its proxy.
func (d *Device) drop() {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	if d.tab != nil {
		d.tab.close(ctx)
	}
	if d.running != nil && d.context != "" {
		_ = target.DisposeBrowserContext(d.context).Do(d.running.on(ctx))
	}
	if d.proxy != nil {
		_ = d.proxy.Close()
	}
	d.tab, d.front, d.away, d.context, d.proxy, d.running, d.up = nil, "", false, "", nil, nil, false
}

// Halt switches the handset off. What apps have stored is gone with that.
func (d *Device) Halt(context.Context) error {
	d.drop()
	d.render()
	return nil
}

// Empty puts the handset back to how it was made, switched off.
func (d *Device) Empty(ctx context.Context) error {
	if err := d.Halt(ctx); err != nil {
		return err
	}
	return d.removeAll()
}

func (d *Device) removeAll() (err error) {
	for id, i := range d.apps {
		if i.bundle != nil {
			err = errors.Join(err, i.bundle.Close())
		}
		delete(d.apps, id)
	}
	d.surroundings = usual()
	return err
}

// Close lets go of the handset.
func (d *Device) Close() error {
	d.drop()
	err := d.removeAll()
	d.browser.done()
	return err
}

// Ready has the handset up, with nothing in front.
func (d *Device) Ready(ctx context.Context, s driver.Surroundings) error {
	if err := d.Boot(ctx, time.Minute, false); err != nil {
		return err
	}
	if s.Language != "" {
		d.language = s.Language
	}
	d.goHome(ctx)
	return nil
}

func (d *Device) goHome(ctx context.Context) {
	if d.tab != nil {
		d.tab.close(ctx)
	}
	d.tab, d.front, d.away = nil, "", false
	d.render()
}

// Install puts a web bundle on the handset, or an app at an address. In place of another of
// the same id it keeps what that has stored.
func (d *Device) Install(ctx context.Context, app driver.App) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	p := app.Package
	if p.Platform != "web" {
		return fmt.Errorf("%s is %s; a handset runs web bundles", p.ApplicationID, appfile.KindName(p.Kind))
	}
	before := d.apps[p.ApplicationID]
	if before != nil && before.app.Path == app.Path {
		return nil
	}
	b, err := origin.OpenBundle(app.Path, p.Launch)
	if err != nil {
		return err
	}
	i := &installed{app: app, bundle: b}
	i.origin, i.host = origin.Of(p.ApplicationID)
	if before != nil {
		i.stale = before.used || before.stale
		if d.front == p.ApplicationID {
			d.goHome(ctx)
		}
		if err := before.bundle.Close(); err != nil {
			return errors.Join(err, b.Close())
		}
	}
	d.apps[p.ApplicationID] = i
	d.proxy.Serve(i.host, b)
	d.logs.write(d.Now(), "", "info", "packages", p.ApplicationID+" "+p.VersionName+" installed")
	return nil
}

// reach is called before anything is done to the handset: it is up, and the browser is there.
func (d *Device) reach(ctx context.Context) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if !d.up {
		return errOff
	}
	return d.lost()
}

// loadTime is how long an app's first page may take.
const loadTime = 60 * time.Second

// Start starts an app, or brings it to the front.
func (d *Device) Start(ctx context.Context, app string, how device.Start) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	if how == device.Resume && d.front == app && d.tab.alive() == nil {
		return d.comeBack(ctx)
	}
	d.goHome(ctx)
	t, err := d.open(ctx, app)
	if err != nil {
		return lost(err)
	}
	if how == device.Fresh {
		if err := storage.ClearDataForOrigin(i.origin, "all").Do(t.on(ctx)); err != nil {
			t.close(ctx)
			return lost(err)
		}
		i.stale = false
	}
	d.tab, d.front, d.away, i.used = t, app, false, true
	d.render()
	d.logs.write(d.Now(), app, "info", "activity", "start "+app)
	if err := d.visit(ctx, i.origin+i.bundle.Start); err != nil {
		return err
	}
	if i.stale {
		i.stale = false
		return d.takeOver(ctx, i)
	}
	return nil
}

// open gives a page that feels what the handset feels.
func (d *Device) open(ctx context.Context, app string) (*tab, error) {
	t, err := openTab(ctx, d.running, d.context, events{
		logged: func(level, tag, text string) { d.logs.write(d.Now(), app, level, tag, text) },
		called: func(method string, params jsontextValue) { d.calls.heard(d.Now(), method, params) },
	})
	if err != nil {
		return nil, err
	}
	if err := d.feel(ctx, t); err != nil {
		t.close(ctx)
		return nil, err
	}
	return t, nil
}

// visit goes to an address and waits until there is a document.
func (d *Device) visit(ctx context.Context, address string) error {
	ctx, stop := context.WithTimeoutCause(ctx, loadTime, &device.Crash{Reason: "its start page did not come within " +
		loadTime.String()})
	defer stop()
	_, _, problem, _, err := page.Navigate(address).Do(d.tab.on(ctx))
	if err != nil {
		if crash := d.tab.alive(); crash != nil {
			return crash
		}
		return lost(err)
	}
	if problem != "" {
		return &device.Crash{Reason: "its start page cannot be opened: " + problem, Report: short(address)}
	}
	return d.loaded(ctx)
}

// loaded waits until the document is all there; one that never is, for a while only.
func (d *Device) loaded(ctx context.Context) error {
	for end := time.Now().Add(loadTime / 6); ; {
		state, err := d.tab.ask(ctx, "document.readyState")
		if errors.Is(err, errDialog) || state == "complete" || err == nil && !time.Now().Before(end) {
			return nil
		}
		if err != nil {
			return err
		}
		if err := d.tab.await(ctx, end); err != nil {
			return err
		}
	}
}

// Stop ends an app, and shows nothing where that was in front.
func (d *Device) Stop(ctx context.Context, app string) error {
	if d.front == app && app != "" {
		d.goHome(ctx)
	}
	return nil
}

// Clean undoes what a lease did. Whatever apps have stored goes with the context that they
// stored it in.
func (d *Device) Clean(ctx context.Context, level driver.Cleaning, apps ...string) error {
	d.logs.forget()
	d.calls.forget()
	if level == driver.CleanNothing {
		d.goHome(ctx)
		d.surroundings = usual()
		return nil
	}
	was := d.up
	d.drop()
	if err := d.removeAll(); err != nil {
		return err
	}
	d.render()
	if was && level == driver.CleanApp {
		return d.Boot(ctx, time.Minute, false)
	}
	return nil
}

func (d *Device) render() { d.revision, d.tree, d.moment = d.revision+1, nil, "" }

// Tree is what is on the screen now.
func (d *Device) Tree(ctx context.Context) (*screen.Tree, error) {
	if err := d.reach(ctx); err != nil {
		return nil, err
	}
	if d.tab == nil || d.away {
		return d.home(), nil
	}
	if asked := d.tab.asked(); asked != nil {
		return d.asking(asked), nil
	}
	text, err := d.tab.ask(ctx, "yamatoLook("+afresh(d.tree == nil)+")")
	if errors.Is(err, errDialog) {
		return d.Tree(ctx)
	}
	if err != nil {
		return nil, err
	}
	tree, wants, err := d.read(text)
	if err != nil || !wants {
		return tree, err
	}
	// From here on the browser keeps its accessibility tree, and is asked for roles and names.
	if err := accessibility.Enable().Do(d.tab.on(ctx)); err != nil {
		return nil, lost(err)
	}
	if _, err := accessibility.GetRootAXNode().Do(d.tab.on(ctx)); err != nil { // it is made when it is first looked at
		return nil, lost(err)
	}
	d.tree, d.moment = nil, ""
	if text, err = d.tab.ask(ctx, "yamatoAsks() + yamatoLook(true)"); errors.Is(err, errDialog) {
		return d.Tree(ctx)
	} else if err != nil {
		return nil, err
	}
	tree, _, err = d.read(text)
	return tree, err
}

func afresh(yes bool) string {
	if yes {
		return "true"
	}
	return ""
}

func (d *Device) width() (float64, float64) {
	w, h := float64(d.config.Device.Width), float64(d.config.Device.Height)
	if d.across {
		return h, w
	}
	return w, h
}

func (d *Device) newTree(app string) *screen.Tree {
	w, h := d.width()
	return &screen.Tree{Width: w, Height: h, Revision: d.revision, App: app, Language: d.language,
		Root: &screen.Node{Role: "application", Bounds: screen.Rect{W: w, H: h}, Visible: screen.Rect{W: w, H: h}}}
}

// home is the screen with no app in front.
func (d *Device) home() *screen.Tree {
	if d.tree == nil {
		d.tree = d.newTree("")
		d.tree.Root.Name = "Home"
	}
	return d.tree
}

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
	if err := d.tab.alive(); err != nil {
		return err
	}
	at = d.inPixels(at)
	done, err := d.tab.begin("yamatoTapped()")
	if err != nil {
		return err
	}
	return d.do(ctx, func(ctx context.Context) error {
		err := input.DispatchTouchEvent(input.TouchStart, []*input.TouchPoint{{X: at.X, Y: at.Y}}).Do(ctx)
		if err == nil {
			err = input.DispatchTouchEvent(input.TouchEnd, []*input.TouchPoint{}).Do(ctx)
		}
		if err != nil {
			return err
		}
		select { // what the touch does to the page is done
		case <-done:
		case <-d.tab.gone:
			return errGone
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		return nil
	})
}

// inPixels gives a place in the page's CSS pixels, in which the browser takes input.
func (d *Device) inPixels(p screen.Point) screen.Point {
	zoom := d.zoom
	if zoom <= 0 {
		zoom = 1
	}
	return screen.Point{X: p.X / zoom, Y: p.Y / zoom}
}

// do sends input to the page. A page that does not answer to it has stopped answering; a
// dialog that comes up meanwhile keeps the answer back, and the input has arrived all the same.
func (d *Device) do(ctx context.Context, what func(context.Context) error) error {
	t := d.tab
	inner, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var over sync.WaitGroup
	done := make(chan error, 1)
	over.Go(func() { done <- what(t.on(inner)) })
	defer over.Wait()
	end := time.NewTimer(patience)
	defer end.Stop()
	for {
		select {
		case err := <-done:
			if err != nil && ctx.Err() == nil {
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
	return d.do(ctx, func(ctx context.Context) error { return input.InsertText(text).Do(ctx) })
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
			return d.tab.answer(ctx, false, "")
		}
		at, entries, err := page.GetNavigationHistory().Do(d.tab.on(ctx))
		if err != nil {
			return lost(err)
		}
		if i := d.apps[d.front]; i != nil && at > 0 && strings.HasPrefix(entries[at-1].URL, i.origin) {
			return lost(page.NavigateToHistoryEntry(entries[at-1].ID).Do(d.tab.on(ctx)))
		}
	}
	return d.SendAway(ctx)
}

// AwaitChange returns when the screen's revision is past the given one, or at until.
func (d *Device) AwaitChange(ctx context.Context, revision uint64, until time.Duration) error {
	end := d.born.Add(until)
	for {
		t, err := d.Tree(ctx)
		if err != nil {
			return err
		}
		if t.Revision > revision || !time.Now().Before(end) {
			return nil
		}
		next := time.Now().Add(lookEvery) // what moves without a word of it is seen by looking
		if end.Before(next) {
			next = end
		}
		if d.tab == nil || d.away {
			err = pause(ctx, d.running.gone, end)
		} else {
			err = d.tab.await(ctx, next)
		}
		if err != nil {
			return err
		}
	}
}

// lookEvery is how often the screen is looked at while nothing tells of a change.
const lookEvery = 250 * time.Millisecond

// pause waits until then: with nothing in front nothing changes.
func pause(ctx context.Context, gone <-chan struct{}, until time.Time) error {
	end := time.NewTimer(time.Until(until))
	defer end.Stop()
	select {
	case <-end.C:
		return nil
	case <-gone:
		return lost(errGone)
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// picture is a screen as the browser has drawn it.
type picture struct{ data []byte }

func (p picture) Image() (image.Image, error) { return png.Decode(bytes.NewReader(p.data)) }

// Picture is the screen as a person sees it now, at one pixel a dp.
func (d *Device) Picture(ctx context.Context) (device.Picture, error) {
	if err := d.reach(ctx); err != nil {
		return nil, err
	}
	w, h := d.width()
	if d.tab == nil || d.away {
		return blank{int(w), int(h), nil}, nil
	}
	if asked := d.tab.asked(); asked != nil {
		return blank{int(w), int(h), d.asking(asked)}, nil
	}
	if err := d.tab.alive(); err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeoutCause(ctx, patience, errors.New("the browser drew nothing within "+patience.String()))
	defer stop()
	zoom := d.zoom
	if zoom <= 0 {
		zoom = 1
	}
	data, err := page.CaptureScreenshot().WithFormat(page.CaptureScreenshotFormatPng).WithOptimizeForSpeed(true).
		WithClip(&page.Viewport{Width: w / zoom, Height: h / zoom, Scale: zoom / d.config.Density}).Do(d.tab.on(ctx))
	if err != nil {
		if crash := d.tab.alive(); crash != nil {
			return nil, crash
		}
		return nil, lost(err)
	}
	return picture{data}, nil
}

// feel makes a page feel what the handset feels.
func (d *Device) feel(ctx context.Context, t *tab) error {
	w, h := d.width()
	on := t.on(ctx)
	return errors.Join(t.screen(ctx, int(w), int(h), d.config.Density, d.across),
		emulation.SetTouchEmulationEnabled(true).WithMaxTouchPoints(5).Do(on),
		emulation.SetFocusEmulationEnabled(true).Do(on),
		d.speak(ctx, t), d.dress(ctx, t), d.tell(ctx, t), d.stand(ctx, t), d.wire(ctx, t), d.enlarge(ctx, t), d.be(ctx, t))
}

// read makes a tree of what look.js found.
func (d *Device) read(text string) (tree *screen.Tree, wants bool, err error) {
	var in struct {
		Moment   string            `json:"moment"`
		Revision uint64            `json:"revision"`
		Busy     bool              `json:"busy"`
		Same     bool              `json:"same"`
		Wants    bool              `json:"wants"`
		Zoom     float64           `json:"zoom"`
		Title    string            `json:"title"`
		Elements []json.RawMessage `json:"elements"`
	}
	if err := json.Unmarshal([]byte(text), &in); err != nil {
		return nil, false, fmt.Errorf("the screen cannot be read: %w", err)
	}
	busy := in.Busy || d.tab.busy()
	if in.Same && d.tree != nil && in.Moment == d.moment && in.Revision == d.inPage {
		if d.tree.Busy != busy {
			next := *d.tree
			d.revision++
			next.Busy, next.Revision = busy, d.revision
			d.tree = &next
		}
		return d.tree, in.Wants, nil
	}
	d.revision++
	d.moment, d.inPage = in.Moment, in.Revision
	if d.zoom = in.Zoom; d.zoom <= 0 {
		d.zoom = 1
	}
	t := d.newTree(d.front)
	t.Busy = busy
	t.Root.Name = plain.Text(in.Title, 500)
	path := []*screen.Node{t.Root}
	for _, raw := range in.Elements {
		n, depth, err := node(raw)
		if err != nil {
			return nil, false, fmt.Errorf("the screen cannot be read: %w", err)
		}
		depth = max(1, min(depth, len(path)))
		path = path[:depth]
		parent := path[depth-1]
		parent.Children = append(parent.Children, n)
		path = append(path, n)
	}
	d.tree = t
	return t, in.Wants, nil
}

func node(raw json.RawMessage) (*screen.Node, int, error) {
	var depth, flags int
	n := &screen.Node{}
	b, v := &n.Bounds, &n.Visible
	err := json.Unmarshal(raw, &[]any{&depth, &n.Role, &n.ID, &n.Name, &n.Text, &n.Value, &b.X, &b.Y, &b.W, &b.H, &v.X,
		&v.Y, &v.W, &v.H, &flags, &n.Checked})
	n.Disabled, n.Focused, n.Selected, n.Busy = flags&1 != 0, flags&2 != 0, flags&4 != 0, flags&8 != 0
	n.Opaque, n.Touch = flags&16 != 0, flags&32 != 0
	for _, s := range []*string{&n.Role, &n.ID, &n.Name, &n.Text, &n.Value} {
		*s = plain.Text(*s, 8000)
	}
	return n, depth, err
}

// originHost gives host and port of an address.
func originHost(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Host
}
