// Package driver is what drivers of devices and the host know of each other: devices as a host
// needs them, site files, and the register of drivers.
package driver

import (
	"context"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/fleet"
)

// Device is what a driver gives the host: the required core. It is called by
// one goroutine at a time.
//
// It is written for four unlike ways to a device: one simulated in this
// process, a farm behind a remote-control protocol, a browser that emulates a
// handset, and a phone on a cable. Hence: nothing is assumed to be fast, files
// are handed over by path, every call may fail for reasons that are not the
// app's, and all else is an ability: an interface of package device, which device.As finds.
// Every driver passes devicetest.Run.
type Device interface {
	device.Device
	// Describe tells what the device is. It never changes.
	Describe() fleet.Device
	// Ready brings the device up, awake and unlocked, with nothing in front.
	// It is harmless where the device is so already.
	Ready(ctx context.Context, s Terms) error
	// Install puts an app on the device, in place of the same app if it is there.
	Install(ctx context.Context, app App) error
	// Clean undoes what a lease did to the device, up to level: apps are the ids of what
	// it put there. It gives nil only where that is gone. It is harmless to a device that is
	// clean, and to apps that are not there.
	Clean(ctx context.Context, level Cleaning, apps ...string) error
	// Close lets go of the device for good.
	Close() error
}

// App is a package to install.
type App struct {
	Package appfile.Package
	Path    string // of the package's file on this host
}

// Terms are what a lease asks of a device from its start; what it is made to feel comes after (core/feel).
type Terms struct {
	RealTime bool // tie the device's clock to the wall, where it has one of its own
}

// Cleaning is how much is undone after a lease.
type Cleaning string

// The levels of cleaning; see docs/vocabulary.md.
const (
	CleanNothing Cleaning = "nothing"
	CleanApp     Cleaning = "app"
	CleanDevice  Cleaning = "device"
)
