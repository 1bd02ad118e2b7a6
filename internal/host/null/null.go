// Package null is a driver whose devices do nothing, at once. It measures what
// everything around a device costs.
package null

import (
	"context"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
	"yamato/internal/core/screen"
	"yamato/internal/host/driver"
)

// Device does nothing.
type Device struct {
	facts    fleet.Device
	number   int // among the devices of its site
	now      time.Duration
	realTime bool
}

// Driver opens devices that do nothing.
type Driver struct{ opened int }

func init() { driver.Register("null", func() (driver.Driver, error) { return &Driver{}, nil }) }

// Check refuses nothing: a device that does nothing can be of any kind.
func (v *Driver) Check(*driver.Site) error { return nil }

// Open gives one of them.
func (v *Driver) Open(s *driver.Site, d driver.SiteDevice, m fleet.Model) (driver.Device, error) {
	v.opened++
	return &Device{facts: s.Describe(d, m), number: v.opened - 1}, nil
}

// Fetch has nothing to fetch.
func (v *Driver) Fetch(context.Context, fleet.Image, func(int)) error { return nil }

var blank = &screen.Tree{Root: &screen.Node{Role: "application"}, Width: 100, Height: 100, Revision: 1}

// Tree is an empty screen.
func (d *Device) Tree(context.Context) (*screen.Tree, error) { return blank, nil }

// AwaitChange lets the time pass, at once unless it is tied to the wall; nothing
// ever changes.
func (d *Device) AwaitChange(ctx context.Context, _ uint64, until time.Duration) error {
	if wait := until - d.now; d.realTime && wait > 0 {
		t := time.NewTimer(wait)
		defer t.Stop()
		select {
		case <-t.C:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	d.now = max(d.now, until)
	return nil
}

// Now is the device's clock.
func (d *Device) Now() time.Duration { return d.now }

// Picture is not to be had.
func (d *Device) Picture(context.Context) (device.Picture, error) { return nil, context.Canceled }

// Tap does nothing.
func (d *Device) Tap(context.Context, screen.Point) error { return nil }

// Keys does nothing.
func (d *Device) Keys(context.Context, string) error { return nil }

// Start does nothing.
func (d *Device) Start(context.Context, string, device.Start) error { return nil }

// Abilities are none.
func (d *Device) Abilities() []string { return nil }

// SetLanguage does nothing.
func (d *Device) SetLanguage(context.Context, string) error { return nil }

// Describe tells what the site file says.
func (d *Device) Describe() fleet.Device { return d.facts }

// Ready notes whether time is tied to the wall.
func (d *Device) Ready(_ context.Context, s driver.Terms) error {
	d.realTime = s.RealTime
	return nil
}

// Install does nothing. In real time it takes up to a second and a half, longer for
// one device than for another: those that start together are not to go in step.
func (d *Device) Install(ctx context.Context, _ driver.App) error {
	return d.AwaitChange(ctx, 0, d.now+time.Duration(d.number*370%1500)*time.Millisecond)
}

// Stop does nothing.
func (d *Device) Stop(context.Context, string) error { return nil }

// Clean does nothing.
func (d *Device) Clean(context.Context, driver.Cleaning, ...string) error { return nil }

// Close does nothing.
func (d *Device) Close() error { return nil }
