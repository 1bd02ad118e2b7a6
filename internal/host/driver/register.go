package driver

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yamato/internal/core/fleet"
	"yamato/internal/core/near"
)

// Driver opens the devices of a site, and brings what virtual ones boot from.
type Driver interface {
	// Open gives one of the site's devices, switched off where it can be.
	Open(s *Site, d SiteDevice, m fleet.Model) (Device, error)
	// Fetch brings an OS image, and tells how many megabytes have come.
	Fetch(ctx context.Context, image fleet.Image, told func(mb int)) error
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
	if meant := near.Word(name, names); meant != "" {
		return nil, fmt.Errorf("there is no driver %q; did you mean %q?", name, meant)
	}
	return nil, fmt.Errorf("there is no driver %q; there are %s", name, strings.Join(names, ", "))
}
