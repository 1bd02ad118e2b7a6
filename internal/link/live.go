package link

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/coder/websocket"

	"yamato/internal/core/appfile"
	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// Session is a lease's work where a person holds it. What the person has the device do comes over a
// socket of the session's own, and so does what is to be seen meanwhile; what is to last goes
// the way of all events.
type Session struct {
	Number      int64            `json:"number"`   // for people
	SinceMS     int64            `json:"since_ms"` // that it has been going on for: its time goes on from there
	Name        string           `json:"name"`
	Language    string           `json:"language,omitempty"`
	Cleaning    string           `json:"cleaning,omitempty"`     // nothing, app or device; app where empty
	Package     *appfile.Package `json:"package,omitempty"`      // installed and started first
	PackageBlob string           `json:"package_blob,omitempty"` // digest
	App         string           `json:"app,omitempty"`          // that is on the device already, started first
	Lines       []string         `json:"lines,omitempty"`        // of script, carried out before it is handed over
}

// Entry is something of a session that stays, at its time.
type Entry struct {
	AtMS   int64           `json:"at_ms"` // since the lease began, by the host's clock
	Kind   string          `json:"kind"`  // one of the Entry constants
	Text   string          `json:"text"`  // in words
	Lines  []string        `json:"lines,omitempty"`
	Detail json.RawMessage `json:"detail,omitempty"`
	Blob   *EvidenceRef    `json:"blob,omitempty"`
}

func (e *Entry) weight() int {
	n := 400 + len(e.Text) + len(e.Detail)
	for _, l := range e.Lines {
		n += len(l) + 3
	}
	return n
}

// What entries are of.
const (
	EntryPrepared = "prepared" // a step of preparation
	EntryOpen     = "open"     // the device was handed over
	EntryDid      = "did"      // what was done, with the lines of script that do the same
	EntryApp      = "app"      // an app was installed, started, stopped, emptied or removed
	EntryFelt     = "felt"     // the surroundings were changed
	EntryPicture  = "picture"
	EntryVideo    = "video"
	EntryMark     = "mark"
	EntryLog      = "log"      // a piece of the log, as lines of JSON
	EntryNetwork  = "network"  // the calls of the apps, as HAR, once at its end
	EntryReadings = "readings" // what they took, once at its end
	EntryCrash    = "crash"
	EntryTrouble  = "trouble"
)

// Order is what a person has a device do. Do says what; the rest is as that needs it.
type Order struct {
	ID     int64            `json:"id"` // given back with the answer
	By     string           `json:"by,omitempty"`
	Do     string           `json:"do"`
	Aimed  int64            `json:"aimed,omitempty"` // the number of the frame it was aimed at, 0 for none
	At     *screen.Point    `json:"at,omitempty"`
	Path   []Touch          `json:"path,omitempty"` // of a finger, from down to up
	OverMS int64            `json:"over_ms,omitempty"`
	From   float64          `json:"from,omitempty"` // distances of a pinch
	To     float64          `json:"to,omitempty"`
	Text   string           `json:"text,omitempty"`
	Name   string           `json:"name,omitempty"`
	App    string           `json:"app,omitempty"`
	On     bool             `json:"on,omitempty"`
	Args   json.RawMessage  `json:"args,omitempty"`
	Pack   *appfile.Package `json:"pack,omitempty"` // filled in by the service, never by who asks
	Blob   string           `json:"blob,omitempty"` // so too
}

// farthest bounds places and distances on a screen, in its own units.
const farthest = 100_000

// Wrong tells what of an order's numbers cannot be, "" where all can. They come from outside, and become places of a
// screen, indices and times.
func (o *Order) Wrong() string {
	far := func(list ...float64) bool {
		return slices.ContainsFunc(list, func(v float64) bool { return math.IsNaN(v) || math.Abs(v) > farthest })
	}
	switch {
	case o.At != nil && far(o.At.X, o.At.Y), far(o.From, o.To), o.From < 0, o.To < 0,
		slices.ContainsFunc(o.Path, func(t Touch) bool { return far(t.X, t.Y) }):
		return "a place is within a screen"
	case o.Aimed < 0:
		return "frames are numbered from 1"
	case o.OverMS < 0 || slices.ContainsFunc(o.Path, func(t Touch) bool {
		return t.AtMS < 0 ||
			t.AtMS > int64(time.Hour/time.Millisecond)
	}):
		return "a time is 0 and more, and of a stroke at most an hour"
	}
	return ""
}

// Touch is where a finger is, and when.
type Touch struct {
	X    float64 `json:"x"`
	Y    float64 `json:"y"`
	AtMS int64   `json:"at_ms"` // since it went down
}

// Answer tells how an order went.
type Answer struct {
	ID      int64           `json:"id"`
	Trouble string          `json:"trouble,omitempty"` // why it was not done
	Remedy  string          `json:"remedy,omitempty"`
	Text    string          `json:"text,omitempty"`
	Lines   []string        `json:"lines,omitempty"`
	Marks   []screen.Rect   `json:"marks,omitempty"` // places on the screen that it is about
	Card    *Card           `json:"card,omitempty"`
	Tree    json.RawMessage `json:"tree,omitempty"`
	Took    int64           `json:"took_ms,omitempty"`
}

// Card tells of an element: what it is, what finds it alone, what it lies in.
type Card struct {
	Role     string      `json:"role"`
	ID       string      `json:"id,omitempty"`
	Label    string      `json:"label"`
	Bounds   screen.Rect `json:"bounds"`
	States   []string    `json:"states"`
	Locators []string    `json:"locators"`
	Lines    []string    `json:"lines"`
	Path     []string    `json:"path"` // what it lies in, from the outside in
}

// Felt is something that a device has been made to feel.
type Felt struct {
	What  string `json:"what"`
	Words string `json:"words"`
}

// Status is how a session is at its host. It is told whole whenever it has changed.
type Status struct {
	Stage   string     `json:"stage"` // preparing, open or ending
	Steps   []PrepStep `json:"steps"`
	Apps    []OnDevice `json:"apps"`
	Front   string     `json:"front,omitempty"` // id of the app in front
	Felt    []Felt     `json:"felt"`
	Can     []string   `json:"can"` // abilities
	Width   float64    `json:"width"`
	Height  float64    `json:"height"`
	Still   string     `json:"still,omitempty"` // why there are single pictures only, "" where the screen moves
	Video   bool       `json:"video,omitempty"`
	Busy    string     `json:"busy,omitempty"` // what is being done
	Lines   int64      `json:"lines"`          // of the log so far
	Errors  int64      `json:"errors"`         // of those
	Dropped int64      `json:"dropped,omitempty"`
	BeganMS int64      `json:"began_ms"` // since the lease began, now
}

// PrepStep is a step of preparation.
type PrepStep struct {
	Name    string `json:"name"`
	TookMS  int64  `json:"took_ms"` // -1 while it goes on
	Trouble string `json:"trouble,omitempty"`
}

// OnDevice is an app that a session has put on its device, or found there.
type OnDevice struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Version string `json:"version,omitempty"`
	There   bool   `json:"there,omitempty"` // it was there before, and stays
}

// Told is what a host says over a session's socket, beside frames.
type Told struct {
	Answer  *Answer          `json:"answer,omitempty"`
	Status  *Status          `json:"status,omitempty"`
	Log     []device.LogLine `json:"log,omitempty"`
	LogFrom int64            `json:"log_from,omitempty"` // the number of the first of these lines, from 0
	Entry   *Entry           `json:"entry,omitempty"`
}

// Asked is what a host hears over a session's socket.
type Asked struct {
	Order *Order `json:"order,omitempty"`
	Shown int64  `json:"shown,omitempty"` // a frame that somebody has been shown: another may come
	Size  *Size  `json:"size,omitempty"`  // that frames are to have at most
	Again bool   `json:"again,omitempty"` // somebody new looks: status and newest frame are sent again
}

// Size is a size in pixels.
type Size struct {
	Width  int `json:"width"`
	Height int `json:"height"`
}

// FrameHead comes before the encoded picture of a frame.
type FrameHead struct {
	Number int64
	AtMS   int64 // device time
	Width  int   // of the screen, in its own units
	Height int
}

// frameHead is how long a head is, encoded: number and time of 8 bytes, width and height of 4,
// all big-endian.
const frameHead = 24

// MaxFrame bounds a frame, in bytes.
const MaxFrame = 4 << 20

// EncodeFrame writes a frame as it travels.
func EncodeFrame(h FrameHead, picture []byte) []byte {
	out := make([]byte, frameHead, frameHead+len(picture))
	binary.BigEndian.PutUint64(out, uint64(h.Number))
	binary.BigEndian.PutUint64(out[8:], uint64(h.AtMS))
	binary.BigEndian.PutUint32(out[16:], uint32(h.Width))
	binary.BigEndian.PutUint32(out[20:], uint32(h.Height))
	return append(out, picture...)
}

// DecodeFrame reads a frame.
func DecodeFrame(b []byte) (h FrameHead, picture []byte, err error) {
	if len(b) < frameHead {
		return h, nil, errors.New("a frame without a head")
	}
	return FrameHead{Number: int64(binary.BigEndian.Uint64(b)), AtMS: int64(binary.BigEndian.Uint64(b[8:])),
		Width: int(binary.BigEndian.Uint32(b[16:])), Height: int(binary.BigEndian.Uint32(b[20:]))}, b[frameHead:], nil
}

// MaxLive bounds a message of a session's socket, in bytes.
const MaxLive = 6 << 20

// Live is a session's socket: words as text, frames as they are.
type Live struct{ Socket *websocket.Conn }

// Send says something.
func (l Live) Send(ctx context.Context, message any) error {
	return WebSocket(l).Send(ctx, message)
}

// SendFrame sends a frame as EncodeFrame wrote it.
func (l Live) SendFrame(ctx context.Context, frame []byte) error {
	ctx, cancel := context.WithTimeout(ctx, SendLimit)
	defer cancel()
	return l.Socket.Write(ctx, websocket.MessageBinary, frame)
}

// Receive reads the next thing: a frame, or words into a pointer where frame is nil.
func (l Live) Receive(ctx context.Context, into any) (frame []byte, err error) {
	sort, body, err := l.Socket.Read(ctx)
	if err != nil {
		return nil, err
	}
	if sort == websocket.MessageBinary {
		if len(body) > MaxFrame {
			return nil, fmt.Errorf("a frame of %d bytes is over the %d that are taken", len(body), MaxFrame)
		}
		return body, nil
	}
	return nil, Decode(body, into)
}

// LivePing is how often either end of a session's socket sees whether the other is there.
const LivePing = 10 * time.Second
