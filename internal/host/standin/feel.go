package standin

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin/draw"
	"yamato/internal/host/standin/sandbox"
)

// feelings are what a stand-in is made to feel; cleaning makes it feel the usual again.
type feelings struct {
	across    bool
	dark      bool
	text      int // percent
	zone      string
	charge    int // percent; 0 for what its state says
	charging  bool
	clipboard string
	place     *device.Place // nil where it does not know
	network   device.Network
	files     []file               // that apps are given when they ask for one
	answers   map[[2]string]string // to what apps ask, by app and permission: told beforehand
	given     map[[2]string]string // by a person, on the screen
}

func usual() feelings {
	return feelings{text: 100, zone: "Europe/Lisbon", charging: true, answers: map[[2]string]string{},
		given: map[[2]string]string{}}
}

var (
	_ device.Rotating   = (*Device)(nil)
	_ device.Dressing   = (*Device)(nil)
	_ device.Enlarging  = (*Device)(nil)
	_ device.Speaking   = (*Device)(nil)
	_ device.Zoned      = (*Device)(nil)
	_ device.Copying    = (*Device)(nil)
	_ device.Leaving    = (*Device)(nil)
	_ device.Gesturing  = (*Device)(nil)
	_ device.Placed     = (*Device)(nil)
	_ device.Networked  = (*Device)(nil)
	_ device.Permitting = (*Device)(nil)
	_ device.Linking    = (*Device)(nil)
	_ device.Filing     = (*Device)(nil)
	_ device.Live       = (*Device)(nil)
	_ device.Measured   = (*Device)(nil)
	_ device.Calling    = (*Device)(nil)
	_ device.Evaluating = (*Device)(nil)
	_ device.Pushed     = simulated{}
	_ device.Moving     = emulated{}
	_ device.Powered    = emulated{}
)

// size is that of the screen as it is held.
func (d *Device) size() (width, height int) {
	if c := d.config.Device; d.across {
		return c.Height, c.Width
	}
	return d.config.Device.Width, d.config.Device.Height
}

// percent is how full the battery is, in percent.
func (d *Device) percent() int { return cmp.Or(d.charge, d.state.Charge, 100) }

// told is what an app may know of the device now.
func (d *Device) told() *sandbox.Device {
	c := d.config.Device
	width, height := d.size()
	charge := d.percent()
	return &sandbox.Device{Platform: c.Platform, Model: c.Model, OS: c.OS, Form: c.Form, Width: width, Height: height,
		MemoryMB: c.MemoryMB, Real: !c.Virtual(), Language: d.language, Dark: d.dark, Across: d.across,
		TextSize: d.text, Zone: d.zone, Charge: charge, Charging: d.charging, Offline: d.network.None}
}

// felt tells the app that runs, if one does, and has the screen laid out anew.
func (d *Device) felt(ctx context.Context) error {
	if err := d.alive(); err != nil {
		return err
	}
	width, height := d.size()
	d.look.Width, d.look.Height = float64(width), float64(height)
	if err := d.render(); err != nil || d.running == nil {
		return err
	}
	if _, err := d.turn(ctx, sandbox.Request{Op: "change", Device: d.told()}); err != nil || d.shown == nil {
		return err
	}
	view, err := draw.ParseScreen(d.shown) // what the app shows may be as before, and yet be larger
	if err != nil {
		return err
	}
	d.view = draw.Enlarge(view, d.text)
	return d.render()
}

// Feels tells what the device is made to feel.
func (d *Device) Feels(_ context.Context, app string) (device.Feels, error) {
	f := device.Feels{Language: d.language, Zone: d.zone, Network: d.network.Kind(), Place: d.place}.Set(d.across,
		d.dark, d.text, app,
		d.answers)
	return f, d.alive()
}

// Rotate holds the device upright or across.
func (d *Device) Rotate(ctx context.Context, to string) error {
	if err := device.CheckHeld(to); err != nil {
		return err
	}
	d.across = to == device.Landscape
	return d.felt(ctx)
}

// SetAppearance makes the system light or dark; apps see it in os.device.dark.
func (d *Device) SetAppearance(ctx context.Context, dark bool) error {
	d.dark = dark
	return d.felt(ctx)
}

// SetTextSize shows the texts of apps smaller or larger.
func (d *Device) SetTextSize(ctx context.Context, percent int) error {
	if err := device.CheckTextSize(percent); err != nil {
		return err
	}
	d.text = percent
	return d.felt(ctx)
}

// SetLanguage changes the system's language, also while an app runs.
func (d *Device) SetLanguage(ctx context.Context, tag string) error {
	if err := device.CheckLanguage(tag); err != nil {
		return err
	}
	d.language = tag
	return d.felt(ctx)
}

// SetTimeZone changes the system's time zone; apps see it in os.device.zone.
func (d *Device) SetTimeZone(ctx context.Context, name string) error {
	if err := device.CheckZone(name); err != nil {
		return err
	}
	d.zone = name
	return d.felt(ctx)
}

// maxClipboard bounds what is copied, in bytes.
const maxClipboard = 1 << 20

// SetClipboard has a text be what was copied last.
func (d *Device) SetClipboard(_ context.Context, text string) error {
	if len(text) > maxClipboard {
		return errors.New("a clipboard holds at most 1 MB of text")
	}
	d.clipboard = plain.Text(text, maxClipboard)
	return d.alive()
}

// Clipboard gives what was copied last.
func (d *Device) Clipboard(context.Context) (string, error) { return d.clipboard, d.alive() }

// maxExpression bounds what is evaluated in an app, in bytes.
const maxExpression = 64 << 10

// Evaluate evaluates an expression in the program of the app in front.
func (d *Device) Evaluate(ctx context.Context, expression string) (string, error) {
	if err := d.alive(); err != nil {
		return "", err
	}
	if d.running == nil || !d.front {
		return "", errors.New("no app is in front whose program could be asked")
	}
	if len(expression) > maxExpression {
		return "", fmt.Errorf("an expression has at most %d bytes", maxExpression)
	}
	r, err := d.turned(ctx, sandbox.Request{Op: "evaluate", Value: expression})
	if err == nil && r.Thrown != "" {
		err = errors.New(r.Thrown)
	}
	return r.Value, err
}

// Inside is the device to who plays its OS: that one tells apps how full the battery is and what is pushed to them, on a
// phone that nobody can do that to from outside.
func (d *Device) Inside() driver.Device { return emulated{simulated{d}} }
