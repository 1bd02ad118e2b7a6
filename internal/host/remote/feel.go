package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/inpage"
)

// change has the page in front, if there is one, feel what has changed. Where the engine takes that only as an app is
// opened, the app is opened anew at the address where it was.
func (d *browserDevice) change(ctx context.Context) error {
	if err := d.reach(ctx); err != nil {
		return err
	}
	if d.front == "" {
		return nil
	}
	if err := d.engine.alive(); err != nil {
		return err
	}
	if d.engine.asked() != nil {
		return errors.New("a dialog is in front; answer it first")
	}
	d.lie()
	d.render()
	err := d.engine.feel(ctx, &d.feels)
	if !errors.Is(err, errAgain) {
		return err
	}
	address, err := d.engine.AskAt(ctx, inpage.Place{}, "location.href")
	if err != nil {
		return err
	}
	return d.openAt(ctx, d.apps[d.front], false, address)
}

// Feels tells what the handset is made to feel; what an app in front is told, its page is asked.
func (d *browserDevice) Feels(ctx context.Context, app string) (device.Feels, error) {
	f := device.Feels{Language: d.language, Zone: d.zone, Network: d.network.Kind(), Place: d.place}.Set(d.across, d.dark,
		d.text, app, d.answers)
	if err := d.reach(ctx); err != nil || d.front == "" || d.front != app || d.engine.asked() != nil || d.engine.alive() != nil {
		return f, err
	}
	said, err := d.engine.AskAt(ctx, inpage.Place{}, feltByPage)
	if err != nil {
		return f, err
	}
	var page struct {
		Dark, Across bool
		Language     string
	}
	if err := json.Unmarshal([]byte(said), &page); err != nil {
		return f, fmt.Errorf("the page does not tell what it feels: %w", err)
	}
	f.Language, f.Rotation, f.Appearance = plain.Clip(page.Language, 60), device.Portrait, "light"
	if page.Across {
		f.Rotation = device.Landscape
	}
	if page.Dark {
		f.Appearance = "dark"
	}
	return f, nil
}

// feltByPage asks a page what it is told of its surroundings.
const feltByPage = `JSON.stringify({dark: matchMedia("(prefers-color-scheme: dark)").matches,
	across: matchMedia("(orientation: landscape)").matches, language: navigator.language})`

// Rotate holds the handset upright or across.
func (d *browserDevice) Rotate(ctx context.Context, to string) error {
	if err := device.CheckHeld(to); err != nil {
		return err
	}
	if i := d.apps[d.front]; i != nil {
		if keeps := strings.SplitN(i.bundle.Facts.Orientation, "-", 2)[0]; keeps != "" && keeps != "any" &&
			keeps != "natural" && keeps != to {
			return nil // its manifest has it one way, however the handset is held (W3C Web App Manifest, orientation)
		}
	}
	d.across = to == device.Landscape
	return d.change(ctx)
}

// SetAppearance makes the system light or dark.
func (d *browserDevice) SetAppearance(ctx context.Context, dark bool) error {
	d.dark = dark
	return d.change(ctx)
}

// SetTextSize shows text smaller or larger: what pages size by the reader's own setting.
func (d *browserDevice) SetTextSize(ctx context.Context, percent int) error {
	if err := device.CheckTextSize(percent); err != nil {
		return err
	}
	d.text = percent
	return d.change(ctx)
}

// SetLanguage changes the handset's language.
func (d *browserDevice) SetLanguage(ctx context.Context, tag string) error {
	if err := device.CheckLanguage(tag); err != nil {
		return err
	}
	d.language = tag
	return d.change(ctx)
}

// SetTimeZone changes the handset's time zone.
func (d *browserDevice) SetTimeZone(ctx context.Context, name string) error {
	if err := device.CheckZone(name); err != nil {
		return err
	}
	d.zone = name
	return d.change(ctx)
}
