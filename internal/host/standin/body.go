package standin

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
)

// The troubles that a stand-in can have; docs/stand-ins.md says what each does.
const (
	troubleHang      = "hang"      // a boot never ends
	troubleBlack     = "black"     // it boots, and its screen stays black
	troubleDialog    = "dialog"    // a dialog after a boot that no driver can send away
	troublePopup     = "popup"     // a dialog comes up over the app when it starts
	troubleSpace     = "space"     // there is no room for an app
	troubleCable     = "cable"     // its cable drops while an app runs
	troubleLock      = "lock"      // somebody has set a code
	troubleBehind    = "behind"    // an app starts and does not come to the front
	troubleUntrusted = "untrusted" // the developer of what is installed is not trusted
	troubleDirty     = "dirty"     // it cannot be cleaned
	troubleSleep     = "sleep"     // its screen goes off while an app runs
)

// body is what a stand-in is like beside its apps: its power, its lock, and what
// can go wrong with it.
type body struct {
	state    State
	troubles map[string]int // how many times yet; -1 for always
	chances  map[string]float64
	rolls    uint64
	noticed  chan struct{}

	boots    int
	fresh    bool // its first boot is to come
	black    bool
	locked   bool
	asleep   bool          // the screen has gone off
	touched  time.Duration // when it was touched last
	sleepIn  int           // touches until it does without a time-out, 0 for never
	drowsy   bool          // it does as soon as nobody touches it
	dialogs  []string      // in front, topmost last
	stubborn string        // a dialog that stays
	trusts   bool          // the developer of the app under test
	dropIn   int           // touches until the cable drops, 0 for never
	bootLog  []device.LogLine
	full     bool
}

func newBody(s State) body {
	b := body{state: s, troubles: map[string]int{}, chances: map[string]float64{}, noticed: make(chan struct{}, 1),
		fresh: true, trusts: !s.Untrusted, stubborn: s.Dialog}
	for _, t := range s.Troubles {
		if t.Chance > 0 {
			b.chances[t.Name] = t.Chance
		} else {
			b.troubles[t.Name] = max(t.Count, 1)
			if t.Count < 0 {
				b.troubles[t.Name] = -1
			}
		}
	}
	return b
}

// befalls tells whether a trouble happens now. Chance is a function of the device,
// the seed, and how often it has been asked.
func (d *Device) befalls(name string) bool {
	if n := d.troubles[name]; n != 0 {
		d.troubles[name] = max(n-1, min(n, -1))
		return true
	}
	if p := d.chances[name]; p > 0 {
		d.rolls++
		h := fnv.New64a()
		fmt.Fprintf(h, "%s\x00%s\x00%d\x00%d", d.config.Device.Name, name, d.seed, d.rolls)
		return float64(h.Sum64()>>11)/(1<<53) < p
	}
	return false
}

// Up tells whether the device is switched on.
func (d *Device) Up() bool { return d.up }

// Boot brings the device up. The first boot after it was made or emptied ends in
// the system's dialogs; every boot ends locked.
func (d *Device) Boot(ctx context.Context, limit time.Duration, realTime bool) error {
	if d.up {
		return nil
	}
	d.realTime = realTime
	defer func() { d.realTime = false }()
	d.boots++
	d.bootLog = nil
	step := func(after time.Duration, tag, text string) error {
		if err := d.pass(ctx, after); err != nil {
			return err
		}
		d.bootLog = append(d.bootLog, device.LogLine{AtMS: d.now.Milliseconds(), Level: "info", Tag: tag, Text: text})
		return nil
	}
	c := d.config.Device
	if err := errors.Join(step(400*time.Millisecond, "loader", fmt.Sprintf("boot %d, image %s %s", d.boots,
		fleet.PlatformName(c.Platform), c.OS)), step(bootTime/6, "kernel", fmt.Sprintf("%d MB of memory, %s",
		c.MemoryMB,
		c.Model))); err != nil {
		return err
	}
	if d.befalls(troubleHang) {
		if err := step(time.Second, "kernel", "waiting for the data partition"); err != nil {
			return err
		}
		if err := d.pass(ctx, limit-bootTime/6); err != nil {
			return err
		}
		return fmt.Errorf("it was not up within %s; the last it wrote is %q", limit, d.bootLog[len(d.bootLog)-1].Text)
	}
	if err := errors.Join(step(bootTime/2, "system", "services are starting"), step(bootTime/3, "system",
		"boot completed")); err != nil {
		return err
	}
	d.up, d.locked = true, true
	if d.black = d.befalls(troubleBlack); d.black {
		d.bootLog = append(d.bootLog, device.LogLine{AtMS: d.now.Milliseconds(), Level: "error", Tag: "display",
			Text: "no frame was composed since boot"})
	}
	if d.fresh {
		d.fresh = false
		d.dialogs = append(d.dialogs, firstDialogs[c.Platform]...)
	}
	if d.befalls(troubleDialog) {
		d.stubborn = "A system update is being applied"
	}
	d.write("info", "system", fmt.Sprintf("%s is up, %s %s", c.Model, fleet.PlatformName(c.Platform), c.OS))
	return d.render()
}

// firstDialogs are what a first boot puts in front, topmost last.
var firstDialogs = map[string][]string{
	"android": {"Back up your device?", "Welcome"},
	"ios":     {"Keep your device up to date"},
}

// Halt switches the device off.
func (d *Device) Halt(context.Context) error {
	d.quit()
	d.up, d.black, d.locked, d.asleep, d.dialogs, d.stubborn = false, false, false, false, nil, ""
	d.sandbox.Close()
	return d.render()
}

// Empty puts the device back to how it was made, switched off.
func (d *Device) Empty(ctx context.Context) error {
	if err := d.Halt(ctx); err != nil {
		return err
	}
	clear(d.apps)
	d.fresh, d.full = true, false
	return d.render()
}

// BootLog gives what the last boot wrote.
func (d *Device) BootLog() []device.LogLine { return d.bootLog }

// Noticed tells when hands or fate have changed the device.
func (d *Device) Noticed() <-chan struct{} { return d.noticed }

func (d *Device) notice() {
	select {
	case d.noticed <- struct{}{}:
	default:
	}
}

// Health says how the device is.
func (d *Device) Health(context.Context) (fleet.Health, error) {
	s := &d.state
	yes := func(b bool) *bool { return &b }
	var h fleet.Health
	if !d.config.Device.Virtual() {
		h.Connected = yes(!s.Unplugged)
		h.Developer = yes(s.Developer != "off")
		if d.config.Device.Platform == "android" {
			h.Debugging = s.Debugging
			if h.Debugging == "" {
				h.Debugging = "always"
			}
		} else {
			h.Trusted = yes(!s.Distrusts)
		}
		charge, free, off := 100, 8192, time.Duration(s.ClockOff)*time.Second
		if s.Charge > 0 {
			charge = s.Charge
		}
		if s.FreeMB > 0 {
			free = s.FreeMB
		}
		if d.full {
			free = 90
		}
		h.Charge, h.Plugged, h.FreeMB, h.ClockOff, h.OS = &charge, !s.Discharging, &free, &off, d.config.Device.OS
		h.Unlocked = yes(!s.Code)
		if s.OS != "" {
			h.OS = s.OS
		}
		if !d.trusts {
			h.TrustsCode = yes(false)
		}
	}
	h.InFront = d.stubborn
	return h, nil
}

// Installed gives the apps that stay on the device.
func (d *Device) Installed(context.Context) ([]fleet.Installed, error) { return d.state.Installed, nil }

// Clear sends away what the system has put in front.
func (d *Device) Clear(ctx context.Context) (string, error) {
	if d.stubborn != "" {
		return "", &device.Trouble{Why: "a dialog is in front that nobody could send away: " + d.stubborn,
			Remedy: "answer it on the device, then check again"}
	}
	n := len(d.dialogs)
	if n == 0 {
		return "", nil
	}
	if err := d.pass(ctx, 600*time.Millisecond); err != nil {
		return "", err
	}
	what := d.dialogs[n-1]
	d.dialogs = d.dialogs[:n-1]
	d.write("info", "driver", "sent away: "+what)
	return what, d.render()
}

// wake has the device awake, unlocked and with nothing in front.
func (d *Device) wake(ctx context.Context) error {
	if d.befalls(troubleLock) {
		d.state.Code = true
		d.notice()
	}
	if d.state.Code && !d.config.Device.Virtual() {
		return &device.Trouble{Why: "it is locked with a code that the driver does not know",
			Remedy: "unlock it, and take the code off or set its lock to Swipe while it is used for tests"}
	}
	d.asleep, d.touched = false, d.now
	if d.locked {
		if err := d.pass(ctx, 700*time.Millisecond); err != nil {
			return err
		}
		d.locked = false
		d.write("info", "driver", "unlocked by a swipe")
		_ = d.render()
	}
	for {
		what, err := d.Clear(ctx)
		if err != nil || what == "" {
			return err
		}
	}
}

// doze has the screen go off, as it does where nobody touches it. What runs goes on.
func (d *Device) doze() {
	d.asleep, d.locked, d.drowsy = true, true, false
	d.write("info", "display", "the screen went off")
	_ = d.render()
}

// touch notes that a finger was there.
func (d *Device) touch() {
	d.touched = d.now
	if d.sleepIn > 0 {
		d.sleepIn--
		d.drowsy = d.sleepIn == 0
	}
}

// Wake has the screen on again where it has gone off by itself.
func (d *Device) Wake(ctx context.Context) (bool, error) {
	if !d.asleep {
		return false, nil
	}
	return true, d.wake(ctx)
}

// within is called before an app is touched: the cable may drop.
func (d *Device) within() error {
	if d.state.Unplugged && !d.config.Device.Virtual() {
		return errUnplugged
	}
	if d.dropIn > 0 {
		if d.dropIn--; d.dropIn == 0 {
			d.state.Unplugged = true
			d.notice()
			return errUnplugged
		}
	}
	return nil
}

var errUnplugged = &device.Trouble{Why: "it does not answer any more: its cable has dropped",
	Remedy: "plug it in with a cable that carries data"}
