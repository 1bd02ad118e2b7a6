package standin

import (
	"context"
	"fmt"
	"os"
	"time"

	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin/sandbox"
)

// Driver drives the stand-ins of a site.
type Driver struct {
	command []string
}

// NewDriver gives the driver. command starts the child for apps; nil means this very
// program.
func NewDriver(command []string) (*Driver, error) {
	if command == nil {
		self, err := os.Executable()
		if err != nil {
			return nil, fmt.Errorf("this program cannot find its own file: %w", err)
		}
		command = []string{self, sandbox.Argument}
	}
	return &Driver{command}, nil
}

// Name is what site files call the driver, and where a device's own part stands.
const Name = "standin"

func init() {
	driver.Register(Name, func() (driver.Driver, error) { return NewDriver(nil) })
}

// supplies are what a stand-in can be.
var supplies = driver.Supplies{"android": {fleet.Emulator, fleet.Real}, "ios": {fleet.Real, fleet.Simulator}}

// Check refuses what no stand-in can be.
func (v *Driver) Check(s *driver.Site) error {
	if err := supplies.Check(s); err != nil {
		return err
	}
	for _, d := range s.Devices {
		if d.OS == "" {
			return fmt.Errorf("device %s: it states no os, as in os: \"14\"", d.Name)
		}
	}
	return nil
}

// Open gives one stand-in; a virtual one is switched off.
func (v *Driver) Open(s *driver.Site, d driver.SiteDevice, m fleet.Model) (driver.Device, error) {
	var state State
	if err := d.Own[Name].Read(&state); err != nil {
		return nil, fmt.Errorf("the site file cannot be read: %w", err)
	}
	facts := s.Describe(d, m)
	if err := state.check(facts); err != nil {
		return nil, fmt.Errorf("device %s: %w", d.Name, err)
	}
	return New(Config{Device: facts, Cutout: m.Cutout, Sandbox: v.command, State: state}).Whole(), nil
}

// fetchRate is how many megabytes of an OS image a stand-in's site fetches a second.
const fetchRate = 400

// Fetch brings an OS image, as fast as a good line would.
func (v *Driver) Fetch(ctx context.Context, image fleet.Image, told func(mb int)) error {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for mb := 0; mb < image.SizeMB; mb += fetchRate / 10 {
		told(mb)
		select {
		case <-tick.C:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	return nil
}

// Open gives all stand-ins of a site.
func Open(s *driver.Site, command []string) ([]driver.Device, error) {
	v, err := NewDriver(command)
	if err != nil {
		return nil, err
	}
	var out []driver.Device
	for _, d := range s.Devices {
		m, err := s.Find(d)
		if err != nil {
			return nil, err
		}
		one, err := v.Open(s, d, m)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}
