package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/feel"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin/draw"
	"yamato/internal/host/standin/sandbox"
)

// Config describes one stand-in.
type Config struct {
	Device  fleet.Device
	Cutout  string        // hole, bar or none
	Sandbox []string      // command that starts the child for apps
	Scale   float64       // pixels a density-independent pixel in pictures; 1 where 0
	CaseCPU time.Duration // of computing that an app may do in one case; 30 s where 0
	State   State
}

// How long things take on a stand-in's own clock.
const (
	bootTime     = 18 * time.Second
	installTime  = 1500 * time.Millisecond
	launchTime   = 450 * time.Millisecond
	launchPerGB  = 1200 * time.Millisecond // the less memory, the slower
	touchTime    = 40 * time.Millisecond
	keyTime      = 15 * time.Millisecond
	maxDeviceLog = 20_000           // lines
	maxLogKept   = 8 << 20          // bytes of all lines
	caseCPU      = 30 * time.Second // see Config.CaseCPU
)

var errOff = &device.Trouble{Why: "the device is switched off", Remedy: "boot it"}

// Device is one stand-in. It keeps to the contract of host.Device.
type Device struct {
	config  Config
	look    draw.Chrome
	sandbox *sandbox.Sandbox

	now      time.Duration
	realTime bool
	language string
	seed     uint64
	up       bool

	apps     map[string]*installed
	running  *installed // the app whose program runs, nil if none
	front    bool       // it, not the home screen, is to be seen
	crash    *device.Crash
	timers   map[int]timer
	revision uint64
	view     *draw.Element
	scene    *draw.Scene
	focus    string
	shown    []byte // what the app has shown last, as it told it

	questions []question         // that the system asks for apps, the first on the screen
	banner    *notice            // a notification on the screen
	keyboard  bool               // it is up, where a field has the focus
	scrolls   map[string]float64 // how far lists have been scrolled, by key
	left      time.Duration      // when the app in front was sent away
	laters    int                // that the system has been told to do something
	calls     []device.Call      // that have ended and nobody has asked for
	callsIn   int                // bytes of them
	bytes     int64              // that the app has got over the network
	film      film

	log     []device.LogLine
	logSize int // bytes of it
	dropped int
	spent   time.Duration // by the app since its case began

	body
	feelings
}

type installed struct {
	app    driver.App
	source []byte // the program for stand-ins, nil if the package has none
	data   json.RawMessage
}

// timer is something to come: of the app's, where do is nil, or of the system's.
type timer struct {
	at   time.Duration
	call *pending // the request that it is the answer to
	do   func(context.Context) error
	stay bool // it comes also where the app has ended
}

var _ driver.Device = (*Device)(nil)
var _ device.Presser = (*Device)(nil)
var _ device.TextEntry = (*Device)(nil)
var _ device.Logger = (*Device)(nil)
var _ device.Chancy = (*Device)(nil)
var _ device.Virtual = (*Device)(nil)
var _ device.Healthy = (*Device)(nil)
var _ device.Holding = (*Device)(nil)
var _ device.Noticing = (*Device)(nil)
var _ device.Clearing = (*Device)(nil)
var _ device.Imitating = (*Device)(nil)

// New gives a stand-in that is switched off. Close it to end its child.
func New(c Config) *Device {
	if c.Scale <= 0 {
		c.Scale = 1
	}
	if c.CaseCPU <= 0 {
		c.CaseCPU = caseCPU
	}
	c.Device.Abilities = abilities(c.Device)
	return &Device{
		config: c, sandbox: sandbox.New(c.Sandbox), apps: map[string]*installed{}, timers: map[int]timer{},
		language: feel.UsualLanguage, revision: 1, feelings: usual(), scrolls: map[string]float64{},
		body: newBody(c.State), up: !c.Device.Virtual(),
		look: draw.Chrome{Platform: c.Device.Platform, Cutout: c.Cutout, Width: float64(c.Device.Width),
			Height: float64(c.Device.Height)},
	}
}

func abilities(d fleet.Device) []string {
	out := append([]string{"tree"}, device.Names((&Device{config: Config{Device: d}}).Whole())...)
	if d.Platform == "android" {
		out = append(out, "back")
	}
	slices.Sort(out)
	return out
}

// Whole is the device with all that its kind can be made to do: nobody tilts a real phone from
// afar, and what is pushed to one comes from a service that is not here.
func (d *Device) Whole() driver.Device {
	switch d.config.Device.Kind {
	case fleet.Emulator:
		return emulated{simulated{d}}
	case fleet.Simulator:
		return simulated{d}
	}
	return d
}

// Describe tells what the device is.
func (d *Device) Describe() fleet.Device { return d.config.Device }

// Abilities are what the device can do beyond the required core.
func (d *Device) Abilities() []string { return d.config.Device.Abilities }

// Now is the device's clock, which stands still while nobody waits.
func (d *Device) Now() time.Duration { return d.now }

// SetChance makes what apps find random, and what befalls the device by chance, a function
// of seed and of nothing before. It is called when a lease and when a case begins.
func (d *Device) SetChance(seed uint64) { d.seed, d.spent, d.rolls = seed, 0, 0 }

// Ready boots the device if it is off, unlocks it, sends away what is in front,
// and goes to the home screen.
func (d *Device) Ready(ctx context.Context, s driver.Terms) error {
	if err := d.within(); err != nil {
		return err
	}
	if !d.up {
		if err := d.Boot(ctx, time.Minute, s.RealTime); err != nil {
			return err
		}
	}
	d.realTime = s.RealTime
	if err := d.wake(ctx); err != nil {
		return err
	}
	d.dropIn, d.sleepIn, d.drowsy = 0, 0, false
	if d.befalls(troubleCable) {
		d.dropIn = 3
	}
	return d.goHome()
}

// Install puts an app on the device. A package without a program for stand-ins
// installs too; it is starting it that fails.
func (d *Device) Install(ctx context.Context, app driver.App) error {
	if err := d.within(); err != nil {
		return err
	}
	if err := d.pass(ctx, installTime); err != nil {
		return err
	}
	if d.full = d.full || d.befalls(troubleSpace); d.full {
		d.notice()
		return &device.Trouble{Why: "there is no room for it: only 90 MB are free",
			Remedy: "remove apps or pictures until 500 MB are free"}
	}
	for _, i := range d.state.Installed {
		if s := app.Package.Signing; i.ID == app.Package.ApplicationID && i.Signer != "" && s != nil &&
			s.Fingerprint != i.Signer {
			return fmt.Errorf("another app of that id, signed differently, is installed; remove %s first", i.ID)
		}
	}
	if app.Package.Kind == appfile.IOSDevice && d.befalls(troubleUntrusted) {
		d.trusts = false
	}
	if i := d.apps[app.Package.ApplicationID]; i != nil && i.app.Path == app.Path {
		return nil
	}
	next := &installed{app: app}
	if i := d.apps[app.Package.ApplicationID]; i != nil { // an update keeps what the app keeps
		next.data = i.data
		if d.running == i {
			if err := d.goHome(); err != nil {
				return err
			}
		}
	}
	if app.Package.Program != "" {
		f, err := os.Open(app.Path)
		if err != nil {
			return fmt.Errorf("the package cannot be read on the host: %w", err)
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return err
		}
		if next.source, err = app.Package.ReadProgram(f, info.Size()); err != nil {
			return err
		}
	}
	d.apps[app.Package.ApplicationID] = next
	d.write("info", "packages", app.Package.ApplicationID+" "+app.Package.VersionName+" installed")
	return nil
}

// Start starts an app, or brings it to the front.
func (d *Device) Start(ctx context.Context, app string, how device.Start) error {
	i := d.apps[app]
	if i == nil {
		return fmt.Errorf("no app %s is installed", app)
	}
	if err := d.within(); err != nil {
		return err
	}
	if !d.trusts {
		d.notice()
		return &device.Trouble{Why: "the developer of " + i.app.Package.ApplicationID +
			" is not trusted on this phone yet, so it does not start",
			Remedy: "Settings, General, VPN & Device Management: tap the developer, then Trust"}
	}
	if _, err := d.Wake(ctx); err != nil {
		return err
	}
	d.touch()
	if how == device.Resume && d.running == i && d.crash == nil {
		was := d.front
		d.front = true
		if err := d.render(); err != nil || was {
			return err
		}
		return d.event(ctx, "here", (d.now - d.left).Milliseconds())
	}
	d.quit()
	if how == device.Fresh {
		i.data = nil
		maps.DeleteFunc(d.given, func(of [2]string, _ string) bool { return of[0] == app })
	}
	if i.source == nil {
		return fmt.Errorf("%s %s cannot be started here: its package holds no program for stand-ins (%s); run it on a "+
			"real device or a full emulator",
			i.app.Package.ApplicationID, i.app.Package.VersionName, programName(i.app.Package))
	}
	launch := launchTime + launchPerGB*1024/time.Duration(max(1, d.config.Device.MemoryMB))
	if err := d.pass(ctx, launch); err != nil {
		return err
	}
	d.running, d.front = i, !d.befalls(troubleBehind)
	if d.befalls(troubleSleep) {
		d.sleepIn = 2
	}
	if d.befalls(troublePopup) {
		d.dialogs = append(d.dialogs, "Rate your connection")
	}
	d.write("info", "activity", "start "+i.app.Package.ApplicationID)
	_, err := d.turn(ctx, sandbox.Request{Op: "start", Source: string(i.source), Seed: d.seed, Data: i.data,
		Device: d.told()})
	return err
}

func programName(p appfile.Package) string {
	if p.Kind == appfile.Android {
		return appfile.ProgramAndroid
	}
	return appfile.ProgramIOS + " in the .app"
}

// Stop ends an app, and shows the home screen where that was in front.
func (d *Device) Stop(_ context.Context, app string) error {
	if d.crash != nil { // it has ended by itself, and whoever stops it has seen that
		return d.goHome()
	}
	if d.running == nil || d.running.app.Package.ApplicationID != app {
		return nil
	}
	return d.goHome()
}

// Remove takes an app off, with its data and what it was allowed.
func (d *Device) Remove(ctx context.Context, app string) error {
	if err := d.Stop(ctx, app); err != nil {
		return err
	}
	delete(d.apps, app)
	maps.DeleteFunc(d.given, func(of [2]string, _ string) bool { return of[0] == app })
	d.write("info", "packages", app+" removed")
	return d.render()
}

// goHome ends whatever app runs and shows the home screen.
func (d *Device) goHome() error {
	d.quit()
	d.crash = nil
	return d.render()
}

func (d *Device) quit() {
	d.running, d.front, d.view, d.shown, d.focus, d.crash = nil, false, nil, nil, "", nil
	d.questions, d.keyboard, d.bytes = nil, false, 0
	maps.DeleteFunc(d.timers, func(_ int, t timer) bool { return !t.stay })
	clear(d.scrolls)
}

// Clean undoes what a lease did: CleanApp takes the apps that were installed and their data
// away, all of them, as none is here but by a lease; CleanDevice switches the device back
// to how it was first.
func (d *Device) Clean(ctx context.Context, level driver.Cleaning, _ ...string) error {
	if err := d.goHome(); err != nil {
		return err
	}
	d.feelings, d.language = usual(), feel.UsualLanguage
	d.look.Width, d.look.Height = float64(d.config.Device.Width), float64(d.config.Device.Height)
	d.realTime, d.log, d.logSize, d.dropped, d.dropIn, d.sleepIn = false, nil, 0, 0, 0, 0
	d.banner, d.calls = nil, nil
	clear(d.timers)
	if err := d.within(); err != nil {
		return err
	}
	if d.befalls(troubleDirty) {
		return errors.New("the app's data could not be removed")
	}
	if level != driver.CleanNothing {
		clear(d.apps)
	}
	if level == driver.CleanDevice && d.config.Device.Virtual() {
		return d.Empty(ctx)
	}
	return d.render()
}

// Close ends the device and its child.
func (d *Device) Close() error {
	d.sandbox.Close()
	return nil
}

// MemoryKB is the resident memory of the device's child.
func (d *Device) MemoryKB() int64 { return d.sandbox.MemoryKB() }

// Tree is the screen as it is now.
func (d *Device) Tree(context.Context) (*screen.Tree, error) {
	if err := d.alive(); err != nil {
		return nil, err
	}
	return d.current().Tree, nil
}

func (d *Device) alive() error {
	if d.crash != nil {
		return d.crash
	}
	if !d.up {
		return errOff
	}
	if d.state.Unplugged && !d.config.Device.Virtual() {
		return errUnplugged
	}
	return nil
}

// current lays the screen out, if that has not been done since it changed.
func (d *Device) current() *draw.Scene {
	if d.scene != nil {
		return d.scene
	}
	s := d.layOut()
	s.Tree.Revision, s.Tree.Language, s.Tree.Cutouts = d.revision, d.language, d.look.Cutouts()
	for _, t := range d.timers {
		s.Tree.Busy = s.Tree.Busy || t.call != nil
	}
	d.scene = s
	return s
}

func (d *Device) layOut() *draw.Scene {
	s := draw.NewScene(d.look.Width, d.look.Height)
	d.look.Clock, d.look.Dark = d.now, d.black || d.asleep
	if over := d.over(); over != nil {
		d.look.Ink, d.look.Ground = draw.Hex("#f7f4ec"), draw.Hex("#24323c")
		draw.Layout(over, d.look.Area(), s, "")
		s.Tree.App = "system"
		return s
	}
	if !d.front || d.running == nil {
		d.look.Ink, d.look.Ground = draw.Hex("#f7f4ec"), draw.Hex("#2c5c73")
		draw.Layout(d.look.Home(d.icons()), d.look.Area(), s, "")
		d.lay(d.notification(), s)
		return s
	}
	view := d.view
	if view == nil { // it is in front, and shows nothing
		view = &draw.Element{T: "column", Size: 15}
	}
	d.look.Ink, d.look.Ground = draw.BarInk(view), draw.Hex("#ffffff")
	if view.Ground.Set {
		d.look.Ground = view.Ground
	}
	s.Scrolled(d.scrolls)
	draw.Layout(view, d.look.Area(), s, d.focus)
	if board, at := d.look.Keyboard(d.dark); d.keyboard {
		if n := s.Focused(); n == nil {
			d.keyboard = false // the field has gone, and the keyboard with it
		} else {
			if hidden := n.Bounds.Y + n.Bounds.H + 8 - at.Y; hidden > 0 { // what is entered is to be seen
				s = draw.NewScene(d.look.Width, d.look.Height)
				s.Scrolled(d.scrolls)
				s.Pan = hidden
				draw.Layout(view, d.look.Area(), s, d.focus)
				s.Pan = 0
			}
			draw.Layout(board, at, s, "")
		}
	}
	s.Tree.App = d.running.app.Package.ApplicationID
	d.lay(d.notification(), s)
	if ask := d.ask(); ask != nil {
		draw.Layout(ask, screen.Rect{W: d.look.Width, H: d.look.Height}, s, "")
	}
	return s
}

// lay lays out what lies over an app, if there is anything.
func (d *Device) lay(over *draw.Element, s *draw.Scene) {
	if over != nil {
		draw.Layout(over, d.look.Area(), s, "")
	}
}

// notification is the notification on the screen, nil where there is none.
func (d *Device) notification() *draw.Element {
	if d.banner == nil {
		return nil
	}
	name := d.banner.app
	if i := d.apps[name]; i != nil && i.app.Package.Name != "" {
		name = i.app.Package.Name
	}
	return d.look.Notice(name, d.banner.text, tapNotice, d.dark)
}

// over is what the system shows instead of the home screen and apps: nothing while
// the screen is black, a dialog, or the lock.
func (d *Device) over() *draw.Element {
	switch n := len(d.dialogs); {
	case d.black, d.asleep:
		return &draw.Element{T: "column", Size: 15}
	case d.stubborn != "":
		return d.look.Dialog(d.stubborn, "", 0)
	case d.locked:
		return d.look.Lock()
	case n > 0:
		return d.look.Dialog(d.dialogs[n-1], "Not now", tapDialog)
	}
	return nil
}

// startFromHome is the handler of the first icon on the home screen; those of the others
// follow downwards.
const startFromHome = -1

func (d *Device) icons() []draw.HomeApp {
	var out []draw.HomeApp
	for k, id := range slices.Sorted(maps.Keys(d.apps)) {
		name := d.apps[id].app.Package.Name
		if name == "" {
			name = id
		}
		out = append(out, draw.HomeApp{Name: name, Handler: startFromHome - k})
	}
	return out
}

// atHome gives the app whose icon has a handler, "" for none.
func (d *Device) atHome(handler int) string {
	ids := slices.Sorted(maps.Keys(d.apps))
	if k := startFromHome - handler; k >= 0 && k < len(ids) {
		return ids[k]
	}
	return ""
}

// render notes that the screen has changed.
func (d *Device) render() error {
	d.revision++
	d.scene = nil
	d.film.show(d.moment)
	return nil
}

// AwaitChange lets the device's time pass until something changes.
func (d *Device) AwaitChange(ctx context.Context, revision uint64, until time.Duration) error {
	if d.drowsy {
		d.doze()
	}
	for {
		if err := d.alive(); err != nil {
			return err
		}
		if d.revision > revision || d.now >= until {
			return nil
		}
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
		id, due, ok := d.nextTimer()
		if !ok || due > until {
			_, err := d.wait(ctx, until-d.now)
			return err
		}
		if nudged, err := d.wait(ctx, due-d.now); err != nil || nudged {
			return err
		}
		t, still := d.timers[id]
		if !still {
			continue
		}
		delete(d.timers, id)
		if err := d.come(ctx, id, t); err != nil {
			return err
		}
	}
}

// come does what a timer was for.
func (d *Device) come(ctx context.Context, id int, t timer) error {
	if t.do != nil {
		return t.do(ctx)
	}
	failed := ""
	if t.call != nil {
		failed = d.returned(t.call)
		_ = d.render()
	}
	_, err := d.turn(ctx, sandbox.Request{Op: "timer", Timer: id, Failed: failed})
	return err
}

func (d *Device) nextTimer() (id int, due time.Duration, ok bool) {
	for i, t := range d.timers {
		if !ok || t.at < due || t.at == due && i < id {
			id, due, ok = i, t.at, true
		}
	}
	return id, due, ok
}

// pass moves the clock. Only in real time does anybody wait for it.
func (d *Device) pass(ctx context.Context, by time.Duration) error {
	if by <= 0 {
		return nil
	}
	if d.realTime {
		wait := time.NewTimer(by)
		defer wait.Stop()
		select {
		case <-wait.C:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	return d.elapse(by)
}

// wait moves the clock as pass does, but for no longer than until it is nudged.
func (d *Device) wait(ctx context.Context, by time.Duration) (nudged bool, err error) {
	nudge := device.Nudge(ctx)
	if !d.realTime || nudge == nil || by <= 0 {
		return false, d.pass(ctx, by)
	}
	began, end := time.Now(), time.NewTimer(by)
	defer end.Stop()
	select {
	case <-end.C:
	case <-nudge:
		by, nudged = min(by, time.Since(began)), true
	case <-ctx.Done():
		return false, context.Cause(ctx)
	}
	return nudged, d.elapse(by)
}

func (d *Device) elapse(by time.Duration) error {
	d.now += by
	if limit := time.Duration(d.state.Timeout) * time.Second; limit > 0 && d.up && !d.asleep &&
		d.now-d.touched >= limit {
		d.doze()
	}
	return nil
}

// turn gives the app a turn and takes in what it did. It tells whether the app took
// what it was given.
func (d *Device) turn(ctx context.Context, req sandbox.Request) (handled bool, err error) {
	r, err := d.turned(ctx, req)
	return r.Handled, err
}

func (d *Device) turned(ctx context.Context, req sandbox.Request) (r sandbox.Reply, err error) {
	req.NowMS = d.now.Milliseconds()
	r, err = d.sandbox.Turn(ctx, req)
	for _, l := range r.Logs {
		d.writeAs(d.appID(), l.Level, l.Tag, l.Text)
	}
	if d.spent += time.Duration(r.SpentMS) * time.Millisecond; err == nil && d.spent > d.config.CaseCPU {
		err = &device.Crash{Reason: fmt.Sprintf("it computed for more than %s in one case", d.config.CaseCPU)}
	}
	if err == nil {
		err = d.take(r)
	}
	var crash *device.Crash
	if errors.As(err, &crash) {
		d.writeAs(d.appID(), "error", "crash", crash.Reason)
		d.quit()
		d.crash = crash
		_ = d.render()
	}
	return r, err
}

func (d *Device) take(r sandbox.Reply) error {
	for _, t := range r.Timers {
		if len(d.timers) >= sandbox.MaxTimers {
			return &device.Crash{Reason: fmt.Sprintf("it set more than %d timers", sandbox.MaxTimers)}
		}
		d.timers[t.ID] = timer{at: d.now + time.Duration(max(4, t.InMS))*time.Millisecond}
		if t.Network {
			d.timers[t.ID] = d.requested(t)
			_ = d.render()
		}
	}
	for _, w := range r.Wishes {
		if err := d.wished(w); err != nil {
			return err
		}
	}
	for _, id := range r.Ended {
		delete(d.timers, id)
	}
	if len(r.Data) > sandbox.MaxData {
		return &device.Crash{Reason: "it keeps more than it may"}
	}
	if r.Data != nil {
		d.running.data = r.Data
	}
	if r.Screen == nil {
		return nil
	}
	view, err := draw.ParseScreen(r.Screen)
	if err != nil {
		return &device.Crash{Reason: err.Error()}
	}
	d.view, d.shown = draw.Enlarge(view, d.text), r.Screen
	return d.render()
}

// Press presses the device's own keys: back, where it has one, and home.
func (d *Device) Press(ctx context.Context, key string) error {
	if err := d.alive(); err != nil {
		return err
	}
	if err := d.pass(ctx, touchTime); err != nil {
		return err
	}
	defer d.touch()
	if d.asleep {
		return nil
	}
	if key == "back" && d.keyboard {
		d.keyboard = false
		return d.render()
	}
	if key == "back" && d.front && d.running != nil {
		if took, err := d.turn(ctx, sandbox.Request{Op: "back"}); err != nil || took {
			return err
		}
	}
	return d.leave(ctx)
}

// Picture is the screen as a person sees it now. It is drawn when asked for.
func (d *Device) Picture(context.Context) (device.Picture, error) {
	if !d.up {
		return nil, errors.New("the device is switched off")
	}
	if d.state.Unplugged && !d.config.Device.Virtual() {
		return nil, errUnplugged
	}
	s := d.current()
	return draw.Picture{Scene: s, Look: d.look, Scale: d.config.Scale}, nil
}

// Log gives the lines written since the last call.
func (d *Device) Log(context.Context) ([]device.LogLine, error) {
	lines := d.log
	if d.dropped > 0 {
		lines = append(lines, device.LogLine{AtMS: d.now.Milliseconds(), Level: "warn", Tag: "system",
			Text: fmt.Sprintf("%d more lines were dropped", d.dropped)})
	}
	d.log, d.logSize, d.dropped = nil, 0, 0
	return lines, nil
}

func (d *Device) write(level, tag, text string) { d.writeAs("", level, tag, text) }

func (d *Device) appID() string {
	if d.running == nil {
		return ""
	}
	return d.running.app.Package.ApplicationID
}

func (d *Device) writeAs(app, level, tag, text string) {
	for line := range strings.SplitSeq(plain.Text(text, sandbox.MaxLogBytes), "\n") {
		if len(d.log) >= maxDeviceLog || d.logSize+len(line) > maxLogKept {
			d.dropped++
			continue
		}
		d.logSize += len(line) + 64
		d.log = append(d.log, device.LogLine{AtMS: d.now.Milliseconds(), Level: level, Tag: tag, Text: line, App: app})
	}
}
