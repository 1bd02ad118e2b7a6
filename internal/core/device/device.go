// Package device is what the host and the runner of scripts know of a device: a small core that
// each has, and abilities that it may have.
package device

import (
	"context"
	"errors"
	"image"
	"time"

	"yamato/internal/core/screen"
)

// Device is what the runner drives: the required core. Times are the device's
// own, counted from its start. Every call may give a *Crash where the app died,
// or any other error where the device, or the way to it, is in trouble.
type Device interface {
	// Tree is what is on the screen now.
	Tree(ctx context.Context) (*screen.Tree, error)
	// AwaitChange returns when the screen's revision is past the given one, or
	// when the device's clock reaches until, whichever comes first.
	AwaitChange(ctx context.Context, revision uint64, until time.Duration) error
	// Now is the device's clock.
	Now() time.Duration
	// Picture is the screen as a person sees it now.
	Picture(ctx context.Context) (Picture, error)
	Tap(ctx context.Context, at screen.Point) error
	// Keys presses keys: plain characters, or those of W3C WebDriver 17.4.2.
	Keys(ctx context.Context, keys string) error
	// Start brings an app to the front, with its data gone if it is Fresh. It gives an
	// error where no app of that id is installed.
	Start(ctx context.Context, app string, how Start) error
	// Stop ends an app, if it runs, and leaves its data.
	Stop(ctx context.Context, app string) error
	// Abilities are what the device can do beyond the required core.
	Abilities() []string
}

// As finds an ability, which is an interface, on a device or on the device that it wraps,
// from the outside in, as http.ResponseController does: what wraps a device and gives it
// by `Unwrap` hides none of its abilities, and need know none.
func As[T any](d Device) (ability T, ok bool) {
	for d != nil {
		if t, ok := d.(T); ok {
			return t, true
		}
		w, ok := d.(interface{ Unwrap() Device })
		if !ok {
			break
		}
		d = w.Unwrap()
	}
	return ability, false
}

// Presser is a device with keys of its own, beside the keyboard. The abilities
// `back` and `home` promise it.
type Presser interface {
	Press(ctx context.Context, key string) error
}

// TextEntry is a device that takes text whole, as an input method enters it: composed
// characters, emoji, any script. Without it text is entered by keys.
type TextEntry interface {
	EnterText(ctx context.Context, text string) error
}

// EnterText enters text where the focus is, by whatever the device has for it.
func EnterText(ctx context.Context, d Device, text string) error {
	if t, ok := As[TextEntry](d); ok {
		return t.EnterText(ctx, text)
	}
	return d.Keys(ctx, text)
}

// Start is how an app is started.
type Start int

// The ways to start an app.
const (
	Resume Start = iota // as it was left
	Fresh               // stopped, its data gone, started
)

// Picture is a screen, taken. It may be drawn later than it was taken, off the path of
// the steps.
type Picture interface {
	// Image is what was to be seen, the whole screen.
	Image() (image.Image, error)
}

// Crash tells that the app died or stopped answering.
type Crash struct {
	Reason string // one line
	Report string // what the system wrote of it
}

func (c *Crash) Error() string { return "the app crashed: " + c.Reason }

// ErrNoAbility is given where a device cannot do what is asked of it.
var ErrNoAbility = errors.New("the device has no ability for this")

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
	Health(ctx context.Context) (Health, error)
}

// Hindered is a device that runs on a machine which may have other things to do. Hindered begins to measure, and
// gives what tells for how long, since then, what is in front wanted to run and its machine did not let it.
type Hindered interface {
	Hindered() func() time.Duration
}

// Holding is a device that can say which apps stay on it.
type Holding interface {
	Installed(ctx context.Context) ([]Installed, error)
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
	Busy   bool // it is its machine's, which has too much to do at once
}

func (t *Trouble) Error() string {
	if t.Remedy == "" {
		return t.Why
	}
	return t.Why + "; to mend it: " + t.Remedy
}

// Refusal tells that a device, or what is in front on it, does not take what it was given: a text that is no
// date in a field of dates. It is not the device's trouble.
type Refusal struct{ Why string }

func (r *Refusal) Error() string { return r.Why }

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
