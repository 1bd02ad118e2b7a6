package sandbox

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
)

// Bounds on what passes between a stand-in and its app.
const (
	maxFrame    = 6 << 20 // bytes of one message
	MaxTimers   = 2000
	MaxData     = 1 << 20  // bytes of all that an app keeps
	MaxWishes   = 50       // that an app has of the system at a time
	maxWish     = 4 << 10  // bytes of one
	maxRequest  = 1 << 20  // bytes of what a request is described by, as it is handed over
	maxValue    = 64 << 10 // of an expression, in bytes
	maxLogLines = 5000     // in one turn
	MaxLogBytes = 1 << 20  // in one turn
)

// Request is one turn given to the app.
type Request struct {
	Op      string          `json:"op"` // start, tap, input, timer, back, change, answer, event or evaluate
	Source  string          `json:"source,omitempty"`
	Device  *Device         `json:"device,omitempty"`
	Seed    uint64          `json:"seed,omitempty"`
	Data    json.RawMessage `json:"data,omitempty"`
	NowMS   int64           `json:"now_ms"`
	Handler int             `json:"handler,omitempty"`
	Value   string          `json:"value,omitempty"`  // what was entered; the event's name
	Timer   int             `json:"timer,omitempty"`  // or wish
	Failed  string          `json:"failed,omitempty"` // why a request got no answer
	Args    []any           `json:"args,omitempty"`   // of a handler, an answer or an event
}

// Device is what an app may know of the device it runs on.
type Device struct {
	Platform string `json:"platform"`
	Model    string `json:"model"`
	OS       string `json:"os"`
	Form     string `json:"form"`
	Width    int    `json:"width"`
	Height   int    `json:"height"`
	MemoryMB int    `json:"memory_mb"`
	Real     bool   `json:"real"`
	Language string `json:"language"`
	Dark     bool   `json:"dark"`
	Across   bool   `json:"across"`
	TextSize int    `json:"text_size"` // percent
	Zone     string `json:"zone"`      // IANA
	Charge   int    `json:"charge"`    // percent
	Charging bool   `json:"charging"`
	Offline  bool   `json:"offline"`
}

// Reply is what the app did in its turn; it is at rest again.
type Reply struct {
	Screen  json.RawMessage `json:"screen,omitempty"` // absent where it is as before
	Timers  []Timer         `json:"timers,omitempty"`
	Ended   []int           `json:"ended,omitempty"`
	Wishes  []Wish          `json:"wishes,omitempty"`
	Logs    []Line          `json:"logs,omitempty"`
	Data    json.RawMessage `json:"data,omitempty"` // absent where it is as before
	Handled bool            `json:"handled,omitempty"`
	Value   string          `json:"value,omitempty"`  // of an expression
	Thrown  string          `json:"thrown,omitempty"` // by an expression
	Crash   string          `json:"crash,omitempty"`
	Report  string          `json:"report,omitempty"`
	SpentMS int64           `json:"spent_ms,omitempty"` // processor time that the app took
}

// Timer is something that the app wants to happen later.
type Timer struct {
	ID      int   `json:"id"`
	InMS    int64 `json:"in_ms"`
	Network bool  `json:"network,omitempty"` // a request under way: the screen is not settled
	Call    Call  `json:"call,omitzero"`     // of a request
}

// Call is what an app asks the network for.
type Call struct {
	Address   string `json:"address,omitempty"`
	Method    string `json:"method,omitempty"`
	MediaType string `json:"media_type,omitempty"`
	Status    int    `json:"status,omitempty"`
	Bytes     int64  `json:"bytes,omitempty"`
	Sent      int64  `json:"sent,omitempty"`

	Headers       map[string]string `json:"headers,omitempty"`        // of the request
	Body          string            `json:"body,omitempty"`           // of the request
	AnswerHeaders map[string]string `json:"answer_headers,omitempty"` //
	Answer        string            `json:"answer,omitempty"`         // the body of the answer
}

// Wish is what an app wants of the system, which answers it.
type Wish struct {
	ID   int    `json:"id"`
	What string `json:"what"` // place, permission, file
	Of   string `json:"of,omitempty"`
}

// Line is one of the log.
type Line struct {
	Level string `json:"level"`
	Tag   string `json:"tag"`
	Text  string `json:"text"`
}

// Messages are JSON, each after its length in four bytes, high byte first.
func writeFrame(w io.Writer, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if len(body) > maxFrame {
		return fmt.Errorf("a message of %d bytes is over the %d that are allowed", len(body), maxFrame)
	}
	frame := binary.BigEndian.AppendUint32(make([]byte, 0, 4+len(body)), uint32(len(body)))
	_, err = w.Write(append(frame, body...))
	return err
}

func readFrame(r io.Reader, v any) error {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n > maxFrame {
		return fmt.Errorf("a message of %d bytes is over the %d that are allowed", n, maxFrame)
	}
	body := make([]byte, n)
	if _, err := io.ReadFull(r, body); err != nil {
		return err
	}
	return json.Unmarshal(body, v)
}
