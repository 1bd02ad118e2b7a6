package remote

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/host/inpage"
	"yamato/internal/host/lines"
	"yamato/internal/host/origin"
	"yamato/internal/host/overlay"
	"yamato/internal/outside"
)

// Config describes one handset.
type Config struct {
	Device   fleet.Device
	Density  float64  // pixels a dp, where the engine has any but one
	Reach    []string // hosts that apps may reach, beside their own origin
	Overlook []string // requests that nobody waits for
	Cutout   string
}

// browserDevice is a handset whose browser is an engine. The types around it have the abilities of that engine.
type browserDevice struct {
	config Config
	engine engine
	what   string // the engine's name
	born   time.Time
	knows  bool // what a page's scripts have under way is known

	up      bool
	proxy   *origin.Proxy
	front   string
	heard   atomic.Pointer[string] // front, for those who tell of it
	away    bool
	apps    map[string]*installed
	bootLog []device.LogLine

	inpage.Document
	seen     string // the window whose document that is
	layout   int    // how wide its page is laid out, 0 for as wide as the screen is
	scrolled float64
	clip     string
	seed     uint64
	revision uint64
	tree     *screen.Tree
	looks    time.Duration
	feels

	shown *dialog // the dialog that the screen shows
	posed string  // what the screen asked for when it was looked at last

	logs lines.Log
	mu   sync.Mutex
	net  calls // guarded by mu
}

// installed is an app on the handset.
type installed struct {
	app    driver.App
	bundle *origin.Bundle
	start  string   // the address of its start page
	stays  *url.URL // where it stays, nil for a bundle
	origin string
	host   string
}

func usual(c Config) feels {
	return feels{language: feel.UsualLanguage, zone: "Europe/Lisbon", text: 100, answers: map[[2]string]string{},
		given: map[[2]string]bool{}, density: c.Density}
}

func newDevice(c Config, what string) *browserDevice {
	if c.Density <= 0 {
		c.Density = 2
	}
	return &browserDevice{config: c, what: what, born: time.Now(), apps: map[string]*installed{}, revision: 1, feels: usual(c)}
}

// tells hands an engine what it tells to.
func (d *browserDevice) tells() tells {
	return tells{
		logged: func(level, tag, text string) {
			app := ""
			if front := d.heard.Load(); front != nil {
				app = *front
			}
			d.logs.Write(d.Now(), app, level, tag, text)
		},
		began: func(id, _, _ string) {
			d.mu.Lock()
			defer d.mu.Unlock()
			d.net.begin(id, d.Now())
		},
		call: func(id string, c device.Call) {
			d.mu.Lock()
			defer d.mu.Unlock()
			d.net.end(id, d.Now(), c)
		},
	}
}

// Describe tells what the device is.
func (d *browserDevice) Describe() fleet.Device { return d.config.Device }

// Abilities are what the device can do beyond the required core.
func (d *browserDevice) Abilities() []string { return d.config.Device.Abilities }

// Now is the device's clock: the wall's, since it was made.
func (d *browserDevice) Now() time.Duration { return time.Since(d.born) }

// Up tells whether the handset is switched on.
func (d *browserDevice) Up() bool { return d.up }

// BootLog gives what the last boot wrote.
func (d *browserDevice) BootLog() []device.LogLine { return d.bootLog }

// Boot has the browser be there, and the handset's network.
func (d *browserDevice) Boot(ctx context.Context, limit time.Duration, _ bool) error {
	if d.up && d.engine.lost() == nil {
		return nil
	}
	ctx, stop := context.WithTimeoutCause(ctx, max(limit, time.Second), fmt.Errorf("it was not up within %s", limit))
	defer stop()
	d.drop()
	d.bootLog = nil
	proxy, err := origin.OpenProxy(d.config.Reach, d.refused)
	if err != nil {
		return err
	}
	version, err := d.engine.boot(ctx, proxy.Address())
	if err != nil {
		var t *device.Trouble
		if errors.As(err, &t) || ctx.Err() != nil {
			return errors.Join(err, proxy.Close())
		}
		return errors.Join(&device.Trouble{Why: "the browser cannot be started: " + err.Error(),
			Remedy: "start it by hand on the host, and see what it says"}, proxy.Close())
	}
	d.proxy, d.up = proxy, true
	d.watch(proxy)
	for _, i := range d.apps {
		i.reached(proxy, true)
	}
	d.boots("the browser is " + d.what + " " + version)
	d.boots(fmt.Sprintf("a screen of %d by %d dp", d.config.Device.Width, d.config.Device.Height))
	d.render()
	return nil
}

// watch has an engine that tells nothing of its network hear of it by the proxy.
func (d *browserDevice) watch(p *origin.Proxy) {
	w, ok := d.engine.(interface {
		began(*origin.Exchange)
		endedExchange(*origin.Exchange)
	})
	if ok {
		p.Watch(w.began, w.endedExchange)
	}
}

func (d *browserDevice) boots(text string) {
	d.bootLog = append(d.bootLog, device.LogLine{AtMS: d.Now().Milliseconds(), Level: "info", Tag: "boot", Text: text})
}

// refused notes that an app was kept from a host. It is called by the proxy.
func (d *browserDevice) refused(host string) {
	d.logs.Write(d.Now(), "", "warn", "network", "an app may not reach "+host+", which the site file does not name")
}

// drop takes away all that the handset has in the browser, and the browser.
func (d *browserDevice) drop() {
	d.engine.halt()
	if d.proxy != nil {
		_ = d.proxy.Close()
	}
	d.front, d.away, d.proxy, d.up = "", false, nil, false
}

// Halt switches the handset off. What apps have stored is gone with that.
func (d *browserDevice) Halt(context.Context) error {
	d.drop()
	d.render()
	return nil
}

// Empty puts the handset back to how it was made, switched off.
func (d *browserDevice) Empty(ctx context.Context) error {
	if err := d.Halt(ctx); err != nil {
		return err
	}
	return d.removeAll()
}

func (d *browserDevice) removeAll() (err error) {
	for id, i := range d.apps {
		err = errors.Join(err, i.bundle.Close())
		delete(d.apps, id)
	}
	d.feels, d.clip = usual(d.config), ""
	return err
}

// Close lets go of the handset.
func (d *browserDevice) Close() error {
	d.drop()
	return d.removeAll()
}

// Ready has the handset up, with nothing in front.
func (d *browserDevice) Ready(ctx context.Context, _ driver.Terms) error {
	if err := d.Boot(ctx, 2*startTime, false); err != nil {
		return err
	}
	d.goHome(ctx)
	return nil
}

func (d *browserDevice) goHome(ctx context.Context) {
	d.keepCopied()
	d.engine.shut(ctx)
	d.front, d.away = "", false
	d.render()
}

// Install puts a web bundle on the handset, or an app at an address. In place of another of the same id it keeps what
// that has stored.
func (d *browserDevice) Install(ctx context.Context, app driver.App) error {
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
	if w, ok := d.engine.(interface{ first(app string) string }); ok {
		b.Before = func() string { return w.first(p.ApplicationID) }
	}
	i := &installed{app: app, bundle: b}
	i.origin, i.host = origin.Of(p.ApplicationID)
	if i.start = i.origin + b.Start; p.AtAddress() {
		if i.stays, err = url.Parse(p.Launch); err != nil {
			return errors.Join(err, b.Close())
		}
		i.start, i.host, i.origin = p.Launch, i.stays.Host, i.stays.Scheme+"://"+i.stays.Host
	}
	if before != nil {
		if d.front == p.ApplicationID {
			d.goHome(ctx)
		}
		before.reached(d.proxy, false)
		if err := before.bundle.Close(); err != nil {
			return errors.Join(err, b.Close())
		}
	}
	d.apps[p.ApplicationID] = i
	i.reached(d.proxy, true)
	d.logs.Write(d.Now(), "", "info", "packages", p.ApplicationID+" "+p.VersionName+" installed")
	return nil
}

// reached has the app's own origin be reached through a proxy, or no more.
func (i *installed) reached(p *origin.Proxy, yes bool) {
	switch {
	case i.stays != nil:
		p.Own(i.stays, yes)
	case yes:
		p.Serve(i.host, i.bundle)
	default:
		p.Serve(i.host, nil)
	}
}

// Remove takes an app off the handset, with all that it keeps.
func (d *browserDevice) Remove(ctx context.Context, app string) error {
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	if err := d.Stop(ctx, app); err != nil {
		return err
	}
	if err := d.engine.forget(ctx, app); err != nil {
		return err
	}
	i.reached(d.proxy, false)
	delete(d.apps, app)
	return i.bundle.Close()
}

var errOff = &device.Trouble{Why: "the handset is switched off", Remedy: "boot it"}

// reach is called before anything is done to the handset: it is up, and the browser is there.
func (d *browserDevice) reach(ctx context.Context) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if !d.up {
		return errOff
	}
	return d.engine.lost()
}

// page is an app as its engine opens it.
func (d *browserDevice) page(i *installed) appPage {
	mode := i.bundle.Facts.Display
	if !slices.Contains([]string{"fullscreen", "standalone", "minimal-ui"}, mode) {
		mode = "browser" // the default, and what is not known
	}
	script := fmt.Sprintf(inpage.Displayed, mode)
	if d.seed != 0 {
		script += fmt.Sprintf(inpage.Chance, uint32(d.seed), uint32(d.seed>>32))
	}
	return appPage{id: i.app.Package.ApplicationID, origin: i.origin, script: script, clip: d.clip}
}

// Start starts an app, or brings it to the front.
func (d *browserDevice) Start(ctx context.Context, app string, how device.Start) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	if how == device.Resume && d.front == app && d.engine.alive() == nil {
		return d.comeBack(ctx)
	}
	if q, ok := d.engine.(interface{ quit(context.Context) }); ok && how == device.Fresh && d.front == app {
		q.quit(ctx)
	}
	d.goHome(ctx)
	if err := d.reaches(ctx, i); err != nil {
		return err
	}
	d.mu.Lock()
	d.net.total = 0
	d.mu.Unlock()
	if err := d.openAt(ctx, i, how == device.Fresh, i.start); err != nil {
		return err
	}
	d.logs.Write(d.Now(), app, "info", "activity", "start "+app)
	return nil
}

// openAt opens an app at an address, in a page that feels what the handset feels.
func (d *browserDevice) openAt(ctx context.Context, i *installed, fresh bool, address string) error {
	d.layout = 0
	d.lie()
	app := i.app.Package.ApplicationID
	page := d.page(i)
	if err := d.engine.open(ctx, page, fresh, &d.feels); err != nil {
		d.engine.shut(ctx)
		return err
	}
	d.front, d.away, d.posed = app, false, ""
	d.heard.Store(&app)
	d.render()
	if err := d.unasked(ctx, page, fresh); err != nil {
		return err
	}
	return d.engine.visit(ctx, address)
}

// reaches tells why an app that stays at an address cannot be opened there: that is the site's trouble.
func (d *browserDevice) reaches(ctx context.Context, i *installed) error {
	if i.stays == nil || d.network.None {
		return nil
	}
	err := d.proxy.Reaches(ctx, i.stays)
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case errors.Is(err, outside.ErrPrivate):
		return errors.New("the app is at " + i.host + ", which leads to a private or loopback address; to mend it: name " +
			i.host + " under reach of the handset in the site file")
	}
	return &device.Trouble{Why: "the app's address does not answer: " + err.Error(),
		Remedy: "check from the host's machine that " + i.origin + " answers"}
}

// Stop ends an app, and shows nothing where that was in front.
func (d *browserDevice) Stop(ctx context.Context, app string) error {
	if d.front == app && app != "" {
		d.goHome(ctx)
	}
	return nil
}

// Clean undoes what a lease did.
func (d *browserDevice) Clean(ctx context.Context, level driver.Cleaning, _ ...string) error {
	d.logs.Forget()
	d.mu.Lock()
	d.net.forget()
	d.mu.Unlock()
	if level == driver.CleanNothing {
		d.goHome(ctx)
		d.feels, d.clip = usual(d.config), ""
		return nil
	}
	if level == driver.CleanApp && d.up && d.engine.lost() == nil {
		d.goHome(ctx)
		for id, i := range d.apps {
			if err := d.engine.forget(ctx, id); err != nil {
				d.drop() // what cannot be taken away goes with the browser
				break
			}
			i.reached(d.proxy, false)
		}
		return d.removeAll()
	}
	was := d.up
	d.drop()
	if err := d.removeAll(); err != nil {
		return err
	}
	d.render()
	if was && level == driver.CleanApp {
		return d.Boot(ctx, 2*startTime, false)
	}
	return nil
}

// render has the screen be read as a whole when it is looked at next.
func (d *browserDevice) render() {
	d.revision, d.tree = d.revision+1, nil
	d.Forget()
}

// size is the screen's, as it is held.
func (d *browserDevice) size() (width, height int) {
	if d.across {
		return d.config.Device.Height, d.config.Device.Width
	}
	return d.config.Device.Width, d.config.Device.Height
}

// lie has the page be as wide as it is to be laid out; a phone shows it smaller, so that all of its width is seen.
func (d *browserDevice) lie() {
	w, h := d.size()
	d.width, d.height, d.density = w, h, d.config.Density
	if d.layout > w {
		d.width, d.height, d.density = d.layout, int(math.Round(float64(h)*float64(d.layout)/float64(w))), d.config.Density*float64(w)/float64(d.layout)
	}
}

// scale is how many dp a CSS pixel of the page takes by the way that it lies.
func (d *browserDevice) scale() float64 {
	w, _ := d.size()
	if d.layout <= w {
		return 1
	}
	return float64(w) / float64(d.layout)
}

func (d *browserDevice) area() overlay.Size {
	w, h := d.size()
	return overlay.Size{W: float64(w), H: float64(h)}
}

// keepCopied keeps what was copied in the page in front: it outlives the page, and not the case (Tidy).
func (d *browserDevice) keepCopied() {
	if d.engine.lost() != nil {
		return
	}
	if c := d.engine.copied(); c != nil {
		d.clip = clipped(*c)
	}
}

// Tidy takes away what a case has left beside an app's data.
func (d *browserDevice) Tidy(context.Context, string) error {
	d.keepCopied()
	d.clip = ""
	return nil
}

// Log gives the lines written since the last call.
func (d *browserDevice) Log(ctx context.Context) ([]device.LogLine, error) {
	if g, ok := d.engine.(interface{ gather(context.Context) }); ok && d.front != "" && d.up {
		g.gather(ctx)
	}
	return d.logs.Take(d.Now()), nil
}

// Calls gives the calls over the network that have ended since the last time.
func (d *browserDevice) Calls(context.Context) ([]device.Call, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.net.take(), nil
}

// OpenLink follows a link into an app: a path of its origin, or an address of it.
func (d *browserDevice) OpenLink(ctx context.Context, app, link string) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	address := link
	if strings.HasPrefix(link, "/") || strings.HasPrefix(link, "#") || strings.HasPrefix(link, "?") {
		address = i.origin + "/" + strings.TrimPrefix(link, "/")
	}
	if !strings.HasPrefix(address, i.origin+"/") {
		return fmt.Errorf("%.300s is no link into %s, whose pages are at %s", link, app, i.origin)
	}
	if d.front != app || d.engine.alive() != nil {
		if err := d.Start(ctx, app, device.Resume); err != nil {
			return err
		}
	} else if err := d.comeBack(ctx); err != nil {
		return err
	}
	d.render()
	return d.engine.visit(ctx, address)
}

func (d *browserDevice) comeBack(ctx context.Context) error {
	if !d.away {
		return nil
	}
	d.away = false
	d.render()
	return d.engine.hide(ctx, false)
}

// Evaluate evaluates an expression in the page in front, among its own scripts.
func (d *browserDevice) Evaluate(ctx context.Context, expression string) (string, error) {
	if err := d.reach(ctx); err != nil {
		return "", err
	}
	if d.front == "" || d.away {
		return "", errors.New("no app is in front whose page could be asked")
	}
	if len(expression) > maxExpression {
		return "", fmt.Errorf("an expression has at most %d bytes", maxExpression)
	}
	text, err := d.engine.evaluate(ctx, expression)
	return clip64(text), err
}

const maxExpression = 64 << 10
