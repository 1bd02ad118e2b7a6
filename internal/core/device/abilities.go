package device

import (
	"cmp"
	"context"
	"time"

	"yamato/internal/core/screen"
)

// The abilities. Each is one small interface, found with As; each gives ErrNoAbility for what
// the device cannot do of it, an error of Trouble's kind where the device is at fault, and a
// *Crash where the app died of it. What they change is undone by cleaning. Abilities names
// them, and docs/abilities.md tells them.

// Finger is one finger on the screen: what it does, in order (W3C WebDriver, 15.4.2, pointer
// actions of the type touch). Fingers of one gesture do their first actions together, then
// their second, and so on.
type Finger []Action

// Action is one thing that a finger does.
type Action struct {
	Do   string        // down, move, up or pause
	At   screen.Point  // where to, for move
	Over time.Duration // how long a move or a pause takes
}

// Gesturing is a device that fingers can do more to than tap.
type Gesturing interface {
	Perform(ctx context.Context, fingers ...Finger) error
}

// Copying is a device with a clipboard that can be written and read.
type Copying interface {
	SetClipboard(ctx context.Context, text string) error
	Clipboard(ctx context.Context) (string, error)
}

// The ways that a device can be held.
const (
	Portrait  = "portrait"
	Landscape = "landscape"
)

// Rotating is a device that can be held upright and across. The tree's width and height
// follow, unless the app keeps to one.
type Rotating interface {
	Rotate(ctx context.Context, to string) error
}

// Dressing is a device whose system can be light or dark.
type Dressing interface {
	SetAppearance(ctx context.Context, dark bool) error
}

// Enlarging is a device on which people can choose how large text is.
type Enlarging interface {
	// SetTextSize takes percent of the usual size, 50 to 300.
	SetTextSize(ctx context.Context, percent int) error
}

// Speaking is a device whose language can be changed, also while an app runs.
type Speaking interface {
	SetLanguage(ctx context.Context, tag string) error // BCP 47
}

// Zoned is a device whose time zone can be changed, also while an app runs.
type Zoned interface {
	SetTimeZone(ctx context.Context, name string) error // of the IANA database: Europe/Lisbon
}

// Place is where a device is.
type Place struct {
	Latitude, Longitude float64 // degrees, WGS 84
	Accuracy            float64 // metres, of the circle that it is in with 95 %
}

// Placed is a device that can be made to believe that it is somewhere.
type Placed interface {
	// SetPlace moves it; nil makes it not know where it is.
	SetPlace(ctx context.Context, at *Place) error
}

// Moving is a device that can be made to believe that it is tilted or shaken.
type Moving interface {
	// Tilt takes degrees as W3C Device Orientation has them.
	Tilt(ctx context.Context, alpha, beta, gamma float64) error
	// Shake has it shaken, as a person does.
	Shake(ctx context.Context) error
}

// Network is what a device's network is like. The zero value is a normal one.
type Network struct {
	None     bool
	Delay    time.Duration // that an answer takes more
	Download int           // bytes a second, 0 for no bound
	Upload   int
	Loss     float64 // of packets, 0 to 1
}

// Slow is a network such as at sea.
var Slow = Network{Delay: 400 * time.Millisecond, Download: 50_000, Upload: 20_000}

// Networked is a device whose network can be made worse.
type Networked interface {
	SetNetwork(ctx context.Context, n Network) error
}

// Powered is a device that can be made to believe how full its battery is.
type Powered interface {
	SetBattery(ctx context.Context, percent int, charging bool) error
}

// Answers to an app that asks for a permission.
const (
	Allow = "allow"
	Deny  = "deny"
	Ask   = "ask" // the person is asked
)

// Permitting is a device on which permissions are given or refused beforehand.
type Permitting interface {
	// SetPermission answers for an app: location, notifications, camera, microphone, motion.
	SetPermission(ctx context.Context, app, permission, answer string) error
}

// Pushed is a device to which messages can be pushed.
type Pushed interface {
	Push(ctx context.Context, app, message string) error
}

// Linking is a device that follows links into apps.
type Linking interface {
	OpenLink(ctx context.Context, app, link string) error
}

// Filing is a device that files can be put on, where apps ask people to choose some.
type Filing interface {
	// PutFiles has the files, given by their paths on the host, chosen when an app asks next.
	PutFiles(ctx context.Context, paths ...string) error
}

// Leaving is a device on which an app can be sent away without being ended. Start brings it back.
type Leaving interface {
	SendAway(ctx context.Context) error
}

// Tidying is a device that can take away what a case has left beside the app's data: messages that were
// pushed, what was copied, and what a person has answered on the screen.
type Tidying interface {
	Tidy(ctx context.Context, app string) error
}

// Removing is a device that apps can be taken off again one by one, with their data.
type Removing interface {
	Remove(ctx context.Context, app string) error
}

// Frame is a picture of the screen as it moves, encoded.
type Frame struct {
	At        time.Duration // device time
	MediaType string
	Data      []byte
}

// Live is a device that shows its screen as it moves.
type Live interface {
	// Frames calls show with each frame, the newest always, none while nothing changes, at most
	// as wide and high as asked. The next comes when show has returned. It ends with ctx.
	Frames(ctx context.Context, width, height int, show func(Frame) error) error
}

// Reading is a figure of what an app takes.
type Reading struct {
	Name  string  // memory, cpu, frames, elements …
	Value float64 // bytes, seconds of processor time, or a count
}

// Measured is a device that tells what the app in front takes.
type Measured interface {
	Readings(ctx context.Context) ([]Reading, error)
}

// Call is one that an app made over the network.
type Call struct {
	AtMS      int64  `json:"at_ms"` // device time at which it began
	TookMS    int64  `json:"took_ms"`
	Method    string `json:"method"`
	Address   string `json:"address"`
	Status    int    `json:"status"` // 0 where there was no answer
	MediaType string `json:"media_type,omitempty"`
	Bytes     int64  `json:"bytes"` // of the answer, as it travelled
	Trouble   string `json:"trouble,omitempty"`

	WaitMS   int64   `json:"wait_ms,omitempty"` // until the answer began, of TookMS
	Sent     int64   `json:"sent,omitempty"`    // bytes of what was sent with it
	Protocol string  `json:"protocol,omitempty"`
	Asked    Carried `json:"asked,omitzero"`
	Answered Carried `json:"answered,omitzero"`
}

// Carried is what a request or an answer carries.
type Carried struct {
	Headers   []Header `json:"headers,omitempty"`
	MediaType string   `json:"media_type,omitempty"`
	Body      string   `json:"body,omitempty"` // text, as far as it is kept
	Cut       bool     `json:"cut,omitempty"`  // more of it was carried
	Why       string   `json:"why,omitempty"`  // why its body is not kept, "" where it is, or where there was none
}

// Header is a field of a request or an answer (RFC 9110, 5).
type Header struct{ Name, Value string }

// MaxBody bounds what is kept of one body, in bytes.
const MaxBody = 64 << 10

// Weight is about how many bytes a call takes.
func (c *Call) Weight() int {
	n := 300 + len(c.Address) + len(c.Trouble)
	for _, p := range []Carried{c.Asked, c.Answered} {
		n += len(p.Body)
		for _, h := range p.Headers {
			n += 20 + len(h.Name) + len(h.Value)
		}
	}
	return n
}

// Calling is a device that records the calls of its apps over the network.
type Calling interface {
	// Calls gives those that have ended since the last time.
	Calls(ctx context.Context) ([]Call, error)
}

// Evaluating is a device that evaluates an expression in the app in front, as its console would.
type Evaluating interface {
	// Evaluate gives the value as text. An error that the expression throws is one of neither the
	// app's nor the device's.
	Evaluate(ctx context.Context, expression string) (string, error)
}

// Debugged is a device whose apps a debugger can be joined to.
type Debugged interface {
	// DebugPort gives an address on the host's loopback at which a debugger for the app in front is
	// spoken to, in the protocol of the device's technology. It is there until ctx ends, the app
	// ends, or the device is cleaned, whichever comes first.
	DebugPort(ctx context.Context) (address string, err error)
}

// Feels is what a device is made to feel, as it tells itself. What it cannot tell is empty.
type Feels struct {
	Language   string
	Zone       string // time zone, of the IANA database
	Rotation   string // Portrait or Landscape; with an app in front, how that one is shown
	Appearance string // light or dark
	TextSize   int    // percent
	Network    string // none, slow or normal; as it is where it is none of these
	Place      *Place
	Answers    map[string]string // of an app's wishes, by permission: what was answered beforehand
}

// Set gives what a device feels that was held across, made dark, or shows text at so many percent (0 for
// the usual); answers are those that were given beforehand, by app and permission.
func (f Feels) Set(across, dark bool, text int, app string, answers map[[2]string]string) Feels {
	f.Rotation, f.Appearance, f.TextSize, f.Answers = Portrait, "light", cmp.Or(text, 100), map[string]string{}
	if across {
		f.Rotation = Landscape
	}
	if dark {
		f.Appearance = "dark"
	}
	for key, answer := range answers {
		if key[0] == app {
			f.Answers[key[1]] = answer
		}
	}
	return f
}

// Aware is a device that tells what it feels.
type Aware interface {
	// Feels tells what it feels, and what an app that is in front is told where that can be asked.
	Feels(ctx context.Context, app string) (Feels, error)
}

// Ability is one that devices may have, as people name it.
type Ability struct {
	Name    string
	Promise string
	Has     func(Device) bool
}

// Abilities are all of them.
var Abilities = []Ability{
	ability[Presser]("home", "presses the keys that the device has of its own"),
	ability[TextEntry]("text", "enters text whole, as an input method does"),
	ability[Gesturing]("gestures", "double tap, hold, drag, swipe, pinch and spread"),
	ability[Copying]("clipboard", "writes and reads what was copied"),
	ability[Rotating]("rotation", "is held upright or across"),
	ability[Dressing]("appearance", "is light or dark"),
	ability[Enlarging]("text size", "shows text smaller or larger"),
	ability[Speaking]("language", "changes its language, also while an app runs"),
	ability[Zoned]("time zone", "changes its time zone, also while an app runs"),
	ability[Placed]("place", "believes that it is somewhere"),
	ability[Moving]("motion", "believes that it is tilted or shaken"),
	ability[Networked]("network", "has none, a slow or a normal one"),
	ability[Powered]("battery", "believes how full its battery is"),
	ability[Permitting]("permissions", "answers for people what apps ask for"),
	ability[Pushed]("push", "gets a message pushed"),
	ability[Linking]("links", "follows a link into an app"),
	ability[Filing]("files", "has files to choose from"),
	ability[Leaving]("away", "sends an app away and brings it back"),
	ability[Removing]("removal", "has apps taken off it one by one"),
	ability[Logger]("log", "keeps a log"),
	ability[Live]("live", "shows its screen as it moves"),
	ability[Measured]("readings", "tells what the app takes"),
	ability[Calling]("calls", "records calls over the network"),
	ability[Evaluating]("console", "evaluates an expression in the app"),
	ability[Debugged]("debug port", "lets a debugger reach the app"),
	ability[Aware]("surroundings", "tells what it is made to feel"),
	ability[Chancy]("chance", "repeats what apps find random"),
}

func ability[T any](name, promise string) Ability {
	return Ability{name, promise, func(d Device) bool { _, ok := As[T](d); return ok }}
}

// Names gives the names of the abilities that a device has, in order.
func Names(d Device) []string {
	out := []string{}
	for _, a := range Abilities {
		if a.Has(d) {
			out = append(out, a.Name)
		}
	}
	return out
}

// Kind is how people call a network: none, slow, normal, or other.
func (n Network) Kind() string {
	switch n {
	case Network{}:
		return "normal"
	case Slow:
		return "slow"
	}
	if n.None {
		return "none"
	}
	return "other"
}

// Leaping is a device whose clock may leap: what it waits for passes in no time, by the wall's.
type Leaping interface{ Leaps() bool }

// Leaps tells whether a device's clock leaps now.
func Leaps(d Device) bool {
	l, ok := As[Leaping](d)
	return ok && l.Leaps()
}
