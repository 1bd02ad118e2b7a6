package android

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"image"
	"image/png"
	"io"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

// How long a call may take, by the wall: each has a deadline.
const (
	callLimit    = 20 * time.Second
	installLimit = 5 * time.Minute
	lookEvery    = 120 * time.Millisecond // between two looks at a screen that is waited for
	dumpTries    = 4
)

// Device is one phone, or one emulator, that the bridge sees.
type Device struct {
	server *Server
	facts  fleet.Device
	scale  float64 // pixels a density-independent pixel
	opened time.Time
	at     func() (serial string, ok bool) // where the bridge sees it now

	app      string  // that was started last
	since    float64 // when the newest crash in the log had been then, by the phone's clock
	revision uint64
	sum      uint64
	seed     maphash.Seed
	language string            // BCP 47, as it said last
	put      map[string]string // the packages that were installed from here, by app: where they lie on the host
	noticed  chan struct{}
	state    func() string // how the bridge sees it, where it cannot be talked to; nil where nobody knows
	api      int           // the OS's number for programs
	knownAs  string        // the name that the OS's image tools know it by, "" where it is none of theirs
	boot     string        // of the kernel's start: no two phones have the same
	touch    *touchscreen  // nil where nobody may write to it
	quarters int           // that the screen is turned by, as it was seen last
	process  string        // of the app, as it was last
	log      logRead
	users    map[string]string // apps by the numbers of their users

	// What it is made to feel; was are those of its settings that it has written down.
	was      map[string]bool
	answered map[[2]string]string // by app and permission
	asks     map[string][]string  // the permissions that apps declare
	tag      string               // the language of apps, "" for the system's
	charged  bool                 // it believes in another battery than it has
	placed   *device.Place        // nil where nobody told it where it is
	nowhere  bool                 // it was told that it does not know

	off time.Duration // how far its clock is ahead of this machine's

	// Who is shown the screen looks at these beside all else.
	turns  atomic.Int64 // how often it was turned
	across atomic.Bool  // as it was seen last
}

var (
	_ driver.Device   = (*Device)(nil)
	_ device.Presser  = (*Device)(nil)
	_ device.Leaving  = (*Device)(nil)
	_ device.Linking  = (*Device)(nil)
	_ device.Removing = (*Device)(nil)
	_ device.Noticing = (*Device)(nil)
	_ device.Holding  = (*Device)(nil)
)

// errAway is the trouble of a phone that the bridge does not see.
var errAway = &device.Trouble{Why: "it does not answer on its cable, or over the network",
	Remedy: "plug it in, and say yes on its screen where it asks whether this computer may debug it"}

// run runs a line in the phone's shell. A line that cannot be carried to the phone is the phone's trouble, or the bridge's,
// and no app's.
func (d *Device) run(ctx context.Context, limit time.Duration, line string, args ...string) (Output, error) {
	return d.runWith(ctx, limit, nil, maxOutput, line, args...)
}

func (d *Device) runWith(ctx context.Context, limit time.Duration, in io.Reader, most int, line string, args ...string) (Output, error) {
	for _, a := range args {
		line += " " + quote(a)
	}
	return d.carried(ctx, limit, func(ctx context.Context, serial string) (Output, error) {
		return d.server.Run(ctx, serial, line, in, most)
	})
}

// carried does something over the bridge, within a limit. What cannot be carried to the phone is the phone's trouble, or the
// bridge's, and no app's.
func (d *Device) carried(ctx context.Context, limit time.Duration, do func(ctx context.Context, serial string) (Output, error)) (Output, error) {
	if err := ctx.Err(); err != nil {
		return Output{}, context.Cause(ctx)
	}
	serial, ok := d.at()
	if !ok {
		return Output{}, errAway
	}
	var no *refusal
	within, stop := context.WithTimeout(ctx, limit)
	defer stop()
	out, err := do(within, serial)
	switch {
	case err == nil:
		return out, nil
	case ctx.Err() != nil:
		return out, context.Cause(ctx)
	case errors.Is(err, context.DeadlineExceeded):
		return out, &device.Trouble{Why: fmt.Sprintf("it has not answered for %s", limit), Remedy: "restart it"}
	case errors.As(err, &no) && no.away:
		return out, errAway // the bridge has noticed it sooner than this host
	case errors.Is(err, errServer):
		return out, &device.Trouble{Why: err.Error(), Remedy: "it is started anew by itself; see the host's log if it happens again"}
	}
	return out, &device.Trouble{Why: err.Error(), Remedy: errAway.Remedy}
}

// quote has the phone's shell take s as one word.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Describe tells what the phone is.
func (d *Device) Describe() fleet.Device { return d.facts }

// Abilities are what it can do beyond the required core.
func (d *Device) Abilities() []string { return d.facts.Abilities }

// Now is the time since the phone was found: it has the machine's clock.
func (d *Device) Now() time.Duration { return time.Since(d.opened) }

// Noticed tells that the phone came or went.
func (d *Device) Noticed() <-chan struct{} { return d.noticed }

// Close lets go of it.
func (d *Device) Close() error { return nil }

var componentLine = regexp.MustCompile(`(?m)^([A-Za-z0-9_.]+)/([A-Za-z0-9_.$]+)\s*$`)

// Start starts an app, with its data gone if it is Fresh.
func (d *Device) Start(ctx context.Context, app string, how device.Start) error {
	if !isPackage(app) {
		return fmt.Errorf("no app %q can be installed", app)
	}
	if how == device.Fresh {
		out, err := d.run(ctx, callLimit, "pm clear", app)
		if err != nil {
			return err
		}
		if !bytes.HasPrefix(bytes.TrimSpace(out.Out), []byte("Success")) {
			return fmt.Errorf("no app %s is installed", app)
		}
		if err := d.again(ctx, app); err != nil {
			return err
		}
	}
	out, err := d.run(ctx, callLimit, "cmd package resolve-activity --brief -c android.intent.category.LAUNCHER", app)
	if err != nil {
		return err
	}
	m := componentLine.FindSubmatch(out.Out)
	if m == nil {
		return fmt.Errorf("no app %s is installed, or it has nothing to start", app)
	}
	before, err := d.crashes(ctx, "")
	if err != nil {
		return err
	}
	d.since = 0
	for _, c := range before {
		d.since = max(d.since, c.at)
	}
	d.app, d.process = app, ""
	out, err = d.run(ctx, callLimit, "am start -W -n", string(m[1])+"/"+string(m[2]))
	if err != nil {
		return err
	}
	if text := string(append(out.Out, out.Err...)); !strings.Contains(text, "Status: ok") {
		return fmt.Errorf("the phone did not start %s: %.300s", app, strings.TrimSpace(text))
	}
	return nil
}

var packageName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]*(\.[A-Za-z][A-Za-z0-9_]*)+$`)

// isPackage tells an application id from what no phone has, and no shell is to see.
func isPackage(app string) bool { return len(app) < 256 && packageName.MatchString(app) }

// Stop ends an app.
func (d *Device) Stop(ctx context.Context, app string) error {
	if !isPackage(app) {
		return nil
	}
	if app == d.app {
		d.app = "" // that it is gone is no crash
	}
	_, err := d.run(ctx, callLimit, "am force-stop", app)
	return err
}

// SendAway goes home without ending the app.
func (d *Device) SendAway(ctx context.Context) error { return d.Press(ctx, "home") }

// OpenLink follows a link into an app.
func (d *Device) OpenLink(ctx context.Context, app, link string) error {
	if !isPackage(app) {
		return fmt.Errorf("no app %q can be installed", app)
	}
	out, err := d.run(ctx, callLimit, "am start -W -a android.intent.action.VIEW -d "+quote(link), app)
	if err == nil && !strings.Contains(string(out.Out), "Status: ok") {
		err = &device.Refusal{Why: "the app does not take the link: " + strings.TrimSpace(string(append(out.Out, out.Err...)))}
	}
	return err
}

// Press presses a key of the phone's own.
func (d *Device) Press(ctx context.Context, key string) error {
	code := map[string]string{"back": "4", "home": "3"}[key]
	if code == "" {
		return device.ErrNoAbility
	}
	_, err := d.run(ctx, callLimit, "input keyevent "+code)
	return err
}

// Tap touches a place.
func (d *Device) Tap(ctx context.Context, at screen.Point) error {
	_, err := d.run(ctx, callLimit, fmt.Sprintf("input tap %.0f %.0f", at.X*d.scale, at.Y*d.scale))
	return err
}

// keycodes are the OS's numbers of the keys of W3C WebDriver, 17.4.2.
var keycodes = map[rune]string{'\uE003': "67", '\uE004': "61", '\uE006': "66", '\uE007': "66", '\uE00C': "111", '\uE010': "123",
	'\uE011': "122", '\uE012': "21", '\uE013': "19", '\uE014': "22", '\uE015': "20", '\uE017': "112"}

// Keys presses keys. The OS's own tool types what is on a keyboard of English, and nothing else.
func (d *Device) Keys(ctx context.Context, keys string) error {
	var lines []string
	var text strings.Builder
	flush := func() {
		if text.Len() > 0 {
			lines = append(lines, "input text "+quote(text.String()))
			text.Reset()
		}
	}
	for _, r := range keys {
		switch code := keycodes[r]; {
		case code != "":
			flush()
			lines = append(lines, "input keyevent "+code)
		case r == ' ':
			text.WriteString("%s")
		case r > ' ' && r <= '~':
			if r == 's' && strings.HasSuffix(text.String(), "%") {
				flush() // the tool takes %s for a blank
			}
			text.WriteRune(r)
		default:
			return &device.Refusal{Why: fmt.Sprintf("the phone's own tool cannot type %q: it types what an English keyboard has", r)}
		}
	}
	flush()
	if len(lines) == 0 {
		return nil
	}
	out, err := d.run(ctx, callLimit, strings.Join(lines, " && "))
	if err == nil && out.Code != 0 {
		err = &device.Refusal{Why: "the phone did not type it: " + strings.TrimSpace(string(append(out.Out, out.Err...)))}
	}
	return err
}

// Picture is the screen as a person sees it.
func (d *Device) Picture(ctx context.Context) (device.Picture, error) {
	out, err := d.runWith(ctx, callLimit, nil, maxShot, "screencap -p")
	if err != nil {
		return nil, err
	}
	if out.Code != 0 {
		return nil, &device.Trouble{Why: "its screen cannot be taken: " + strings.TrimSpace(string(out.Err)), Remedy: "restart it"}
	}
	return shot(out.Out), nil
}

// maxPixels bounds a picture: what it says of its size is checked before it is drawn.
const maxPixels = 40_000_000

type shot []byte

// Image gives the pixels.
func (s shot) Image() (image.Image, error) {
	c, err := png.DecodeConfig(bytes.NewReader(s))
	if err != nil {
		return nil, fmt.Errorf("the phone's picture cannot be read: %w", err)
	}
	if c.Width <= 0 || c.Height <= 0 || c.Width > maxPixels/c.Height {
		return nil, fmt.Errorf("the phone's picture of %d by %d pixels is too large", c.Width, c.Height)
	}
	return png.Decode(bytes.NewReader(s))
}

// Tree is what is on the screen. A dump that fails because the screen keeps moving is repeated.
func (d *Device) Tree(ctx context.Context) (*screen.Tree, error) {
	var text []byte
	var tree *screen.Tree
	for try := 1; ; try++ {
		out, err := d.runWith(ctx, callLimit, nil, maxShot, "uiautomator dump /dev/tty")
		if err != nil {
			return nil, err
		}
		if tree, d.quarters, err = readDump(out.Out, d.scale); err == nil {
			text = out.Out
			break
		}
		if !errors.Is(err, errDump) || try == dumpTries {
			return nil, &device.Trouble{Why: err.Error(), Remedy: "see what moves on its screen, and try again"}
		}
	}
	tree.Width, tree.Height, tree.Language = float64(d.facts.Width), float64(d.facts.Height), d.language
	if len(tree.Root.Children) > 0 {
		if b := tree.Root.Children[0].Bounds; b.W > b.H != (tree.Width > tree.Height) && b.W > 0 {
			tree.Width, tree.Height = tree.Height, tree.Width
		}
	}
	d.across.Store(tree.Width > tree.Height)
	if d.tag != "" && tree.App == d.app && d.app != "" {
		tree.Language = d.tag
	}
	asked := inSystem(tree.App) && d.app != ""
	if asked { // the system asks something, over the app
		question := &screen.Node{Role: "alertdialog", Children: tree.Root.Children}
		if len(question.Children) > 0 {
			question.Bounds, question.Visible = question.Children[0].Bounds, question.Children[0].Visible
		}
		tree.App, tree.Root.Children = d.app, []*screen.Node{question}
	}
	tree.Root.Bounds = screen.Rect{W: tree.Width, H: tree.Height}
	tree.Root.Visible = tree.Root.Bounds
	if sum := maphash.Bytes(d.seed, text); sum != d.sum {
		d.sum = sum
		d.revision++
	}
	tree.Revision = d.revision
	if d.app != "" && (tree.App != d.app || asked) {
		if err := d.died(ctx); err != nil {
			return nil, err
		}
	}
	return tree, nil
}

// AwaitChange looks at the screen until it has changed, or until the time.
func (d *Device) AwaitChange(ctx context.Context, revision uint64, until time.Duration) error {
	for {
		if d.revision > revision {
			return nil
		}
		tree, err := d.Tree(ctx)
		if err != nil {
			return err
		}
		left := until - d.Now()
		if tree.Revision > revision || left <= 0 {
			return nil
		}
		t := time.NewTimer(min(left, lookEvery))
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return context.Cause(ctx)
		}
	}
}

// Installed lists the apps that stay on it.
func (d *Device) Installed(ctx context.Context) ([]device.Installed, error) {
	out, err := d.run(ctx, callLimit, "pm list packages -3")
	if err != nil {
		return nil, err
	}
	list := []device.Installed{}
	for _, line := range strings.Split(string(out.Out), "\n") {
		if id := strings.TrimPrefix(strings.TrimSpace(line), "package:"); isPackage(id) && len(list) < 1000 {
			list = append(list, device.Installed{ID: id})
		}
	}
	return list, nil
}

// Remove takes an app off the phone, with its data.
func (d *Device) Remove(ctx context.Context, app string) error {
	if !isPackage(app) {
		return nil
	}
	if app == d.app {
		d.app = ""
	}
	delete(d.put, app)
	there, err := d.run(ctx, callLimit, "pm path", app)
	if err != nil || len(bytes.TrimSpace(there.Out)) == 0 {
		return err
	}
	out, err := d.run(ctx, callLimit, "pm uninstall", app)
	if err == nil && !bytes.HasPrefix(bytes.TrimSpace(out.Out), []byte("Success")) {
		err = &device.Trouble{Why: app + " cannot be removed: " + strings.TrimSpace(string(append(out.Out, out.Err...))),
			Remedy: "remove it by hand"}
	}
	return err
}

// Clean takes off what a lease put on it, and goes home.
func (d *Device) Clean(ctx context.Context, level driver.Cleaning, apps ...string) error {
	d.app, d.process = "", ""
	d.logFromNow()
	if err := d.restore(ctx); err != nil {
		return err
	}
	if level == driver.CleanNothing {
		return d.Press(ctx, "home")
	}
	for _, app := range apps {
		if err := d.Remove(ctx, app); err != nil {
			return err
		}
	}
	return d.Press(ctx, "home")
}

// open learns what a phone is.
func open(ctx context.Context, server *Server, site, name string, at func() (string, bool)) (driver.Device, *Device, error) {
	d := &Device{server: server, opened: time.Now(), at: at, seed: maphash.MakeSeed(), put: map[string]string{},
		noticed: make(chan struct{}, 1), users: map[string]string{}, was: map[string]bool{}, answered: map[[2]string]string{},
		asks: map[string][]string{}}
	asked := time.Now()
	out, err := d.run(ctx, callLimit, "echo @clock; date +%s.%N; echo @boot; cat "+bootID+"; echo @touch; getevent -pl; "+
		"echo @facts; getprop; wm size; wm density; cat /proc/meminfo")
	if err != nil {
		return nil, nil, err
	}
	told := sections(string(out.Out))
	f, scale, err := readFacts(told["facts"])
	if err != nil {
		return nil, nil, err
	}
	props := propsIn(told["facts"])
	f.Name, f.Site = name, site
	d.language, d.boot = languageOf(props), clipped(strings.TrimSpace(told["boot"]), 60)
	d.facts, d.scale = f, scale
	d.knownAs = cmp.Or(props["ro.boot.qemu.avd_name"], props["ro.kernel.qemu.avd_name"])
	d.api, _ = strconv.Atoi(props["ro.build.version.sdk"])
	d.off, _ = clockIn(told["clock"], asked, time.Now())
	d.logFromNow()
	if t := touchscreenIn(told["touch"], strings.Contains(f.ABI, "64")); t != nil {
		if may, err := d.run(ctx, callLimit, "test -w "+t.path); err != nil {
			return nil, nil, err
		} else if may.Code == 0 {
			d.touch = t
		}
	}
	whole, err := d.whole(ctx)
	if err != nil {
		return nil, nil, err
	}
	d.facts.Abilities = append([]string{"tree", "back"}, device.Names(whole)...)
	slices.Sort(d.facts.Abilities)
	return whole, d, nil
}

// whole gives the phone with what its OS and its maker let be done to it.
func (d *Device) whole(ctx context.Context) (out driver.Device, err error) {
	out = d
	if d.api >= apiSpeaks {
		out = speaking{out}
	}
	if d.api >= apiPlaces {
		out = placed{out}
	}
	// Whether the shell may change the time zone each maker decides: it is tried with the one that there is.
	zone, err := d.valueOf(ctx, "zone")
	var no *device.Refusal
	if errors.As(err, &no) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	said, err := d.run(ctx, callLimit, settings["zone"].putting("zone", zone))
	if err == nil && said.Code == 0 && !bytes.Contains(said.Err, []byte("Exception")) {
		out = zoned{out}
	}
	return out, err
}

var (
	propLine    = regexp.MustCompile(`(?m)^\[([^\]]+)\]: \[(.*)\]\s*$`)
	sizeLine    = regexp.MustCompile(`(?m)^(Physical|Override) size: (\d{2,5})x(\d{2,5})\s*$`)
	densityLine = regexp.MustCompile(`(?m)^(Physical|Override) density: (\d{2,4})\s*$`)
	memoryLine  = regexp.MustCompile(`(?m)^MemTotal:\s+(\d{1,12}) kB\s*$`)
)

// maxProps bounds the properties that are read of a phone: one has about a thousand.
const maxProps = 5000

// propsIn reads a phone's properties, as getprop lists them.
func propsIn(said string) map[string]string {
	props := map[string]string{}
	for _, m := range propLine.FindAllStringSubmatch(said, maxProps) {
		props[m[1]] = m[2]
	}
	return props
}

// languageOf is the language that a phone is set to: what a person has chosen, or what it was made with.
func languageOf(props map[string]string) string {
	return clipped(cmp.Or(props["persist.sys.locale"], props["ro.product.locale"]), 40)
}

// readFacts reads what a phone tells of itself.
func readFacts(said string) (f fleet.Device, scale float64, err error) {
	props := propsIn(said)
	number := func(text string) int { n, _ := strconv.Atoi(text); return n }
	width, height, density := 0, 0, 0
	for _, m := range sizeLine.FindAllStringSubmatch(said, 2) { // an override comes last, and holds
		width, height = number(m[2]), number(m[3])
	}
	for _, m := range densityLine.FindAllStringSubmatch(said, 2) {
		density = number(m[2])
	}
	if width == 0 || height == 0 || density == 0 {
		return f, 0, errors.New("the phone does not tell how large its screen is")
	}
	scale = float64(density) / 160
	dp := func(pixels int) int { return int(math.Round(float64(pixels) / scale)) }
	f = fleet.Device{Kind: fleet.Real, Platform: "android", Model: clipped(props["ro.product.model"], 60),
		OS: clipped(props["ro.build.version.release"], 20), ABI: clipped(props["ro.product.cpu.abi"], 30),
		HardwareID: clipped(props["ro.serialno"], 80), Width: dp(width), Height: dp(height), Form: "phone", Traits: []string{}}
	if f.Model == "" || f.OS == "" {
		return f, 0, errors.New("the phone does not tell its model or its OS")
	}
	if props["ro.boot.qemu"] == "1" || props["ro.kernel.qemu"] == "1" {
		f.Kind = fleet.Emulator
	}
	if min(f.Width, f.Height) >= 600 { // a tablet, as the OS's own resources have it (sw600dp)
		f.Form = "tablet"
	}
	if m := memoryLine.FindStringSubmatch(said); m != nil {
		f.MemoryMB = number(m[1]) >> 10
	}
	return f, scale, nil
}
