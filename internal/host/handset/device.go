package handset

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/storage"
	"github.com/chromedp/cdproto/target"
	"github.com/go-json-experiment/json/jsontext"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/host/handset/pipe"
	"yamato/internal/host/handset/record"
	"yamato/internal/host/inpage"
	"yamato/internal/host/lines"
	"yamato/internal/host/origin"
	"yamato/internal/outside"
)

// Config describes one handset.
type Config struct {
	Device  fleet.Device
	Density float64  // pixels a dp, 2 where 0
	Reach   []string // hosts that apps may reach, beside their own origin
	// Overlook are requests that nobody waits for, by host and path as they begin: api.example/poll, /events.
	Overlook []string
	// Unhurried has screens be waited for as if nothing were known of what an app has under way.
	Unhurried bool
	Cutout    string // hole, bar or none: where the screen has none, pages are told by its safe areas
}

// Device is one handset. It keeps to the contract of driver.Device.
type Device struct {
	config  Config
	browser *Browser
	born    time.Time

	up      bool
	running *running
	proxy   *origin.Proxy
	tab     *tab // what is in front: an app, or nothing
	front   string
	away    bool
	apps    map[string]*installed
	bootLog []device.LogLine

	inpage.Document         // of the page in front
	seen            *tab    // whose that is
	behind          []*tab  // windows behind the one in front, the app's own first
	scrolled        float64 // how far what is offered was moved
	clip            string  // what was copied on this handset
	seed            uint64
	revision        uint64
	tree            *screen.Tree
	looks           time.Duration // that all looks at the screen together took
	surroundings

	asked *page.EventJavascriptDialogOpening // the dialog that is shown, nil for none
	entry string                             // what is in its field

	questioned string // what the screen asked for when it was looked at last

	measured *tab // the page that tells figures already

	logs  lines.Log
	calls record.Calls
}

// installed is an app on the handset.
type installed struct {
	app    driver.App
	bundle *origin.Bundle
	start  string   // the address of its start page
	stays  *url.URL // where it stays, nil for a bundle
	origin string
	host   string
	room   cdp.BrowserContextID // what the app stores is there, and no other app's; "" until it is needed
	others int64                // what had gone to other origins when the room was made
	used   bool                 // it has been started since it was put there, so that it may have data
	stale  bool                 // it was put there in inpage.Place of another that has data
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
	answers  map[[2]string]string // to what apps ask, by app and permission: told beforehand
	given    map[[2]string]bool   // what a person has answered on the screen
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
	d.config.Device.Abilities = append([]string{"back", "tree"}, device.Names(d)...)
	return d
}

var _ device.Tidying = (*Device)(nil)

func usual() surroundings {
	return surroundings{language: feel.UsualLanguage, zone: "Europe/Lisbon", text: 100, answers: map[[2]string]string{},
		given: map[[2]string]bool{}}
}

// Describe tells what the device is.
func (d *Device) Describe() fleet.Device { return d.config.Device }

// Abilities are what the device can do beyond the required core.
func (d *Device) Abilities() []string { return d.config.Device.Abilities }

// Now is the device's clock: the wall's, since it was made.
func (d *Device) Now() time.Duration { return time.Since(d.born) }

// Up tells whether the handset is switched on.
func (d *Device) Up() bool { return d.up }

// BootLog gives what the last boot wrote.
func (d *Device) BootLog() []device.LogLine { return d.bootLog }

// Boot has the browser be there, and the handset's network.
func (d *Device) Boot(ctx context.Context, limit time.Duration, _ bool) error {
	if d.up && d.lost() == nil {
		return nil
	}
	ctx, stop := context.WithTimeoutCause(ctx, max(limit, time.Second), fmt.Errorf("it was not up within %s", limit))
	defer stop()
	for tries := 1; ; tries++ { // the browser may die of another's doing while it is talked to
		if err := d.boot(ctx); err == nil || tries == 3 || !errors.Is(err, pipe.ErrGone) {
			return lost(err)
		}
	}
}

// boot tries once.
func (d *Device) boot(ctx context.Context) error {
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
	d.running, d.up = r, true
	for _, i := range d.apps {
		i.reached(d.proxy, true)
		i.used = false
	}
	d.boots("info", fmt.Sprintf("a screen of %d by %d dp, %g pixels a dp", d.config.Device.Width,
		d.config.Device.Height,
		d.config.Density))
	d.render()
	return nil
}

func (d *Device) boots(level, text string) {
	d.bootLog = append(d.bootLog, device.LogLine{AtMS: d.Now().Milliseconds(), Level: level, Tag: "boot", Text: text})
}

// refused notes that an app was kept from a host. It is called by the proxy.
func (d *Device) refused(host string) {
	d.logs.Write(d.Now(), "", "warn", "network", "an app may not reach "+short(host)+
		", which the site file does not name")
}

// lost tells why the handset has lost its browser, nil while it has it.
func (d *Device) lost() error {
	if d.running == nil {
		return errOff
	}
	select {
	case <-d.running.Gone:
		return lost(pipe.ErrGone)
	default:
		return nil
	}
}

var errOff = &device.Trouble{Why: "the handset is switched off", Remedy: "boot it"}

// room gives the part of the browser in which an app stores what it stores. Each app has one of its own: two apps of
// one origin share nothing, and who is signed in to one is not to the other.
func (d *Device) room(ctx context.Context, app string) (cdp.BrowserContextID, error) {
	i := d.apps[app]
	if i == nil {
		return "", fmt.Errorf("no app %s is installed", app)
	}
	if i.room != "" {
		return i.room, nil
	}
	room, err := target.CreateBrowserContext().WithDisposeOnDetach(true).WithProxyServer("http://" + d.proxy.Address()).
		WithProxyBypassList("<-loopback>").Do(d.running.On(ctx))
	if err != nil {
		return "", err
	}
	i.room, i.others = room, d.proxy.Others()
	err = browser.SetDownloadBehavior(browser.SetDownloadBehaviorBehaviorDeny).WithBrowserContextID(room).Do(d.running.On(ctx))
	for key, answer := range d.answers {
		if key[0] == app && err == nil {
			err = d.permit(ctx, app, key[1], answer)
		}
	}
	return room, err
}

// evict takes away what an app has stored, with the part of the browser that it was in.
func (d *Device) evict(ctx context.Context, i *installed) error {
	room := i.room
	i.room = ""
	if d.running == nil || room == "" {
		return nil
	}
	return target.DisposeBrowserContext(room).Do(d.running.On(ctx))
}

// drop takes away all that the handset has in the browser: its pages, what apps have stored, its proxy.
func (d *Device) drop() {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	d.closeWindows(ctx)
	for _, i := range d.apps {
		_ = d.evict(ctx, i)
	}
	if d.proxy != nil {
		_ = d.proxy.Close()
	}
	d.front, d.away, d.proxy, d.running, d.up = "", false, nil, nil, false
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
	d.surroundings, d.clip = usual(), ""
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
func (d *Device) Ready(ctx context.Context, s driver.Terms) error {
	if err := d.Boot(ctx, time.Minute, false); err != nil {
		return err
	}
	d.goHome(ctx)
	return nil
}

func (d *Device) goHome(ctx context.Context) {
	d.closeWindows(ctx)
	d.front, d.away = "", false
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
	if i.start = i.origin + b.Start; p.AtAddress() {
		if i.stays, err = url.Parse(p.Launch); err != nil {
			return errors.Join(err, b.Close())
		}
		i.start, i.host, i.origin = p.Launch, i.stays.Host, i.stays.Scheme+"://"+i.stays.Host
	}
	if before != nil {
		i.stale, i.room = before.used || before.stale, before.room
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
	if how == device.Fresh && d.proxy.Others() != i.others { // what it has of others is not found origin by origin
		d.goHome(ctx)
		if err := d.evict(ctx, i); err != nil {
			return lost(err)
		}
	}
	t, err := d.again(ctx, app, how)
	if err != nil {
		return err
	}
	d.calls.Begin()
	if err := d.reaches(ctx, i); err != nil {
		return err
	}
	if t == nil {
		if t, err = d.open(ctx, app); err != nil {
			return lost(err)
		}
	}
	if how == device.Fresh {
		if err := storage.ClearDataForOrigin(i.origin, "all").Do(t.On(ctx)); err != nil {
			t.close(ctx)
			return lost(err)
		}
		i.stale = false
	}
	d.tab, d.front, d.away, i.used, d.questioned = t, app, false, true, ""
	if err := d.unasked(ctx, app, how == device.Fresh); err != nil {
		return err
	}
	d.render()
	d.logs.Write(d.Now(), app, "info", "activity", "start "+app)
	if err := d.visit(ctx, i.start); err != nil {
		return err
	}
	if i.stale {
		i.stale = false
		return d.takeOver(ctx, i)
	}
	return nil
}

// maxStarts is how often an app is started afresh in one page before it gets another.
const maxStarts = 20

// again gives the page that the app is in already, for starting it afresh there, with nothing left of what it
// was; nil where it needs another page. To open one takes longer than most apps take to start.
func (d *Device) again(ctx context.Context, app string, how device.Start) (*tab, error) {
	t := d.tab
	fits := t != nil && how == device.Fresh && d.front == app && !d.away && len(d.behind) == 0 && len(t.ports) == 0 &&
		t.starts < maxStarts && t.alive() == nil && t.asked() == nil
	if fits {
		t.afresh()
		_, err := t.ask(ctx, "yamatoEnds()")
		if err == nil {
			err = errors.Join(t.forgetScripts(ctx), d.be(ctx, t, app))
		}
		if err == nil {
			d.tab, d.front = nil, ""
			d.render()
			return t, nil
		}
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
	}
	d.goHome(ctx)
	return nil, d.lost()
}

// reaches tells why an app that stays at an address cannot be opened there: that is the site's
// trouble, and nothing of the app's.
func (d *Device) reaches(ctx context.Context, i *installed) error {
	if i.stays == nil || d.network.None {
		return nil
	}
	err := d.proxy.Reaches(ctx, i.stays)
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case errors.Is(err, outside.ErrPrivate): // of the site file, and no reason to take the handset out of use
		return errors.New("the app is at " + i.host + ", which leads to a private or loopback address; to mend it: name " +
			i.host + " under reach of the handset in the site file")
	}
	return &device.Trouble{Why: "the app's address does not answer: " + err.Error(),
		Remedy: "check from the host's machine that " + i.origin + " answers"}
}

// open gives a page that feels what the handset feels.
func (d *Device) open(ctx context.Context, app string) (*tab, error) {
	room, err := d.room(ctx, app)
	if err != nil {
		return nil, err
	}
	t, err := openTab(ctx, d.running, room, d.events(app))
	if err != nil {
		return nil, err
	}
	return t, d.dressed(ctx, t, app)
}

// events are what a page of an app tells the handset.
func (d *Device) events(app string) events {
	return events{
		logged: func(level, tag, text string) { d.logs.Write(d.Now(), app, level, tag, text) },
		called: func(method string, params jsontext.Value) { d.calls.Heard(d.Now(), method, params) },
	}
}

// dressed has a page feel what the handset feels, and closes it where that cannot be.
func (d *Device) dressed(ctx context.Context, t *tab, app string) error {
	d.calls.WithBodies(func(id network.RequestID) <-chan pipe.Message {
		_, answer, err := t.Send(t.ID, network.CommandGetResponseBody, network.GetResponseBody(id))
		if err != nil {
			gone := make(chan pipe.Message)
			close(gone)
			return gone
		}
		return answer
	})
	if err := d.feel(ctx, t, app); err != nil {
		t.close(ctx)
		return err
	}
	return nil
}

// visit goes to an address and waits until there is a document.
func (d *Device) visit(ctx context.Context, address string) error {
	ctx, stop := context.WithTimeoutCause(ctx, loadTime, &device.Crash{Reason: "its start page did not come within " +
		loadTime.String()})
	defer stop()
	defer d.tab.stays()
	for tries := 1; ; tries++ {
		_, _, problem, _, err := page.Navigate(address).Do(d.tab.On(ctx))
		if err != nil {
			if crash := d.tab.alive(); crash != nil {
				return crash
			}
			return lost(err)
		}
		if problem == "" || problem == "net::ERR_ABORTED" { // the app may go elsewhere at once, or give a file
			break
		}
		if tries < 3 { // a part of the browser's own may have died, and be there again
			continue
		}
		// of the site file, and no reason to take the handset out of use
		if strings.HasPrefix(problem, "net::ERR_CERT_") {
			return fmt.Errorf("the page %s shows a certificate that the browser does not trust (%s); to mend it: name its authority's PEM file as handset.authority in the site file",
				short(address), problem)
		}
		// The app's pages come out of the handset's own proxy: what keeps them back is none of the app's.
		return &device.Trouble{Why: "the page " + short(address) + " cannot be opened: " + problem,
			Remedy: "see the host's log; where the app is at an address, check that it answers there"}
	}
	if err := d.loaded(ctx); err != nil {
		return err
	}
	// The way back ends here: the empty page that was there before is none of the app's.
	if d.tab.asked() != nil {
		return nil
	}
	return d.do(ctx, func(ctx context.Context) error {
		if i := d.apps[d.front]; i != nil && i.start == address {
			return page.ResetNavigationHistory().Do(ctx)
		}
		return nil
	})
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
	d.logs.Forget()
	d.calls.Forget()
	if level == driver.CleanNothing {
		d.goHome(ctx)
		d.surroundings, d.clip = usual(), ""
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

// render has the screen be read as a whole when it is looked at next.
func (d *Device) render() {
	d.revision, d.tree = d.revision+1, nil
	d.Forget()
}

// zoom is how many dp a CSS pixel of the page takes: less than 1 where it is laid out wider than the screen.
func (d *Device) zoom() float64 {
	if d.Document.Zoom <= 0 {
		return 1
	}
	return d.Document.Zoom
}

// feel makes a page feel what the handset feels.
func (d *Device) feel(ctx context.Context, t *tab, app string) error {
	w, h := d.width()
	on := t.On(ctx)
	return errors.Join(t.screen(ctx, int(w), int(h), d.config.Density, d.across),
		emulation.SetTouchEmulationEnabled(true).WithMaxTouchPoints(5).Do(on),
		emulation.SetFocusEmulationEnabled(true).Do(on),
		d.speak(ctx, t), d.dress(ctx, t), d.tell(ctx, t), d.stand(ctx, t), d.wire(ctx, t), d.enlarge(ctx, t),
		d.be(ctx, t, app),
		d.rest(ctx, t), d.keepClear(ctx, t))
}

// originHost gives host and port of an address.
func originHost(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Host
}
