package host

import (
	"context"
	"time"

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
// app's, and all else is an optional interface below, which script.As finds.
// Every driver passes devicetest.Run.
type Device interface {
	device.Device
	// Describe tells what the device is. It never changes.
	Describe() fleet.Device
	// Ready brings the device up, awake and unlocked, with nothing in front.
	// It is harmless where the device is so already.
	Ready(ctx context.Context, s Surroundings) error
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

// Virtual is a device that can be made, booted, halted and emptied.
type Virtual interface {
	// Boot brings the device up, if it is not, within limit of its own time. It gives
	// an error where it is not up by then. realTime ties its clock to the wall.
	Boot(ctx context.Context, limit time.Duration, realTime bool) error
	// Halt switches the device off.
	Halt(ctx context.Context) error
	// Empty puts the device back to how it was first made, switched off.
	Empty(ctx context.Context) error
	// Up tells whether the device is switched on.
	Up() bool
	// BootLog gives what the last boot wrote.
	BootLog() []LogLine
}

// Healthy is a device that can say how it is before anything runs on it.
type Healthy interface {
	Health(ctx context.Context) (fleet.Health, error)
}

// Holding is a device that can say which apps stay on it.
type Holding interface {
	Installed(ctx context.Context) ([]fleet.Installed, error)
}

// Noticing is a device that tells when something about it has changed by itself: a
// cable, a lock, somebody's yes.
type Noticing interface {
	Noticed() <-chan struct{}
}

// Clearing is a device that can send away what the system has put in front of an
// app. It gives what that was, "" where nothing was, and an error where it stays.
type Clearing interface {
	Clear(ctx context.Context) (string, error)
}

// Waking is a device whose screen may go off by itself while an app runs. Wake has
// it on and unlocked again, and tells whether it had gone off. Its error is where
// only a person can unlock it.
type Waking interface {
	Wake(ctx context.Context) (bool, error)
}

// Imitating is a device whose driver can do to it, by name, what hands and fate do to a
// real one.
type Imitating interface {
	// Deeds lists what can be done.
	Deeds() []Deed
	// Deed does it: so many times, -1 for always, 0 for never any more, where it counts.
	Deed(ctx context.Context, name string, count int) error
}

// Deed is something that hands or fate can do to a device.
type Deed struct {
	Name    string // "plug-in"; "trouble black"
	Does    string // one line
	Counted bool   // it is done so many times
}

// Trouble is an error of a device's own: it says nothing of the app, and a person
// can do something about it.
type Trouble struct {
	Why    string
	Remedy string
}

func (t *Trouble) Error() string {
	if t.Remedy == "" {
		return t.Why
	}
	return t.Why + "; to mend it: " + t.Remedy
}

// Surroundings are what the device is made to feel from the start of a lease.
type Surroundings struct {
	Language string // BCP 47
	RealTime bool   // tie the device's clock to the wall, where it has one of its own
}

// surroundings are what levels make a device feel. A factor that is new is applied here.
func surroundings(levels fleet.Levels, realTime bool) Surroundings {
	return Surroundings{Language: levels.Of(fleet.Language), RealTime: realTime}
}

// Cleaning is how much is undone after a lease.
type Cleaning string

// The levels of cleaning; see docs/vocabulary.md.
const (
	CleanNothing Cleaning = "nothing"
	CleanApp     Cleaning = "app"
	CleanDevice  Cleaning = "device"
)

// Logger is a device that keeps a log; its ability is `log`.
type Logger interface {
	// Log gives the lines written since the last call.
	Log(ctx context.Context) ([]LogLine, error)
}

// LogLine is one line of a device's log.
type LogLine struct {
	AtMS  int64  `json:"at_ms"` // device time
	Level string `json:"level"` // debug, info, warn, error
	Tag   string `json:"tag"`
	Text  string `json:"text"`
	App   string `json:"app,omitempty"` // application id of who wrote it, "" for the system
}

// Chancy is a device whose chance can be set, so that a run can be repeated; its
// ability is `chance`.
type Chancy interface {
	SetChance(seed uint64)
}
