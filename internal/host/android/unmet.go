package android

import (
	"context"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

// unmet is a phone that is plugged in and does not say yet what it is: it asks a person, or was started in another mode. It
// stands among the devices so that its checks can say what it waits for; once it has answered it is gone, and the phone that
// it is comes in its place.
type unmet struct {
	facts   fleet.Device
	place   *place
	opened  time.Time
	noticed chan struct{}
}

var (
	_ driver.Device   = (*unmet)(nil)
	_ device.Healthy  = (*unmet)(nil)
	_ device.Noticing = (*unmet)(nil)
)

// errUnmet is the trouble of a phone that nothing is known of.
var errUnmet = &device.Trouble{Why: "it has not said yet what it is", Remedy: "see its checks, and do what they say"}

func newUnmet(site, serial string, p *place) *unmet {
	return &unmet{facts: fleet.Device{Name: "phone", Site: site, Kind: fleet.Real, Platform: "android", Model: "Phone to be allowed",
		Form: "phone", OS: "unknown", HardwareID: clipped(serial, 80), Traits: []string{}, Abilities: []string{}, Width: 360, Height: 800},
		place: p, opened: time.Now(), noticed: make(chan struct{}, 1)}
}

// Health tells what it waits for.
func (u *unmet) Health(context.Context) (device.Health, error) { return stateHealth(u.place.as()), nil }

// Noticed tells that something has changed.
func (u *unmet) Noticed() <-chan struct{} { return u.noticed }

// Describe tells what little is known.
func (u *unmet) Describe() fleet.Device { return u.facts }

// Abilities are none.
func (u *unmet) Abilities() []string { return u.facts.Abilities }

// Now is the time since it was seen.
func (u *unmet) Now() time.Duration { return time.Since(u.opened) }

// Ready and all others tell that nothing can be done with it.
func (u *unmet) Ready(context.Context, driver.Terms) error                { return errUnmet }
func (u *unmet) Install(context.Context, driver.App) error                { return errUnmet }
func (u *unmet) Tree(context.Context) (*screen.Tree, error)               { return nil, errUnmet }
func (u *unmet) AwaitChange(context.Context, uint64, time.Duration) error { return errUnmet }
func (u *unmet) Picture(context.Context) (device.Picture, error)          { return nil, errUnmet }
func (u *unmet) Tap(context.Context, screen.Point) error                  { return errUnmet }
func (u *unmet) Keys(context.Context, string) error                       { return errUnmet }
func (u *unmet) Start(context.Context, string, device.Start) error        { return errUnmet }
func (u *unmet) Stop(context.Context, string) error                       { return errUnmet }
func (u *unmet) Clean(context.Context, driver.Cleaning, ...string) error  { return nil }
func (u *unmet) Close() error                                             { return nil }
