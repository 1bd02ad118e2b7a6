package driver

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yamato/internal/core/fleet"
	"yamato/internal/core/near"
	"yamato/internal/core/plain"
)

// Driver opens the devices of a site. What only some drivers can is an interface of its own: Fetching, Finding.
type Driver interface {
	// Check refuses what a site file says that the driver cannot have. Its errors name what is wrong, and where.
	Check(s *Site) error
	// Open gives one of the devices that the site file lists, switched off where it can be.
	Open(s *Site, d SiteDevice, m fleet.Model) (Device, error)
}

// Fetching is a driver whose virtual devices boot from OS images.
type Fetching interface {
	// Fetch brings an OS image, and tells how many megabytes have come.
	Fetch(ctx context.Context, image fleet.Image, told func(mb int)) error
}

// Making is a driver that makes virtual devices on the machine itself, where they are found like others from then on.
type Making interface {
	// Images are the OS images that are there.
	Images(s *Site) []fleet.Image
	// Make makes a device of a model that boots from an image. It gives it, and the id that it is found by later.
	Make(s *Site, name string, m fleet.Model, image fleet.Image) (id string, d Device, err error)
	// Unmake removes what lies on the machine of a device. It refuses one that was not made by it.
	Unmake(d Device) error
}

// Finding is a driver that finds devices which no site file lists.
type Finding interface {
	// Find tells of devices as they come, and of those that are gone for good, until ctx ends. One that is only out
	// of reach for now (its cable, its power) stays, and says so itself (device.Healthy). Where the way to them all
	// is in trouble it tells that by the log, and goes on as soon as it can; its error is where it never could.
	Find(ctx context.Context, s *Site, told func(Change)) error
}

// Change is one that a driver has found: a device that came, or one that is gone for good.
type Change struct {
	ID   string // of the device, as its hardware or its supplier has it: the same however it comes back
	Like string // what a name is made of where it has none yet: its model
	// Open gives the device, under the name that it goes by at this site; nil where it is gone.
	Open func(name string) (Device, error)
}

// drivers are those that have registered themselves, by the name that site files give.
var drivers = map[string]func() (Driver, error){}

// Register makes a driver known by name. A driver's package does so when it is loaded.
func Register(name string, open func() (Driver, error)) { drivers[name] = open }

// Named gives a registered driver.
func Named(name string) (Driver, error) {
	if open := drivers[name]; open != nil {
		return open()
	}
	names := slices.Sorted(maps.Keys(drivers))
	if name == "" {
		return nil, fmt.Errorf("it is not said which driver has these devices; write `driver: %s`", plain.Either(names))
	}
	if meant := near.Word(name, names); meant != "" {
		return nil, fmt.Errorf("there is no driver %q; did you mean %q?", name, meant)
	}
	return nil, fmt.Errorf("there is no driver %q; there are %s", name, strings.Join(names, ", "))
}

// Read reads a site file, with the driver that it names, and has both check it.
func Read(text []byte) (*Site, Driver, error) {
	s, err := ReadSite(text)
	if err != nil {
		return nil, nil, err
	}
	d, err := Named(s.Driver)
	if err != nil {
		return nil, nil, err
	}
	if _, ok := d.(Fetching); !ok && len(s.Images) > 0 {
		return nil, nil, fmt.Errorf("the driver %s boots from no OS images; leave `images` out", s.Driver)
	}
	return s, d, d.Check(s)
}
