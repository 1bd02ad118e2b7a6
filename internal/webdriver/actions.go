package webdriver

import (
	"math"
	"strconv"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/screen"
)

// Source is a source of input with what it does, a tick each (WebDriver 15.3).
type Source struct {
	Type       string            `json:"type"` // pointer, key, wheel or none
	ID         string            `json:"id"`
	Parameters map[string]string `json:"parameters,omitempty"`
	Actions    []Action          `json:"actions"`
}

// Action is what a source does in one tick.
type Action struct {
	Type     string `json:"type"`
	Duration *int64 `json:"duration,omitempty"` // ms
	X        *int   `json:"x,omitempty"`        // CSS pixels
	Y        *int   `json:"y,omitempty"`
	Origin   any    `json:"origin,omitempty"`
	Button   *int   `json:"button,omitempty"`
	Value    string `json:"value,omitempty"` // a key
	DeltaX   *int   `json:"deltaX,omitempty"`
	DeltaY   *int   `json:"deltaY,omitempty"`
}

func number[T int | int64](n T) *T { return &n }

// Pointer is what a pointer of this kind is: touch, pen or mouse.
func pointer(id, kind string) Source {
	return Source{Type: "pointer", ID: id, Parameters: map[string]string{"pointerType": kind}}
}

func moveTo(at screen.Point, over time.Duration) Action {
	return Action{Type: "pointerMove", X: number(int(math.Round(at.X))), Y: number(int(math.Round(at.Y))),
		Duration: number(over.Milliseconds()), Origin: "viewport"}
}

// Fingers are fingers as sources: pointers of a kind, each with its own id. place tells where a point of the screen
// lies on the page.
func Fingers(kind string, fingers []device.Finger, place func(screen.Point) screen.Point) []Source {
	out := make([]Source, len(fingers))
	for i, f := range fingers {
		out[i] = pointer("finger-"+strconv.Itoa(i+1), kind)
		for _, a := range f {
			switch a.Do {
			case "down":
				out[i].Actions = append(out[i].Actions, Action{Type: "pointerDown", Button: number(0)})
			case "up":
				out[i].Actions = append(out[i].Actions, Action{Type: "pointerUp", Button: number(0)})
			case "move":
				out[i].Actions = append(out[i].Actions, moveTo(place(a.At), a.Over))
			case "pause":
				out[i].Actions = append(out[i].Actions, Action{Type: "pause", Duration: number(a.Over.Milliseconds())})
			}
		}
	}
	return out
}

// Tap is a touch with one finger.
func Tap(kind string, at screen.Point) Source {
	s := pointer("finger-1", kind)
	s.Actions = []Action{moveTo(at, 0), {Type: "pointerDown", Button: number(0)}, {Type: "pointerUp", Button: number(0)}}
	return s
}

// Typed are keys that go down and up, one after the other. A text is typed by its graphemes' code points.
func Typed(keys string) Source {
	s := Source{Type: "key", ID: "keyboard"}
	for _, k := range keys {
		s.Actions = append(s.Actions, Action{Type: "keyDown", Value: string(k)}, Action{Type: "keyUp", Value: string(k)})
	}
	return s
}

// Wheel turns a wheel over a place, by so many CSS pixels.
func Wheel(at screen.Point, dx, dy int) Source {
	return Source{Type: "wheel", ID: "wheel", Actions: []Action{{Type: "scroll", X: number(int(at.X)), Y: number(int(at.Y)),
		DeltaX: number(dx), DeltaY: number(dy), Duration: number(int64(0)), Origin: "viewport"}}}
}
